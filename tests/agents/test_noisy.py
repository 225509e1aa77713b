"""Noise in the weights of DQN: its formula, its gradient, both lanes, and a policy without it."""

import jax.numpy as jnp
import numpy as np
import pytest
from places import Corridor

import jokulmist as jm
from jokulmist.agents.contract import hyperparameters_at
from jokulmist.agents.values import noisy
from jokulmist.agents.values.dqn_updates import DQNUpdateState, update
from jokulmist.environments.declaration.instance import describe
from jokulmist.environments.spaces.channels import ObservationBatch
from jokulmist.errors import SettingError
from jokulmist.learning.optimisation import first_moments
from jokulmist.learning.replay import Sample

SMALL = jm.Dense(5)


def shapes_of(**settings):
    agent = jm.DQN(network=SMALL, scaling="bounds", noisy=True, **settings)
    return agent, agent.config(describe(Corridor()).spec, 2)


def by_hand(layout, weights, draws):
    """Layer by layer, entry by entry."""
    size, position, result = layout.size, 0, np.array(weights[: layout.size])
    sigma = weights[size:]

    def f(x):
        return np.sign(x) * np.sqrt(abs(x))

    for k, (inputs, outputs) in enumerate(((1, 5), (5, 2))):
        p, q = draws[position : position + inputs], draws[position + inputs : position + inputs + outputs]
        position += inputs + outputs
        weight, bias = layout.parts[f".layers[{k}].weight"], layout.parts[f".layers[{k}].bias"]
        for i in range(inputs):
            for j in range(outputs):
                result[weight.start + i * outputs + j] += sigma[weight.start + i * outputs + j] * f(p[i]) * f(q[j])
        for j in range(outputs):
            result[bias.start + j] += sigma[bias.start + j] * f(q[j])
    assert position == len(draws)
    return result


def test_the_noise_of_each_weight_is_that_of_the_paper():
    _, config = shapes_of()
    chance = np.random.default_rng(2)
    weights = noisy.initial_weights(config.layout, chance.normal(size=config.layout.size).astype(np.float32))
    assert np.allclose(weights[config.layout.size :][config.layout.parts[".layers[1].bias"]], 0.5 / np.sqrt(5))
    draws = chance.normal(size=noisy.draws_of(config.layout)).astype(np.float32)
    expected = by_hand(config.layout, weights, draws)
    for xp in (np, jnp):
        assert np.allclose(noisy.with_noise(config.layout, weights, xp.asarray(draws), xp), expected, atol=1e-6)


@pytest.mark.slow
def test_a_step_goes_down_the_loss_of_the_noisy_network_and_how_uncertain_it_is():
    agent, config = shapes_of(optimiser="sgd", gradient_clip=None, loss="squared", double=True, learning_rate=0.1)
    hyperparameters, chance = hyperparameters_at(agent.schedules()), np.random.default_rng(4)
    size = config.layout.size
    weights = noisy.initial_weights(config.layout, chance.normal(size=size).astype(np.float32))
    draws = chance.normal(size=(3, noisy.draws_of(config.layout))).astype(np.float32)

    def seen(cells):
        return ObservationBatch(jnp.asarray(cells, jnp.float32)[:, None], {}, (), jnp.zeros(len(cells), jnp.int32))

    def values(weights, cells):
        first = config.layout.parts
        x = np.asarray(cells)[:, None] / 2.0 - 1.0
        parts = {name: np.asarray(weights)[place] for name, place in first.items()}
        hidden = np.maximum(x @ parts[".layers[0].weight"].reshape(1, 5) + parts[".layers[0].bias"], 0.0)
        return hidden @ parts[".layers[1].weight"].reshape(5, 2) + parts[".layers[1].bias"]

    cells, after, actions, gains = [1.0, 2.0, 3.0], [2.0, 3.0, 2.0], np.array([1, 0, 1]), np.array([0.5, -1.0, 2.0])
    later = values(by_hand(config.layout, weights, draws[2]), after)
    best = values(by_hand(config.layout, weights, draws[1]), after).argmax(axis=1)
    wanted = gains + 0.9 * later[np.arange(3), best]

    def loss(weights):
        chosen = values(by_hand(config.layout, weights, draws[0]), cells)[np.arange(3), actions]
        return np.mean((chosen - wanted) ** 2)

    sample = Sample(
        observed=seen(cells),
        action=jnp.asarray(actions)[:, None],
        n_step_return=jnp.asarray(gains, jnp.float32),
        bootstrap_discount=jnp.full(3, 0.9, jnp.float32),
        following=seen(after),
        place=jnp.zeros(3, jnp.int32),
        importance=jnp.ones(3, jnp.float32),
        steps=jnp.ones(3, jnp.int32),
    )
    learning = DQNUpdateState(jnp.asarray(weights), jnp.asarray(weights), first_moments("sgd", weights), None, None)
    result, _ = update(config, hyperparameters, learning, sample, jnp.asarray(later, jnp.float32), jnp.asarray(draws))
    moved = np.asarray(result.weights) - weights
    slope = np.zeros(2 * size)
    for k in range(2 * size):
        step = np.zeros(2 * size)
        step[k] = 1e-4
        slope[k] = (loss(weights.astype(float) + step) - loss(weights.astype(float) - step)) / 2e-4
    scale = -moved[np.abs(slope) > 1e-3] / slope[np.abs(slope) > 1e-3]
    assert np.allclose(scale, scale[0], rtol=2e-2)  # down the slope, by one rate
    assert scale[0] > 0.0
    assert np.abs(slope[size:]).max() > 1e-3


@pytest.mark.slow
@pytest.mark.parametrize("more", [{}, {"quantiles": 4}, {"dueling": True}, {"prioritised": True}], ids=str)
def test_both_lanes_learn_the_same_and_a_policy_acts_without_noise(more, tmp_path):
    agent = jm.DQN(
        network=SMALL,
        learning_rate=1e-3,
        importance_exponent=0.5,
        noisy=True,
        replay_start=40,
        replay_size=400,
        learn_every=2,
        minibatch=8,
        **more,
    )
    runs = [
        jm.train(Corridor(), agent, steps=200, copies=2, seed=3, folder=None, lane=lane)
        for lane in ("plain", "compiled")
    ]
    assert np.allclose(*(run.policy.learner.weights for run in runs), atol=2e-4)
    policy = runs[1].policy
    assert len(policy.learner.weights) == 2 * policy.config.layout.size
    assert len({policy.choose({"cell": 2.0}, seed=seed) for seed in range(9)}) == 1
    part = jm.train(Corridor(), agent, steps=100, copies=2, seed=3, folder=tmp_path, lane="compiled")
    assert jm.resume(part.path, steps=100).policy.learner.weights.tolist() == policy.learner.weights.tolist()


def test_what_noise_does_not_go_with_is_told():
    for settings in ({"network": jm.Recurrent(4)}, {"frozen": ("layers[0]",)}, {"conservative": 1.0}):
        with pytest.raises(SettingError, match="`noisy` of `DQN` goes with neither"):
            jm.train(Corridor(), jm.DQN(noisy=True, **settings), steps=50, copies=1, folder=None)
