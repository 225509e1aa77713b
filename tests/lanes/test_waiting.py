"""Decisions that last: held for some advances, or until the agent is asked again; both lanes, and both ways to
discount."""

import jax.numpy as jnp
import numpy as np
import pytest
from places import Corridor, Lift
from scipy import stats

import jokulmist as jm
from jokulmist.agents.contract import Experience
from jokulmist.environments.chance.noise import Domain, Noise, Stream
from jokulmist.environments.declaration.instance import describe
from jokulmist.environments.spaces.channels import ObservationBatch
from jokulmist.environments.transition.waiting import WaitDraw
from jokulmist.errors import BrokenEnvironment, DeclarationError
from jokulmist.lanes.plain import PlainLane
from jokulmist.learning import replay as memory


def test_nobody_is_asked_between_floors_and_what_happens_there_counts_for_the_last_decision():
    episode = Lift(rush=0.0).episode(seed=2)
    assert (episode.observation.height, episode.steps, episode.advances) == (1.0, 0, 2)  # begun between two floors
    episode.act("up")
    assert (episode.observation.height, episode.steps, episode.advances) == (2.0, 1, 6)
    busy = Lift().episode(seed=2)
    before = busy.totals
    busy.act("up")
    assert busy.measures["people"] == busy.totals["come"] / 0.5
    assert busy.totals["patience"] == before["patience"] + busy.terms["patience"]
    satisfied = type("Held", (Lift,), {"decide_every": 3})(rush=0.0).episode()
    satisfied.act("on")
    assert satisfied.advances == 2 + 3  # a lift that stays is asked after each decision's three advances
    satisfied.act("up")
    assert satisfied.advances == 5 + 4


LASTING = [
    jm.QLearning(bins=8, discount_per="decision"),
    jm.DQN(n_step=2, replay_start=64, minibatch=8, discount_per="advance"),
    jm.Reinforce(horizon=16, discount_per="advance"),
]


@pytest.mark.parametrize(
    "agent",
    [
        jm.QLearning(bins=8, discount_per="advance"),
        *(pytest.param(agent, marks=pytest.mark.slow) for agent in LASTING),
    ],
    ids=lambda agent: f"{type(agent).__name__}-{agent.discount_per}",
)
def test_both_lanes_give_the_same_episodes_of_decisions_that_last(agent):
    # Heights and people are whole quarters, so nothing is rounded and whole episodes agree.
    runs = [jm.train(Lift(), agent, steps=400, copies=4, lane=lane, folder=None) for lane in ("plain", "compiled")]
    first, second = (run.episodes for run in runs)
    assert first.to_csv() == second.to_csv()
    assert (first["advances"] > first["steps"]).all()
    assert (first["come"] == first["people"]).all()


@pytest.mark.slow
def test_a_decision_of_k_advances_is_discounted_within_and_to_the_power_of_k():
    lane = PlainLane(Lift(), Noise(3, 1, Domain.TRAINING))
    lane.within = 0.5
    lane.begin()
    before = lane.each[0].state
    waiting, rewards = [], []
    outcome = lane.advance([2])
    # By hand: the same draws once more, each advance's reward by itself.
    repeated = PlainLane(Lift(), Noise(3, 1, Domain.TRAINING))
    repeated.begin()
    complete = repeated.advance([2])
    state, k = before, outcome.advances[0]
    assert k == complete.advances[0] == 4
    total = lane.each[0].totals
    assert repeated.each[0].totals == total  # what is recorded is not discounted
    step = lane.step
    key = lane._draws[Stream.WAIT].for_step(0, 0)
    draw = WaitDraw(np, key.uniform(), key.uniform())
    for j in range(k):
        chance = lane._draws[Stream.ADVANCE].for_step(0, 0) if j == 0 else draw.for_advance(j - 1)
        after = step.advance(step.cleared(state), 2 if j == 0 else 1, chance)
        waiting.append(after.waiting)
        rewards.append(-after.waiting + 0.5 * after.gathered)
        state = after
    assert sum(waiting) > 0.0
    assert outcome.rewards[0] == pytest.approx(sum(0.5**j * r for j, r in enumerate(rewards)))
    assert complete.rewards[0] == pytest.approx(sum(rewards))
    spec = describe(Lift()).spec
    stored = memory.fresh_replay(spec, 1, 8, counted=True)
    for j, lasted in enumerate((4, 1, 2)):
        seen = ObservationBatch(np.full((1, 1, 3), j, np.float32), {}, (), np.zeros((1, 1), np.int32))
        no = np.zeros((1, 1), bool)
        row = Experience(
            seen, None, np.full((1, 1), 10.0**j, np.float32), no, no, seen, seen, (), (), np.full((1, 1), lasted)
        )
        stored = memory.add_to_replay(spec, stored, row, np.zeros((1, 1, 1), np.float32), counted=True)
    result = memory.transitions(spec, stored, np.array([0, 1]), np.ones(2), 2, 0.5, counted=True)
    assert np.asarray(result.n_step_return).tolist() == [1.0 + 0.5**4 * 10.0, 10.0 + 0.5 * 100.0]
    assert np.asarray(result.bootstrap_discount).tolist() == [0.5**5, 0.5**3]


