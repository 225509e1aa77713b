"""Recurrent networks: the cells and their gradients against NumPy, states along episodes, both lanes, and a signal that has to be remembered."""

import jax
import jax.numpy as jnp
import numpy as np
import pytest
from places import Signal

import jokulmist as jm
from jokulmist.agents.policies import ppo
from jokulmist.environments.declaration.environment import describe
from jokulmist.errors import SettingError
from jokulmist.learning.networks.inputs import Inputs
from jokulmist.learning.networks.layout import Layout


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
    state, found = np.zeros(states.shape[1:]), []
    for t in range(turns):
        restart = restarts[t] | (t == 0)
        state = np.where(restart[:, None], states[t], state)
        x = np.maximum(rows[t] @ w_in + b_in, 0.0) @ w_entry + b_entry
        parts = [x[:, k * width : (k + 1) * width] for k in range(x.shape[1] // width)]
        if kind == "gru":
            gates, candidate = recurrent
            reset = sigmoid(parts[0] + state @ gates[:, :width])
            keep = sigmoid(parts[1] + state @ gates[:, width:])
            state = keep * state + (1 - keep) * np.tanh(parts[2] + (reset * state) @ candidate)
            shown = state
        else:
            cell, shown = state[:, :width], state[:, width:]
            take, keep, tell, new = (
                p + shown @ recurrent[0][:, k * width : (k + 1) * width] for k, p in enumerate(parts)
            )
            cell = sigmoid(keep) * cell + sigmoid(take) * np.tanh(new)
            shown = sigmoid(tell) * np.tanh(cell)
            state = np.concatenate([cell, shown], axis=1)
        found.append(shown @ w_out + b_out)
    return np.array(found).reshape(turns * copies, -1)


@pytest.mark.parametrize("kind", ["gru", "lstm"])
def test_a_cell_and_its_gradient_through_time_are_those_of_the_equations(kind):
    """With episodes that begin inside: the gradient against differences of an independent computation."""
    spec, chance = describe(Beacon()).spec, np.random.default_rng(3)
    recipe = jm.Recurrent(3, cell=kind)
    layout = Layout(recipe, lambda: recipe.built(spec, 2, 5, 1.0))
    turns, copies = 7, 2
    rows = chance.normal(size=(turns, copies, spec.width))
    restarts = np.zeros((turns, copies), bool)
    restarts[3, 0] = restarts[5, 1] = True
    states = 0.5 * chance.normal(size=(turns, copies, recipe.state_width))
    weighing = chance.normal(size=(turns * copies, 2))

    def loss(weights):
        inputs = Inputs(jnp.asarray(rows.reshape(turns * copies, -1), jnp.float32), {})
        outputs, _ = layout.module(weights).along(inputs, jnp.asarray(restarts), jnp.asarray(states, jnp.float32))
        return jnp.sum(jnp.square(outputs) * weighing), outputs

    weights = layout.begun() + 0.1 * chance.normal(size=layout.size).astype(np.float32)
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


def test_what_is_learned_from_is_what_was_decided_with():
    """The states that are gone through again give the likelihoods of the actions that were drawn, whatever episodes close on the way."""
    agent = jm.PPO(network=jm.Recurrent(8, sequence=4), horizon=12, minibatch=24, scaling="none", value_first=0)
    spec = describe(Beacon()).spec
    shapes = agent.shapes(spec, 3)
    assert ppo.stretch_of(shapes) == 4
    told = {}

    class Watched(jm.PPO):
        @staticmethod
        def learn(shapes, numbers, learner, memory, experience, noise):
            rows, _, _ = ppo.rows_of(shapes, numbers, learner, experience)
            flat = ppo.along_time(rows)
            (outputs, values), _ = ppo.said_along(shapes.layout.module(learner.weights), flat.inputs, flat.past)
            again = shapes.acting.judged(outputs, flat.legal, flat.actions, flat.drawn).log_probability
            apart = jnp.max(jnp.abs(again - flat.log_probability)) + jnp.max(jnp.abs(values - flat.value))
            jax.debug.callback(
                lambda a, s: told.update(apart=float(a), moved=float(s)), apart, jnp.max(jnp.abs(flat.past.states))
            )
            return jm.PPO.learn(shapes, numbers, learner, memory, experience, noise)

    jm.train(Beacon(), Watched(**dict(agent)), steps=12 * 3 * 3, copies=3, lane="plain", folder=None)
    assert told["apart"] < 1e-5
    assert told["moved"] > 0.0


SMALL = {
    "PPO": jm.PPO(network=jm.Recurrent(16, before=jm.Dense(16)), horizon=20, minibatch=160, scaling="none", value_first=0, learning_rate=5e-3),
    "DQN": jm.DQN(
        network=jm.Recurrent(16, cell="lstm", sequence=5, burn_in=1), minibatch=16, learn_every=16, replay_size=4_000, replay_start=400, scaling="none",
        learning_rate=5e-3, target_every=100, exploration=0.3,
    ),
}  # fmt: skip


@pytest.mark.parametrize("name", SMALL)
def test_a_signal_is_remembered_in_both_lanes_by_policies_that_are_kept(name, tmp_path):
    steps = 8_000
    run = jm.train(Beacon(), SMALL[name], steps=steps, copies=8, seed=2, folder=tmp_path / "run", lane="compiled")
    assert jm.evaluate(run.policy, Beacon(), episodes=50).mean > 0.95
    opened = jm.Policy.open(run.policy.save(tmp_path / "policy"))
    assert jm.evaluate(opened, Beacon(), episodes=50).mean > 0.95
    plain, compiled = (
        jm.train(Beacon(), SMALL[name], steps=800, copies=8, seed=2, folder=None, lane=lane)
        for lane in ("plain", "compiled")
    )
    assert plain.episodes["return"].tolist() == compiled.episodes["return"].tolist()
    for ours, theirs in zip(*(jax.tree.leaves(r.policy.learner) for r in (plain, compiled)), strict=True):
        assert np.allclose(ours, theirs, atol=1e-4)
    part = jm.train(Beacon(), SMALL[name], steps=800, copies=8, seed=2, folder=tmp_path / "part", lane="plain")
    whole = jm.train(Beacon(), SMALL[name], steps=1_600, copies=8, seed=2, folder=None, lane="plain")
    gone_on = jm.resume(part.path, steps=800)
    assert gone_on.episodes["return"].tolist() == whole.episodes["return"].tolist()
    assert part.policy.decisions == 800
    for seed in range(4):  # stepped by hand, by the moment and by all that was seen before
        episode = Beacon().episode(seed=seed)
        assert opened.remembers
        while not episode.over:
            episode.act(opened.choose_in(episode))
        assert episode.total == 1.0
    assert jm.trace(Beacon(), steps=5, policy=opened)["reward"].sum() == 1.0


def test_methods_without_states_and_wrong_settings_say_so():
    for agent in (jm.Reinforce(network=jm.Recurrent(8)), jm.SAC(network=jm.Recurrent(8))):
        with pytest.raises(
            SettingError, match=r"keeps no states of a recurrent network\. Use `PPO`, `ActorCritic` or `DQN`"
        ):
            jm.train(Signal(), agent, steps=100, folder=None)
    for make, expected in (
        (lambda: jm.Recurrent(8, 8), "is one width"),
        (lambda: jm.Recurrent(8, cell="clock"), "'gru' or 'lstm'"),
        (lambda: jm.Recurrent(8, before=jm.Recurrent(8)), "must not be recurrent itself"),
        (
            lambda: jm.DQN(network=jm.Recurrent(8), prioritised=True).shapes(describe(Signal()).spec, 1),
            "Leave out `prioritised`",
        ),
    ):
        with pytest.raises(SettingError, match=expected):
            make()
