"""A policy that began with another's: kept near it, and parts of it that do not learn."""

import numpy as np
import pytest
from canon import fresh_policy
from places import Corridor

import jokulmist as jm
from jokulmist.agents.configs import Hyperparameters, PolicyConfig
from jokulmist.agents.policies.policy_method import PolicyLearner, hold_policy
from jokulmist.errors import SettingError
from jokulmist.learning.observation_scaling import Running, counted_fully, gathered_unless
from jokulmist.plans.plan import Plan, Training

SMALL = jm.Dense(8, 8)


USUAL = {"network": SMALL, "scaling": "bounds", "value_first": 1}


@pytest.fixture(scope="module")
def leftwards(tmp_path_factory):
    """A run that has begun to go left, where that pays."""
    agent = jm.PPO(learning_rate=0.002, entropy_bonus=0.1, **USUAL)
    return jm.train(
        Corridor(weights={"prize": -1.0}), agent, steps=1_400, copies=4, folder=tmp_path_factory.mktemp("runs")
    )


def left(policy):
    return np.mean([policy.probabilities({"cell": float(cell)})["left"] for cell in (1, 2, 3)])


@pytest.mark.slow
@pytest.mark.parametrize("kind", [jm.PPO, jm.ActorCritic])
def test_the_nearer_to_its_start_a_policy_is_kept_the_less_it_moves(kind, leftwards, tmp_path):
    first, settings = leftwards, {**USUAL, "learning_rate": 0.01, "entropy_bonus": 0.02}
    if kind is jm.ActorCritic:
        agent = jm.ActorCritic(**{**settings, "entropy_bonus": 0.6})
        first = jm.train(Corridor(weights={"prize": -1.0}), agent, steps=6_000, copies=4, folder=tmp_path)
    initial, result = left(first.policy), {}
    for close in (0.0, 0.3, 20.0):
        run = jm.train(
            Corridor(), kind(near_start=close, **settings), steps=8_000, copies=4, start=first, folder=tmp_path
        )
        result[close] = left(run.policy)
    assert 0.6 < initial < 0.97
    assert abs(result[0.0] - initial) > 0.1
    assert result[0.3] < 0.2  # there going right pays
    assert abs(result[20.0] - initial) < 0.1
    assert jm.redo(run.path).same


@pytest.mark.slow
def test_what_is_taken_off_a_reward_by_hand():
    """log p(a|s) - log p_start(a|s), from the probabilities that both policies tell."""
    import jax.numpy as jnp

    from jokulmist.agents.contract import hyperparameters_at
    from jokulmist.agents.policies.policy_method import PolicyBatch, penalise_divergence

    agent = jm.PPO(network=SMALL, scaling="bounds", near_start=0.5)
    policies = [
        jm.train(
            Corridor(),
            jm.PPO(network=SMALL, scaling="bounds", value_first=1, learning_rate=0.05),
            steps=2_000,
            seed=k,
            copies=4,
            folder=None,
        ).policy
        for k in (1, 2)
    ]
    now, begun = policies
    config = now.config
    learner = now.learner._replace(beginning=begun.learner.weights)
    cells, actions = [1.0, 2.0, 3.0, 2.0], np.array([0, 1, 1, 0])
    probabilities = [[list(policy.probabilities({"cell": cell}).values()) for cell in cells] for policy in policies]
    ours, theirs = (np.log([row[a] for row, a in zip(table, actions, strict=True)]) for table in probabilities)

    class Happened:
        rewards = jnp.asarray([[1.0, 0.0], [-1.0, 2.0]])

    from jokulmist.learning.networks.inputs import Inputs

    scaled = jnp.asarray([[cell / 2.0 - 1.0] for cell in cells], jnp.float32)
    batch = PolicyBatch(Inputs(scaled, {}), (), jnp.asarray(actions), ())
    found = penalise_divergence(
        config, hyperparameters_at(agent.schedules()), learner, Happened, batch, jnp.asarray(ours, jnp.float32)
    )
    assert np.allclose(found, np.asarray(Happened.rewards) - 0.5 * (ours - theirs).reshape(2, 2), atol=1e-4)


