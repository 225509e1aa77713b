"""The reward for what is new: by hand, on both lanes, never part of what is recorded, and a chain that is not crossed
without it."""

import jax
import jax.numpy as jnp
import numpy as np
import pytest
from places import Corridor, seen

import jokulmist as jm
from jokulmist.agents.batches import in_rows
from jokulmist.agents.contract import Experience, hyperparameters_at
from jokulmist.agents.novelty import counted, novelty_of, predicted, seeking, update_value_pass
from jokulmist.environments.chance.draws import PlainDraw, RowDraw
from jokulmist.environments.chance.noise import Domain, Noise, Stream
from jokulmist.environments.declaration.instance import describe
from jokulmist.errors import SettingError
from jokulmist.learning import replay as memory_of
from jokulmist.learning.networks.inputs import apply_network
from jokulmist.learning.observation_scaling import prepared


class Stones(jm.Environment):
    """Fourteen stones: at each one way is right, the other leads back. Only the far bank pays."""

    time_limit = 40

    class State(jm.State):
        stone: int = jm.seen(low=0, high=14)

    action = jm.Choice("up", "down")

    def begin(self, draw):
        return self.State(stone=0)

    def advance(self, state, action, draw):
        right = (state.stone * 7 + 3) % 5 % 2
        return state.replace(stone=self.xp.where(action == right, state.stone + 1, 0))

    @jm.reward
    def across(self, after):
        return self.xp.where(after.stone == 14, 1.0, 0.0)

    @jm.ending
    def dry(self, after):
        return after.stone == 14


def begun(agent, env, copies):
    complete = seeking(agent)
    config, hyperparameters = complete.config(describe(env).spec, copies), hyperparameters_at(complete.schedules())
    draw = PlainDraw(Noise(7, 1, Domain.TRAINING), Stream.FRESH).for_step(0, 0)
    return (
        complete,
        config,
        hyperparameters,
        complete.fresh_learner(config, hyperparameters, draw),
        complete.fresh_memory(config, hyperparameters),
    )


def some(turns, copies, seed=0):
    chance = np.random.default_rng(seed)
    cells = chance.integers(0, 5, (turns + 1, copies, 1)).astype(np.float32)
    flags = np.zeros((turns, copies), bool)
    acts = chance.integers(0, 2, (turns, copies)).astype(np.int32)
    return Experience(
        seen(cells[:-1]),
        acts,
        np.zeros((turns, copies), np.float32),
        flags,
        flags,
        seen(cells[1:]),
        seen(cells[1:]),
        (),
    )


def test_counts_are_of_what_was_done_where():
    _, config, _, learner, _ = begun(jm.QLearning(novelty=jm.Novelty(0.1)), Corridor(), 2)
    state, output = learner.novelty, {}
    for k in range(3):
        e = some(1, 2, k)
        state, new = counted(config, state._replace(counts=jnp.asarray(state.counts)), jax.tree.map(jnp.asarray, e))
        pairs = [(int(e.observed.numbers[0, c, 0]), int(e.actions[0, c])) for c in range(2)]
        for pair in pairs:
            output[pair] = output.get(pair, 0) + 1
        assert np.allclose(new[0], [output[pair] ** -0.5 for pair in pairs])
    assert (learner.inner.values == np.float32(0.1 / 0.01)).all()  # as if all were new for a hundred decisions


