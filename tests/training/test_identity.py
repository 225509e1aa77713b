"""A run means the code that made it: from the command line and from Python, in scripts, packages, notebooks, when files
are edited or gone."""

import itertools
import json
import shutil
import subprocess
import sys
from pathlib import Path

import pytest
from commands import jokulmist
from places import Corridor

import jokulmist as jm
from jokulmist.environments.declaration.instance import with_varying
from jokulmist.environments.varying import Varying
from jokulmist.errors import CodeNotice, SettingError, UntrustedCode
from jokulmist.loops.policy import _refuse_code
from jokulmist.plans.fingerprint import fingerprint
from jokulmist.sources.reading import Modules, SourceFile

WEATHER = """
RAIN = 0.4

def rain(draw):
    return RAIN * draw.uniform()
"""
POND = """
from __future__ import annotations

import jokulmist as jm
from weather import rain

class Pond(jm.Environment):
    class State(jm.State):
        level: float = jm.seen(low=0.0, high=4.0)

    action = jm.Choice("shut", "open")
    time_limit = 20

    def begin(self, draw):
        return self.State(level=2.0)

    def advance(self, state, action, draw):
        return state.replace(level=state.level + rain(draw) - 0.4 * action)

    @jm.reward
    def comfort(self, after):
        "How near the mark it is."
        return -abs(after.level - 2.0)
"""
TRAIN = "run = jm.train(Pond(), jm.QLearning(), steps=400, lane='plain')\nprint(run.mean_return())\n"
EDITED = (
    POND.replace("return -abs(", "return -10.0 * abs(")
    + """
    @jm.reward
    def effort(self, action):
        return -0.1 * action
"""
)


def python(*words, **more):
    return subprocess.run([sys.executable, *words], capture_output=True, text=True, check=False, **more)


def means(done):
    assert done.returncode == 0, done.stderr
    return [row["mean_return"] for row in json.loads(done.stdout)["results"]]


@pytest.mark.slow
def test_a_story_of_editing_and_coming_back():
    """Train, edit the reward and what it imports, train again, look at the old one, do it again, delete the files, open
    both."""
    Path("weather.py").write_text(WEATHER)
    Path("pond.py").write_text(POND + "\nprint('pond is read')\n" + TRAIN)
    first = python("pond.py")
    assert first.returncode == 0, first.stderr
    old, new = Path("runs/pond-qlearning-001"), Path("runs/pond-qlearning-002")
    assert sorted(p.name for p in (old / "source").iterdir()) == ["index.json", "pond.py", "weather.py"]
    before = jokulmist("evaluate", old, "--episodes", 10, "--json")
    assert "pond.py:" in before.stderr
    assert "begins a training where the file is only read" in before.stderr
    assert "pond is read" not in before.stdout
    Path("pond.py").write_text(EDITED + TRAIN)
    Path("weather.py").write_text(WEATHER.replace("0.4", "0.9"))
    assert python("pond.py").returncode == 0
    repeated = jokulmist("evaluate", old, "--episodes", 10, "--json")
    assert means(repeated) == means(before)
    assert "note: pond.py and weather.py have changed since pond-qlearning-001 was trained" in repeated.stderr
    rows = (old / "evaluated.csv").read_text()
    current = jokulmist("evaluate", old, "--episodes", 10, "--current", "--json")
    assert means(current)[0] < 5 * means(before)[0]
    assert "term `comfort` changed, term `effort` added" in current.stderr
    assert (old / "evaluated.csv").read_text() == rows  # the record is about one thing
    assert {p.name for p in Path("runs").iterdir()} == {old.name, new.name}  # looking at a run trained nothing
    opened = jm.Run.open(old)
    with pytest.warns(CodeNotice, match="its own copy is used"):
        assert list(opened.environment.episode().terms) == ["comfort"]
    Path("pond.py").unlink()
    Path("weather.py").unlink()
    done = jokulmist("redo", old)
    assert "done again: all 20 episodes are the same" in done.stdout, done.stderr
    assert means(jokulmist("evaluate", old, "--episodes", 10, "--json")) == means(before)
    with pytest.warns(CodeNotice, match=r"pond.py and weather.py are gone"):
        assert set(jm.Run.open(new).environment.episode().terms) == {"comfort", "effort"}
    codes = [
        json.loads((path / "origin.json").read_text())["code"] for path in (old, new, Path(f"runs/{old.name}-again-01"))
    ]
    assert codes[0] == codes[2]
    assert codes[0]["versions"]["Pond"] != codes[1]["versions"]["Pond"]


NOTEBOOK = """
from IPython.core.interactiveshell import InteractiveShell
shell = InteractiveShell.instance()
for cell in CELLS:
    shell.run_cell(cell, store_history=True).raise_error()
"""


