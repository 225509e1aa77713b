"""A balance, a swing-up and an image of the proving ground as people write them without a library; the same dynamics
and rewards."""

import math

import numpy as np


class NumpyBarrel:
    """A barrel on a humped plank that is tilted step by step."""

    numbers, choices = 3, 3

    def __init__(self, seed):
        self.chance = np.random.default_rng(seed)

    def reset(self):
        self.place, self.rolling, self.tilt = self.chance.uniform(-0.1, 0.1, 3)
        self.steps = 0
        return self.seen()

    def seen(self):
        return np.array([self.place, self.rolling, self.tilt / 0.4], dtype=np.float32)

    def step(self, action):
        self.tilt = min(max(self.tilt + 0.06 * (action - 1.0), -0.4), 0.4)
        pull = 2.5 * self.place + 7.0 * math.sin(self.tilt)
        self.rolling += 0.05 * pull + self.chance.normal(0.0, 0.02)
        self.place += 0.05 * self.rolling
        self.steps += 1
        ended = abs(self.place) > 1.0
        return self.seen(), 1.0, ended, self.steps >= 500 and not ended


class NumpyDerrick:
    """A boom that is swung up by a winch that pulls harder one way than the other; the action lies in [-1, 1]."""

    numbers = 3

    def __init__(self, seed):
        self.chance = np.random.default_rng(seed)

    def reset(self):
        self.angle = math.pi + self.chance.uniform(-0.3, 0.3)
        self.turning = self.chance.uniform(-0.3, 0.3)
        self.steps = 0
        return self.seen()

    def seen(self):
        return np.array([self.turning / 9.0, math.cos(self.angle), math.sin(self.angle)], dtype=np.float32)

    def step(self, action):
        pull = 1.0 + 4.0 * float(action[0])
        speed = self.turning + 0.06 * (8.0 * math.sin(self.angle) + 0.8 * pull - 0.15 * self.turning)
        angle = self.angle + 0.06 * speed
        self.angle = math.atan2(math.sin(angle), math.cos(angle))
        self.turning = min(max(speed, -9.0), 9.0)
        self.steps += 1
        reward = 0.5 + 0.5 * math.cos(self.angle) - 0.01 * (0.1 * pull**2 + abs(self.turning))
        return self.seen(), reward, False, self.steps >= 200


class NumpyLantern:
    """Two lights in a picture of 12 by 12: go to the brighter one."""

    image, choices = (12, 12, 1), 3

    def __init__(self, seed):
        self.chance = np.random.default_rng(seed)
        self.rows = np.arange(12.0)

    def reset(self):
        self.boat, self.bright, self.dim = self.chance.uniform(0.0, 11.0, 3)
        self.steps = 0
        return self.seen()

    def seen(self):
        lights = 255.0 * np.exp(-0.5 * (self.rows - self.bright) ** 2)
        lights = np.maximum(lights, 110.0 * np.exp(-0.5 * (self.rows - self.dim) ** 2))
        boat = 200.0 * np.exp(-0.5 * (self.rows - self.boat) ** 2)
        picture = np.where((self.rows < 6.0)[:, None], lights[None, :], boat[None, :])
        return np.float32(picture.astype(np.uint8)[:, :, None] / 255.0)

    def step(self, action):
        self.boat = min(max(self.boat + (action - 1.0) + self.chance.normal(0.0, 0.1), 0.0), 11.0)
        self.steps += 1
        return self.seen(), -0.1 * abs(self.boat - self.bright), False, self.steps >= 30
