"""Compiled code that is kept between processes: found where it is the same, and only there; bytes as without it."""

import contextlib
import fcntl
import threading

import jax
import numpy as np
import optax
import pytest
from places import Corridor

import jokulmist as jm
from jokulmist.lanes.compiled.copies import CompiledEnvironment
from jokulmist.learning import optimisation
from jokulmist.loops import program, program_cache

PPO = jm.PPO(network=jm.Dense(8), horizon=8, minibatch=32, epochs=2)


def key_of(environment, agent, copies=4):
    compiled = CompiledEnvironment(environment)
    return program_cache.key_of(compiled, agent, agent.config(compiled.description.spec, copies))


def trained(agent=PPO, environment=None):
    """A run as a new process would train it."""
    program._PROGRAMS.clear()
    run = jm.train(environment or Corridor(slip=0.2), agent, steps=640, copies=4, lane="compiled", folder=None, seed=3)
    return run, run.policy.learner


def tracing(monkeypatch):
    """What is traced or compiled from here on, one entry each time."""
    result = []
    for place, name in ((program, "_agent_requests"), (program_cache.CachedFunction, "_compiled")):
        whole = getattr(place, name)
        monkeypatch.setattr(place, name, lambda *given, whole=whole: result.append(1) or whole(*given))
    return result


@pytest.fixture
def kept(tmp_path, monkeypatch):
    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path / "cache"))
    return tmp_path / "cache" / "jokulmist" / "programs"


@pytest.mark.slow
def test_a_second_process_traces_no_learner_and_learns_the_same_bytes(kept, monkeypatch):
    first, learned = trained()
    assert {file.suffix for file in kept.iterdir()} == {".json", ".code", ".lock"}
    traced = tracing(monkeypatch)
    second, repeated = trained()
    assert not traced
    assert first.episodes.equals(second.episodes)
    for item, other_leaf in zip(*map(kept_leaves, (learned, repeated)), strict=True):
        assert item.tobytes() == other_leaf.tobytes()
    # What is damaged is compiled again, to the same bytes, and kept.
    codes = [file for file in kept.iterdir() if file.suffix == ".code"]
    for file in codes:
        file.write_bytes(file.read_bytes()[:-40])
    for file in kept.glob("*.json"):
        file.write_text('[["uniform"')
    third, _ = trained()
    assert traced
    assert third.episodes.equals(first.episodes)
    traced.clear()
    fourth, _ = trained()
    assert not traced
    assert fourth.episodes.equals(first.episodes)
    monkeypatch.setenv("XDG_CACHE_HOME", "/proc/nowhere")  # which nobody can write
    fifth, _ = trained()
    assert traced
    assert fifth.episodes.equals(first.episodes)


def test_another_environment_with_the_same_channels_traces_and_compiles_no_update_again(kept, monkeypatch):
    class Steep(Corridor):
        @jm.reward(weight=-0.5)
        def toll(self, after):
            return 0.1 * after.cell

    trained()
    compiled = []
    whole = program_cache.CachedFunction._compiled
    monkeypatch.setattr(
        program_cache.CachedFunction,
        "_compiled",
        lambda self, *given: compiled.append(self.name) or whole(self, *given),
    )
    monkeypatch.setattr(program, "_agent_requests", lambda *given: compiled.append("requests"))
    trained(environment=Steep(slip=0.2))
    assert sorted(set(compiled)) == ["rollout", "start"]


@pytest.mark.slow
def test_one_program_of_rollout_and_update_learns_the_bytes_of_two(kept, monkeypatch):
    difference, learned = trained()
    monkeypatch.setattr(program, "UPDATES_APART", 0)
    joint, repeated = trained()
    assert next(iter(program._PROGRAMS.values())).chunk.name == "chunk"
    assert difference.episodes.equals(joint.episodes)
    for item, other_leaf in zip(*map(kept_leaves, (learned, repeated)), strict=True):
        assert item.tobytes() == other_leaf.tobytes()


