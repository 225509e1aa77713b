"""A sky camera on the ridge: keep a drifting arc of northern light inside its frame."""

from __future__ import annotations

import numpy as np

from jokulmist.arrays import NumpyArray
from jokulmist.environments.declaration import loops
from jokulmist.environments.declaration import parts as jm
from jokulmist.environments.declaration.state import State as BaseState
from jokulmist.environments.declaration.state import field, flow
from jokulmist.environments.environment import Environment
from jokulmist.environments.spaces.actions import Choice

SIZE = 32
BEARINGS = 256


def starry_sky() -> NumpyArray:
    """Stars over all bearings, with the first ones again at the end, so that a frame can be cut out anywhere."""
    chance = np.random.default_rng(7)
    sky = np.zeros((SIZE, BEARINGS), np.float32)
    count = 240
    sky[chance.integers(0, SIZE, count), chance.integers(0, BEARINGS, count)] = chance.uniform(0.15, 0.6, count)
    return np.concatenate([sky, sky[:, :SIZE]], axis=1)


class Aurora(Environment):
    """Keep a drifting arc of light inside the frame of a sky camera that turns on its mount.

    The arc drifts along the sky at a speed that wanders, brightens and fades. The motor speeds the mount up to the left
    or to the right, or lets it run out; the mount is heavy and goes on turning. All that is seen is the frame, 32 by 32
    pixels of one brightness: the arc, a bent band, and stars that move as the camera turns. A single frame tells where
    the arc is and not where it is going, so `Aurora().modified(jm.modifiers.Stack(3))` is easier to learn. Each
    decision pays for how near the arc is to the middle; when its middle leaves the frame it is lost. Time is cut after
    200 decisions.

    Good play turns with the arc before it comes near the edge. Over 200 episodes, seed 1: random play returns 30 (sd
    24), the hand-written `follow`, which sees the true position and drift, 194 (sd 10), and `PPO()` on stacks of 3
    after 400,000 decisions about 193.
    """

    drift: float = jm.parameter(0.15, low=0.0, high=0.5, unit="px/decision", help="How fast the arc's speed wanders.")
    motor: float = jm.parameter(0.35, low=0.1, high=1.0, unit="px/decision", help="What the motor adds to the turning.")
    time_limit = 200

    class State(BaseState):
        offset: float = field()
        speed: float = field()
        turning: float = field()
        bearing: float = field()
        glow: float = field()
        ran: float = flow()

    action = Choice("left", "still", "right")
    way = jm.series([-1.0, 0.0, 1.0])
    sky = jm.series(starry_sky())
    across = jm.series(np.arange(SIZE, dtype=np.float32) - (SIZE - 1) / 2)
    bend = jm.series(0.012 * (np.arange(SIZE, dtype=np.float32) - 10.0) ** 2)

    def begin(self, draw):
        return self.State(
            offset=draw.uniform(-8.0, 8.0),
            speed=draw.normal(0.0, 0.4),
            turning=0.0,
            bearing=draw.uniform(0.0, 1.0 * BEARINGS),
            glow=draw.uniform(0.5, 1.0),
        )

    def advance(self, state, action, draw):
        turning = 0.85 * state.turning + self.motor * self.way[action]
        speed = 0.98 * state.speed + draw.normal(0.0, self.drift)
        glow = self.xp.clip(state.glow + draw.normal(0.0, 0.06), 0.35, 1.0)
        return state.replace(
            offset=state.offset + speed - turning,
            speed=speed,
            turning=turning,
            bearing=(state.bearing + turning) % BEARINGS,
            glow=glow,
            ran=self.way[action] ** 2,
        )

    @jm.sensor(shape=(SIZE, SIZE, 1), image=True)
    def frame(self, state):
        """What the camera sees: brightness from 0 to 255."""
        xp = self.xp
        column = xp.asarray(xp.floor(state.bearing), dtype=xp.int32) % BEARINGS
        stars = loops.slice_array(self.sky, (0, column), (SIZE, SIZE))
        band = self.across[None, :] - state.offset - (self.bend[:, None] - 2.0)
        light = xp.maximum(stars, state.glow * xp.exp(-0.5 * (band / 2.2) ** 2))
        return xp.asarray(255.0 * xp.clip(light, 0.0, 1.0), dtype=xp.uint8)[:, :, None]

    @jm.reward
    def watching(self, after):
        """1 with the arc in the middle of the frame, 0 at its edge."""
        return self.xp.maximum(1.0 - (after.offset / 16.0) ** 2, 0.0)

    @jm.reward(weight=-0.05)
    def running(self, after):
        """Decisions in which the motor runs."""
        return after.ran

    @jm.ending
    def lost(self, after):
        return self.xp.abs(after.offset) > 16.0

    @jm.measure(over="mean")
    def off_centre(self, after):
        """Mean distance of the arc from the middle, pixels."""
        return self.xp.abs(after.offset)

    @jm.reference
    def follow(self, state) -> int:
        """Turn so that the arc, at its present drift, comes to the middle a few decisions from now."""
        wanted = state.speed + 0.15 * state.offset
        excess = 0.85 * state.turning - wanted
        if abs(excess) < 0.5 * self.motor:
            return 1
        return 0 if excess > 0.0 else 2

    def picture(self, axes, state) -> None:
        axes.imshow(self.frame(state)[:, :, 0], cmap="gray", vmin=0, vmax=255)
        axes.axvline((SIZE - 1) / 2, color="#d9a441", linewidth=1, alpha=0.6)
        axes.set_title(f"arc {state.offset:+.1f} px from the middle, mount turning {state.turning:+.2f}")
        axes.set_xticks([])
        axes.set_yticks([])
