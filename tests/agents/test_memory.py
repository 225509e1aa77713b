"""Recurrent networks: the cells and their gradients against NumPy, states along episodes, both lanes, and a signal that
has to be remembered."""

import jax
import jax.numpy as jnp
import numpy as np
import pytest
from places import Signal, Tiller

import jokulmist as jm
from jokulmist.agents.contract import Experience, hyperparameters_at
from jokulmist.agents.critics import sac
from jokulmist.agents.critics.critic_networks import Remembering, with_action
from jokulmist.agents.critics.critic_updates import sequence_rows
from jokulmist.agents.policies import ppo
from jokulmist.agents.recurrence import Past
from jokulmist.environments.chance.draws import PlainDraw
from jokulmist.environments.chance.noise import Domain, Noise, Stream
from jokulmist.environments.declaration.instance import describe
from jokulmist.environments.spaces.channels import ObservationBatch
from jokulmist.errors import SettingError
from jokulmist.learning.action_distributions import joint_over
from jokulmist.learning.networks.inputs import Inputs
from jokulmist.learning.networks.layout import Layout
from jokulmist.learning.replay import Sample
from jokulmist.learning.schedules import Progress


class Beacon(jm.Environment):
    """A light shows at the first of five decisions to which side the boat turns at the last."""

    class State(jm.State):
        side: int = jm.field()
        sailed: int = jm.field()

    action = jm.Choice("port", "starboard")
    time_limit = 5

    def begin(self, draw):
        return self.State(side=draw.integers(0, 2), sailed=0)

    def advance(self, state, action, draw):
        return state.replace(sailed=state.sailed + 1)

    @jm.sensor(low=-1.0, high=1.0)
    def light(self, state):
        return self.xp.where(state.sailed == 0, 2.0 * state.side - 1.0, 0.0)

    @jm.sensor(low=0.0, high=1.0)
    def near(self, state):
        return self.xp.where(state.sailed == 4, 1.0, 0.0)

    @jm.reward
    def right(self, before, action):
        return self.xp.where(before.sailed == 4, self.xp.where(action == before.side, 1.0, -1.0), 0.0)


def sigmoid(x):
    return 1.0 / (1.0 + np.exp(-x))


