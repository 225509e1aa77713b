"""Traces of tables: true online Sarsa against the forward view, Watkins's against lambda-returns, both lanes, one
copy."""

from dataclasses import replace

import jax
import jax.numpy as jnp
import numpy as np
import pytest
from places import Corridor, seen

import jokulmist as jm
from jokulmist.agents.contract import Experience, hyperparameters_at
from jokulmist.agents.tables.table import Table
from jokulmist.environments.chance.draws import PlainDraw, RowDraw
from jokulmist.environments.chance.noise import Domain, Noise, Stream
from jokulmist.environments.declaration.instance import describe
from jokulmist.errors import SettingError


def begun(agent):
    config, hyperparameters = agent.config(describe(Corridor()).spec, 1), hyperparameters_at(agent.schedules())
    draw = PlainDraw(Noise(7, 1, Domain.TRAINING), Stream.FRESH).for_step(0, 0)
    learner = jax.tree.map(jnp.asarray, agent.fresh_learner(config, hyperparameters, draw))
    memory = jax.tree.map(jnp.asarray, agent.fresh_memory(config, hyperparameters))
    return config, hyperparameters, learner, memory


def one(cell, action, reward, ended, last, age):
    """One turn of one copy, with its age."""

    def at(where, old):
        return seen(np.array([[[float(where)]]], np.float32))._replace(age=np.array([[old]], np.int32))

    flags = np.array([[ended]])
    return Experience(
        at(cell, age),
        np.array([[action]], np.int32),
        np.array([[reward]], np.float32),
        flags,
        flags,
        at(last, age + 1),
        at(last, age + 1),
        (),
    )


def test_true_online_sarsa_has_the_values_of_the_forward_view_after_every_decision():
    """van Seijen et al. (2016), section 4: at each moment all updates so far are made again, towards the returns that
    are known by then."""
    rate, discount, decay = 0.4, 0.9, 0.8
    agent = jm.Sarsa(trace_decay=decay, learning_rate=rate, discount=discount, exploration=0.5)
    config, hyperparameters, learner, memory = begun(agent)
    chance = np.random.default_rng(4)
    first = np.asarray(learner.values) + chance.normal(size=learner.values.shape).astype(np.float32)
    learner = learner._replace(values=jnp.asarray(first))
    cells, action = [2, 1, 2, 3, 2, 2, 1, 3], 0
    learn = jax.jit(
        lambda learner, memory, e, u: jm.Sarsa.learn(
            config, hyperparameters, learner, memory, e, RowDraw(jnp, [u], jnp.float32(1.0))
        )
    )
    visited, rewards, next_value = [], [], []  # entries, and what each decision's successor was worth at the time
    for t in range(7):
        ended, reward = t == 6, float(chance.normal())
        before = np.asarray(learner.values)
        e = one(cells[t], action, reward, ended, cells[t + 1], t)
        learner, memory, _ = learn(learner, memory, e, jnp.asarray(chance.random(1), jnp.float32))
        visited.append((cells[t], action))
        rewards.append(reward)
        action = int(memory.pending[0])
        next_value.append(0.0 if ended else float(before[cells[t + 1], action]))
        forward = first.astype(float).copy()
        horizon = t + 1
        for k in range(horizon):
            returns = []
            for n in range(1, horizon - k + 1):
                total = sum(discount**j * rewards[k + j] for j in range(n)) + discount**n * next_value[k + n - 1]
                returns.append(total)
            complete = (1 - decay) * sum(decay ** (n - 1) * g for n, g in enumerate(returns[:-1], start=1)) + decay ** (
                len(returns) - 1
            ) * returns[-1]
            forward[visited[k]] += rate * (complete - forward[visited[k]])
        assert np.allclose(learner.values, forward, atol=2e-3), t


