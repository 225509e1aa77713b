"""What `new` writes, of each kind: its own tests pass, and its plan trains."""

import importlib.util
import sys

import pytest
from commands import jokulmist

import jokulmist as jm
from jokulmist.command.starting import KINDS
from jokulmist.plans.plan import read_plan
from jokulmist.running.train import train_plan


@pytest.mark.slow
@pytest.mark.parametrize("kind", KINDS)
def test_what_is_written_passes_its_own_tests_and_trains(kind, tmp_path, monkeypatch):
    done = jokulmist("new", "first_try.py", "--kind", kind, folder=tmp_path)
    assert done.returncode == 0, done.stderr
    assert "jokulmist train first_try.toml" in done.stdout
    monkeypatch.chdir(tmp_path)
    monkeypatch.syspath_prepend(str(tmp_path))
    for name in ("first_try", "arenas"):
        monkeypatch.delitem(sys.modules, name, raising=False)
    spec = importlib.util.spec_from_file_location("of_kind", tmp_path / "test_first_try.py")
    tests = importlib.util.module_from_spec(spec)
    spec.loader.exec_module(tests)
    result = [thing for name, thing in vars(tests).items() if name.startswith("test_")]
    assert result
    for test in result:
        test()
    changes = ["training.steps=600"]
    if kind == "images":
        changes.append("agent.horizon=16")
    (run,) = train_plan(read_plan(tmp_path / "first_try.toml", changes), folder=None)
    assert run.status == "done"
    assert run.origin["decisions"] >= 600
    monkeypatch.delitem(sys.modules, "first_try", raising=False)


def test_a_kind_that_is_not_there_and_files_that_are(tmp_path):
    unknown = jokulmist("new", "first.py", "--kind", "imges", folder=tmp_path)
    assert (unknown.returncode, "Did you mean `images`" in unknown.stderr) == (2, True)
    (tmp_path / "test_first.py").write_text("mine")
    refused = jokulmist("new", "first.py", folder=tmp_path)
    assert refused.returncode == 2
    assert "test_first.py is there already" in refused.stderr
    assert sorted(path.name for path in tmp_path.iterdir()) == ["test_first.py"]
    assert jm.__version__


def test_of_a_family_the_base_is_not_offered(tmp_path):
    """`check family.py` names the classes that can be meant; a simulator's base is none of them either."""
    (tmp_path / "family.py").write_text(
        "import jokulmist as jm\nclass Base(jm.Environment, abstract=True):\n    pass\nclass Engine(jm.Simulator, "
        "abstract=True):\n    pass\n"
        "from jokulmist.gallery import Tarn\nclass High(Tarn):\n    pass\nclass Low(Tarn):\n    pass\n"
    )
    options = jokulmist("check", "family.py", folder=tmp_path)
    assert options.returncode == 2
    assert "family.py has `High`, `Low`; say which, e.g. `family.py:High`." in options.stderr