@pytest.mark.slow
@pytest.mark.parametrize(
    ("agent", "name"), [(jm.PPO, "policy.layers[0]"), (jm.Reinforce, "policy.layers[0]"), (jm.DQN, "layers[0]")]
)
def test_parts_that_are_frozen_stay_as_they_were(agent, name, tmp_path):
    more = {"replay_start": 50, "learn_every": 1} if agent is jm.DQN else {"value_first": 1}
    first = jm.train(Corridor(), agent(network=SMALL, **more), steps=1_500, copies=2, folder=tmp_path)
    then = jm.train(
        Corridor(), agent(network=SMALL, frozen=(name,), **more), steps=3_000, copies=2, start=first, folder=tmp_path
    )
    moved = then.policy.learner.weights != first.policy.learner.weights
    for path, place in then.policy.config.layout.parts.items():
        assert moved[place].any() != path.lstrip(".").startswith(name), path


def test_what_cannot_be_kept_is_told(leftwards):
    for agent, more, expected in (
        (jm.PPO(near_start=0.1), {}, "Say which: `start=RUN`"),
        (jm.PPO(near_start=0.1, network=jm.Recurrent(8)), {"start": leftwards}, "recurrent network do not go together"),
        (
            jm.PPO(network=SMALL, scaling="bounds", frozen=("policy.layer",)),
            {"start": leftwards},
            r"has `policy.layers\[0\]`",
        ),
        (jm.PPO(network=SMALL, frozen=("polisy",)), {"start": leftwards}, r"which the network has not"),
    ):
        with pytest.raises(SettingError, match=expected):
            jm.train(Corridor(), agent, steps=64, copies=1, folder=None, **more)


def test_statistics_stand_still_under_weights_that_are_held():
    """What scales the inputs is part of a policy: a policy whose weights stand still is another as soon as it moves."""
    rows = np.random.default_rng(1).normal(5.0, 2.0, (64, 3)).astype(np.float32)
    for count, moves in ((10.0, True), (1e5, False)):  # until they are warm they move
        before = Running(np.float32(count), np.zeros(3, np.float32), np.full(3, count, np.float32))
        satisfied, free = (gathered_unless(still, before, rows) for still in (True, False))
        assert np.array_equal(satisfied.mean, before.mean) != moves
        assert not np.array_equal(free.mean, before.mean)
    started_from = counted_fully(before)  # with `start`: the spread is the same, and new rows hardly move it
    after = gathered_unless(False, started_from, rows)
    assert float(started_from.square[0] / started_from.count) == pytest.approx(1.0)
    assert 0.0 < float(np.abs(after.mean).max()) < 1e-3


@pytest.mark.parametrize("near_start", [0.1, 0.0])
def test_a_policy_stands_still_while_only_its_value_learns(leftwards, near_start):
    """An entropy bonus alone, in the steps of an optimiser that looks at signs, would make it random again."""
    agent = jm.PPO(**{**USUAL, "value_first": 1_000, "entropy_bonus": 0.5, "near_start": near_start})
    run = jm.train(Corridor(), agent, steps=200, copies=2, start=leftwards, folder=None, lane="plain")
    values = [policy.value({"cell": 2.0}) for policy in (leftwards.policy, run.policy)]
    assert left(run.policy) == left(leftwards.policy)
    assert values[0] != values[1]


