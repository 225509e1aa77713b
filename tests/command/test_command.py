"""The command line, as a person types it, and what it says to a mistake."""

import json
import os
import signal
import subprocess
import sys
import time

import pytest
import typer
from commands import jokulmist


def spawned(*words, folder=None, **environment):
    """A command in a process of its own, as a person starts it."""
    return subprocess.run(
        [sys.executable, "-m", "jokulmist", *map(str, words)],
        capture_output=True,
        text=True,
        cwd=folder,
        timeout=280,
        env={**os.environ, **environment},
        check=False,
    )


@pytest.fixture(scope="module")
def place(tmp_path_factory):
    """A folder in which `new` has written an environment and `train` has trained it."""
    folder = tmp_path_factory.mktemp("place")
    created = jokulmist("new", "pond.py", folder=folder)
    assert created.returncode == 0, created.stderr
    trained = jokulmist(
        "train",
        "pond.toml",
        "--set",
        "training.steps=6_000",
        "--set",
        "training.seeds=[0,1]",
        "--workers",
        1,
        "--json",
        folder=folder,
    )
    assert trained.returncode == 0, trained.stderr
    (folder / "trained.json").write_text(trained.stdout)
    return folder


def test_help_is_quick_and_loads_nothing_heavy():
    code = (
        "import sys, jokulmist.command.main as m\n"
        "try:\n    m.main(['--help'])\nexcept SystemExit:\n    pass\n"
        "import jokulmist\n"
        "print(sorted({'jax', 'pandas', 'matplotlib', 'scipy', 'pydantic'} & set(sys.modules)))"
    )
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
    assert done.stdout.splitlines()[-1] == "[]"
    for name in ("tour", "gallery", "new", "check", "play", "train", "evaluate", "runs", "compare", "tune"):
        assert name in done.stdout


def test_every_command_has_help_with_an_example():
    from typer.testing import CliRunner

    from jokulmist.command.application import GROUPS
    from jokulmist.command.main import app

    names = [name for texts in GROUPS.values() for name in texts]
    assert sorted(names) == sorted(typer.main.get_command(app).commands)
    overview = CliRunner().invoke(app, ["--help"]).output
    for name in names:
        assert f"\n  {name} " in overview
        result = CliRunner().invoke(app, [name, "--help"])
        assert result.exit_code == 0
        assert f"jokulmist {name}" in result.output


@pytest.mark.slow
def test_new_check_train_evaluate_and_runs_in_a_row(place):
    checked = jokulmist("check", "pond.py", "--json", folder=place)
    report = json.loads(checked.stdout)
    assert (checked.returncode, report["ok"], report["compiles"]) == (0, True, True)
    rows = json.loads((place / "trained.json").read_text())
    assert [row["seed"] for row in rows] == [0, 1]
    assert [row["run"] for row in rows] == ["pond-qlearning-001", "pond-qlearning-002"]
    folder = place / rows[0]["folder"]
    assert (folder / "pictures" / "learning-curve.png").exists()
    assert (folder / "source" / "pond.py").exists()
    measured = jokulmist("evaluate", folder, "--episodes", 30, "--json", folder=place)
    rows = json.loads(measured.stdout)["results"]  # sampled play is among them where it differs from greedy
    results = {row["policy"]: row for row in rows if row["actions"] != "sampled"}
    assert list(results) == ["policy", "random", "by_hand"]
    assert results["policy"]["mean_return"] > results["random"]["mean_return"]
    assert sum(results["policy"]["terms"].values()) == pytest.approx(results["policy"]["mean_return"], rel=1e-4)
    assert (folder / "evaluated.csv").read_text().count("\n") == 1 + len(rows) * 30
    table = jokulmist("runs", folder=place)
    assert "pond-qlearning-002" in table.stdout
    assert len(json.loads(jokulmist("runs", "--json", folder=place).stdout)) == 2


@pytest.mark.slow
def test_the_tables_are_for_people_and_progress_is_not_on_standard_output(place):
    done = jokulmist("evaluate", "runs/pond-qlearning-001", "--episodes", "5", folder=place)
    assert "by hand" in done.stdout
    assert "What each reward term brings" in done.stdout
    assert "water used" in done.stdout
    assert "evaluated.csv" in done.stderr
    done = jokulmist("evaluate", "runs/pond-qlearning-001", "--episodes", "5", "--over", "rain=0.2,1", folder=place)
    assert done.stdout.count("policy") == 3
    assert "over-rain.png" in done.stderr
    repeated = jokulmist("train", "pond.toml", "--set", "training.steps=2_000", "--name", "short", folder=place)
    assert "short  done: 2,000 decisions" in repeated.stderr
    assert repeated.stdout.startswith("run ")
    displayed = jokulmist("check", "tarn", "--steps", "300", folder=place)
    assert displayed.returncode == 0
    assert "compiled, 64 copies" in displayed.stdout
    assert {row["name"] for row in json.loads(jokulmist("gallery", "--json").stdout)} == {
        "haul",
        "lots",
        "tarn",
        "tarn-whole",
        "ferry",
        "aurora",
        "winch",
        "greenhouse",
        "skerry",
    }
    assert "jokulmist 0." in jokulmist("--version").stdout


