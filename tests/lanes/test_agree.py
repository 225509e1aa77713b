"""The same class gives the same transitions plain and compiled, and one that cannot be compiled says why."""

import numpy as np
import pytest
from places import TRACED, Branching, Corridor, Skiff, Snowfield

import jokulmist as jm
from jokulmist.agents.random_play import RandomPlay
from jokulmist.environments.chance.noise import Domain, Noise
from jokulmist.environments.declaration.instance import describe
from jokulmist.gallery import SHIPPED
from jokulmist.lanes.compiled.compilability import _difference, _traced, find, meet
from jokulmist.lanes.compiled.copies import CompiledEnvironment
from jokulmist.lanes.plain import PlainLane
from jokulmist.loops.compiled import CompiledLoop
from jokulmist.loops.contract import Planned
from jokulmist.loops.plain import PlainLoop

CLASSES = [*TRACED, *(getattr(jm.gallery, cls) for _, cls in SHIPPED.values())]


@pytest.mark.slow
@pytest.mark.parametrize("cls", CLASSES, ids=lambda cls: cls.__name__)
def test_single_transitions_are_the_same_plain_and_compiled(cls):
    finding = find(cls())
    assert finding.compiles, finding.why


@pytest.mark.slow
def test_a_difference_is_found_and_named():
    class Drifting(Snowfield):
        def advance(self, state, action, draw):
            after = super().advance(state, action, draw)
            return after.replace(depth=after.depth + (0.01 if self.xp is np else 0.0))

    finding = find(Drifting())
    assert not finding.compiles
    assert "`Drifting` differs when compiled: field `depth` is" in finding.why

    class Capped(Corridor):
        @jm.ending
        def right_end(self, after):
            return after.cell == self.length - (1 if self.xp is np else 2)

    assert "`right_end` is" in find(Capped()).why


@pytest.mark.slow
def test_tolerance_is_relative_to_the_range_of_a_field():
    env = Snowfield()
    met, compiled = meet(env, 100), CompiledEnvironment(Snowfield())
    likelihood, observed, initial = _traced(env, compiled, met)
    assert _difference(env, met, likelihood, observed, initial) is None
    reach = max(np.abs(s.depth).max() for s in met.afters)
    likelihood.after.__dict__["depth"] = np.array(likelihood.after.depth)
    likelihood.after.depth[50, 0, 0] += 3e-4 * reach
    assert "field `depth`" in _difference(env, met, likelihood, observed, initial)[1]


def test_each_later_episode_of_a_copy_begins_with_draws_of_its_own():
    lane = PlainLane(Snowfield(), Noise(1, 1, Domain.TRAINING))
    lane.begin()
    rows = []
    for turn in (3, 4, 4):
        lane.turn = turn
        rows.append(lane.begin_one(0))
    assert rows[0] != rows[1] == rows[2]


class Knife(jm.Environment):
    """A threshold that can be put exactly on what is met."""

    threshold: float = jm.parameter(0.0)
    time_limit = 9

    class State(jm.State):
        place: float = jm.seen(low=-20.0, high=20.0)
        beyond: float

    action = jm.Choice(2)

    def begin(self, draw):
        return self.State(place=draw.normal(), beyond=0.0)

    def advance(self, state, action, draw):
        place = 0.7 * state.place + draw.normal() + 0.1 * action
        return state.replace(place=place, beyond=self.xp.where(place > self.threshold, 5.0, 0.0))

    @jm.reward
    def gain(self, after):
        return after.beyond


@pytest.mark.slow
def test_rounding_that_tips_a_comparison_is_no_difference(monkeypatch):
    from jokulmist.lanes.compiled import compilability

    options = []
    tipped = compilability._tipped
    monkeypatch.setattr(compilability, "_tipped", lambda *given: options.append(tipped(*given)) or options[-1])
    for state in meet(Knife(), 200).afters[:6]:
        # Just below the plain value, where float32 sees no difference: the two ways disagree about this state.
        assert find(Knife(threshold=float(np.nextafter(state.place, -9.0))), 200).compiles
    assert options
    assert all(options)


