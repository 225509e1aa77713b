"""Each method's update against an independent NumPy computation of its equation, and a contract that all of them
keep."""

from types import SimpleNamespace

import jax
import jax.numpy as jnp
import numpy as np
import pytest
from canon import fresh_policy
from places import Corridor, Gates, Signal, seen
from scipy import special

import jokulmist as jm
from jokulmist.agents.contract import Experience, hyperparameters_at
from jokulmist.agents.policies import ppo
from jokulmist.agents.values import dqn_updates, linear_q
from jokulmist.agents.values.dqn import _moved_target
from jokulmist.environments.chance.draws import CountingDraw, PlainDraw, RowDraw
from jokulmist.environments.chance.noise import Domain, Noise, Stream
from jokulmist.environments.declaration.instance import describe
from jokulmist.errors import SettingError
from jokulmist.learning import replay as memory_of
from jokulmist.learning.observation_scaling import scaled

SMOOTH = {"network": jm.Dense(64, 64, activation="tanh")}  # differences are taken of it
SMALL = {
    "PPO": {"horizon": 8, "minibatch": 32},
    "ActorCritic": {"horizon": 8},
    "Reinforce": {"horizon": 24, "learning_rate": 2e-3},
}
PLAIN = {"scaling": "bounds", "rewards_scaled": False, "value_first": 0, "entropy_bonus": 0.0}
SMALL = {name: {**SMOOTH, **PLAIN, **settings} for name, settings in SMALL.items()}
SMALL |= {"SAC": {"network": jm.Dense(32), "replay_start": 200, "replay_size": 4000, "learn_every": 8}}
SMALL |= {
    "DQN": {"replay_start": 100, "replay_size": 4000, "scaling": "bounds", "rewards_scaled": False},
    "LinearQ": {"tiles": 5},
}


def made(name, **settings):
    return getattr(jm, name)(**{**SMALL[name], **settings})


def begun(agent, env, copies=3):
    """Config, settings, learner and memory of an agent before its first decision."""
    config = agent.config(describe(env).spec, copies)
    hyperparameters = hyperparameters_at(agent.schedules())
    draw = PlainDraw(Noise(7, 1, Domain.TRAINING), Stream.FRESH).for_step(0, 0)
    begun = agent.fresh_learner(config, hyperparameters, draw), agent.fresh_memory(config, hyperparameters)
    return config, hyperparameters, *jax.tree.map(jnp.asarray, begun)