def test_a_run_that_begins_with_what_was_learned_plays_by_it_from_the_first_decision(tmp_path):
    """Neither random play before the first update, nor the exploration of a beginning."""
    network = jm.Dense(8)
    agent = jm.DQN(network=network, replay_start=500, exploration=0.0)
    first = fresh_policy(agent, Corridor(), seed=5)
    run = jm.train(Corridor(), agent, steps=60, start=first.save(tmp_path / "first"), folder=None, lane="plain")
    assert (int(first.learner.random_play), int(run.policy.learner.random_play)) == (500, 0)
    greedy = jm.evaluate(first, Corridor(), episodes=3).episodes
    assert len(run.episodes)
    assert set(run.episodes["steps"]) == set(greedy["steps"])
    assert set(run.episodes["return"]) == set(greedy["return"])
    for agent, wanted in (
        (jm.DQN(network=network), {"exploration": 0.05, "learning_rate": jm.linear(3e-4, 0.0, over=1.0)}),
        (jm.PPO(network=network), {"range_entropy_bonus": 0.0, "learning_rate": jm.linear(3e-4, 0.0, over=1.0)}),
        (jm.SAC(policy_rate=0.01), {"learning_rate": 3e-4, "policy_rate": 0.01}),
        (jm.PPO(network=network, learning_rate=0.1), {"learning_rate": 0.1, "near_start": 0.01}),
        (jm.PPO(network=jm.Recurrent(8), horizon=8), {"near_start": 0.0}),
        (jm.ActorCritic(entropy_bonus=jm.linear(0.2, 0.1, over=1.0)), {"entropy_bonus": jm.linear(0.2, 0.1, over=1.0)}),
    ):
        plan = Plan(Corridor(), agent, Training(steps=20_000, start="another"))
        assert {name: getattr(plan.agent, name) for name in wanted} == wanted
        assert plan.copies == max(agent.copies_for(20_000), 1 if isinstance(agent, (jm.DQN, jm.SAC)) else 16)


@pytest.fixture(scope="module")
def picks(tmp_path_factory):
    agent = {"network": jm.Dense(16), "horizon": 32}
    folder = tmp_path_factory.mktemp("picks")
    return jm.train(Pick(), jm.PPO(**agent), steps=60_000, seed=0, folder=folder, copies=8), agent


@pytest.mark.slow
@pytest.mark.parametrize("held", [{"near_start": 30.0}, {"frozen": ("policy.layers[0]", "policy.layers[1]")}])
def test_a_policy_that_is_held_stays_where_other_numbers_are_met(held, picks, tmp_path):
    first, agent = picks
    then = jm.train(
        Pick(offset=8.0), jm.PPO(**agent, **held), steps=10_000, seed=1, folder=tmp_path, copies=8, start=first.path
    )
    for policy in (first.policy, then.policy):
        assert policy.probabilities({"x": 1.0})["b"] > 0.98 < policy.probabilities({"x": 9.0})["b"]


class Pick(jm.Environment):
    """Below 0 one choice pays, above it the other; most of the time a run meets one side of it only."""

    time_limit = 20
    offset: float = jm.parameter(0.0, low=-100.0, high=100.0)

    class State(jm.State):
        x: float = jm.seen()

    action = jm.Choice("a", "b")

    def begin(self, draw):
        return self.State(x=self.offset + draw.normal())

    def advance(self, state, action, draw):
        return state.replace(x=self.offset + draw.normal())

    @jm.reward
    def paid(self, action, before):
        return self.xp.where((before.x > 0.0) == (action == 1), 1.0, 0.0)


def test_a_fresh_policy_is_spread_by_the_entropy_bonuses_while_only_its_value_learns():
    def bonuses(begins_with_learned):
        learner = PolicyLearner((), None, None, (), np.int32(3))
        config = PolicyConfig(value_first=20, begins_with_learned=begins_with_learned)
        numbers = Hyperparameters(entropy_bonus=0.1, range_entropy_bonus=0.01)
        numbers, advantages = hold_policy(config, numbers, learner, np.ones(2))
        assert np.array_equal(advantages, [0.0, 0.0])
        return numbers.entropy_bonus, numbers.range_entropy_bonus

    assert bonuses(False) == (0.1, 0.01)  # PPO on the winch: 1.3 % above the optimum's cost, and 5 % without
    assert bonuses(True) == (0.0, 0.0)