def test_a_dry_run_forecasts_and_trains_nothing(place):
    before = sorted((place / "runs").iterdir())
    done = jokulmist("train", "pond.toml", "--dry", "--json", folder=place)
    forecast = json.loads(done.stdout)
    assert (done.returncode, forecast["runs"], forecast["decisions_a_run"]) == (0, 1, 100_000)
    assert forecast["seconds_a_run"] > 0
    assert sorted((place / "runs").iterdir()) == before


def spoil(folder):
    """Plans and files with a mistake each."""
    good = (folder / "pond.toml").read_text()
    (folder / "torn.toml").write_text("[environment\n")
    (folder / "range.toml").write_text(good.replace("bins = 20", "discount = 1.5"))
    (folder / "unknown.toml").write_text(good.replace("bins", "bnis"))
    (folder / "bad.py").write_text("def (:\n")
    (folder / "crash.py").write_text("import jokulmist as jm\nraise ValueError('no snow')\n")
    (folder / "half.py").write_text("import jokulmist as jm\nclass Half(jm.Environment):\n    action = jm.Choice(2)\n")
    (folder / "wrong.py").write_text(
        (folder / "pond.py").read_text().replace("let_in = 1.5 * action", "let_in = 1.5 * axion")
    )
    (folder / "wrong.toml").write_text(good.replace("pond.py", "wrong.py"))
    (folder / "file").write_text("")


MISTAKES = [
    (["check", "tran"], 2, "no environment `tran`", "Did you mean `tarn`?"),
    (["check", "nowhere.py:Pond"], 2, "there is no file", "Check the path"),
    (["check", "pond.py:Pnod"], 2, "no class `Pnod`", "Did you mean `Pond`?"),
    (["check", "no.such.module:Pond"], 2, "there is no module `no`", "misspelt"),
    (["check", "bad.py:Pond"], 1, "bad.py:1 is not valid Python", "Fix that line"),
    (["check", "crash.py:Pond"], 1, "crash.py:2 failed when it was read: ValueError: no snow", ""),
    (["check", "half.py:Half"], 2, "half.py:2: `Half.State` must be a class", "class State(jm.State)"),
    (["train", "none.toml"], 2, "there is no plan none.toml", "Check the path"),
    (["train", "torn.toml"], 2, "torn.toml is not valid TOML", "line 1"),
    (["train", "range.toml"], 2, "`discount` of `QLearning`: must lie in [0, 1]; got 1.5", "default is 0.99"),
    (["train", "unknown.toml"], 2, "no setting `bnis`", "Did you mean `bins`?"),
    (["train", "pond.toml", "--set", "agent.bins"], 2, "--set", "agent.exploration=0.1"),
    (["train", "pond.toml", "--folder", "file/runs"], 1, "cannot make a run's folder", "--folder"),
    (["train", "wrong.toml"], 1, "`Pond.advance` (wrong.py:", "name 'axion' is not defined"),
    (["play", "ferry"], 2, "`play` needs a terminal", "--show 20"),
    (["play"], 2, "say what to play", "jokulmist play ferry"),
    (["evaluate", "nothing"], 2, "there is no run nothing", "jokulmist runs"),
    (["evaluate", "."], 2, "is no run", "jokulmist train"),
    (
        ["evaluate", "runs/pond-qlearning-001", "--over", "rain"],
        2,
        "`--over` takes a parameter and its",
        "melt=0.5,1,2",
    ),
    (["evaluate", "runs/pond-qlearning-001", "--act", "best"], 2, "`act` must be `greedy` or `sampled`", "best"),
    (["new", "pond.py"], 2, "is there already", "another name"),
    (["new", "pond.txt"], 2, "writes a Python file", "jokulmist new pond.py"),
    (["chekc", "tarn"], 2, "No such command", "chekc"),
]


@pytest.mark.parametrize(
    ("words", "status", "what", "fix"), MISTAKES, ids=lambda v: " ".join(v) if isinstance(v, list) else ""
)
def test_a_mistake_gets_one_clear_message_and_leaves_nothing_half_made(place, words, status, what, fix, capsys):
    from jokulmist.command.main import main

    spoil(place)
    before = sorted((place / "runs").iterdir())
    os.chdir(place)
    with pytest.raises(SystemExit) as ended:
        main(words)
    reply = capsys.readouterr().err
    assert ended.value.code == status, reply
    assert what in reply
    assert fix in reply
    assert "Traceback" not in reply
    assert sorted((place / "runs").iterdir()) == before


