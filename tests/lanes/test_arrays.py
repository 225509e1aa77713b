"""Copies in arrays against the same class one copy at a time: outcomes, episodes, going on, recording; and which classes are refused."""

import numpy as np
import pytest
from places import Corridor

import jokulmist as jm
from jokulmist.environments.chance.noise import Domain, Noise
from jokulmist.environments.declaration.environment import describe
from jokulmist.environments.spaces.actions import Record
from jokulmist.errors import BrokenEnvironment, RunNotice, SettingError
from jokulmist.lanes.arrays import ArrayLane, why_not
from jokulmist.lanes.plain import PlainLane
from jokulmist.trees import flattened


class Buoys(jm.Environment):
    """Two buoys on chains, hauled in; written with NumPy by its name, so that it does not compile."""

    current: float = jm.parameter(0.3, low=0.0, high=2.0)
    time_limit = 25

    class State(jm.State):
        x: float = jm.seen(low=-10.0, high=10.0)
        v: float
        waves: int = jm.seen(low=0, values=4)
        taut: bool
        spent: float = jm.flow()

    action = jm.Actions(haul=jm.Choice("slack", "in", "out"), trim=jm.Range(-1.0, 1.0))

    def begin(self, draw):
        return self.State(x=draw.uniform(-5.0, 5.0), v=0.0, waves=draw.integers(0, 4), taut=False)

    def advance(self, state, action, draw):
        pull = np.array([0.0, -1.0, 1.0])[action.haul] + 0.2 * action.trim
        v = state.v + 0.3 * (pull + self.current * np.sin(state.waves) - 0.1 * state.v) + draw.normal(0.0, 0.3)
        waves = np.mod(state.waves + draw.bernoulli(0.2), 4)
        return state.replace(
            x=np.clip(state.x + v, -10.0, 10.0), v=v, waves=waves, taut=np.abs(v) > 1.0, spent=np.abs(pull)
        )

    @jm.sensor(low=-20.0, high=20.0, shape=2)
    def sway(self, state, draw):
        return np.stack([state.v, state.v + draw.normal(0.0, 0.1)], axis=-1)

    @jm.reward
    def near(self, after):
        return np.exp(-np.square(after.x))

    @jm.reward(weight=-0.05)
    def effort(self, before, action, after):
        return after.spent + 1.0 * (after.taut != before.taut)

    @jm.measure(over="max")
    def farthest(self, after):
        return np.abs(after.x)

    @jm.measure(over="mean")
    def speed(self, after):
        return np.abs(after.v)

    @jm.ending
    def lost(self, after):
        return np.abs(after.x) > 9.0


class Choosy(Buoys):
    """The same with a word of Python that takes one truth value."""

    def advance(self, state, action, draw):
        if state.x > 0.0:
            return super().advance(state, action, draw)
        return super().advance(state, action, draw)


def turns(lane, count, start=0):
    play = np.random.default_rng(start)
    for _ in range(count):
        yield lane.advance(
            [
                Record(haul=int(h), trim=float(t))
                for h, t in zip(play.integers(0, 3, 9), play.uniform(-1, 1, 9), strict=True)
            ]
        )


def begun(kind):
    lane = kind(Buoys(weights={"near": 2.0}), Noise(4, 9, Domain.TRAINING))
    lane.first_ages = [3, 5] + [99] * 7
    return lane, lane.begin()


def test_every_outcome_is_that_of_one_copy_after_another():
    (plain, first), (arrays, also) = begun(PlainLane), begun(ArrayLane)
    assert np.allclose(first.rows, also.rows)
    closed = 0
    for one, other in zip(turns(plain, 90), turns(arrays, 90), strict=True):
        for name in ("rewards", "ended", "closed"):
            assert np.allclose(getattr(one, name), getattr(other, name), rtol=1e-9), name
        for name in ("last", "observed"):
            assert np.allclose(getattr(one, name).rows, getattr(other, name).rows, rtol=1e-9, atol=1e-12), name
            assert getattr(one, name).ages == getattr(other, name).ages
        assert [f[:3] for f in one.finished] == [f[:3] for f in other.finished]
        for f, g in zip(one.finished, other.finished, strict=True):
            assert np.allclose([*f.totals, *f.measures, f.advances], [*g.totals, *g.measures, g.advances])
        closed += len(one.finished)
    assert closed > 20
    kept = flattened(arrays.saved())
    again, _ = begun(ArrayLane)
    again.restore(kept, arrays.turn)
    for one, other in zip(turns(arrays, 30, 1), turns(again, 30, 1), strict=True):
        assert one.rewards == other.rewards
        assert one.observed.rows == other.observed.rows


@pytest.mark.slow
def test_a_run_is_trained_in_arrays_where_it_cannot_be_compiled(tmp_path):
    agent = jm.PPO(network=jm.Dense(8), horizon=10)
    settings = {"steps": 1200, "copies": 8, "seed": 2, "record_every": 5}
    with pytest.warns(RunNotice, match="training in arrays of copies and not compiled, because"):
        run = jm.train(Buoys(), agent, **settings, folder=tmp_path)
    assert run.origin["lane"] == "arrays"
    plain = jm.train(Buoys(), agent, **settings, lane="plain", folder=tmp_path)
    same = ["return", "steps", "near", "effort", "farthest", "speed", "closed_by"]
    assert run.episodes[same].equals(plain.episodes[same])
    best, wanted = (jm.read_rollouts(r.path / "rollouts" / "best.parquet")[0] for r in (run, plain))
    assert best.table.drop(columns="run").equals(wanted.table.drop(columns="run"))
    longer = jm.resume(run, steps=600)
    assert (longer.origin["lane"], longer.origin["decisions"]) == ("arrays", 1840)
    assert longer.episodes.iloc[: len(plain.episodes)].equals(plain.episodes)
    assert jm.redo(longer, folder=tmp_path).same


@pytest.mark.parametrize(
    ("environment", "why"),
    [
        (Choosy(), r"with a number for each copy `Choosy.advance` \(test_arrays.py:\d+\) failed: .*truth value"),
        (jm.gallery.Haul(), "players"),
        (jm.gallery.Skerry(), "images|legal"),
        (Buoys().modified(jm.Stack(2)), "modifiers"),
    ],
    ids=lambda one: type(one).__name__,
)
def test_what_does_not_work_on_arrays_is_refused_with_the_reason(environment, why):
    with pytest.raises(SettingError, match=f'cannot be stepped in arrays: .*({why}).*Use `lane="plain"`'):
        jm.train(environment, jm.PPO(), steps=100, lane="arrays", folder=None)


def test_a_class_that_is_array_code_may_be_stepped_in_arrays_though_it_compiles():
    assert why_not(Corridor(slip=0.2)) == ""
    run = jm.train(Corridor(slip=0.2), jm.QLearning(), steps=4000, copies=16, lane="arrays", folder=None)
    assert run.origin["lane"] == "arrays"
    assert run.episodes["return"].tail(50).mean() > 0.5


def test_a_reward_that_is_no_number_is_told_with_its_state():
    class Broken(Buoys):
        @jm.reward
        def near(self, after):
            return np.where(after.x > 8.0, np.nan, 0.0)

    lane = ArrayLane(Broken(), Noise(4, 9, Domain.TRAINING))
    lane.begin()
    with pytest.raises(BrokenEnvironment, match=r"`Broken.near` gave nan in the step from Buoys.State\(x="):
        list(turns(lane, 200))
    assert describe(Broken()).name == "Broken"
