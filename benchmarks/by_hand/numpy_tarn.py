"""Q-learning on the tarn as people write it without a library: one NumPy environment class, one loop, one copy.

The same season, dynamics, bins and settings as `jokulmist.gallery.Tarn` with `QLearning(bins=20, discount=1.0)`.
"""

import csv
from importlib.resources import files

import numpy as np


class NumpyTarn:
    """The tarn with `reset` and `step` methods over NumPy."""

    def __init__(self, seed):
        self.chance = np.random.default_rng(seed)
        with (files("jokulmist.gallery") / "season.csv").open() as stream:
            rows = list(csv.DictReader(stream))
        self.price = np.array([float(row["price"]) for row in rows])
        self.melt = 1.6 * np.array([float(row["melt"]) for row in rows])
        self.rate = np.array([0.0, 2.0, 4.0])
        self.capacity, self.hours = 25.0, 96

    def reset(self):
        self.level = self.chance.uniform(0.25, 0.75) * self.capacity
        self.hour = 0
        self.energy = 0.0
        return np.array([self.level, self.hour])

    def step(self, action):
        released = min(self.rate[action], self.level)
        level = self.level - released + self.chance.poisson(self.melt[self.hour])
        spilled = max(level - self.capacity, 0.0)
        sales = self.price[self.hour] * released
        reward = sales - 2.0 * spilled
        self.level = level - spilled
        self.hour += 1
        self.energy += 0.9 * released
        done = spilled > 8.0 or self.hour >= self.hours
        return np.array([self.level, self.hour]), reward, done


def train(steps, seed=0, bins=20):
    """Train for so many decisions; returns the returns of the episodes and the table."""
    env = NumpyTarn(seed)
    chance = np.random.default_rng(seed + 1)
    table = np.zeros((bins, env.hours + 1, 3))
    edges = np.linspace(0.0, env.capacity, bins + 1)[1:-1]

    def cell(seen):
        return int(np.digitize(seen[0], edges)), int(seen[1])

    returns, total = [], 0.0
    place = cell(env.reset())
    for step in range(steps):
        exploration = max(0.05, 1.0 - 0.95 * step / (0.5 * steps))
        if chance.random() < exploration:
            action = int(chance.integers(3))
        else:
            action = int(np.argmax(table[place]))
        seen, reward, done = env.step(action)
        following = cell(seen)
        target = reward if done else reward + np.max(table[following])
        table[place][action] += 0.1 * (target - table[place][action])
        total += reward
        place = following
        if done:
            returns.append(total)
            total = 0.0
            place = cell(env.reset())
    return np.array(returns), table