@pytest.mark.slow
def test_a_class_from_the_cells_of_a_notebook_is_kept_with_what_it_needs():
    cells = [
        "import math\nimport jokulmist as jm\nfrom weather import rain",
        "MARK = 1.0\nprint('not needed')",
        "%who_ls",
        POND.replace("from __future__ import annotations\n", "").replace("- 2.0)", "- MARK)"),
        "MARK = 2.0",
        TRAIN.replace("print", "before = jm.evaluate(run.policy, run.environment, episodes=5).mean\nprint"),
        "print(before)",
    ]
    Path("weather.py").write_text(WEATHER)
    Path("notebook.py").write_text(f"CELLS = {cells!r}\n{NOTEBOOK}")
    done = python("notebook.py")
    assert done.returncode == 0, done.stderr + done.stdout
    Path("weather.py").unlink()
    stored = Path("runs/pond-qlearning-001/source/notebook.py").read_text()
    assert "class Pond" in stored
    assert "not needed" not in stored
    run = jm.Run.open("runs/pond-qlearning-001")
    with pytest.warns(CodeNotice, match=r"weather.py is gone"):
        environment = run.environment
    assert str(jm.evaluate(run.policy, environment, episodes=5).mean) == done.stdout.splitlines()[-1]


@pytest.mark.slow
def test_packages_keep_their_layout_and_two_versions_live_side_by_side(monkeypatch, tmp_path):
    Path("farm/tools").mkdir(parents=True)
    Path("farm/__init__.py").write_text("")
    Path("farm/tools/weather.py").write_text(WEATHER)
    Path("farm/pond.py").write_text(
        POND.replace("from weather import rain", "from .tools import weather\nfrom .tools.weather import rain")
    )
    Path("train.py").write_text("import jokulmist as jm\nfrom farm.pond import Pond\n" + TRAIN)
    assert python("train.py").returncode == 0
    old = Path("runs/pond-qlearning-001")
    stored = {p.relative_to(old / "source").as_posix() for p in (old / "source").rglob("*.py")}
    assert stored == {"farm/__init__.py", "farm/pond.py", "farm/tools/weather.py"}
    Path("farm/tools/weather.py").write_text(WEATHER.replace("0.4", "4.0"))
    monkeypatch.chdir(tmp_path.parent)  # from anywhere
    run = jm.Run.open(tmp_path / old)
    with pytest.warns(CodeNotice, match="weather.py has changed"):
        kept_steps = run.environment.episode(seed=2)
    monkeypatch.chdir(tmp_path)
    monkeypatch.syspath_prepend(str(tmp_path))
    with pytest.warns(CodeNotice, match="something that it uses has changed"):
        current = jm.Run.open(old, current=True).environment.episode(seed=2)
    for episode in (kept_steps, current):
        episode.act("shut")
    first, second = kept_steps.state.level - 2.0, current.state.level - 2.0
    assert second == pytest.approx(10.0 * first)


def test_code_that_was_edited_after_it_was_imported_is_not_kept_under_a_wrong_text(monkeypatch, tmp_path):
    Path("weather.py").write_text(WEATHER)
    Path("lake.py").write_text(POND)
    monkeypatch.syspath_prepend(str(tmp_path))
    import lake

    Path("lake.py").write_text("# a comment changes nothing\n" + POND)
    assert jm.train(lake.Pond(), jm.QLearning(), steps=40, lane="plain").status == "done"
    Path("lake.py").write_text(EDITED)
    with pytest.raises(SettingError, match=r"`Pond` in memory is not what lake.py says now.*importlib.reload"):
        jm.train(lake.Pond(), jm.QLearning(), steps=40, lane="plain")
    assert (
        jm.train(lake.Pond(), jm.QLearning(), steps=40, lane="plain", folder=None).status == "done"
    )  # no record, no harm
    for name in ("lake", "weather"):
        sys.modules.pop(name, None)


@pytest.mark.slow
def test_versions_differ_where_what_a_class_needs_does():
    """Comments, docstrings and the rest of a script make no other version; a number that it uses does."""
    result = []
    for change in (
        lambda text: text,
        lambda text: "# more\n" + text.replace('"How near the mark it is."', '"Nearness."') + "\nother = 3\n",
        lambda text: text.replace("0.4 * action", "0.5 * action"),
    ):
        Path("weather.py").write_text(WEATHER)
        Path("pond.py").write_text(change(POND))
        Path("plan.toml").write_text(
            '[environment]\nuse = "pond.py:Pond"\n[agent]\nuse = "QLearning"\n[training]\nsteps = 40\nlane = "plain"\n'
        )
        done = jokulmist("train", "plan.toml", "--json")
        assert done.returncode == 0, done.stderr
        result.append(json.loads(sorted(Path("runs").glob("*/origin.json"))[-1].read_text())["code"])
    assert result[0]["versions"] == result[1]["versions"]
    assert result[0]["fingerprint"] != result[1]["fingerprint"]
    assert result[0]["versions"] != result[2]["versions"]


