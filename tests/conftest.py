"""What all tests share: one trained run, one folder of compiled code, and no folder made where the tests are."""

import signal
import sys
from pathlib import Path

import hypothesis
import pytest

sys.path.insert(0, str(Path(__file__).parent))
import compiling  # noqa: F401  (before JAX is imported)
import jax

import jokulmist as jm
from jokulmist.lanes.compiled.backend import start_backend
from jokulmist.loops import program

# How long an example takes depends on what else the machine does, and decides nothing.
hypothesis.settings.register_profile("untimed", deadline=None)
hypothesis.settings.load_profile("untimed")
if signal.getsignal(signal.SIGINT) is signal.SIG_IGN:  # a shell starts what it puts into the background deaf to it
    signal.signal(signal.SIGINT, signal.default_int_handler)
start_backend()  # before a test makes an array: else the loops of one copy are slow


@pytest.fixture(autouse=True)
def _in_own_folder(tmp_path, monkeypatch):
    monkeypatch.chdir(tmp_path)


class NoDrawing:
    """In the place of what draws the runs of a plan."""

    def __init__(self, plan_file, changes):
        pass

    def draw(self, runs, plan):
        pass

    def drop(self):
        pass


@pytest.fixture(autouse=True)
def _draws_nothing(request, monkeypatch):
    """A command draws no pictures of its runs, which takes longer than most runs here; but in a test that looks at them
    (`draws`)."""
    if request.node.get_closest_marker("draws") is None:
        monkeypatch.setattr("jokulmist.command.training.Drawing", NoDrawing)
        monkeypatch.setattr("jokulmist.command.drawing.draw_run", lambda *_: [])


@pytest.fixture(autouse=True, scope="module")
def _lets_go_of_programs():
    """What a file has compiled is let go of at its end: no other file runs it, and a process would grow to
    gigabytes."""
    yield
    program._PROGRAMS.clear()
    jax.clear_caches()


@pytest.fixture(scope="session")
def trained(tmp_path_factory):
    """A finished run of the tarn, compiled, with 3 copies and evaluations."""
    return jm.train(
        jm.gallery.Tarn(),
        jm.QLearning(bins=12, discount=1.0, learning_rate=jm.linear(0.5, 0.05, over=1.0)),
        steps=30_000,
        copies=3,
        evaluate_every=15_000,
        evaluate_episodes=10,
        folder=tmp_path_factory.mktemp("runs"),
    )
