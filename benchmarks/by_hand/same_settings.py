"""Equal settings, equal learning: loops as people write them without a library, beside the library with the same
settings.

``python benchmarks/by_hand/same_settings.py`` trains both on the mast (choices) and the buoy (a number) of the proving
ground, several seeds each, and prints the mean return over each tenth of the run. ``--methods DQN,SAC``, ``--seeds 5``
and ``--json FILE`` as elsewhere. A permutation test over seeds says whether the returns of the last half differ.
``--biases zero`` begins the networks by hand with biases of 0, as the library did before: then Q-learning of the mast
fails by hand, too.
"""

import argparse
import itertools
import json
import math
import sys
import time
from functools import partial
from pathlib import Path

import numpy as np
from scipy import stats

sys.path[:0] = [str(Path(__file__).parents[1] / "proving"), str(Path(__file__).parents[1])]
import choosing  # noqa: E402

import jokulmist as jm  # noqa: E402
from by_hand.ppo_by_hand import forward  # noqa: E402
from by_hand.sac_by_hand import sampled, values  # noqa: E402
from jokulmist.lanes.compiled.backend import start_backend  # noqa: E402

start_backend()
import jax  # noqa: E402
import jax.numpy as jnp  # noqa: E402
import optax  # noqa: E402

TENTHS = 10


class NumpyMast:
    """The mast, one copy, in NumPy."""

    width, count, limit = 4, 2, 400

    def __init__(self, chance):
        self.chance = chance

    def begin(self):
        self.x, self.t = self.chance.uniform(-0.04, 0.04, 4), 0
        return self.x.astype(np.float32)

    def step(self, action):
        _, drifting, lean, leaning = self.x
        force = 4.0 * (2 * action - 1)
        turning = (9.8 * math.sin(lean) - force * math.cos(lean)) / 1.3
        self.x = self.x + 0.03 * np.array([drifting, force, leaning, turning])
        self.t += 1
        ended = abs(self.x[2]) > 0.25 or abs(self.x[0]) > 4.0
        return self.x.astype(np.float32), 1.0, ended, self.t >= self.limit and not ended


class NumpyBuoy:
    """The buoy, one copy, in NumPy; actions in [-1, 1]."""

    width, numbers, limit = 3, 1, 200

    def __init__(self, chance):
        self.chance = chance

    def begin(self):
        self.angle, self.speed, self.t = self.chance.uniform(-math.pi, math.pi), self.chance.uniform(-1.0, 1.0), 0
        return self.seen()

    def seen(self):
        return np.array([self.speed, math.cos(self.angle), math.sin(self.angle)], np.float32)

    def step(self, action):
        u = float(np.clip(action, -1.0, 1.0))
        reward = -(self.angle**2 + 0.08 * self.speed**2) - 0.02 * u * u
        pull = 12.0 * math.sin(self.angle) + 4.5 * u - 0.05 * self.speed
        self.speed = min(max(self.speed + 0.05 * pull, -10.0), 10.0)
        angle = self.angle + 0.05 * self.speed
        self.angle, self.t = math.atan2(math.sin(angle), math.cos(angle)), self.t + 1
        return self.seen(), reward, False, self.t >= self.limit


def network(chance, sizes, biases=True):
    """Weights and biases uniform within one over the root of the inputs; the last biases 0."""
    layers = []
    for k, (inputs, outputs) in enumerate(itertools.pairwise(sizes)):
        reach = 1.0 / math.sqrt(inputs)
        subset = biases and k < len(sizes) - 2
        bias = chance.uniform(-reach, reach, outputs) if subset else np.zeros(outputs)
        layers.append(
            (jnp.asarray(chance.uniform(-reach, reach, (inputs, outputs)), jnp.float32), jnp.asarray(bias, jnp.float32))
        )
    return layers


class Memory:
    """The last transitions, in arrays."""

    def __init__(self, size, width, actions):
        self.seen, self.after = np.zeros((size, width), np.float32), np.zeros((size, width), np.float32)
        self.action = np.zeros((size, actions), np.float32)
        self.reward, self.ended = np.zeros(size, np.float32), np.zeros(size, np.float32)
        self.size, self.count = size, 0

    def add(self, seen, action, reward, ended, after):
        k = self.count % self.size
        self.seen[k], self.action[k], self.reward[k], self.ended[k], self.after[k] = seen, action, reward, ended, after
        self.count += 1

    def some(self, chance, rows):
        i = chance.integers(0, min(self.count, self.size), rows)
        return self.seen[i], self.action[i], self.reward[i], self.ended[i], self.after[i]


