"""The public names, the doctests, the examples and the figures in the docs."""

import doctest
import importlib
import inspect
import os
import pkgutil
import re
import runpy
import shutil
import subprocess
import sys
import tomllib
import zipfile
from operator import attrgetter
from pathlib import Path

import pytest

import jokulmist as jm
from jokulmist.agents.registry import AGENTS
from jokulmist.environments.declaration.instance import outline_of
from jokulmist.gallery import SHIPPED
from jokulmist.gallery.make_season import TARGET, season
from jokulmist.settings import described_settings

ROOT = Path(__file__).parents[1]
MODULES = [m.name for m in pkgutil.walk_packages(jm.__path__, "jokulmist.") if not m.name.endswith("__main__")]


def public_names():
    """Every name of `jm.` and of its modules, as `Stack` is `modifiers.Stack`, but for modules and the version."""
    modules = ("modifiers", "parts", "pictures", "results")
    inside = {f"{module}.{name}" for module in modules for name in getattr(jm, module).__all__}
    return inside | set(jm.__all__) - {"__version__", "errors", "gallery", *modules}


def test_the_public_names_are_there_documented_and_listed():
    documented = (ROOT / "docs" / "names.md").read_text()
    for name in public_names() | {"errors", "gallery"}:
        assert attrgetter(name)(jm).__doc__, name
        assert f"`{name}`" in documented, f"docs/names.md does not mention `{name}`"
    assert len(jm.__all__) <= 90
    with pytest.raises(AttributeError, match="Did you mean `Environment`"):
        _ = jm.Enviroment
    assert "train" in dir(jm)


@pytest.mark.parametrize("kind", [*AGENTS.values(), jm.Dense, jm.Convolutional, jm.Recurrent, jm.Novelty])
def test_a_signature_has_every_setting_with_its_default_and_the_docstring_what_it_means(kind):
    parameters = inspect.signature(kind).parameters
    told = described_settings(kind)
    for name, field in kind.model_fields.items():
        if name == "inner":  # what a fixed policy holds once it is read
            continue
        assert name in told, (kind, name)
        if parameters[name].kind is not inspect.Parameter.VAR_POSITIONAL and not field.is_required():
            assert parameters[name].default == field.default, (kind, name)
    assert set(parameters) == set(kind.model_fields), kind
    assert not re.search(r"See `\w+`\.", " ".join(setting.meaning for setting in told.values())), kind


@pytest.mark.parametrize(
    "name",
    # `Scheduled` is a type; what returns a result shows it.
    sorted(
        name
        for name in public_names() | {"gallery", "errors"}
        if name.partition(".")[0] != "results" and name != "parts.Scheduled"
    ),
)
def test_no_public_name_is_without_an_example(name):
    thing = attrgetter(name)(jm)
    output = thing.__doc__ if "__doc__" in vars(thing) else inspect.getdoc(thing)
    assert doctest.DocTestParser().get_examples(output), f"`{name}` has no example in its docstring"


@pytest.mark.slow
@pytest.mark.parametrize("name", MODULES)
def test_the_examples_in_docstrings_run(name):
    module = importlib.import_module(name)
    assert module.__doc__, f"{name} does not say what is in it"
    result = doctest.testmod(module, optionflags=doctest.NORMALIZE_WHITESPACE | doctest.ELLIPSIS)
    assert result.failed == 0


def shorter(text):
    """The same program with budgets of some thousand steps: that it runs is what is tested here, and not what is
    learned."""
    return re.sub(r"(?i)(steps ?= ?)[\d_]{5,}", r"\g<1>2_000", text)


@pytest.mark.slow
@pytest.mark.parametrize("path", sorted((ROOT / "examples").glob("*.py")), ids=lambda path: path.stem)
def test_the_examples_run(path, capsys, tmp_path, monkeypatch):
    monkeypatch.setattr("jokulmist.running.workers.pool.usual_workers", lambda: 1)  # what is compiled is compiled once
    shutil.copytree(ROOT / "examples", tmp_path / "examples", ignore=shutil.ignore_patterns("runs"))
    shutil.copytree(ROOT / "clients", tmp_path / "clients")
    place = tmp_path / "examples" / path.name
    place.write_text(re.sub(r"\b(episodes|record)=\d{2,3}\b", r"\1=10", shorter(path.read_text())))
    runpy.run_path(str(place), run_name="__main__")
    assert capsys.readouterr().out