@pytest.mark.slow
def test_a_table_learns_the_value_of_decisions_that_last():
    """One advance costs 1: with a discount an advance, the value of riding on is the sum over its advances, whoever
    counts."""

    class Ride(jm.Environment):
        class State(jm.State):
            at: int = jm.seen(low=0, high=6)

        action = jm.Choice("on")
        time_limit = 50

        def begin(self, draw):
            return self.State(at=0)

        def decide_when(self, state):
            return (state.at == 0) | (state.at == 3) | (state.at == 4)

        def advance(self, state, action, draw):
            return state.replace(at=state.at + 1)

        @jm.reward
        def cost(self, after):
            return -1.0

        @jm.ending
        def there(self, after):
            return after.at == 6

    for per, wanted in (
        ("advance", [-sum(0.5**j for j in range(6)), -sum(0.5**j for j in range(3)), -1.5]),
        ("decision", [-3.0 + 0.5 * (-1.0 + 0.5 * -2.0), -1.0 + 0.5 * -2.0, -2.0]),
    ):
        for lane in ("plain", "compiled"):
            agent = jm.QLearning(discount=0.5, discount_per=per, learning_rate=1.0)
            run = jm.train(Ride(), agent, steps=30, lane=lane, folder=None)
            assert [run.policy.value([at]) for at in (0, 3, 4)] == pytest.approx(wanted), (per, lane)
            assert set(run.episodes["advances"]) == {6}
            assert set(run.episodes["steps"]) == {3}


@pytest.mark.slow
@pytest.mark.parametrize("lane", ["plain", "compiled"])
def test_waiting_for_ever_and_closing_before_a_decision_are_told(lane):
    class Stopped(Lift):
        time_limit = None
        capacity = 0

        def decide_when(self, state):
            return state.height < 0.6

        @jm.ending
        def crowd(self, after):
            return after.waiting < -1.0

    agent = jm.QLearning(bins=4)
    with pytest.raises(BrokenEnvironment, match=r"did not hold for 10,000 advances in copy 0.*another `meanwhile`"):
        jm.train(Stopped(rush=0.0), agent, steps=50, lane=lane, folder=None)

    class Short(Lift):
        time_limit = 1

    with pytest.raises(BrokenEnvironment, match="closed in copy 0 before its first decision"):
        jm.train(Short(), agent, steps=50, lane=lane, folder=None)


def test_what_is_declared_wrongly_is_told():
    for change, output in (
        ({"decide_when": lambda self: True}, r"must be a method that takes \(self, state\)"),
        ({"decide_when": None}, "and the agent is always asked"),
    ):
        with pytest.raises(DeclarationError, match=output):
            type("Wrong", (Lift,), change)
    with pytest.raises(DeclarationError, match="`meanwhile` of `Wrong`: no action `sideways`"):
        type("Wrong", (Lift,), {"meanwhile": "sideways"})()
    number = type("Wrong", (Lift,), {"decide_when": lambda self, state: state.height})
    with pytest.raises(BrokenEnvironment, match=r"`Wrong.decide_when` gave 0.5; it must give one truth value"):
        number().episode()


@pytest.mark.slow
def test_the_chance_of_waiting_is_the_same_in_both_lanes_and_as_it_should_be():
    def drawn(draw):
        return [draw.for_advance(j).uniform() for j in range(4000)]

    plain = np.array(drawn(WaitDraw(np, 0.25, 0.75)))
    traced = WaitDraw(jnp, jnp.float32(0.25), jnp.float32(0.75), jnp.float32(1.0))
    assert np.array_equal(
        plain[:50].astype(np.float32), np.array([float(traced.for_advance(j).uniform()) for j in range(50)], np.float32)
    )
    wide = WaitDraw(np, 0.25, 0.75).for_advance(7)
    np.testing.assert_allclose(wide.normal(shape=9), np.asarray(traced.for_advance(7).normal(shape=9)), rtol=1e-5)
    assert stats.kstest(plain, "uniform").pvalue > 1e-3
    assert abs(np.corrcoef(plain[:-1], plain[1:])[0, 1]) < 0.05
    second = np.array(
        [(d := WaitDraw(np, 0.25, 0.75).for_advance(j)).uniform() * 0.0 + d.normal() for j in range(4000)]
    )
    assert stats.kstest(second, "norm").pvalue > 1e-3
    assert abs(np.corrcoef(plain, second)[0, 1]) < 0.05
    keys = np.array([WaitDraw(np, k / 4096, 0.5).for_advance(0).uniform() for k in range(4096)])
    assert stats.kstest(keys, "uniform").pvalue > 1e-3


def test_rewards_within_a_decision_that_is_held_for_several_advances_are_discounted():
    """Three advances of the same action: each reward counts by the discount to the number of those before it."""

    class Slow(Corridor):
        decide_every = 3
        time_limit = 9

    lane = PlainLane(Slow(length=9), Noise(3, 1, Domain.TRAINING))
    lane.within = 0.5
    lane.begin()
    outcome = lane.advance([0])
    each = PlainLane(type("Each", (Corridor,), {"time_limit": 9})(length=9), Noise(3, 1, Domain.TRAINING))
    each.begin()
    rewards = [each.advance([0]).rewards[0] for _ in range(3)]
    assert outcome.rewards == pytest.approx([rewards[0] + 0.5 * rewards[1] + 0.25 * rewards[2]])
    assert len(set(rewards)) > 1 or rewards[0] != 0.0