def dqn(steps, seed, biases, rate=5e-4, discount=0.98, minibatch=128, every=4, target_every=250, start=1_000):
    chance = np.random.default_rng(seed)
    env, memory = NumpyMast(chance), Memory(100_000, 4, 1)
    params = target = network(chance, (4, 128, 128, 2), biases)
    adam = optax.chain(optax.clip_by_global_norm(10.0), optax.adam(rate))
    moments, choose = adam.init(params), jax.jit(lambda p, x: jnp.argmax(forward(p, x)))

    @jax.jit
    def update(params, target, moments, seen, action, reward, ended, after):
        wanted = reward + discount * (1.0 - ended) * jnp.max(forward(target, after), axis=1)

        def loss(params):
            values = jnp.take_along_axis(forward(params, seen), action.astype(int), axis=1)[:, 0]
            return jnp.mean(optax.huber_loss(values, wanted))

        moved, moments = adam.update(jax.grad(loss)(params), moments)
        return optax.apply_updates(params, moved), moments

    seen, total, returns = env.begin(), 0.0, []
    for done in range(1, steps + 1):
        exploration = 1.0 if done <= start else max(0.05, 1.0 - 0.95 * done / (0.1 * steps))
        action = int(chance.integers(2)) if chance.random() < exploration else int(choose(params, seen))
        after, reward, ended, cut = env.step(action)
        memory.add(seen, action, reward, ended, after)
        total, seen = total + reward, after
        if ended or cut:
            returns.append((done, total))
            seen, total = env.begin(), 0.0
        if done >= start and done % every == 0:
            params, moments = update(params, target, moments, *memory.some(chance, minibatch))
        if done % target_every == 0:
            target = params
    return returns


def critic_method(
    kind, steps, seed, biases, rate=1e-3, discount=0.98, minibatch=128, share=0.005, start=1_000, noise=0.1
):
    """DDPG, TD3 or SAC: one update a decision."""
    chance, key = np.random.default_rng(seed), jax.random.key(seed)
    env, memory = NumpyBuoy(chance), Memory(100_000, 3, 1)
    soft, twins = kind == "SAC", 1 if kind == "DDPG" else 2
    policy = network(chance, (3, 64, 64, 1 + soft), biases)
    critics = [network(chance, (4, 64, 64, 1), biases) for _ in range(twins)]
    policy_target, critics_target, heat, adam = policy, critics, jnp.log(0.1), optax.adam(rate)
    moments = tuple(adam.init(part) for part in (policy, critics, heat))
    mean_of = jax.jit(lambda p, x: jnp.tanh(forward(p, x)))
    draw = jax.jit(lambda p, x, k: sampled(p, x[None], k)[0][0])

    @partial(jax.jit, static_argnames="moves")
    def update(policy, critics, policy_target, critics_target, heat, moments, key, rows, moves):
        seen, action, reward, ended, after = rows
        first, second = jax.random.split(key)
        temperature = jnp.exp(heat)
        if soft:
            next_value, log_p = sampled(policy, after, first)
            later = jnp.min(values(critics_target, after, next_value), axis=0) - temperature * log_p
        else:
            next_value = jnp.tanh(forward(policy_target, after))
            if kind == "TD3":
                next_value = jnp.clip(
                    next_value + jnp.clip(0.1 * jax.random.normal(first, next_value.shape), -0.25, 0.25), -1.0, 1.0
                )
            later = jnp.min(values(critics_target, after, next_value), axis=0)
        wanted = reward + discount * (1.0 - ended) * later

        def critics_loss(critics):
            return jnp.sum(jnp.mean(0.5 * (values(critics, seen, action) - wanted) ** 2, axis=1))

        moved, likelihood = adam.update(jax.grad(critics_loss)(critics), moments[1])
        critics, acted, heated = optax.apply_updates(critics, moved), moments[0], moments[2]
        if moves:

            def policy_loss(policy):
                if not soft:
                    return -jnp.mean(values(critics[:1], seen, jnp.tanh(forward(policy, seen)))), 0.0
                current, log_p = sampled(policy, seen, second)
                return jnp.mean(temperature * log_p - jnp.min(values(critics, seen, current), axis=0)), -jnp.mean(log_p)

            gradient, entropy = jax.grad(policy_loss, has_aux=True)(policy)
            moved, acted = adam.update(gradient, moments[0])
            policy = optax.apply_updates(policy, moved)
            if soft:
                moved, heated = adam.update(temperature * (entropy + 1.0), moments[2])
                heat = heat + moved
            policy_target, critics_target = jax.tree.map(
                lambda old, new: old + share * (new - old), (policy_target, critics_target), (policy, critics)
            )
        return policy, critics, policy_target, critics_target, heat, (acted, likelihood, heated)

    seen, total, returns = env.begin(), 0.0, []
    for done in range(1, steps + 1):
        key, draw_key = jax.random.split(key)
        if done <= start:
            action = chance.uniform(-1.0, 1.0, 1)
        elif soft:
            action = np.asarray(draw(policy, seen, draw_key))
        else:
            action = np.clip(np.asarray(mean_of(policy, seen)) + noise * chance.standard_normal(1), -1.0, 1.0)
        after, reward, ended, cut = env.step(action[0])
        memory.add(seen, action, reward, ended, after)
        total, seen = total + reward, after
        if ended or cut:
            returns.append((done, total))
            seen, total = env.begin(), 0.0
        if done >= start:
            policy, critics, policy_target, critics_target, heat, moments = update(
                policy,
                critics,
                policy_target,
                critics_target,
                heat,
                moments,
                draw_key,
                memory.some(chance, minibatch),
                moves=kind != "TD3" or done % 2 == 0,
            )
    return returns