@pytest.mark.slow
def test_the_notebook_runs_and_shows_what_it_makes(tmp_path):
    """In a kernel: tables of HTML for what is trained, judged, compared and searched, one line of progress a run, and a
    plot."""
    import nbformat
    from nbclient import NotebookClient

    notebook = nbformat.reads(shorter((ROOT / "examples" / "first_hour.ipynb").read_text()), 4)
    NotebookClient(
        notebook, timeout=280, kernel_name="python3", resources={"metadata": {"path": str(tmp_path)}}
    ).execute()
    displayed = {}
    for cell in notebook.cells:
        if cell.cell_type == "code":
            displayed[cell.source.splitlines()[-1]] = cell.outputs
    html = {
        last: [o.data["text/html"] for o in outputs if "text/html" in o.get("data", {})]
        for last, outputs in displayed.items()
    }
    assert "no error" in html["jm.check(Pond())"][-1]
    assert "episode of Pond, open" in html["episode"][-1]
    assert len(html["run"]) == 2
    assert "done: 2,000 decisions" in html["run"][0]  # the line of progress, written over
    assert "polyline" in html["run"][1]
    assert any("image/png" in o.get("data", {}) for o in displayed["jm.plot(run);"])
    for last, output in {
        "run.policy": "QLearning(bins=20)",
        "jm.evaluate(run.policy, Pond())": "mean return",
        "run.rollouts[-1]": "moments",
        "jm.compare(runs)": "which differ",
        "search": "best agent.bins",
    }.items():
        assert output in html[last][-1], last
    assert "class Pond" in (tmp_path / "runs" / "pond-qlearning-001" / "source" / "notebook.py").read_text()


def test_a_cell_shows_an_object_whose_files_are_gone(tmp_path):
    run = jm.train(jm.gallery.Tarn(), jm.RandomPlay(), episodes=3, lane="plain", folder=tmp_path)
    assert "tarn-randomplay-001" in run._repr_html_()
    shutil.rmtree(run.path)
    assert "&lt;run tarn-randomplay-001" in jm.Run(run.path, run.origin)._repr_html_()


@pytest.mark.slow
def test_a_wheel_holds_the_whole_library_and_works_where_the_source_is_not(tmp_path):
    tracked = subprocess.run(
        ["git", "-C", ROOT, "ls-files", "src/jokulmist"], capture_output=True, text=True
    ).stdout.split()
    if not tracked:
        pytest.skip("no repository here")
    source = tmp_path / "source"
    for name in [*tracked, "pyproject.toml", "README.md", "LICENSE"]:  # as it is committed: nothing that git ignores
        (source / name).parent.mkdir(parents=True, exist_ok=True)
        shutil.copy(ROOT / name, source / name)
    built = subprocess.run(
        [sys.executable, "-m", "pip", "wheel", "--quiet", "--no-deps", "--no-build-isolation", "-w", tmp_path, source],
        capture_output=True,
        text=True,
    )
    assert built.returncode == 0, built.stderr
    (wheel,) = tmp_path.glob("*.whl")
    with zipfile.ZipFile(wheel) as packed:
        packed.extractall(tmp_path / "site")
        inside = {name for name in packed.namelist() if name.startswith("jokulmist/")}
    assert inside == {name.removeprefix("src/") for name in tracked}
    program = (
        "import jokulmist as jm; print(jm.__file__); print(jm.train(jm.gallery.Tarn(), jm.QLearning(), steps=300, "
        "lane='plain').status)"
    )
    output = subprocess.run(
        [sys.executable, "-P", "-c", program],
        cwd=tmp_path,
        env={**os.environ, "PYTHONPATH": str(tmp_path / "site")},
        capture_output=True,
        text=True,
    )
    assert output.stdout.split() == [str(tmp_path / "site" / "jokulmist" / "__init__.py"), "done"], output.stderr


def blocks(page, language):
    return re.findall(rf"```{language}\n(.*?)```", (ROOT / page).read_text(), re.S)


@pytest.mark.slow
def test_the_readme_does_what_it_says(capsys, monkeypatch):
    """Its Python runs from top to bottom, and its first environment is the one that `new` writes."""
    from jokulmist.command.starting import template

    ten, declared, trained = blocks("README.md", "python")
    written = template("table", "environment", Path("pond.py"))
    assert declared[declared.index("import") :] == written[written.index("import") :]
    monkeypatch.setattr("matplotlib.pyplot.show", lambda: None)
    names = {"__name__": "readme"}
    Path("readme.py").write_text(declared)
    exec(compile(declared + trained, "readme.py", "exec"), names)
    assert names["run"].status == "done"
    lines = [line for line in ten.splitlines() if line]
    assert len(lines) == 10
    exec(compile(shorter(ten), "ten.py", "exec"), {"__name__": "readme"})
    assert Path("policy/policy.py").exists()
    assert "Pond: no errors, no warnings in" in capsys.readouterr().out


@pytest.mark.slow
def test_the_guides_to_comparing_and_tuning_run(capsys):
    exec(blocks("docs/comparing.md", "python")[0], {"__name__": "guide"})
    output = capsys.readouterr().out
    assert "learning_rate 0.02" in output
    assert Path("rates-scores.csv").exists()
    exec(blocks("docs/tuning.md", "python")[0], {"__name__": "guide"})
    assert "agent.exploration" in capsys.readouterr().out
    tomllib.loads(blocks("docs/tuning.md", "toml")[0])


@pytest.mark.slow
def test_the_guide_to_players_runs():
    names = {"__name__": "guide"}
    for block in blocks("docs/players.md", "python"):
        exec(block, names)
    assert names["found"].verdict.startswith("2 runs are too few")
    assert "downhill.partner" in names["itself"].episodes
    tomllib.loads(blocks("docs/players.md", "toml")[0])