@pytest.mark.slow
def test_of_two_processes_one_compiles_and_the_other_waits(kept, monkeypatch):
    first, _ = trained()
    codes = {file: file.read_bytes() for file in kept.glob("*.code")}
    for file in codes:
        file.unlink()
    traced = tracing(monkeypatch)
    result = []
    with contextlib.ExitStack() as satisfied:  # another process is compiling
        for file in codes:
            fcntl.flock(satisfied.enter_context(file.with_suffix(".lock").open("a")), fcntl.LOCK_EX)
        waiting = threading.Thread(target=lambda: result.append(trained()[0]))
        waiting.start()
        waiting.join(1.0)
        assert waiting.is_alive()
        for file, content in codes.items():
            file.write_bytes(content)
    waiting.join(60.0)
    assert not traced
    assert result[0].episodes.equals(first.episodes)


def kept_leaves(learner):
    return [np.asarray(leaf) for leaf in jax.tree.leaves(learner)]


def with_table(table):
    """A class that reads a table from outside: the same code, and another computation."""

    class Slope(Corridor):
        @jm.reward(weight=0.0)
        def height(self, after):
            return self.xp.asarray(table)[after.cell]

    return Slope()


def test_the_key_knows_all_that_decides_a_program():
    key = key_of(Corridor(), PPO)
    assert key == key_of(Corridor(slip=0.7, weights={"effort": -2.0}), PPO)  # arguments of the program
    assert key == key_of(Corridor(), PPO.model_copy(update={"learning_rate": 0.01}))
    table = np.arange(5, dtype=np.float32)
    rest = [
        key_of(Corridor(length=6), PPO),
        key_of(Corridor(), PPO, 8),
        key_of(Corridor(), jm.PPO(network=jm.Dense(9))),
        key_of(Corridor(), jm.ActorCritic(network=jm.Dense(8))),
        key_of(with_table(table), PPO),
        key_of(with_table(table * 1.001), PPO),
        key_of(Corridor().modified(jm.modifiers.Stack(2)), PPO),
        key_of(Corridor(), jm.PPO(network=jm.Dense(8), novelty=jm.Novelty())),
    ]
    assert None not in rest
    assert len({key, *rest}) == 9


def test_code_that_may_be_another_under_the_same_name_has_no_key(monkeypatch):
    class Mine(jm.QLearning):
        pass

    assert key_of(Corridor(), Mine(bins=5)) is None
    with monkeypatch.context() as exchanged:
        exchanged.setattr(jm.PPO, "learn", staticmethod(lambda *given: given))
        assert key_of(Corridor(), PPO) is None
    assert program_cache.written(lambda: 1) is None
    assert program_cache.written({"a": (1, np.float32(2.0))}) != program_cache.written({"a": (1, np.float64(2.0))})
    before = key_of(Corridor(), PPO)
    jax.config.update("jax_default_matmul_precision", "float32")
    try:
        assert key_of(Corridor(), PPO) not in (before, None)
    finally:
        jax.config.update("jax_default_matmul_precision", None)
    monkeypatch.setenv("XLA_FLAGS", "--xla_cpu_enable_fast_math=true")
    assert key_of(Corridor(), PPO) not in (before, None)


@pytest.mark.parametrize(
    ("optimiser", "package"),
    [("adam", optax.scale_by_adam(eps=1e-7)), ("rmsprop", optax.scale_by_rms(0.99, 1e-7)), ("sgd", optax.identity())],
)
def test_what_an_optimiser_remembers_is_what_the_package_does(optimiser, package):
    weights = np.ones(7, np.float32)
    first, second = optimisation.first_moments(optimiser, weights), package.init(weights)
    for k in range(3):
        for item, other_leaf in zip(jax.tree.leaves(first), jax.tree.leaves(second), strict=True):
            assert item.dtype == other_leaf.dtype
            assert np.array_equal(item, other_leaf)
        gradient = np.linspace(-1.0, 2.0 + k, 7, dtype=np.float32)
        step, first = optimisation.stepped(optimiser, gradient, first)
        expected, second = package.update(gradient, second)
        assert np.array_equal(step, expected)
