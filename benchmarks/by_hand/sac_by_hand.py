"""SAC as people write it without a library: a NumPy environment, a NumPy memory, one jitted choice, one jitted update.

The same networks, copies and settings as `jm.SAC(minibatch=128)`; numbers are scaled by their bounds.
"""

from functools import partial

import jax
import jax.numpy as jnp
import numpy as np
import optax

from by_hand.ppo_by_hand import forward, network

WIDTH = 1  # numbers of the action


def sampled(policy, seen, key):
    outputs = forward(policy, seen)
    mean, log_spread = outputs[:, :WIDTH], jnp.clip(outputs[:, WIDTH:], -5.0, 1.0)
    u = mean + jnp.exp(log_spread) * jax.random.normal(key, mean.shape)
    log_p = jax.scipy.stats.norm.logpdf(u, mean, jnp.exp(log_spread)) - 2.0 * (
        jnp.log(2.0) - u - jax.nn.softplus(-2.0 * u)
    )
    return jnp.tanh(u), jnp.sum(log_p, axis=1)


@jax.jit
def choose(policy, seen, key):
    key, this = jax.random.split(key)
    return sampled(policy, seen, this)[0], key


def values(critics, seen, action):
    both = jnp.concatenate([seen, action], axis=1)
    return jnp.stack([forward(critic, both)[:, 0] for critic in critics])


def make_update(adam, discount, share, entropy_target):
    @partial(jax.jit, donate_argnums=(0, 1, 2, 3, 4))
    def update(policy, critics, target, heat, moments, key, rate, seen, action, reward, ended, following):
        key, first, second = jax.random.split(key, 3)
        temperature = jnp.exp(heat)
        next_value, log_p = sampled(policy, following, first)
        later = jnp.min(values(target, following, next_value), axis=0) - temperature * log_p
        wanted = reward + discount * (1.0 - ended) * later

        def critic_loss(critics):
            return jnp.sum(jnp.mean(0.5 * (values(critics, seen, action) - wanted) ** 2, axis=1))

        def policy_loss(policy):
            current, log_p = sampled(policy, seen, second)
            return jnp.mean(temperature * log_p - jnp.min(values(critics, seen, current), axis=0)), -jnp.mean(log_p)

        def stepped(part, gradients, moments):
            steps, moments = adam.update(gradients, moments)
            return optax.apply_updates(part, jax.tree.map(lambda s: -rate * s, steps)), moments

        critics, likelihood = stepped(critics, jax.grad(critic_loss)(critics), moments[1])
        gradients, entropy = jax.grad(policy_loss, has_aux=True)(policy)
        policy, moved = stepped(policy, gradients, moments[0])
        heat, warmed = stepped(heat, temperature * (entropy - entropy_target), moments[2])
        target = jax.tree.map(lambda t, c: t + share * (c - t), target, critics)
        return policy, critics, target, heat, (moved, likelihood, warmed), key

    return update


def train(
    winch,
    steps,
    copies=8,
    seed=0,
    size=100_000,
    start=1_000,
    minibatch=128,
    learn_every=1,
    discount=0.99,
    rate=1e-3,
):
    """Train for so many decisions; returns the returns of the episodes and the decisions at which they closed."""
    chance, key = np.random.default_rng(seed), jax.random.key(seed)
    numbers = getattr(winch, "numbers", 4)
    policy = network(chance, (numbers, 64, 64, 2 * WIDTH))
    critics = [network(chance, (numbers + WIDTH, 64, 64, 1)) for _ in range(2)]
    target = jax.tree.map(jnp.copy, critics)
    heat, adam = jnp.log(0.1), optax.scale_by_adam()
    moments = tuple(adam.init(part) for part in (policy, critics, heat))
    update = make_update(adam, discount, 0.005, -1.0 * WIDTH)
    rows, following = np.zeros((size, numbers), np.float32), np.zeros((size, numbers), np.float32)
    actions, rewards, ends = np.zeros((size, WIDTH), np.float32), np.zeros(size, np.float32), np.zeros(size, np.float32)
    envs = [winch(seed * 1000 + k) for k in range(copies)]
    seen = np.stack([env.reset() for env in envs])
    totals, returns, when = np.zeros(copies), [], []
    done = learned = 0
    while done < steps:
        if done < start:
            action = chance.uniform(-1.0, 1.0, (copies, WIDTH)).astype(np.float32)
        else:
            action, key = choose(policy, seen, key)
            action = np.asarray(action)
        for k, env in enumerate(envs):
            after, reward, ended, cut = env.step(action[k])
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
        while done >= start and learned < (done - start) // learn_every:
            learned += 1
            i = chance.integers(0, min(done, size), minibatch)
            policy, critics, target, heat, moments, key = update(
                policy,
                critics,
                target,
                heat,
                moments,
                key,
                rate * (1.0 - done / steps),
                rows[i],
                actions[i],
                rewards[i],
                ends[i],
                following[i],
            )
    return np.array(returns), np.array(when)
