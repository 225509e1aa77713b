"""PPO as people write it without a library: NumPy environments in a list, one jitted choice a step, one jitted update.

The same networks, copies and settings as `jm.PPO()`; numbers are scaled by their bounds, rewards are left as they are.
"""

import itertools
from functools import partial

import jax
import jax.numpy as jnp
import numpy as np
import optax


def network(chance, sizes):
    layers = []
    for k, (inputs, outputs) in enumerate(itertools.pairwise(sizes)):
        scale = 0.01 if k == len(sizes) - 2 else 1.0
        q, _ = np.linalg.qr(chance.standard_normal((max(inputs, outputs), min(inputs, outputs))))
        weight = scale * (q if inputs >= outputs else q.T)
        layers.append((jnp.asarray(weight, jnp.float32), jnp.zeros(outputs)))
    return layers


def with_eyes(chance, image, outputs):
    """Two convolutions, a layer of 128, the outputs."""
    filters, depth, side = [], image[2], image[0]
    for count, size, stride in ((16, 4, 4), (32, 2, 2)):
        (flat, bias), *_ = network(chance, (size * size * depth, count, 1))
        filters.append((flat.reshape(size, size, depth, count), bias))
        depth, side = count, (side - size) // stride + 1
    return filters + network(chance, (side * side * depth, 128, outputs))


def made(chance, env, outputs):
    """A network for what an environment shows."""
    if hasattr(env, "image"):
        return with_eyes(chance, env.image, outputs)
    return network(chance, (getattr(env, "numbers", 4), 64, 64, outputs))


def forward(layers, x):
    if x.ndim == 4:
        while layers[0][0].ndim == 4:
            (weight, bias), *layers = layers
            strides = weight.shape[:2]
            x = jax.lax.conv_general_dilated(x, weight, strides, "VALID", dimension_numbers=("NHWC", "HWIO", "NHWC"))
            x = jax.nn.relu(x + bias)
        x = x.reshape(len(x), -1)
    for weight, bias in layers[:-1]:
        x = jax.nn.relu(x @ weight + bias)
    weight, bias = layers[-1]
    return x @ weight + bias


@jax.jit
def choose(params, seen, key):
    logits = forward(params["policy"], seen)
    action = jax.random.categorical(key, logits)
    log_probability = jnp.take_along_axis(jax.nn.log_softmax(logits), action[:, None], axis=1)[:, 0]
    return action, log_probability, forward(params["value"], seen)[:, 0]


@jax.jit
def value_of(params, seen):
    return forward(params["value"], seen)[:, 0]


def make_update(optimiser, clip=0.2):
    @partial(jax.jit, donate_argnums=(0, 1))
    def update(params, moments, rate, seen, action, old, advantage, target):
        def loss(params):
            logs = jax.nn.log_softmax(forward(params["policy"], seen))
            ratio = jnp.exp(jnp.take_along_axis(logs, action[:, None], axis=1)[:, 0] - old)
            policy = -jnp.mean(jnp.minimum(ratio * advantage, jnp.clip(ratio, 1 - clip, 1 + clip) * advantage))
            value = 0.5 * jnp.mean((forward(params["value"], seen)[:, 0] - target) ** 2)
            return policy + 0.5 * value

        gradients = jax.grad(loss)(params)
        steps, moments = optimiser.update(gradients, moments)
        return optax.apply_updates(params, jax.tree.map(lambda s: -rate * s, steps)), moments

    return update


def train(ferry, steps, copies=8, seed=0, horizon=64, epochs=10, minibatch=256, discount=0.99, decay=0.95, rate=1e-3):
    """Train for so many decisions; returns the returns of the episodes and the decisions at which they closed."""
    chance = np.random.default_rng(seed)
    params = {"policy": made(chance, ferry, getattr(ferry, "choices", 3)), "value": made(chance, ferry, 1)}
    optimiser = optax.chain(optax.clip_by_global_norm(0.5), optax.scale_by_adam())
    moments, update = optimiser.init(params), make_update(optimiser)
    key = jax.random.key(seed)
    envs = [ferry(seed * 1000 + k) for k in range(copies)]
    seen = np.stack([env.reset() for env in envs])
    totals, returns, when = np.zeros(copies), [], []
    size = horizon * copies
    parts = max(1, round(size / minibatch))
    done = 0
    while done < steps:
        rows = np.zeros((horizon, *seen.shape), np.float32)
        actions = np.zeros((horizon, copies), np.int32)
        logs, values, rewards, after = (np.zeros((horizon, copies), np.float32) for _ in range(4))
        closed = np.zeros((horizon, copies), bool)
        for t in range(horizon):
            key, draw_key = jax.random.split(key)
            action, log, value = choose(params, seen, draw_key)
            action = np.asarray(action)
            rows[t], actions[t], logs[t], values[t] = seen, action, log, value
            following = np.empty_like(seen)
            for k, env in enumerate(envs):
                following[k], rewards[t, k], ended, cut = env.step(int(action[k]))
                totals[k] += rewards[t, k]
                if cut:
                    after[t, k] = float(value_of(params, following[k : k + 1])[0])
                if ended or cut:
                    closed[t, k] = True
                    returns.append(totals[k])
                    when.append(done + t * copies)
                    totals[k] = 0.0
                    following[k] = env.reset()
            seen = following
        values_next = np.concatenate([values[1:], np.asarray(value_of(params, seen))[None]])
        gain, advantages = np.zeros(copies, np.float32), np.zeros_like(rewards)
        for t in reversed(range(horizon)):
            next_value = np.where(closed[t], after[t], values_next[t])
            gain = rewards[t] + discount * next_value - values[t] + discount * decay * np.where(closed[t], 0.0, gain)
            advantages[t] = gain
        targets = advantages + values
        spread = (advantages - advantages.mean()) / (advantages.std() + 1e-8)
        batch = [a.reshape(size, *a.shape[2:]) for a in (rows, actions, logs, spread, targets)]
        current = rate * (1.0 - done / steps)
        for _ in range(epochs):
            order = chance.permutation(size)
            for part in np.split(order[: parts * (size // parts)], parts):
                params, moments = update(params, moments, current, *[a[part] for a in batch])
        done += size
    return np.array(returns), np.array(when)