@pytest.mark.slow
def test_what_is_predicted_badly_is_new_until_it_is_learned_in_the_scale_of_its_returns():
    _, config, hyperparameters, learner, memory = begun(
        jm.PPO(novelty=jm.Novelty(0.1, by="distillation", learning_rate=1e-2)), Corridor(), 3
    )
    known, open_now = learner.novelty, memory["open"]
    step = jax.jit(lambda known, open_now, e: predicted(config, hyperparameters, known, open_now, e))
    first = some(20, 3)
    known, new, open_now = step(known, open_now, first)
    assert (np.asarray(new) == 0.0).all()  # nothing has a scale yet
    target, weights = np.asarray(known.target), np.asarray(known.weights)
    errors = []
    for _ in range(60):
        known, new, open_now = step(known, open_now, first)
        errors.append(float(jnp.mean(new)))
    assert errors[-1] < 0.2 * errors[0]
    assert np.array_equal(known.target, target)
    assert not np.array_equal(known.weights, weights)
    # By hand: how far the two networks lie apart, over the spread of the discounted sums of that, which go on over all
    # turns.
    after, repeated, _ = step(known, jnp.zeros(3), first)
    inputs = prepared(config.spec, "running", known.statistics, in_rows(jax.tree.map(jnp.asarray, first.last)))
    difference = [np.asarray(apply_network(config.layout.module(w), inputs)) for w in (known.weights, known.target)]
    raw = np.mean((difference[0] - difference[1]) ** 2, axis=1).reshape(20, 3)
    sums, total = np.zeros((20, 3)), np.zeros(3)
    for t in range(20):
        total = raw[t] + 0.99 * total
        sums[t] = total
    count, mean, square = (float(np.ravel(x)[0]) for x in known.returns)
    complete = square + ((sums - sums.mean()) ** 2).sum() + (sums.mean() - mean) ** 2 * count * 60 / (count + 60)
    assert np.allclose(repeated, raw / np.sqrt(complete / (count + 60)), rtol=1e-3)
    assert float(after.returns.count) == count + 60


@pytest.mark.slow
def test_a_policy_is_given_what_its_value_of_novelty_did_not_predict():
    """By hand: the errors of the value, over the end of an episode; and the value comes to the discounted sum of a
    novelty that stays."""
    agent = jm.PPO(novelty=jm.Novelty(0.5, by="counts", discount=0.8, learning_rate=3e-3))
    _, config, hyperparameters, learner, _ = begun(agent, Corridor(), 2)
    e = some(12, 2)
    e = jax.tree.map(jnp.asarray, e._replace(ended=e.ended | True, closed=e.closed | True))
    new, known = jnp.full((12, 2), 0.3), jax.tree.map(jnp.asarray, learner.novelty)
    step = jax.jit(lambda known: update_value_pass(config, hyperparameters, known, known, e, new))
    for _ in range(200):
        before, (known, errors) = known, step(known)
    value = [
        np.asarray(
            apply_network(
                config.judge.module(before.judge), prepared(config.spec, "running", before.statistics, in_rows(s))
            )
        )[:, 0].reshape(12, 2)
        for s in (e.observed, e.following)
    ]
    assert np.allclose(errors, 0.3 + 0.8 * value[1] - value[0], atol=1e-5)
    assert np.allclose(value[0], 0.3 / (1.0 - 0.8), atol=0.1)
    told = {}

    class Given(jm.PPO):
        @staticmethod
        def learn(config, hyperparameters, learner, memory, experience, noise):
            jax.debug.callback(lambda r: told.setdefault("rewards", np.asarray(r)), experience.rewards)
            return jm.PPO.learn(config, hyperparameters, learner, memory, experience, noise)

    run = jm.train(
        Corridor(),
        Given(
            **dict(agent),
        ),
        steps=128,
        copies=2,
        folder=None,
        lane="plain",
    )
    assert "rewards" in told
    assert (run.readings["novelty"] > 0.0).all()