def forward(weights, layout, rows):
    """Policy outputs and values by NumPy, from the flat weights of two towers."""
    leaves = [np.asarray(leaf, float) for leaf in layout.leaves(weights)]
    result = []
    for tower in (leaves[: len(leaves) // 2], leaves[len(leaves) // 2 :]):
        x = rows
        for k in range(0, len(tower) - 2, 2):
            x = np.tanh(x @ tower[k] + tower[k + 1])
        result.append(x @ tower[-2] + tower[-1])
    return result[0], result[1][:, 0]


def happened(turns=6, copies=3, seed=0):
    """Made-up decisions in the corridor; with an end, a cut and episode borders inside where there are several
    copies."""
    chance = np.random.default_rng(seed)
    cells = chance.integers(0, 5, (turns + 1, copies, 1)).astype(np.float32)
    closed = chance.random((turns, copies)) < 0.3
    ended = closed & (chance.random((turns, copies)) < 0.5)
    if copies > 1:
        closed[2, 0] = ended[2, 0] = closed[3, 1] = True
        ended[3, 1] = False
    last = np.where(closed[..., None], chance.integers(0, 5, closed.shape)[..., None], cells[1:]).astype(np.float32)
    return Experience(
        seen(cells[:-1]),
        chance.integers(0, 2, closed.shape).astype(np.int32),
        chance.normal(size=closed.shape).astype(np.float32),
        ended,
        closed,
        seen(last),
        seen(cells[1:]),
        ((), ()),
    )


def learning(kind, config, hyperparameters, draw=None):
    """`learn` as one program: operation by operation it would compile a hundred small ones."""
    return jax.jit(lambda learner, memory, e: kind.learn(config, hyperparameters, learner, memory, e, draw))


def noise_for(function):
    """A draw with numbers for whatever a function asks."""
    counting = CountingDraw(jnp)
    jax.eval_shape(lambda: function(counting))
    chance = np.random.default_rng(1)
    rows = [
        np.argsort(chance.random(r.width)) if r.kind == "order" else chance.random(r.width) for r in counting.requests
    ]
    return RowDraw(jnp, [jnp.asarray(row, jnp.float32) for row in rows], jnp.float32(1.0))


def by_numpy(agent, hyperparameters, learner, config, e):
    """Advantages, targets, log-probabilities and entropy of what happened, copy by copy, with the old weights."""
    turns, copies = e.rewards.shape
    scale = lambda rows: np.asarray(rows, float) / 2.0 - 1.0  # noqa: E731  the corridor has five cells
    outputs, values = forward(learner.weights, config.layout, scale(e.observed.numbers).reshape(-1, 1))
    _, after = forward(learner.weights, config.layout, scale(e.last.numbers).reshape(-1, 1))
    values, after = values.reshape(turns, copies), after.reshape(turns, copies)
    gains, decay = np.zeros((turns, copies)), hyperparameters.discount * getattr(hyperparameters, "trace_decay", 1.0)
    for c in range(copies):
        later = 0.0
        for t in reversed(range(turns)):
            next_value = 0.0 if e.ended[t, c] else after[t, c]
            later = 0.0 if e.closed[t, c] else later
            later = e.rewards[t, c] + hyperparameters.discount * next_value - values[t, c] + decay * later
            gains[t, c] = later
    logs = special.log_softmax(outputs, axis=1)
    chosen = logs[np.arange(turns * copies), e.actions.reshape(-1)]
    entropy = -np.sum(np.exp(logs) * logs, axis=1)
    return gains.reshape(-1), (gains + values).reshape(-1), values.reshape(-1), chosen, entropy


def test_ppo_minimises_the_clipped_objective():
    agent = made("PPO", entropy_bonus=0.03, value_clip=0.1, clip=0.2, trace_decay=0.9, discount=0.8)
    config, hyperparameters, learner, _ = begun(agent, Corridor())
    e = happened()
    rows, explained, _ = ppo.rows_of(config, hyperparameters, learner, jax.tree.map(jnp.asarray, e))
    gains, targets, values, old, _ = by_numpy(agent, hyperparameters, learner, config, e)
    assert np.allclose(rows.target, targets, atol=1e-4)
    assert float(explained) == pytest.approx(1 - np.var(targets - values) / np.var(targets), abs=1e-3)
    gains = (gains - gains.mean()) / gains.std()
    assert np.allclose(rows.advantage, gains, atol=1e-3)
    assert np.allclose(rows.log_probability, old, atol=1e-5)
    # With the old weights the ratio is 1; with others the published equation.
    both = np.zeros(2, bool)
    for shift in (0.0, 0.3, -0.8, 1.5):
        weights = learner.weights + shift * jnp.sin(jnp.arange(config.layout.size))
        total, output = ppo.objective(config, hyperparameters, config.layout.module(weights), rows)
        _, _, new_values, logs, entropy = by_numpy(agent, hyperparameters, learner._replace(weights=weights), config, e)
        ratio = np.exp(logs - old)
        both |= [bool(((ratio > 1.2) & (gains > 0)).any()), bool(((ratio < 0.8) & (gains < 0)).any())]
        policy_loss = -np.mean(np.minimum(ratio * gains, np.clip(ratio, 0.8, 1.2) * gains))
        close = values + np.clip(new_values - values, -0.1, 0.1)
        value_loss = np.mean(0.5 * np.maximum((new_values - targets) ** 2, (close - targets) ** 2))
        wanted = policy_loss + 0.5 * value_loss - 0.03 * entropy.mean()
        assert float(total) == pytest.approx(wanted, abs=1e-4)
        shares = (np.mean(np.abs(ratio - 1) > 0.2), np.mean(ratio - 1 - np.log(ratio)))
        assert [float(x) for x in output[3:]] == pytest.approx(shares, abs=1e-4)
        if shift == 0.0:
            assert (float(output[3]), float(output[4])) == pytest.approx((0.0, 0.0), abs=1e-6)
    assert both.all()  # both sides of the clip were met


@pytest.mark.slow
def test_an_update_of_ppo_stops_where_it_strays_too_far():
    e = jax.tree.map(jnp.asarray, happened(turns=8))
    moved = {}
    for limit in (None, 1e-12):
        agent = made("PPO", divergence_limit=limit, epochs=6, minibatch=6, learning_rate=0.05)
        config, hyperparameters, learner, memory = begun(agent, Corridor())
        draw = noise_for(lambda noise, a=(config, hyperparameters, learner, memory, e): jm.PPO.learn(*a, noise))
        after, _, readings = learning(jm.PPO, config, hyperparameters, draw)(learner, memory, e)
        moved[limit] = float(jnp.abs(after.weights - learner.weights).max())
        assert len(readings) == len(jm.PPO.reading_names)
    assert 0.0 < moved[1e-12] < 0.6 * moved[None]


@pytest.mark.slow
@pytest.mark.parametrize("name", ["ActorCritic", "Reinforce"])
def test_one_step_down_the_published_gradient(name):
    """Plain descent moves the weights by the rate times the gradient, taken here by differences of the NumPy loss."""
    extra = {"returns_normalised": False} if name == "Reinforce" else {"trace_decay": 0.9}
    agent = made(
        name,
        optimiser="sgd",
        gradient_clip=None,
        learning_rate=1.0,
        discount=0.8,
        entropy_bonus=0.05,
        horizon=6,
        **extra,
    )
    config, hyperparameters, learner, memory = begun(agent, Corridor())
    e = happened()
    gains, targets, values, _, _ = by_numpy(agent, hyperparameters, learner, config, e)
    used = np.ones(gains.size)
    if name == "Reinforce":  # whole episodes alone; a cut is worth what the baseline says
        complete = np.zeros(e.closed.shape, bool)
        for t in reversed(range(6)):
            complete[t] = e.closed[t] | (complete[t + 1] if t < 5 else False)
        used = complete.reshape(-1).astype(float)
        gains = targets - values
        returns = targets

    def loss(weights):
        _, _, v, logs, entropy = by_numpy(agent, hyperparameters, learner._replace(weights=weights), config, e)
        goal = targets if name == "ActorCritic" else returns
        each = -logs * gains + 0.5 * 0.5 * (v - goal) ** 2 - 0.05 * entropy
        return np.sum(each * used) / used.sum()

    after, _, _ = learning(getattr(jm, name), config, hyperparameters)(learner, memory, e)
    moved = np.asarray(learner.weights - after.weights, float)
    weights = np.asarray(learner.weights, float)
    for k in np.random.default_rng(3).choice(weights.size, 40, replace=False):
        step = np.zeros_like(weights)
        step[k] = 1e-4
        slope = (loss(weights + step) - loss(weights - step)) / 2e-4
        assert moved[k] == pytest.approx(slope, abs=2e-3)


@pytest.mark.slow
def test_reinforce_learns_from_an_open_episode_once_it_has_closed():
    agent = made(
        "Reinforce", horizon=2, longest=8, optimiser="sgd", baseline=False, returns_normalised=False, discount=1.0
    )
    config, hyperparameters, learner, memory = begun(agent, Corridor(), copies=1)

    def part(rewards, closed):
        flags = np.array(closed)[:, None]
        e = happened(turns=2, copies=1)
        return jax.tree.map(
            jnp.asarray, e._replace(rewards=np.array(rewards, np.float32)[:, None], ended=flags, closed=flags)
        )

    learn = learning(jm.Reinforce, config, hyperparameters)
    # An episode that is three stretches long: all of it is learned from when it closes.
    for still_open in (2, 4):
        still, memory, _ = learn(learner, memory, part([1.0, 1.0], [False] * 2))
        assert np.array_equal(still.weights, learner.weights)
        assert int(np.asarray(memory["kept"].open).sum()) == still_open
    moved, memory, _ = learn(still, memory, part([1.0, 1.0], [True, False]))
    assert not np.array_equal(moved.weights, learner.weights)
    # Four of the five decisions are as many as one update takes, the oldest first; the newest episode has not closed.
    assert np.asarray(memory["kept"].open)[-6:, 0].tolist() == [False, False, False, False, True, True]
    repeated, memory, _ = learn(moved, memory, part([1.0, 1.0], [False, False]))
    assert not np.array_equal(repeated.weights, moved.weights)
    assert np.asarray(memory["kept"].open)[-8:, 0].tolist() == [False] * 5 + [True] * 3


@pytest.mark.slow
@pytest.mark.parametrize("settings", [{}, {"double": False}, {"dueling": True}, {"target": False}, {"loss": "squared"}])
def test_dqn_moves_towards_the_published_target(settings):
    agent = made("DQN", **settings)
    env = Gates()
    config, hyperparameters, learner, _ = begun(agent, env)
    chance = np.random.default_rng(4)
    count, actions = 16, 6
    rows = chance.random((2, count, 2)).astype(np.float32)
    legal = tuple(chance.random((count, n)) < 0.6 for n in (3, 2))
    for mask in legal:
        mask[:, 0] = True
    sample = memory_of.Sample(
        seen(rows[0]),
        seen(rows[1], legal),
        chance.integers(0, actions, (count, 1)),
        chance.normal(size=count),
        np.where(chance.random(count) < 0.3, 0.0, 0.9),
        chance.random(count),
        None,
    )
    target = learner.weights + 0.1
    learning = dqn_updates.DQNUpdateState(learner.weights, target if config.target else (), learner.moments, None, None)

    def values(weights, x):
        leaves = [np.asarray(leaf, float) for leaf in config.layout.leaves(weights)]
        x = x * np.array([1.0, 2.0]) - 1.0  # the gate lies in 0 to 2, the night in 0 to 1
        if config.dueling:  # a hidden layer together, then one and the outputs for each stream
            trunk = np.maximum(x @ leaves[0] + leaves[1], 0.0)
            streams = [np.maximum(trunk @ w + b, 0.0) @ out + shift for w, b, out, shift in (leaves[2:6], leaves[6:10])]
            return streams[0] + streams[1] - streams[1].mean(axis=1, keepdims=True)
        for k in range(0, len(leaves) - 2, 2):
            x = np.maximum(x @ leaves[k] + leaves[k + 1], 0.0)
        return x @ leaves[-2] + leaves[-1]

    allowed = (legal[0][:, :, None] & legal[1][:, None, :]).reshape(count, 6)
    online, later = (np.where(allowed, values(w, rows[1]), -1e9) for w in (learner.weights, target))
    if config.double:
        next_value = (later if config.target else online)[np.arange(count), online.argmax(axis=1)]
    else:
        next_value = (later if config.target else online).max(axis=1)
    wanted = sample.n_step_return + sample.bootstrap_discount * next_value
    arguments = jnp.asarray(later, jnp.float32)
    assert np.allclose(dqn_updates.targets(config, learning, sample, arguments), wanted, atol=1e-4)
    error = wanted - values(learner.weights, rows[0])[np.arange(count), sample.action[:, 0]]
    size = np.abs(error)
    each = (
        0.5 * error**2
        if config.loss == "squared"
        else np.where(
            size <= hyperparameters.huber_reach,
            0.5 * error**2,
            hyperparameters.huber_reach * (size - 0.5 * hyperparameters.huber_reach),
        )
    )
    _, (readings, errors) = dqn_updates.update(
        config, hyperparameters, learning, jax.tree.map(jnp.asarray, sample), arguments
    )
    assert np.allclose(errors, error, atol=1e-4)
    output = [each.mean(), values(learner.weights, rows[0])[np.arange(count), sample.action[:, 0]].mean(), size.mean()]
    assert np.asarray(readings)[:3].tolist() == pytest.approx(output, abs=1e-3)


@pytest.mark.slow
def test_linear_values_move_by_the_rate_times_the_error():
    agent = made("LinearQ", discount=0.5)
    config, hyperparameters, learner, _ = begun(agent, Corridor(), copies=1)
    weights = learner.weights + 0.25  # each value is 8 tilings times that
    sample = memory_of.Sample(
        seen([[1.0]]), seen([[2.0]]), jnp.array([[1]]), jnp.array([3.0]), jnp.array([0.5]), None, None
    )
    after, readings = linear_q.update(config, hyperparameters, weights, sample)
    error = 3.0 + 0.5 * 2.0 - 2.0
    assert [float(r) for r in readings] == [error, 2.0]
    result = config.made_of.values(after, np.array([[1.0]], np.float32))[0]
    assert result.tolist() == pytest.approx([2.0, 2.0 + float(hyperparameters.learning_rate) * error])


METHODS = ["DQN", "LinearQ", "PPO", "ActorCritic", "Reinforce", "SAC"]


@pytest.mark.slow
@pytest.mark.parametrize("name", METHODS)
@pytest.mark.parametrize("lane", ["compiled", "plain"])
def test_every_method_learns_choices_under_a_mask(name, lane):
    """Several parts at once, on both lanes: what is forbidden is never done, and what pays is found."""
    steps = 12_000 if lane == "compiled" else 600
    run = jm.train(Gates(), made(name), steps=steps, copies=8, folder=None, seed=1, lane=lane)
    assert run.origin["lane"] == lane
    assert run.episodes["broken"].max() == 0.0
    assert np.isfinite(run.readings.drop(columns=["return_last_100"]).to_numpy(float)).all()
    if lane == "compiled":
        best = jm.evaluate(run.policy, Gates(), episodes=40)
        assert best.mean > jm.evaluate("random", Gates(), episodes=40).mean + 5.0
        assert best.episodes["broken"].max() == 0.0
        sampled = jm.evaluate(run.policy, Gates(), episodes=20, act="sampled")
        assert sampled.episodes["broken"].max() == 0.0


@pytest.mark.slow
@pytest.mark.parametrize("name", ["DQN", "PPO", "ActorCritic", "Reinforce", "SAC"])
def test_every_network_method_learns_from_pixels(name):
    env = Signal().modified(jm.modifiers.Stack(2))
    network = jm.Convolutional(16, filters=[(4, 2, 2)])
    run = jm.train(env, made(name, network=network, discount=0.0), steps=10_000, copies=8, folder=None, seed=1)
    assert run.origin["lane"] == "compiled"
    assert jm.evaluate(run.policy, env, episodes=20).mean > 7.0  # of 8; chance gets 4
    if name == "PPO":
        plain = jm.train(env, made(name, network=network), steps=200, copies=2, folder=None, lane="plain")
        assert plain.episodes["decisions"].max() == 208  # the last update is gathered whole


@pytest.mark.slow
def test_tables_obey_masks_too():
    class Gate(Gates):
        action = jm.Choice(3)

        def legal(self, state):
            return self.xp.arange(3) != (state.open + 1) % 3

        @jm.reward
        def through(self, before, action):
            return 1.0 * (action == before.open)

        @jm.reward
        def light(self, before):
            return 0.0 * before.open

        @jm.measure
        def broken(self, before, action):
            return 1.0 * (action == (before.open + 1) % 3)

    for agent in (jm.QLearning(), jm.Sarsa(), jm.ExpectedSarsa(), jm.RandomPlay()):
        compiles = type(agent) in (jm.QLearning, jm.Sarsa)  # one that draws ahead, and one that does not
        for lane, steps in (("plain", 4000), ("compiled", 4000))[: 1 + compiles]:
            run = jm.train(Gate(), agent, steps=steps, copies=4, folder=None, lane=lane)
            assert run.episodes["broken"].max() == 0.0
        if type(agent) is not jm.RandomPlay:
            assert jm.evaluate(run.policy, Gate(), episodes=10).mean > 10.0


def test_a_range_or_too_many_combinations_are_refused():
    class Slide(Corridor):
        action = jm.Range(-1.0, 1.0)

    for name in ("DQN", "LinearQ"):
        with pytest.raises(SettingError, match="chooses among alternatives"):
            jm.train(Slide(), made(name), steps=10, folder=None)

    class Many(Corridor):
        action = jm.Actions(a=jm.Choice(100), b=jm.Choice(100))

    with pytest.raises(SettingError, match=r"there are 10,000; at most 4,096 are allowed. Use `PPO`"):
        jm.train(Many(), jm.DQN(), steps=10, folder=None)


class Bell(jm.Environment):
    """Episodes of one length, told by a clock in thousands of units that no bounds are declared of."""

    time_limit = 40

    class State(jm.State):
        clock: float = jm.seen()
        hour: int

    action = jm.Choice("wait", "ring")

    def begin(self, draw):
        return self.State(clock=5000.0 + draw.uniform(), hour=0)

    def advance(self, state, action, draw):
        return state.replace(clock=state.clock + 100.0, hour=state.hour + 1)

    @jm.reward
    def right(self, before, action):
        return 1.0 * (action == (before.hour >= 20))


@pytest.mark.parametrize("lane", [pytest.param("compiled", marks=pytest.mark.slow), "plain"])
def test_copies_fall_out_of_step_and_numbers_in_thousands_do_not_upset_the_first_batch(lane):
    agent = jm.PPO(horizon=32, minibatch=64, epochs=2, value_first=0, network=jm.Dense(8))
    run = jm.train(Bell(), agent, steps=2_560, copies=8, seed=0, folder=None, lane=lane)
    episodes, readings = run.episodes, run.readings
    assert set(episodes["steps"]) == {40}  # what was cut to fall out of step is no episode
    phases = {int(d) // 8 % 40 for d in episodes["decisions"]}
    assert len(phases) == 8
    # A thousand decisions of random play first; then learning begins from an even policy that is sure of nothing.
    assert (readings["entropy"].iloc[:4] > 0.69).all()
    assert readings["divergence"].max() < 0.5


class Toll(Corridor):
    """Every step costs the same, beside prizes that add up to nothing in random play."""

    toll: float = jm.parameter(1.0, low=0.0, high=1.0)

    @jm.reward
    def paid(self, before):
        return -self.toll + 0.0 * before.cell


@pytest.mark.slow
@pytest.mark.parametrize(("toll", "waits"), [(1.0, True), (0.0, False)])
def test_ppo_waits_for_the_value_only_until_it_has_the_level_of_the_returns(toll, waits):
    agent = jm.PPO(horizon=16, minibatch=64, epochs=1, entropy_bonus=0.0, network=jm.Dense(8), scaling="bounds")
    run = jm.train(Toll(toll=toll), agent, steps=16 * 16 * 8, copies=16, seed=0, folder=None)
    # A policy that has not moved has the same probabilities before and after a step.
    assert bool((run.readings["divergence"].abs() < 1e-7).all()) is waits


@pytest.mark.slow
def test_the_bonus_of_choices_leaves_the_spread_of_a_range_alone(tmp_path):
    """Where nothing is earned and all values are 0, so that nothing but a bonus moves the policy."""

    class Lever(Corridor):
        action = jm.Actions(way=jm.Choice(2), push=jm.Range(-1.0, 1.0))

        def advance(self, state, action, draw):
            return super().advance(state, action.way, draw)

    grown = {}
    for name in ("entropy_bonus", "range_entropy_bonus"):
        settings = {"entropy_bonus": 0.0, name: 1.0}
        agent = jm.ActorCritic(
            learning_rate=0.01, value_first=0, near_start=0.0, network=jm.Dense(8), scaling="bounds", **settings
        )
        first = fresh_policy(agent, Lever())
        for part, place in first.config.layout.parts.items():
            if part.startswith(".value"):
                first.learner.weights[place] = 0.0
        start = first.save(tmp_path / name)
        run = jm.train(
            Lever(weights={"prize": 0.0, "effort": 0.0}), agent, steps=1_600, copies=4, seed=0, start=start, folder=None
        )
        grown[name] = run.policy.probabilities(Lever().episode(seed=0).observation)["push"]["spread"]
    assert grown["entropy_bonus"] == pytest.approx(0.5, abs=1e-6)
    assert grown["range_entropy_bonus"] > 0.6


def test_the_soft_target_of_dqn_moves_as_far_with_one_copy_as_with_many():
    targets = []
    for copies in (1, 8):
        agent = made(
            "DQN", target_every=2, target_share=0.1, learning_rate=0.0, learn_every=8, replay_start=1, n_step=1
        )
        config, hyperparameters, learner, memory = begun(agent, Corridor(), copies=copies)
        learner = learner._replace(target=learner.weights + 1.0)
        e = happened(turns=8, copies=8)
        e = jax.tree.map(lambda leaf, n=copies: jnp.asarray(leaf[: 8 // n, :n]), e)
        draw = noise_for(lambda draw, a=(config, hyperparameters, learner, memory, e): jm.DQN.learn(*a, draw))
        learner, _, _ = learning(jm.DQN, config, hyperparameters, draw)(learner, memory, e)
        targets.append(float(jnp.mean(learner.target - learner.weights)))
    assert targets == pytest.approx([0.9**4, 0.9**4], abs=1e-5)


@pytest.mark.slow
def test_no_target_reaches_before_the_first_decision():
    """`replay_start` below what the targets of all copies need waits, instead of drawing rows that were never
    written."""
    run = jm.train(
        Corridor(),
        made("DQN", n_step=3, replay_start=4, learn_every=1),
        steps=64,
        copies=8,
        folder=None,
        lane="compiled",
    )
    assert np.isfinite(run.readings["loss"]).all()
    assert run.readings["loss"].iloc[0] == 0.0


@pytest.mark.slow
@pytest.mark.parametrize("name", ["DQN", "PPO"])
def test_the_last_observation_of_an_episode_is_in_the_scale_of_what_is_learned(name):
    """A number that moves only where an episode is cut: left out of the statistics it would be far outside of their
    scale."""

    class Buzzer(Bell):
        time_limit = 6

        @jm.sensor(low=0.0, high=100.0)
        def over(self, state):
            return 100.0 * (state.hour == 6)

    run = jm.train(Buzzer(), made(name, scaling="running"), steps=2_048, copies=4, seed=0, folder=None)
    statistics = run.policy.learner.statistics
    rows = np.array([[5000.0, 100.0]], np.float32)
    inputs = scaled(describe(Buzzer()).spec, "running", statistics, rows)
    assert 1.0 < float(inputs[0, 1]) < 4.0  # one row in twelve has it: (1 - 1/12) / 0.28 = 3.3


@pytest.mark.parametrize(("target_every", "moves"), [(1, 4), (2, 2), (8, 0)])
def test_records_move_the_target_as_far_as_decisions_do(target_every, moves):
    agent = jm.DQN(network=jm.Dense(4), target_every=target_every, target_share=0.3, learn_every=4)
    config, hyperparameters = agent.config(describe(Corridor()).spec, 1), hyperparameters_at(agent.schedules())
    learner = SimpleNamespace(target=np.float32(0.0), decisions=np.int32(0))
    assert float(_moved_target(config, hyperparameters, learner, np.float32(1.0), 4)) == pytest.approx(1.0 - 0.7**moves)


WALKS = """
def to_the_right(observed, best, probabilities, draw):
    \"\"\"Often to the right, else as the method would.\"\"\"
    xp = draw.xp
    u = draw.uniform(shape=(2, best.shape[0]))
    drawn = (u[1][:, None] >= xp.cumsum(probabilities, axis=1)[:, :-1]).sum(axis=1)
    return xp.where(u[0] < 0.8, 1, drawn).astype("int32")
"""


@pytest.mark.parametrize(
    "agent", [jm.QLearning, lambda **more: jm.DQN(network=jm.Dense(8), replay_size=400, replay_start=50, **more)]
)
def test_a_function_of_ones_own_explores_in_both_lanes_and_from_a_plan(agent, tmp_path):
    (tmp_path / "walks.py").write_text(WALKS)
    explorer = f"{tmp_path / 'walks.py'}:to_the_right"
    more = {"steps": 240, "copies": 2, "seed": 5, "record_every": 1}
    runs = [
        jm.train(Corridor(), agent(explorer=explorer), lane=lane, folder=tmp_path / lane, **more)
        for lane in ("plain", "compiled")
    ]
    shares = [np.mean([r.table["action"].iloc[:-1].eq("right").mean() for r in run.rollouts]) for run in runs]
    assert min(shares) > 0.75, shares
    assert shares[0] == pytest.approx(shares[1], abs=0.02)
    repeated = jm.Run.open(runs[0].path)
    assert repeated.plan.agent.explorer.__name__ == "to_the_right"
    assert list((repeated.path / "source").rglob("walks.py"))
    assert repeated.written_plan["agent"]["explorer"].endswith("walks.py:to_the_right")
    greedy = fresh_policy(agent(explorer=explorer), Corridor())
    assert greedy.choose({"cell": 2}) in (0, 1)  # what acts without exploration does not ask it


def test_what_an_explorer_gives_is_checked_and_never_forbidden():
    config, hyperparameters, learner, memory = begun(
        jm.QLearning(explorer=lambda observed, best, probabilities, draw: 0 * best + 5), Gates(), copies=3
    )
    rows = seen(np.array([[0.0, 0.0], [1.0, 1.0], [2.0, 0.0]], np.float32))
    masks = (np.array([[1, 0, 1], [1, 1, 0], [0, 1, 1]], bool), np.array([[1, 0], [1, 1], [1, 0]], bool))
    draw = PlainDraw(Noise(1, 1, Domain.TRAINING), Stream.EXPLORE)
    actions, _, _ = config.method.choose(
        config, hyperparameters, learner, memory, rows._replace(legal=masks), draw.for_step(0, 0), True
    )
    gates, lamps = np.asarray(actions.gate), np.asarray(actions.lamp)
    assert all(mask[gate] for mask, gate in zip(masks[0], gates, strict=True))
    assert all(mask[lamp] for mask, lamp in zip(masks[1], lamps, strict=True))
    for function, message in (
        (lambda observed, best, probabilities, draw: 0.5, "gave float"),
        (lambda observed, best: best, "is called with"),
    ):
        with pytest.raises(SettingError, match=message):
            jm.train(Corridor(), jm.QLearning(explorer=function), steps=20, lane="plain", folder=None)
    with pytest.raises(SettingError, match="must be a function"):
        jm.DQN(explorer=3)
