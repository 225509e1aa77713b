"""The whole-number tarn solved exactly by dynamic programming: the same horizon, bins, bounds and objective."""

import numpy as np
from scipy import stats


def solve_tarn(env, discount=1.0, policy=None):
    """The best value from the first states (or that of a policy), and the greedy actions, shape ``(hours, levels)``.

    The melt of an hour is Poisson; 60 terms leave less than 1e-12 of it out.
    """
    cls = type(env)
    price, mean, rate = cls.price.array, env.melt * cls.mean_melt.array, cls.rate.array
    levels, melt = np.arange(env.capacity + 1), np.arange(60)
    flooding = dict(zip(("sales", "flooding"), env._description.weights, strict=True))["flooding"]
    value = np.zeros(env.capacity + 1)
    actions = np.zeros((env.hours, env.capacity + 1), int)
    for hour in range(env.hours - 1, -1, -1):
        chance = stats.poisson.pmf(melt, mean[hour])
        reward_pipeline = np.empty((len(levels), len(rate)))
        for action, most in enumerate(rate):
            released = np.minimum(most, levels)
            level = (levels - released)[:, None] + melt[None, :]
            spilled = np.maximum(level - env.capacity, 0)
            future = np.where(spilled > 8, 0.0, discount * value[level - spilled])
            reward_pipeline[:, action] = price[hour] * released + (flooding * spilled + future) @ chance
        actions[hour] = reward_pipeline.argmax(axis=1) if policy is None else policy[hour]
        value = reward_pipeline[levels, actions[hour]]
    first = np.arange(env.capacity // 4, 3 * env.capacity // 4 + 1)
    return value[first].mean(), actions