@pytest.mark.slow
def test_versions_are_compared_as_versions_and_by_what_they_share():
    Path("weather.py").write_text(WEATHER)
    plan = (
        '[environment]\nuse = "pond.py:Pond"\n[agent]\nuse = "QLearning"\n[training]\nsteps = 400\nlane = '
        '"plain"\nseeds = [0, 1, 2, 3]\n'
    )
    Path("plan.toml").write_text(plan)
    for text in (POND, EDITED):
        Path("pond.py").write_text(text)
        assert jokulmist("train", "plan.toml", "--workers", 1).returncode == 0
    refused = jokulmist("compare", "runs")
    assert refused.returncode == 2
    assert (
        "of `Pond` (term `comfort` changed, term `effort` added), so their returns are no common scale"
        in refused.stderr
    )
    assert "--in runs/" in refused.stderr
    within = jokulmist("compare", "runs", "--in", "runs/pond-qlearning-005", "--episodes", 20, "--json")
    assert within.returncode == 0, within.stderr
    output = json.loads(within.stdout)
    assert output["by"] == ["environment.version"]
    assert [row["seeds"] for row in output["groups"]] == [4, 4]
    assert any("term `effort` added" in note for note in output["notes"])
    assert not list(Path("runs").glob("*/evaluated.csv"))  # what was played in another version is no record of the run
    Path("pond.py").write_text(POND.replace("0.4 * action", "0.5 * action"))  # the same terms in another world
    assert jokulmist("train", "plan.toml", "--workers", 1).returncode == 0
    same_terms = [f"runs/pond-qlearning-{k:03d}" for k in (1, 2, 3, 4, 9, 10, 11, 12)]
    for score in ("area", "decisions"):
        done = jokulmist("compare", *same_terms, "--score", score, "--level", -9, "--json")
        assert done.returncode == 0, done.stderr
        output = json.loads(done.stdout)
        assert len(output["groups"]) == 2
        assert "method `advance` changed" in " ".join(output["notes"])


@pytest.mark.slow
def test_code_from_elsewhere_runs_only_when_it_is_trusted(tmp_path):
    Path("weather.py").write_text(WEATHER)
    Path("pond.py").write_text(POND)
    Path("plan.toml").write_text(
        '[environment]\nuse = "pond.py:Pond"\n[agent]\nuse = "QLearning"\n[training]\nsteps = 200\nlane = "plain"\n'
    )
    assert jokulmist("train", "plan.toml", "--name", "mine").returncode == 0
    second, ran = Path("runs/theirs"), tmp_path / "ran"
    shutil.copytree("runs/mine", second)
    with (second / "source" / "weather.py").open("a") as stream:
        stream.write(f"\nopen({str(ran)!r}, 'w').close()\n")
    for words in (
        ["evaluate", second],
        ["evaluate", second, "--current"],
        ["replay", second, "--to", "x.gif"],
        ["redo", second],
        ["resume", second, "--steps", 10],
        ["report", second],
    ):
        done = jokulmist(*words)
        assert done.returncode == 2, words
        assert "holds code (pond.py, weather.py) that was not trained on this machine by you" in done.stderr
    assert jokulmist("runs", "--where", "training.steps=200").stdout.count("pond.py:Pond") == 2
    run = jm.Run.open(second)
    assert (len(run.episodes), run.policy.decisions) == (10, 200)
    assert not ran.exists()
    plan = second / "plan.toml"
    plan.write_text(
        plan.read_text().replace("pond.py:Pond", "weather.py:Pond").replace("weather.py", f"{tmp_path}/pond.py")
    )
    with pytest.raises(UntrustedCode, match=r"names '.*pond.py', which is not among the code that it keeps"):
        _ = jm.Run.open(second).environment
    shutil.copy("runs/mine/plan.toml", plan)
    assert jokulmist("evaluate", second, "--episodes", 2, "--trust").returncode == 0
    assert ran.exists()
    assert jokulmist("evaluate", second, "--episodes", 2).returncode == 0  # it is remembered
    with pytest.raises(UntrustedCode, match="keeps no code"):
        jm.trust(tmp_path)
    with pytest.raises(SettingError, match=r"needs code of somebody's own, 'os:system'"):
        _refuse_code(Path("p.safetensors"), {"use": "PPO", "clip": {"function": "os:system"}})


def test_a_set_of_files_is_edited_where_a_text_is_another(tmp_path):
    file = tmp_path / "weather.py"
    file.write_text(WEATHER)
    modules = Modules({"weather": SourceFile("weather", file)})
    assert not modules.edited()
    file.write_text(WEATHER.replace("0.4", "0.5"))
    assert modules.edited()


def test_what_varies_makes_another_environment_and_another_key():
    first, second = (lambda draw: {"slip": draw.uniform(0.0, 0.5)}), (lambda draw: {"slip": draw.uniform(0.2, 0.5)})
    plain, item, narrow = Corridor(), *(with_varying(Corridor(), Varying(vary)) for vary in (first, second))
    ranges = [with_varying(Corridor(), Varying({"slip": jm.between(0.0, high)})) for high in (0.5, 0.6, 0.5)]
    assert ranges[0] == ranges[2]
    assert hash(ranges[0]) == hash(ranges[2])
    different = [plain, item, narrow, ranges[0], ranges[1]]
    assert all(a != b for a, b in itertools.combinations(different, 2))
    keys = [fingerprint(environment) for environment in different]
    assert len(set(keys)) == 5
    assert isinstance(keys[0], str) == isinstance(keys[3], str)
    assert not isinstance(keys[1], str)  # in another process nobody knows what a function does