def test_watkins_moves_to_lambda_returns_and_forgets_at_what_was_not_the_best():
    rate, discount, decay = 1e-4, 0.9, 0.7
    agent = jm.QLearning(trace_decay=decay, learning_rate=rate, discount=discount)
    config, hyperparameters, learner, memory = begun(agent)
    learn = jax.jit(
        lambda learner, memory, e: jm.QLearning.learn(
            config, hyperparameters, learner, memory, e, RowDraw(jnp, [], jnp.float32(1.0))
        )
    )
    rewards = [0.5, -1.0, 2.0]
    for t in range(3):
        learner, memory, _ = learn(learner, memory, one(t, 1, rewards[t], t == 2, t + 1, t))
    for k in range(3):  # every value is 0, so the return of n steps is that of its rewards
        parts = [sum(discount**j * rewards[k + j] for j in range(n)) for n in range(1, 4 - k)]
        complete = (1 - decay) * sum(decay ** (n - 1) * g for n, g in enumerate(parts[:-1], start=1)) + decay ** (
            len(parts) - 1
        ) * parts[-1]
        assert float(learner.values[k, 1]) == pytest.approx(rate * complete, rel=1e-3)
    # What was left before an action that was not the best gets nothing of what follows; nor does an episode that
    # closed.
    learner = learner._replace(values=jnp.zeros((5, 2)).at[1, 0].set(3.0))
    for t, action in enumerate((1, 1)):
        learner, memory, _ = learn(learner, memory, one(t, action, 1.0, False, t + 1, t))
    assert float(learner.values[0, 1]) == pytest.approx(rate * (1.0 + discount * 3.0), rel=1e-3)


@pytest.mark.slow
@pytest.mark.parametrize("kind", [jm.QLearning, jm.Sarsa])
def test_traces_learn_the_same_in_both_lanes_and_go_on(kind, tmp_path):
    agent = kind(trace_decay=0.9, learning_rate=0.2, exploration=0.3)
    runs = [
        jm.train(Corridor(), agent, steps=600, copies=1, seed=5, folder=None, lane=lane)
        for lane in ("plain", "compiled")
    ]
    assert np.allclose(runs[0].policy.learner.values, runs[1].policy.learner.values, atol=1e-5)
    part = jm.train(Corridor(), agent, steps=300, copies=1, seed=5, folder=tmp_path, lane="plain")
    assert np.allclose(jm.resume(part.path, steps=300).policy.learner.values, runs[0].policy.learner.values, atol=1e-5)


@pytest.mark.slow
def test_one_reward_reaches_the_begin_of_a_long_corridor_at_once():
    long = Corridor(length=30)
    reach = {}
    for decay in (0.0, 0.95):
        agent = jm.QLearning(trace_decay=decay, learning_rate=0.5, discount=1.0, exploration=1.0)
        run = jm.train(long, agent, steps=6_000, copies=1, seed=2, folder=None, lane="compiled")
        values = np.asarray(run.policy.learner.values)
        reach[decay] = int((np.abs(values) > 1e-6).sum())
    assert reach[0.95] >= reach[0.0]
    for make, expected in (
        (lambda: jm.train(long, jm.ExpectedSarsa(trace_decay=0.5), steps=50, folder=None), "has no traces"),
        (lambda: jm.train(long, jm.QLearning(trace_decay=0.5), steps=50, copies=4, folder=None), "Use `copies=1`"),
    ):
        with pytest.raises(SettingError, match=expected):
            make()


def test_what_is_forbidden_cuts_no_trace():
    """Watkins's traces end where another action was better; one that may not be taken is none, whatever its entry
    holds."""
    agent = jm.QLearning(trace_decay=0.7, learning_rate=0.5, discount=0.9)
    spec = replace(describe(Corridor()).spec, masked=True)
    config, hyperparameters = agent.config(spec, 1), hyperparameters_at(agent.schedules())
    learner = Table(jnp.full((5, 2), -1.0).at[:, 0].set(0.0))  # the first is forbidden throughout
    memory, mask = (
        jax.tree.map(jnp.asarray, agent.fresh_memory(config, hyperparameters)),
        (np.array([[[False, True]]]),),
    )
    for t in range(3):
        e = one(t, 1, -1.0, t == 2, t + 1, t)
        e = e._replace(observed=e.observed._replace(legal=mask), last=e.last._replace(legal=mask))
        learner, memory, _ = jm.QLearning.learn(
            config, hyperparameters, learner, memory, e, RowDraw(jnp, [], jnp.float32(1.0))
        )
    assert np.count_nonzero(memory.weights) == 3
