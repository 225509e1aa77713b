"""DQN as people write it without a library: a NumPy environment, a NumPy memory, one jitted choice, one jitted update.

The same network, copies and settings as `jm.DQN()`; numbers are scaled by their bounds, rewards are left as they are.
"""

from functools import partial

import jax
import jax.numpy as jnp
import numpy as np
import optax

from by_hand.ppo_by_hand import forward, network


@jax.jit
def choose(params, seen):
    return jnp.argmax(forward(params, seen), axis=-1)


def make_update(optimiser, discount):
    @partial(jax.jit, donate_argnums=(0, 2))
    def update(params, target, moments, rate, seen, action, reward, ended, following):
        wanted = reward + discount * (1.0 - ended) * jnp.max(forward(target, following), axis=1)

        def loss(params):
            values = jnp.take_along_axis(forward(params, seen), action[:, None], axis=1)[:, 0]
            return jnp.mean(optax.huber_loss(values, wanted))

        gradients = jax.grad(loss)(params)
        steps, moments = optimiser.update(gradients, moments)
        return optax.apply_updates(params, jax.tree.map(lambda s: -rate * s, steps)), moments

    return update


def train(
    ferry,
    steps,
    copies=8,
    seed=0,
    size=100_000,
    start=1_000,
    minibatch=64,
    learn_every=4,
    target_every=500,
    discount=0.99,
    rate=1e-3,
):
    """Train for so many decisions; returns the returns of the episodes and the decisions at which they closed."""
    chance = np.random.default_rng(seed)
    width, choices = getattr(ferry, "numbers", 4), getattr(ferry, "choices", 3)
    params = network(chance, (width, 64, 64, choices))
    target = jax.tree.map(jnp.copy, params)
    optimiser = optax.chain(optax.clip_by_global_norm(10.0), optax.scale_by_adam())
    moments, update = optimiser.init(params), make_update(optimiser, discount)
    rows, following = np.zeros((size, width), np.float32), np.zeros((size, width), np.float32)
    actions, rewards, ends = np.zeros(size, np.int32), np.zeros(size, np.float32), np.zeros(size, np.float32)
    envs = [ferry(seed * 1000 + k) for k in range(copies)]
    seen = np.stack([env.reset() for env in envs])
    totals, returns, when = np.zeros(copies), [], []
    done = learned = 0
    while done < steps:
        exploration = 1.0 if done < start else max(0.05, 1.0 - 0.95 * done / (0.3 * steps))
        tries = chance.random(copies) < exploration
        if tries.all():
            action = chance.integers(0, choices, copies)
        else:
            action = np.where(tries, chance.integers(0, choices, copies), np.asarray(choose(params, seen)))
        for k, env in enumerate(envs):
            after, reward, ended, cut = env.step(int(action[k]))
            position = done % size
            rows[position], following[position], actions[position], rewards[position], ends[position] = (
                seen[k],
                after,
                action[k],
                reward,
                ended,
            )
            done += 1
            totals[k] += reward
            if ended or cut:
                returns.append(totals[k])
                when.append(done)
                totals[k] = 0.0
                after = env.reset()
            seen[k] = after
            if done % target_every == 0:
                target = jax.tree.map(jnp.copy, params)
        while done >= start and learned < (done - start) // learn_every:
            learned += 1
            i = chance.integers(0, min(done, size), minibatch)
            params, moments = update(
                params,
                target,
                moments,
                rate * (1.0 - done / steps),
                rows[i],
                actions[i],
                rewards[i],
                ends[i],
                following[i],
            )
    return np.array(returns), np.array(when)
