"""Pictures that a second process draws, and what one process finds out and keeps for others."""

import inspect

import pytest
from places import Corridor

import jokulmist as jm
from jokulmist.command import drawing
from jokulmist.lanes.compiled import compilability
from jokulmist.plans.fingerprint import fingerprint, known_to_compile
from jokulmist.plans.plan import read_plan
from jokulmist.running.session.choices import chosen_lane
from jokulmist.running.train import train_plan

PLAN = '[environment]\nuse = "trail.py:Corridor"\n[agent]\nuse = "QLearning"\n[training]\nsteps = 200\nlane = "plain"\n'

pytestmark = pytest.mark.draws


@pytest.fixture
def plan(tmp_path, monkeypatch):
    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path / "cache"))
    (tmp_path / "trail.py").write_text("import jokulmist as jm\n\n\n" + inspect.getsource(Corridor), encoding="utf-8")
    path = tmp_path / "plan.toml"
    path.write_text(PLAN, encoding="utf-8")
    return path


def drawn(run):
    return sorted(p.name for p in (run.path / "pictures").glob("*"))


@pytest.mark.slow
def test_runs_are_drawn_by_another_process_and_here_where_that_one_is_gone(plan, tmp_path):
    beside = drawing.Drawing(plan, [])
    options = read_plan(plan)
    (first,), (second,) = (train_plan(options, folder=tmp_path / "runs") for _ in range(2))
    assert beside._draw_in_process([first]) == {str(first.path)}
    assert drawn(first) == ["learning-curve.png", "ledger.png"]
    # Where the file is in the middle of an edit the other process ends, and the run is drawn here, as it was trained.
    (tmp_path / "trail.py").write_text("raise ValueError('half an edit')\n", encoding="utf-8")
    gone = drawing.Drawing(plan, [])
    gone._process.wait()
    assert gone._draw_in_process([second]) == set()
    gone.draw([second], options)
    assert drawn(second) == ["learning-curve.png", "ledger.png"]
    gone.drop()
    dropped = drawing.Drawing(plan, [])
    process = dropped._process
    dropped.drop()
    assert process.poll() is not None


def test_a_program_at_the_other_end_is_not_connected_to_twice(plan, tmp_path):
    assert drawing.Drawing(plan, ['environment.use="remote"'])._process is None
    plan.write_text('[environment]\nuse = "remote"\nat = "ws://127.0.0.1:1"\n', encoding="utf-8")
    assert drawing.Drawing(plan, [])._process is None
    assert drawing.Drawing(tmp_path / "nowhere.toml", [])._process is None


def test_that_a_class_compiles_is_found_once_for_all_processes_by_all_that_it_is(plan, tmp_path, monkeypatch):
    plan.write_text(PLAN.replace("plain", "auto"), encoding="utf-8")
    options = read_plan(plan)
    assert not known_to_compile(options.stage)
    assert chosen_lane(options) == ("compiled", "")
    assert known_to_compile(options.stage)

    def never(environment):
        raise AssertionError("found out again")

    with monkeypatch.context() as patched:
        patched.setattr(compilability, "find", never)
        assert chosen_lane(read_plan(plan)) == ("compiled", "")
        for change in ("environment.weights={ prize = 2.0 }", 'environment.modify=[{ use = "Stack", count = 2 }]'):
            with pytest.raises(AssertionError, match="found out again"):
                chosen_lane(read_plan(plan, [change]))
    text = (tmp_path / "trail.py").read_text()
    (tmp_path / "other.py").write_text(text.replace("0.1", "0.2"), encoding="utf-8")
    assert "0.1" in text
    edited = read_plan(plan, ['environment.use="other.py:Corridor"'])
    assert fingerprint(edited.stage) != fingerprint(options.stage)
    assert not known_to_compile(edited.stage)
    # A class whose code no file holds is known in its process alone.
    namespace = {}
    exec("import jokulmist as jm\n" + text, namespace)
    assert not isinstance(fingerprint(namespace["Corridor"]()), str)
    assert not known_to_compile(namespace["Corridor"]())
    assert isinstance(fingerprint(jm.gallery.Tarn()), str)
