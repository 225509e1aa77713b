"""The ferry as people write it without a library: one NumPy class with `reset` and `step`, the same dynamics and
rewards."""

import math

import numpy as np


class NumpyFerry:
    """One ferry; `step` gives the observation, the reward, and whether it ended or was cut."""

    def __init__(self, seed):
        self.chance = np.random.default_rng(seed)
        self.width, self.pull, self.tide, self.gusts, self.soft = 120.0, 0.30, 0.08, 0.02, 1.5
        self.drag, self.seconds, self.limit = 0.03, 2.0, 150

    def reset(self):
        self.position = self.speed = 0.0
        self.phase = self.chance.uniform(0.0, 2.0 * math.pi)
        self.steps = 0
        return self.seen()

    def seen(self):
        """Scaled to [-1, 1] by the bounds."""
        return np.array(
            [
                (self.position + 20.0) / 70.0 - 1.0,
                self.speed / 8.0,
                self.tide * math.sin(self.phase) / 0.3,
                self.tide * math.cos(self.phase) / 0.3,
            ],
            dtype=np.float32,
        )

    def step(self, action):
        winch = action - 1.0
        push = self.pull * winch + self.tide * math.sin(self.phase) + self.chance.normal(0.0, self.gusts)
        before = self.position
        self.speed = min(max(self.speed + self.seconds * (push - self.drag * self.speed), -8.0), 8.0)
        self.position = min(max(self.position + self.seconds * self.speed, -20.0), self.width)
        self.phase = (self.phase + 0.05) % (2.0 * math.pi)
        self.steps += 1
        arrived = self.position >= self.width
        reward = 0.06 * (self.position - before) - 0.05 - 0.02 * winch**2
        if arrived:
            reward += 12.0 * max(1.0 - self.speed / self.soft, -1.0)
        ended = arrived or self.position <= -20.0
        return self.seen(), reward, ended, self.steps >= self.limit and not ended


class SameFerry:
    """The same two calls around the library's class: its own methods, one after another, with NumPy's generator."""

    def __init__(self, seed):
        import jokulmist as jm

        self.env = jm.gallery.Ferry()
        self.chance = np.random.default_rng(seed)

    def reset(self):
        self.state = self.env.begin(self.chance)
        self.steps = 0
        return self.seen()

    def seen(self):
        state, env = self.state, self.env
        return np.array(
            [
                (state.position + 20.0) / 70.0 - 1.0,
                state.speed / 8.0,
                env.current(state) / 0.3,
                env.turning(state) / 0.3,
            ],
            dtype=np.float32,
        )

    def step(self, action):
        env, before = self.env, self.state
        after = self.state = env.advance(before, action, self.chance)
        self.steps += 1
        reward = 0.06 * env.sailing(before, after) - 0.05 * env.waiting(after)
        reward += -0.02 * env.pulling(action) + 12.0 * env.landing(after)
        ended = bool(env.moored(after)) or bool(env.crashed(after)) or bool(env.swept_away(after))
        env.final_speed(after)
        return self.seen(), float(reward), ended, self.steps >= 150 and not ended