@pytest.mark.slow
@pytest.mark.parametrize("how", [signal.SIGINT, signal.SIGTERM])
def test_a_signal_ends_the_command_with_130_and_everything_saved(place, how):
    words = ["train", "pond.toml", "--set", "training.steps=1_000_000_000", "--set", "training.lane=plain", "--name"]
    words.append(f"cut-{how.name}")
    process = subprocess.Popen(
        [sys.executable, "-m", "jokulmist", *words],
        stdout=subprocess.PIPE,
        stderr=subprocess.PIPE,
        text=True,
        cwd=place,
    )
    record = place / "runs" / f"cut-{how.name}" / "episodes.csv"
    for _ in range(1200):
        if record.exists() and record.stat().st_size > 500:
            break
        time.sleep(0.1)
    process.send_signal(how)
    output, reply = process.communicate(timeout=240)
    assert process.returncode == 130
    assert "stopped" in output
    assert "everything is being saved" in reply
    assert "Traceback" not in reply
    assert jokulmist("evaluate", f"runs/cut-{how.name}", "--episodes", "3", folder=place).returncode == 0


ENDED_WHILE_DESTROYING = """
import signal
import sys
import jokulmist as jm

class Parting:
    def __del__(self):
        signal.raise_signal(signal.SIGINT)

def interrupt_hook(frame, event, argument):  # a second one comes while the first is dealt with
    if frame.f_code is sys.unraisablehook.__code__:
        sys.setprofile(None)
        signal.raise_signal(signal.SIGINT)

class Pier(jm.Environment):
    class State(jm.State):
        depth: float = jm.seen(low=0.0, high=1.0)

    action = jm.Choice("wait", "go")
    time_limit = 5

    def begin(self, draw):
        return self.State(depth=0.5)

    def advance(self, state, action, draw):
        if type(state.depth) is float:
            sys.setprofile(interrupt_hook)
            Parting()
        return state

    @jm.reward
    def still(self, after):
        return 0.0
"""


def test_an_interrupt_that_comes_while_an_object_is_destroyed_ends_the_command_without_a_traceback(tmp_path):
    (tmp_path / "pier.py").write_text(ENDED_WHILE_DESTROYING)
    done = spawned("check", "pier.py:Pier", folder=tmp_path)
    assert done.returncode == 130
    assert "Traceback" not in done.stderr


@pytest.mark.slow
def test_a_run_whose_source_is_gone_uses_its_own_copy(place, tmp_path):
    import shutil

    shutil.copy(place / "pond.py", tmp_path / "lake.py")
    (tmp_path / "lake.toml").write_text((place / "pond.toml").read_text().replace("pond.py", "lake.py"))
    assert (
        jokulmist(
            "train", "lake.toml", "--set", "training.steps=500", "--set", "training.lane=plain", folder=tmp_path
        ).returncode
        == 0
    )
    (tmp_path / "lake.py").unlink()
    done = jokulmist("evaluate", "runs/pond-qlearning-001", "--episodes", "3", folder=tmp_path)
    assert done.returncode == 0, done.stderr


def test_a_class_that_is_wrong_makes_check_end_with_one(place):
    (place / "dry.py").write_text((place / "pond.py").read_text().replace("20.0), let_in", "30.0), let_in"))
    done = jokulmist("check", "dry.py:Pond", "--set", "x", folder=place)
    assert done.returncode == 2  # there is no such option
    (place / "low.py").write_text((place / "pond.py").read_text().replace("high=20.0", "high=12.0"))
    done = jokulmist("check", "low.py:Pond", "--steps", "800", folder=place)
    assert done.returncode == 1
    assert "outside its bounds 0 to 12" in done.stdout


@pytest.mark.slow
@pytest.mark.draws
def test_the_tour_runs_from_an_empty_folder(tmp_path, monkeypatch):
    """With fewer decisions and seeds; how long the whole takes is measured by benchmarks."""
    from jokulmist.command import tour

    monkeypatch.setattr(tour, "STEPS", 30_000)
    monkeypatch.setattr(tour, "SEEDS", (0, 1))
    done = jokulmist("tour", folder=tmp_path)
    assert done.returncode == 0, done.stderr
    lines = (tmp_path / "runs" / "tour-summary.csv").read_text().splitlines()
    assert lines[0].startswith("agent,seed,mean_return")
    assert len(lines) == 1 + 2 + 2 + 2
    assert len(list((tmp_path / "runs").glob("tarn-*/pictures/*.png"))) == 8
    assert (tmp_path / "runs" / "tour-comparison.png").exists()
    assert "QLearning and Sarsa:" in done.stdout
    assert "The best policy earns" in done.stdout