# Those whose output is looked at have tests of their own.
LOOKED_AT = ("comparing", "first-session", "players", "tuning")
PAGES = sorted(
    page.stem
    for page in (ROOT / "docs").glob("*.md")
    if page.stem not in LOOKED_AT and "```python\n" in page.read_text()
)


@pytest.mark.slow
@pytest.mark.parametrize("page", PAGES)
def test_the_code_of_a_guide_runs_from_top_to_bottom(page, monkeypatch):
    names = {"__name__": "guide"}
    for number, block in enumerate(blocks(f"docs/{page}.md", "python")):
        file = Path(f"{page.replace('-', '_')}_{number}.py")
        file.write_text(block)  # a class keeps the file that it is in
        exec(compile(shorter(block), file.name, "exec"), names)
    for plan in blocks(f"docs/{page}.md", "toml"):
        tomllib.loads(plan)


def test_the_guide_to_the_methods_names_every_reading():
    from jokulmist.agents.registry import AGENTS

    output = (ROOT / "docs" / "methods.md").read_text()
    for name in ("DQN", "Reinforce", "ActorCritic", "PPO", "LinearQ", "DDPG", "TD3", "SAC"):
        assert f"`{name}" in output
        for reading in AGENTS[name].reading_names:
            assert f"`{reading}`" in output, reading


@pytest.mark.slow
def test_the_first_session_is_what_really_happens():
    """The guide's files, checked: each finding that it shows is found, and nothing of the file that it ends with."""
    from jokulmist.plans.plan import plan_of
    from jokulmist.plans.sources import environment_class

    draft, fixed = blocks("docs/first-session.md", "python")
    text = (ROOT / "docs" / "first-session.md").read_text()
    Path("draft.py").write_text(draft)
    report = jm.check(environment_class("draft.py")())
    output = re.findall(r"^error  (.{24})", text, re.M)
    assert [finding.problem[:24] for finding in report.findings] == output
    assert len(output) == 3
    for finding in report.findings:
        assert finding.why in text
        assert finding.place.replace("draft.py", "sauna.py") in text
    assert report.why_plain.replace("draft.py", "sauna.py") in text
    Path("untimed.py").write_text(fixed.replace("turn: int = jm.seen(low=0, high=60)", "turn: int"))
    findings = jm.check(environment_class("untimed.py")(), speed=False).findings
    assert [(f.level, f.problem in text, f.fix in text) for f in findings] == [("warning", True, True)]
    Path("sauna.py").write_text(fixed)
    assert jm.check(environment_class("sauna.py")(), speed=False).findings == []
    plan = plan_of(tomllib.loads(blocks("docs/first-session.md", "toml")[0]))
    run = jm.train(plan.environment, plan.agent, steps=60_000, folder=None)
    assert jm.evaluate(run.policy, run.environment).mean > 50.0


def test_the_plan_in_the_guide_is_a_plan():
    from jokulmist.command.starting import new
    from jokulmist.plans.plan import read_plan

    new(Path("pond.py"))
    Path("guide.toml").write_text(blocks("docs/runs.md", "toml")[0])
    plan = read_plan(Path("guide.toml"))
    assert plan.training.evaluate_every == 50_000
    assert plan.environment.rain == 0.8


def test_the_season_is_what_its_script_makes():
    lines = TARGET.read_text().splitlines()
    assert lines[0] == "hour,price,melt"
    assert [tuple(map(float, line.split(","))) for line in lines[1:]] == [tuple(map(float, row)) for row in season()]


@pytest.mark.slow
@pytest.mark.parametrize("name", SHIPPED)
def test_docstrings_of_the_gallery_tell_the_returns_that_are_measured(name):
    """The numbers in the text are those of 200 episodes of seed 1, as it says."""
    import re

    cls = getattr(jm.gallery, SHIPPED[name][1])
    text = " ".join(cls.__doc__.split())
    output = {"random": re.search(r"random play returns (-?\d+\.?\d*)", text)}
    output |= {player: re.search(rf"`{player}` (-?\d+\.?\d*)", text) for player in outline_of(cls).references}
    for player, number in output.items():
        if number is not None:
            measured = jm.evaluate(player, cls(), episodes=200, seed=1).mean
            assert float(number[1]) == pytest.approx(measured, abs=0.6), player
    assert output["random"] is not None


def test_every_screenshot_is_linked_and_every_link_is_there():
    shots = {path.name for path in (ROOT / "docs" / "screenshots").iterdir()}
    pages = [ROOT / "README.md", *(ROOT / "docs").glob("*.md")]
    text = "".join(page.read_text() for page in pages)
    assert len(shots) < 20
    assert {name for name in shots if name not in text} == set()
    import re

    for page in pages:
        for target in re.findall(r"\]\((?!http)([^)#]+)\)", page.read_text()):
            assert (page.parent / target).exists(), f"{page.name} links {target}"