def test_a_rare_branch_that_differs_is_found():
    class Rare(Corridor):
        length: int = jm.parameter(40, low=3, high=50, fixed=True)

        def advance(self, state, action, draw):
            after = super().advance(state, action, draw)
            lucky = draw.bernoulli(0.008)
            return after.replace(cell=self.xp.where(lucky, 20 if self.xp is np else 21, after.cell))

    found = find(Rare())
    assert not found.compiles
    assert "field `cell` is 20" in found.why


class Listing(Corridor):
    def advance(self, state, action, draw):
        return state.replace(cell=[0, 1, 2, 3, 4][state.cell])


class Numbered(Corridor):
    @jm.reward
    def prize(self, after):
        return float(after.cell)


class Writing(Snowfield):
    def advance(self, state, action, draw):
        depth = self.xp.asarray(state.depth) + 0.0
        depth[0, 0] = 1.0
        return state.replace(depth=depth)


class Endless(Corridor):
    def advance(self, state, action, draw):
        for _ in range(state.cell):
            pass
        return state


@pytest.mark.parametrize(
    ("cls", "message"),
    [
        (
            Branching,
            r"`Branching.advance` \(places.py:\d+\) branches on a value known only while it runs; use `self.xp.where`",
        ),
        (Listing, r"`Listing.advance` \(test_agree.py:\d+\) uses a value .* as an index"),
        (Numbered, r"`Numbered.prize` \(test_agree.py:\d+\) turns a value .* into a Python number"),
        (Writing, r"`Writing.advance` \(test_agree.py:\d+\) writes into an array; use `jm.replace_item"),
        (Endless, r"`Endless.advance` \(test_agree.py:\d+\) .*`jm.repeat`"),
    ],
)
def test_a_class_that_cannot_be_traced_says_why_with_method_line_and_mend(cls, message):
    import re

    finding = find(cls())
    assert not finding.compiles
    assert re.search(message, finding.why), finding.why


@pytest.mark.slow
@pytest.mark.parametrize("cls", [Corridor, Snowfield, Skiff])
@pytest.mark.parametrize("copies", [1, 3])
def test_both_lanes_play_the_same_episodes_with_the_same_noise(cls, copies):
    """Random play needs no learning, so whole episodes agree until rounding tips an ending."""
    batches = []
    for kind in (PlainLoop, CompiledLoop):
        loop = kind(cls(), RandomPlay(), 3, copies, Planned(steps=120 * copies))
        batches.append(loop.advance(120))
    plain, compiled = batches
    for name in ("decisions", "copy", "steps", "satisfied"):
        assert np.array_equal(getattr(plain, name), getattr(compiled, name)), name
    np.testing.assert_allclose(plain.totals, compiled.totals, rtol=1e-3, atol=1e-3)
    np.testing.assert_allclose(plain.measures, compiled.measures, rtol=1e-3, atol=1e-3)


def test_parameters_and_weights_change_nothing_in_the_compiled_code():
    def play(env):
        loop = CompiledLoop(env, RandomPlay(), 1, 2, Planned(steps=100))
        loop.advance(50)
        return loop._program

    programs = [play(Corridor(slip=slip, weights={"effort": -slip})) for slip in (0.1, 0.9)]
    assert programs[0] is programs[1]
    assert programs[0].chunk.forms == 1  # carries keep their types: compiled once
    assert play(Corridor(length=7)) is not programs[0]


def test_a_weight_is_applied_to_what_is_learned_from_and_not_to_what_is_recorded():
    for kind in (PlainLoop, CompiledLoop):
        loop = kind(Corridor(weights={"effort": -3.0}), RandomPlay(), 1, 1, Planned(steps=200))
        batch = loop.advance(200)
        weights = describe(Corridor(weights={"effort": -3.0})).weights
        assert batch.totals[:, 1].min() >= 0.0
        np.testing.assert_allclose(batch.returns(weights), batch.totals @ np.array([1.0, -3.0]), rtol=1e-5)