def on_policy(kind, steps, seed, biases, rate=1e-3, discount=0.99, copies=8, horizon=128, epochs=10, minibatch=256):
    """PPO, ActorCritic or Reinforce on the mast; Reinforce learns from whole episodes."""
    horizon = {"PPO": horizon, "ActorCritic": 8, "Reinforce": 64}[kind]
    chance, key = np.random.default_rng(seed), jax.random.key(seed)
    params = {
        "policy": network(chance, (4, 64, 64, 2), biases),
        "value": network(chance, (4, 64, 64, 1), biases),
    }
    adam = optax.chain(optax.clip_by_global_norm(0.5), optax.adam(rate))
    moments, envs = adam.init(params), [NumpyMast(chance) for _ in range(copies)]
    choose = jax.jit(lambda p, x, k: jax.random.categorical(k, forward(p["policy"], x)))
    judge = jax.jit(
        lambda p, x, a: (
            jnp.take_along_axis(jax.nn.log_softmax(forward(p["policy"], x)), a[:, None], axis=1)[:, 0],
            forward(p["value"], x)[:, 0],
        )
    )
    value_of = jax.jit(lambda p, x: forward(p["value"], x)[:, 0])

    @jax.jit
    def update(params, moments, seen, action, old, advantage, target, weight):
        def loss(params):
            logs = jax.nn.log_softmax(forward(params["policy"], seen))
            log_p = jnp.take_along_axis(logs, action[:, None], axis=1)[:, 0]
            if kind == "PPO":
                ratio = jnp.exp(log_p - old)
                gain = jnp.minimum(ratio * advantage, jnp.clip(ratio, 0.8, 1.2) * advantage)
            else:
                gain = log_p * advantage
            error = 0.5 * (forward(params["value"], seen)[:, 0] - target) ** 2
            return jnp.sum(weight * (0.5 * error - gain)) / jnp.maximum(jnp.sum(weight), 1.0)

        moved, moments = adam.update(jax.grad(loss)(params), moments)
        return optax.apply_updates(params, moved), moments

    seen, totals, returns, done = np.stack([env.begin() for env in envs]), np.zeros(copies), [], 0
    waiting = [[] for _ in envs]  # the steps of each open episode, for Reinforce
    ready = []
    while done < steps:
        rows = []
        for _ in range(horizon):
            key, draw_key = jax.random.split(key)
            action = np.asarray(choose(params, seen, draw_key))
            after, facts = np.empty_like(seen), []
            following = np.empty_like(seen)
            for k, env in enumerate(envs):
                after[k], reward, ended, cut = env.step(int(action[k]))
                totals[k] += reward
                facts.append((reward, ended, ended or cut))
                following[k] = after[k]
                waiting[k].append((seen[k].copy(), int(action[k]), reward))
                if ended or cut:
                    returns.append((done + k + 1, totals[k]))
                    totals[k], following[k] = 0.0, env.begin()
                    if kind == "Reinforce":
                        next_value = 0.0 if ended else float(value_of(params, after[k : k + 1])[0])
                        for row in reversed(waiting[k]):
                            next_value = row[2] + discount * next_value
                            ready.append((row[0], row[1], next_value))
                    waiting[k] = []
            rows.append((seen, action, np.array(facts, np.float32), after))
            seen = following
            done += copies
        if kind == "Reinforce":
            batch, ready = ready[: 2 * horizon * copies], ready[2 * horizon * copies :]
            if not batch:
                continue
            size = 2 * horizon * copies  # filled up, so that one size is compiled
            states, actions = np.zeros((size, 4), np.float32), np.zeros(size, np.int32)
            targets, weight = np.zeros(size, np.float32), np.zeros(size, np.float32)
            for k, (state, act, amount) in enumerate(batch):
                states[k], actions[k], targets[k], weight[k] = state, act, amount, 1.0
            gains = targets - np.asarray(value_of(params, states))
            used = gains[: len(batch)]
            gains = (gains - used.mean()) / max(used.std(), 1e-6)
            params, moments = update(params, moments, states, actions, np.zeros(size), gains, targets, weight)
            continue
        states, actions = np.stack([r[0] for r in rows]), np.stack([r[1] for r in rows])
        facts, after = np.stack([r[2] for r in rows]), np.stack([r[3] for r in rows])
        flat = states.reshape(-1, 4)
        old, values = (np.asarray(part) for part in judge(params, flat, actions.reshape(-1)))
        values = values.reshape(horizon, copies)
        next_value = np.asarray(value_of(params, after.reshape(-1, 4))).reshape(horizon, copies)
        gain, gains = np.zeros(copies), np.zeros((horizon, copies))
        for t in reversed(range(horizon)):
            error = facts[t, :, 0] + discount * (1.0 - facts[t, :, 1]) * next_value[t] - values[t]
            gain = error + discount * 0.95 * (1.0 - facts[t, :, 2]) * gain
            gains[t] = gain
        targets, gains = (gains + values).reshape(-1).astype(np.float32), gains.reshape(-1).astype(np.float32)
        ones = np.ones(len(gains), np.float32)
        if kind == "ActorCritic":
            params, moments = update(params, moments, flat, actions.reshape(-1), old, gains, targets, ones)
            continue
        gains = (gains - gains.mean()) / (gains.std() + 1e-8)
        for _ in range(epochs):
            for part in np.split(chance.permutation(len(gains)), len(gains) // minibatch):
                params, moments = update(
                    params,
                    moments,
                    flat[part],
                    actions.reshape(-1)[part],
                    old[part],
                    gains[part],
                    targets[part],
                    ones[part],
                )
    return returns


PLAIN = {"scaling": "none", "rewards_scaled": False}
SMALL = jm.Dense(64, 64, start="uniform")
CRITIC = {
    **PLAIN,
    "network": SMALL,
    "learning_rate": 1e-3,
    "policy_rate": 1e-3,
    "discount": 0.98,
    "minibatch": 128,
    "learn_every": 1,
    "replay_start": 1_000,
    "target_share": 0.005,
    "replay_size": 100_000,
}
NOISE = {"exploration": 0.1, "noise": "gaussian"}
POLICY = {
    **PLAIN,
    "network": SMALL,
    "learning_rate": 1e-3,
    "discount": 0.99,
    "entropy_bonus": 0.0,
    "gradient_clip": 0.5,
    "value_first": 0,
}
METHODS = {
    # method: decisions, environment, the loop by hand, the library, copies
    "DQN": (
        100_000,
        choosing.Mast,
        dqn,
        jm.DQN(
            **PLAIN,
            network=jm.Dense(128, 128, start="uniform"),
            learning_rate=5e-4,
            discount=0.98,
            minibatch=128,
            learn_every=4,
            target_every=250,
            target_share=1.0,
            exploration=jm.linear(1.0, 0.05, over=0.1),
            replay_size=100_000,
            n_step=1,
            double=False,
        ),
        1,
    ),
    "SAC": (
        20_000,
        choosing.Buoy,
        partial(critic_method, "SAC"),
        jm.SAC(**CRITIC, temperature=0.1, entropy_target=-1.0),
        1,
    ),
    "TD3": (
        20_000,
        choosing.Buoy,
        partial(critic_method, "TD3"),
        jm.TD3(**CRITIC, **NOISE, target_noise=0.1, target_noise_clip=0.25, policy_every=2),
        1,
    ),
    "DDPG": (20_000, choosing.Buoy, partial(critic_method, "DDPG"), jm.DDPG(**CRITIC, **NOISE), 1),
    "PPO": (
        100_000,
        choosing.Mast,
        partial(on_policy, "PPO"),
        jm.PPO(**POLICY, horizon=128, epochs=10, minibatch=256, trace_decay=0.95, clip=0.2),
        8,
    ),
    "ActorCritic": (
        200_000,
        choosing.Mast,
        partial(on_policy, "ActorCritic"),
        jm.ActorCritic(**POLICY, horizon=8, trace_decay=0.95, advantages_normalised=False),
        8,
    ),
    "Reinforce": (
        200_000,
        choosing.Mast,
        partial(on_policy, "Reinforce"),
        jm.Reinforce(**POLICY, horizon=64, longest=1_000),
        8,
    ),
}


def curve(returns, steps):
    """The mean return over each tenth of the run; the one before where none closed."""
    when, subject = (np.array(part, float) for part in zip(*returns, strict=True))
    result = []
    for k in range(TENTHS):
        place = subject[(when > k * steps / TENTHS) & (when <= (k + 1) * steps / TENTHS)]
        result.append(float(place.mean()) if len(place) else (result[-1] if result else float(subject[0])))
    return result


def by_library(method, seed):
    steps, environment, _, agent, copies = METHODS[method]
    episodes = jm.train(environment(), agent, steps=steps, seed=seed, copies=copies, folder=None).episodes
    return curve(list(zip(episodes["decisions"], episodes["return"], strict=True)), steps)


def main():
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--methods", default=",".join(METHODS))
    parser.add_argument("--seeds", type=int, default=5)
    parser.add_argument("--biases", choices=["uniform", "zero"], default="uniform")
    parser.add_argument("--json")
    options = parser.parse_args()
    result = {}
    for method in options.methods.split(","):
        steps, environment, hand = METHODS[method][:3]
        curves = {}
        for player in ("by hand", "library"):
            rows = []
            for seed in range(options.seeds):
                began = time.perf_counter()
                if player == "library":
                    rows.append(by_library(method, seed))
                else:
                    rows.append(curve(hand(steps, seed, options.biases == "uniform"), steps))
                print(f"  {player}, seed {seed}: {time.perf_counter() - began:.0f} s", file=sys.stderr)
            curves[player] = np.array(rows)
        halves = [rows[:, TENTHS // 2 :].mean(axis=1) for rows in curves.values()]
        test = stats.permutation_test(halves, lambda a, b: a.mean() - b.mean(), n_resamples=9_999)
        print(f"\n{method} on the {environment.__name__.lower()}, {steps:,} decisions, mean return by tenth")
        for player, rows in curves.items():
            print(f"  {player:8}", *(f"{v:7.0f}" for v in rows.mean(axis=0)))
        output = ", ".join(
            f"{player} {h.mean():.0f} ({h.min():.0f} to {h.max():.0f})"
            for player, h in zip(curves, halves, strict=True)
        )
        print(f"  last half: {output}; p = {test.pvalue:.2f}")
        result[method] = {**{player: rows.tolist() for player, rows in curves.items()}, "p": float(test.pvalue)}
    if options.json:
        Path(options.json).write_text(json.dumps(result, indent=1))


if __name__ == "__main__":
    main()
