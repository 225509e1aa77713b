"""The winch as people write it without a library: one NumPy class with `reset` and `step`, the same dynamics and
costs."""

import numpy as np

BOUNDS = np.array([6.0, 5.0, 1.0, 1.5])


class NumpyWinch:
    """One winch; `step` gives the observation, the reward, and whether it ended or was cut."""

    def __init__(self, seed):
        self.chance = np.random.default_rng(seed)
        self.turn = np.array(
            [[1.0, 0.2, 0.0, 0.0], [0.0, 0.94, 0.0, 0.0], [0.0, 0.0, 0.965, 0.19], [0.0, 0.0, -0.35, 0.93]]
        )
        self.push = np.array([0.04, 0.40, 0.012, 0.12])
        self.gusts = np.array([0.0, 0.03, 0.0, 0.03])
        self.squares = np.array([0.10, 0.02, 2.0, 0.20])

    def reset(self):
        self.state = self.chance.uniform(-1.0, 1.0, 4) * np.array([2.8, 0.4, 0.2, 0.2])
        self.steps = 0
        return self.seen()

    def seen(self):
        """Scaled to [-1, 1] by the bounds."""
        return (self.state / BOUNDS).astype(np.float32)

    def step(self, action):
        drive = float(action[0])
        reward = -float(self.squares @ self.state**2) - 0.6 * drive**2
        noise = self.gusts * self.chance.normal(size=4)
        self.state = self.turn @ self.state + self.push * drive + noise
        self.steps += 1
        return self.seen(), reward, False, abs(self.state[0]) > 5.0 or self.steps >= 100


class SameWinch:
    """The same two calls around the library's class: its own methods, one after another, with NumPy's generator."""

    def __init__(self, seed):
        import jokulmist as jm

        self.env = jm.gallery.Winch()
        self.chance = Shaped(np.random.default_rng(seed))

    def reset(self):
        self.state = self.env.begin(self.chance)
        self.steps = 0
        return self.seen()

    def seen(self):
        state = self.state
        return (np.array([state.offset, state.speed, state.swing, state.swinging]) / BOUNDS).astype(np.float32)

    def step(self, action):
        env, before, drive = self.env, self.state, float(action[0])
        after = self.state = env.advance(before, drive, self.chance)
        self.steps += 1
        reward = -env.off_depth(before) - env.swaying(before) - env.driving(drive)
        cut = bool(env.taken_in(after)) or self.steps >= 100
        env.widest_swing(after), env.at_bound(drive)
        return self.seen(), float(reward), False, cut


class Shaped:
    """NumPy's generator with the word that the library's draws have for a shape."""

    def __init__(self, chance):
        self.uniform = chance.uniform
        self._chance = chance

    def normal(self, shape):
        return self._chance.normal(size=shape)