@pytest.mark.slow
@pytest.mark.parametrize(
    "agent",
    [
        jm.QLearning(novelty=jm.Novelty(0.01), exploration=jm.linear(0.1, 0.0, over=0.8)),
        jm.PPO(novelty=jm.Novelty(0.1, by="distillation"), horizon=16, network=jm.Dense(16)),
    ],
)
def test_both_lanes_learn_the_same_and_returns_are_left_alone(agent, tmp_path):
    runs = [
        jm.train(Corridor(), agent, steps=960, copies=2, seed=3, folder=None, lane=lane)
        for lane in ("plain", "compiled")
    ]
    for first, second in zip(*(jax.tree.leaves(run.policy.learner) for run in runs), strict=True):
        assert np.allclose(first, second, atol=1e-4)
    episodes = runs[0].episodes
    assert np.allclose(episodes["return"], episodes["prize"] - 0.1 * episodes["effort"])
    assert (runs[0].readings["novelty"] > 0.0).any()
    stored = jm.train(Corridor(), agent, steps=480, copies=2, seed=3, folder=tmp_path, lane="plain")
    assert jm.Run.open(stored.path).plan.agent == agent
    assert any("no part of the return" in text.get_text() for text in jm.ledger(stored).get_legend().get_texts())
    before = len(stored.episodes)
    assert len(jm.resume(stored.path, steps=480).episodes) > before


@pytest.mark.slow
def test_a_chain_that_random_play_does_not_cross_is_crossed():
    settings = {"exploration": jm.linear(0.1, 0.0, over=0.8)}
    result = {}
    for novelty in (jm.Novelty(0.01), None):
        run = jm.train(
            Stones(),
            jm.QLearning(novelty=novelty, **settings),
            steps=30_000,
            copies=1,
            seed=1,
            folder=None,
            lane="compiled",
        )
        result[novelty] = jm.evaluate(run.policy, Stones(), episodes=2).mean
    assert list(result.values()) == [1.0, 0.0]


def test_what_novelty_cannot_be_is_told(tmp_path):
    for make, expected in (
        (lambda: jm.Novelty(0.0), r"must be above 0; got 0.0"),
        (lambda: jm.Novelty(by="magic"), "'counts' or 'distillation'"),
        (lambda: jm.PPO(novelty=0.5), r"must be `jm.Novelty\(0.5\)`"),
        (
            lambda: jm.train(Corridor(), jm.PPO(novelty=jm.Novelty(1.0)), steps=100, start=tmp_path, folder=None),
            "Leave it out",
        ),
    ):
        with pytest.raises(SettingError, match=expected):
            make()


@pytest.mark.slow
@pytest.mark.parametrize("by", ["counts", "distillation"])
def test_replay_keeps_rewards_as_they_were_and_gives_what_is_new_now(by):
    agent = jm.DQN(network=jm.Dense(4), novelty=jm.Novelty(0.5, by=by), replay_size=64, replay_start=1_000, n_step=2)
    _, config, hyperparameters, learner, memory = begun(agent, Corridor(), 1)
    learn = jax.jit(
        lambda learner, memory, e, u: type(_).learn(
            config, hyperparameters, learner, memory, e, RowDraw(jnp, u, jnp.float32(1.0))
        )
    )
    learner, memory = (jax.tree.map(jnp.asarray, tree) for tree in (learner, memory))
    rows = [jnp.zeros(2 * 64)]
    first = some(4, 1, seed=1)
    for _k in range(3):
        learner, memory, _ = learn(learner, memory, first, rows)
    replay = learner.inner.replay
    assert (np.asarray(replay.rows[:12, 0, memory_of.REWARD]) == 0.0).all()
    bonus = memory_of.Bonus(None, lambda sample: 0.5 * novelty_of(config, learner.novelty, sample))
    sample = memory_of.transitions(config.spec, replay, jnp.arange(4), jnp.ones(4), 2, 0.9, bonus=bonus)
    alone = memory_of.transitions(config.spec, replay, jnp.arange(5), jnp.ones(5), 1, 0.9)
    current = np.asarray(0.5 * novelty_of(config, learner.novelty, alone))
    assert np.allclose(sample.n_step_return, current[:4] + 0.9 * current[1:], atol=1e-5)
    if by == "counts":
        cells, acts = np.asarray(alone.observed.numbers[:, 0], int), np.asarray(alone.action[:, 0], int)
        counts = [
            3 * sum((c, a) == pair for pair in zip(cells[:4], acts[:4], strict=True))
            for c, a in zip(cells[:4], acts[:4], strict=True)
        ]
        assert np.allclose(current[:4], 0.5 / np.sqrt(counts))