def by_numpy(kind, leaves, rows, restarts, states):
    """Outputs along time from the published equations, in double precision."""
    w_in, b_in, w_entry, b_entry, *recurrent, w_out, b_out = leaves
    width = w_out.shape[0]
    turns, copies = restarts.shape
    state, result = np.zeros(states.shape[1:]), []
    for t in range(turns):
        restart = restarts[t] | (t == 0)
        state = np.where(restart[:, None], states[t], state)
        x = np.maximum(rows[t] @ w_in + b_in, 0.0) @ w_entry + b_entry
        parts = [x[:, k * width : (k + 1) * width] for k in range(x.shape[1] // width)]
        if kind == "gru":
            gates, candidate = recurrent
            reset = sigmoid(parts[0] + state @ gates[:, :width])
            update_gate = sigmoid(parts[1] + state @ gates[:, width:])
            state = update_gate * state + (1 - update_gate) * np.tanh(parts[2] + (reset * state) @ candidate)
            displayed = state
        else:
            cell, displayed = state[:, :width], state[:, width:]
            take, update_gate, output_gate, new = (
                p + displayed @ recurrent[0][:, k * width : (k + 1) * width] for k, p in enumerate(parts)
            )
            cell = sigmoid(update_gate) * cell + sigmoid(take) * np.tanh(new)
            displayed = sigmoid(output_gate) * np.tanh(cell)
            state = np.concatenate([cell, displayed], axis=1)
        result.append(displayed @ w_out + b_out)
    return np.array(result).reshape(turns * copies, -1)


@pytest.mark.parametrize("kind", ["gru", "lstm"])
def test_a_cell_and_its_gradient_through_time_are_those_of_the_equations(kind):
    """With episodes that begin inside: the gradient against differences of an independent computation."""
    spec, chance = describe(Beacon()).spec, np.random.default_rng(3)
    recipe = jm.Recurrent(3, cell=kind)
    layout = Layout(recipe, lambda: recipe.build(spec, 2, 5, 1.0))
    turns, copies = 7, 2
    rows = chance.normal(size=(turns, copies, spec.width))
    restarts = np.zeros((turns, copies), bool)
    restarts[3, 0] = restarts[5, 1] = True
    states = 0.5 * chance.normal(size=(turns, copies, recipe.state_width))
    weighing = chance.normal(size=(turns * copies, 2))

    def loss(weights):
        inputs = Inputs(jnp.asarray(rows.reshape(turns * copies, -1), jnp.float32), {})
        outputs, _ = layout.module(weights).apply_sequence(
            inputs, jnp.asarray(restarts), jnp.asarray(states, jnp.float32)
        )
        return jnp.sum(jnp.square(outputs) * weighing), outputs

    weights = layout.initial_weights() + 0.1 * chance.normal(size=layout.size).astype(np.float32)
    (_, outputs), gradient = jax.jit(jax.value_and_grad(loss, has_aux=True))(jnp.asarray(weights))

    def exact(weights):
        leaves = [np.asarray(leaf, np.float64) for leaf in layout.leaves(np.asarray(weights, np.float64))]
        return by_numpy(kind, leaves, rows, restarts, states)

    assert np.allclose(outputs, exact(weights), atol=1e-5)
    for k in chance.permutation(layout.size)[:25]:
        step = np.zeros(layout.size)
        step[k] = 1e-5
        slope = np.sum((exact(weights + step) ** 2 - exact(weights - step) ** 2) * weighing) / 2e-5
        assert float(gradient[k]) == pytest.approx(slope, rel=2e-3, abs=2e-4)


@pytest.mark.slow
def test_what_is_learned_from_is_what_was_decided_with():
    """The states that are gone through again give the likelihoods of the actions that were drawn, whatever episodes
    close on the way."""
    agent = jm.PPO(network=jm.Recurrent(8, sequence=4), horizon=12, minibatch=24, scaling="none", value_first=0)
    spec = describe(Beacon()).spec
    config = agent.config(spec, 3)
    assert ppo.stretch_of(config) == 4
    told = {}

    class Watched(jm.PPO):
        @staticmethod
        def learn(config, hyperparameters, learner, memory, experience, noise):
            rows, _, _ = ppo.rows_of(config, hyperparameters, learner, experience)
            flat = ppo.time_major(rows)
            (outputs, values), _ = ppo.apply_network(config.layout.module(learner.weights), flat.inputs, flat.past)
            again = config.acting.likelihood(outputs, flat.legal, flat.actions, flat.samples).log_probability
            apart = jnp.max(jnp.abs(again - flat.log_probability)) + jnp.max(jnp.abs(values - flat.value))
            jax.debug.callback(
                lambda a, s: told.update(apart=float(a), moved=float(s)), apart, jnp.max(jnp.abs(flat.past.states))
            )
            return jm.PPO.learn(config, hyperparameters, learner, memory, experience, noise)

    jm.train(Beacon(), Watched(**dict(agent)), steps=12 * 3 * 3, copies=3, lane="plain", folder=None)
    assert told["apart"] < 1e-5
    assert told["moved"] > 0.0


@pytest.mark.slow
def test_reinforce_climbs_the_gradient_through_time():
    """One update of whole episodes against differences of log-likelihoods times returns, computed by the published
    equations in double precision."""
    spec, chance, turns, copies = describe(Beacon()).spec, np.random.default_rng(8), 10, 2
    agent = jm.Reinforce(
        network=jm.Recurrent(3, sequence=turns),
        horizon=turns,
        longest=turns,
        baseline=False,
        returns_normalised=False,
        discount=0.9,
        optimiser="sgd",
        learning_rate=1.0,
        gradient_clip=None,
        entropy_bonus=0.0,
        scaling="none",
        rewards_scaled=False,
        value_first=0,
    )
    config, hyperparameters = agent.config(spec, copies), hyperparameters_at(agent.schedules(), Progress(0, 0, 0.0))
    learner = jm.Reinforce.fresh_learner(
        config, hyperparameters, PlainDraw(Noise(3, 1, Domain.TRAINING), Stream.FRESH).for_step(0, 0)
    )
    begin = learner.weights + 0.3 * chance.normal(size=learner.weights.size).astype(np.float32)
    rows, rewards = (
        chance.normal(size=(turns, copies, spec.width)).astype(np.float32),
        chance.normal(size=(turns, copies)),
    )
    actions, closed = chance.integers(0, 2, (turns, copies)).astype(np.int32), np.zeros((turns, copies), bool)
    closed[3, 0] = closed[6, 1] = closed[-1] = True
    age = np.array([[4 * (t < 4) and t, t if t < 7 else t - 7] for t in range(turns)], np.int32)
    age[4:, 0] = np.arange(turns - 4)
    seen = ObservationBatch(rows, {}, (), age)
    past = Past(np.zeros((turns, copies, config.state_width), np.float32), age == 0)
    output = Experience(seen, actions, rewards.astype(np.float32), closed, closed, seen, seen, ((), past))
    memory = jm.Reinforce.fresh_memory(config, hyperparameters)
    after = jax.jit(lambda *arrays: jm.Reinforce.learn(config, hyperparameters, *arrays, None)[0])(
        learner._replace(weights=jnp.asarray(begin)), memory, output
    )
    returns, next_value = np.zeros((turns, copies)), np.zeros(copies)
    for t in reversed(range(turns)):
        next_value = rewards[t] + 0.9 * np.where(closed[t], 0.0, next_value)
        returns[t] = next_value

    def climbed(weights):
        leaves = [np.asarray(leaf, np.float64) for leaf in config.layout.leaves(np.asarray(weights, np.float64))]
        outputs = by_numpy("gru", leaves, rows.astype(np.float64), age == 0, np.zeros((turns, copies, 3)))
        logs = outputs - np.log(np.exp(outputs).sum(axis=1, keepdims=True))
        return np.mean(logs[np.arange(len(logs)), actions.reshape(-1)] * returns.reshape(-1))

    moved = np.asarray(after.weights) - begin
    for k in chance.permutation(begin.size)[:25]:
        step = np.zeros(begin.size)
        step[k] = 1e-5
        assert moved[k] == pytest.approx((climbed(begin + step) - climbed(begin - step)) / 2e-5, rel=2e-3, abs=2e-4)


SMALL = {
    "PPO": jm.PPO(
        network=jm.Recurrent(16, before=jm.Dense(16)),
        horizon=20,
        minibatch=160,
        scaling="none",
        value_first=0,
        learning_rate=5e-3,
    ),
    "DQN": jm.DQN(
        network=jm.Recurrent(16, cell="lstm", sequence=5, burn_in=1),
        minibatch=16,
        learn_every=16,
        replay_size=4_000,
        replay_start=400,
        scaling="none",
        learning_rate=5e-3,
        target_every=100,
        exploration=0.3,
    ),
    "SAC": jm.SAC(
        network=jm.Recurrent(16, sequence=5, burn_in=1),
        minibatch=16,
        learn_every=16,
        replay_size=4_000,
        replay_start=400,
        scaling="none",
        learning_rate=5e-3,
        policy_rate=5e-3,
    ),
    "Reinforce": jm.Reinforce(
        network=jm.Recurrent(16, before=jm.Dense(16), sequence=10),
        horizon=10,
        longest=20,
        scaling="none",
        value_first=0,
        learning_rate=0.02,
    ),
}


@pytest.mark.slow
def test_soft_critics_go_along_stretches_as_one_decision_after_another_says():
    """The loss of SAC's critics and its policy's objective, against a loop over rows, decisions and networks: states
    that are given where an episode begins, targets of two rewards, and decisions that are burnt in."""
    agent = jm.SAC(
        network=jm.Recurrent(4, sequence=4, burn_in=2),
        n_step=2,
        scaling="none",
        minibatch=3,
        replay_size=200,
        discount=0.9,
    )
    spec, chance = describe(Tiller()).spec, np.random.default_rng(5)
    config, hyperparameters = agent.config(spec, 2), hyperparameters_at(agent.schedules(), Progress(0, 0, 0.0))
    learner = jm.SAC.fresh_learner(
        config, hyperparameters, PlainDraw(Noise(3, 1, Domain.TRAINING), Stream.FRESH).for_step(0, 0)
    )
    shaken = (
        w + 0.2 * chance.normal(size=w.size).astype(np.float32)
        for w in (learner.learning.policy, learner.learning.critics, learner.learning.critics_target)
    )
    current = learner.learning._replace(**dict(zip(("policy", "critics", "critics_target"), shaken, strict=True)))
    many, turns = 3, config.lookahead
    assert turns == 2 + 4 + 1

    def numbers_like(*shape):
        return chance.normal(size=shape).astype(np.float32)

    def looks():
        return ObservationBatch(
            numbers_like(many, turns, spec.width),
            {},
            tuple(chance.random((many, turns, c.count)) < 0.8 for c in config.acting.choices.values()),
            np.ones((many, turns), np.int32),
        )

    initial, states = chance.random((many, turns)) < 0.3, numbers_like(many, turns, config.remembered)
    combinations = joint_over(spec.action).count
    index, unit = (
        chance.integers(0, combinations, (many, turns)),
        chance.uniform(-1, 1, (many, turns, config.acting.width)).astype(np.float32),
    )
    observed, following = (
        s._replace(legal=tuple(mask | (np.arange(mask.shape[-1]) == 0) for mask in s.legal)) for s in (looks(), looks())
    )
    stored = np.concatenate([index[..., None], unit, initial[..., None], states], axis=-1).astype(np.float32)
    steps = chance.integers(1, 3, (many, turns)).astype(np.int32)
    sample = Sample(
        observed,
        following,
        stored,
        numbers_like(many, turns),
        0.8 * np.ones((many, turns), np.float32),
        np.ones((many, turns), np.float32),
        np.zeros((many, turns), np.int32),
        steps,
    )
    normal = numbers_like(many, turns, 2, config.acting.width)
    rows = sequence_rows(config, learner, jax.tree.map(jnp.asarray, sample), jnp.asarray(normal), 1.0)
    after, output = jax.jit(lambda current, rows: jm.SAC.update(config, hyperparameters, current, rows))(current, rows)
    output = dict(zip(jm.SAC.reading_names, np.asarray(output), strict=True))

    policy, critics, target, moved = (
        layout.module(jnp.asarray(w))
        for layout, w in (
            (config.layout, current.policy),
            (config.critics, current.critics),
            (config.critics, current.critics_target),
            (config.critics, after.critics),
        )
    )
    width = config.state_width

    def one(seen, b, t):
        return Inputs(jnp.asarray(seen.numbers[b, t][None]), {}), tuple(jnp.asarray(m[b, t][None]) for m in seen.legal)

    def walked(networks, b, where, acted):
        """What networks remember before and after each decision of a stretch."""
        state, result = None, []
        for t in range(turns):
            if state is None or initial[b, t]:
                state = jnp.asarray(states[b, t][None, where])
            inputs = one(observed, b, t)[0]
            inputs = with_action(inputs, jnp.asarray(unit[b, t][None])) if acted else inputs
            before, (reply, state) = state, networks.step(inputs, state)
            result.append((before, reply, state))
        return result

    losses, objectives = [], []
    temperature = jnp.exp(current.temperature)
    for b in range(many):
        of_policy, of_target = (
            walked(policy, b, slice(0, width), False),
            walked(target, b, slice(width, None), True),
        )
        likelihood, later_judged = (
            walked(critics, b, slice(width, None), True),
            walked(moved, b, slice(width, None), True),
        )
        for t in range(2, 6):
            then = min(t + steps[b, t] - 1, turns - 1)
            inputs, legal = one(following, b, t)
            next_value, _ = sac.soft_value(
                config,
                temperature,
                Remembering(policy, of_policy[then][2]),
                Remembering(target, of_target[then][2]),
                inputs,
                legal,
                normal[b, t, 0][None],
            )
            wanted = sample.n_step_return[b, t] + 0.8 * float(next_value[0])
            losses.append(np.mean([0.5 * (float(likelihood[t][1][k, 0, index[b, t]]) - wanted) ** 2 for k in range(2)]))
            inputs, legal = one(observed, b, t)
            best, _ = sac.soft_value(
                config,
                temperature,
                Remembering(policy, of_policy[t][0]),
                Remembering(moved, later_judged[t][0]),
                inputs,
                legal,
                normal[b, t, 1][None],
            )
            objectives.append(-float(best[0]))
    assert output["loss"] == pytest.approx(np.mean(losses), rel=1e-4)
    assert output["policy_loss"] == pytest.approx(np.mean(objectives), rel=1e-4)


@pytest.mark.slow
@pytest.mark.parametrize("name", SMALL)
def test_a_signal_is_remembered_in_both_lanes_by_policies_that_are_kept(name, tmp_path):
    steps = 16_000
    run = jm.train(Beacon(), SMALL[name], steps=steps, copies=8, seed=2, folder=tmp_path / "run", lane="compiled")
    assert jm.evaluate(run.policy, Beacon(), episodes=50).mean > 0.95
    opened = jm.Policy.open(run.policy.save(tmp_path / "policy"))
    assert jm.evaluate(opened, Beacon(), episodes=50).mean > 0.95
    part = jm.train(Beacon(), SMALL[name], steps=480, copies=8, seed=2, folder=tmp_path / "part", lane="compiled")
    compiled = jm.Run.open(part.path)
    plain = jm.train(Beacon(), SMALL[name], steps=480, copies=8, seed=2, folder=None, lane="plain")
    assert plain.episodes["return"].tolist() == compiled.episodes["return"].tolist()
    for first, second in zip(*(jax.tree.leaves(r.policy.learner) for r in (plain, compiled)), strict=True):
        assert np.allclose(first, second, atol=1e-4)
    complete = jm.train(Beacon(), SMALL[name], steps=960, copies=8, seed=2, folder=None, lane="compiled")
    gone_on = jm.resume(part.path, steps=480)
    assert gone_on.episodes["return"].tolist() == complete.episodes["return"].tolist()
    assert part.policy.decisions == 480
    for seed in range(4):  # stepped by hand, by the moment and by all that was seen before
        episode = Beacon().episode(seed=seed)
        assert opened.remembers
        while not episode.over:
            episode.act(opened.choose_in(episode))
        assert episode.total == 1.0
    assert jm.tabulate_steps(Beacon(), steps=5, policy=opened)["reward"].sum() == 1.0


def test_methods_without_states_and_wrong_settings_say_so():
    for agent in (jm.TD3(network=jm.Recurrent(8)), jm.DDPG(network=jm.Recurrent(8))):
        with pytest.raises(
            SettingError,
            match=r"keeps no states of a recurrent network\. Use `PPO`, `ActorCritic`, `Reinforce`, `DQN` or `SAC`",
        ):
            jm.train(jm.gallery.Winch(), agent, steps=100, folder=None)
    for make, expected in (
        (lambda: jm.Recurrent(8, 8), "is one width"),
        (lambda: jm.Recurrent(8, cell="clock"), "'gru' or 'lstm'"),
        (lambda: jm.Recurrent(8, before=jm.Recurrent(8)), "must not be recurrent itself"),
        (
            lambda: jm.DQN(network=jm.Recurrent(8), prioritised=True).config(describe(Signal()).spec, 1),
            "Leave out `prioritised`",
        ),
    ):
        with pytest.raises(SettingError, match=expected):
            make()
