"""A cable ferry across the fjord's mouth: cross a tidal current and dock softly."""

from __future__ import annotations

import math

from jokulmist.environments.declaration import parts as jm
from jokulmist.environments.declaration.state import State as BaseState
from jokulmist.environments.declaration.state import seen
from jokulmist.environments.environment import Environment
from jokulmist.environments.spaces.actions import Choice


class Ferry(Environment):
    """Bring a cable ferry across a tidal current and dock softly.

    The winch pulls the ferry ahead, pulls it back, or lets it drift, in decisions of two seconds. The tide pushes along
    the cable, now ahead, now back, and gusts come on top. Arriving slower than `soft` is a mooring, faster a crash; a
    ferry that drifts out behind the home quay is swept away. Time is cut after 150 decisions: the ferry is then
    somewhere on the water and would have gone on.

    Good play speeds up, coasts, and brakes in time for the tide it will meet at the quay. Over 200 episodes, seed 1:
    random play returns -3.2 (sd 3.3), the hand-written `brake_in_time` 13.3 (sd 2.0), and `QLearning(bins=20)` after
    1,000,000 decisions about 12.
    """

    width: float = jm.parameter(120.0, low=40.0, high=400.0, unit="m", help="Length of the crossing.")
    pull: float = jm.parameter(0.30, low=0.1, high=1.0, unit="m/s2", help="Acceleration by the winch.")
    tide: float = jm.parameter(0.08, low=0.0, high=0.3, unit="m/s2", help="Largest acceleration by the tide.")
    gusts: float = jm.parameter(0.02, low=0.0, high=0.2, unit="m/s2", help="Spread of the gusts.")
    soft: float = jm.parameter(1.5, low=0.1, high=5.0, unit="m/s", help="Arriving faster than this is a crash.")
    drag = 0.03
    seconds = 2.0
    time_limit = 150

    class State(BaseState):
        position: float = seen(low=-20.0, high="width", unit="m")
        speed: float = seen(low=-8.0, high=8.0, unit="m/s")
        phase: float

    action = Choice("back", "drift", "ahead")
    winch = jm.series([-1.0, 0.0, 1.0])

    def begin(self, draw):
        return self.State(position=0.0, speed=0.0, phase=draw.uniform(0.0, 2.0 * math.pi))

    def advance(self, state, action, draw):
        push = self.pull * self.winch[action] + self.tide * self.xp.sin(state.phase) + draw.normal(0.0, self.gusts)
        xp = self.xp
        speed = xp.minimum(xp.maximum(state.speed + self.seconds * (push - self.drag * state.speed), -8.0), 8.0)
        position = xp.minimum(xp.maximum(state.position + self.seconds * speed, -20.0), self.width)
        return state.replace(position=position, speed=speed, phase=(state.phase + 0.05) % (2.0 * math.pi))

    @jm.sensor(low=-0.3, high=0.3, unit="m/s2")
    def current(self, state):
        """Push of the tide along the cable."""
        return self.tide * self.xp.sin(state.phase)

    @jm.sensor(low=-0.3, high=0.3, unit="m/s2")
    def turning(self, state):
        """The same, a quarter of a tide later: whether the current grows or fades."""
        return self.tide * self.xp.cos(state.phase)

    @jm.reward(weight=0.06)
    def sailing(self, before, after):
        """Metres made towards the far quay."""
        return after.position - before.position

    @jm.reward(weight=-0.05)
    def waiting(self, after):
        """Decisions that passengers wait."""
        return 1.0 + 0.0 * after.speed

    @jm.reward(weight=-0.02)
    def pulling(self, action):
        """Decisions in which the winch runs."""
        return self.winch[action] ** 2

    @jm.reward(weight=12.0)
    def landing(self, after):
        """At the far quay: 1 at rest, 0 at the speed of a crash, below it beyond."""
        gentle = self.xp.maximum(1.0 - after.speed / self.soft, -1.0)
        return self.xp.where(after.position >= self.width, gentle, 0.0)

    @jm.ending
    def moored(self, after):
        return (after.position >= self.width) & (after.speed <= self.soft)

    @jm.ending
    def crashed(self, after):
        return (after.position >= self.width) & (after.speed > self.soft)

    @jm.ending
    def swept_away(self, after):
        return after.position <= -20.0

    @jm.measure(over="last")
    def final_speed(self, after):
        """Speed in the last decision, m/s."""
        return after.speed

    @jm.reference
    def brake_in_time(self, state) -> int:
        """Keep the speed from which the winch can still brake before the quay, with a reserve for the tide."""
        left = self.width - state.position
        tide = self.current(state)
        wanted = min(math.sqrt(2.0 * 0.62 * self.pull * max(left - 2.0, 0.0)) + 0.30, 6.0)
        speed = state.speed + self.seconds * (tide - self.drag * state.speed)
        if speed > wanted:
            return 0
        return 2 if speed + 0.35 * self.seconds * self.pull < wanted else 1

    def picture(self, axes, state) -> None:
        axes.set_xlim(-25, self.width + 10)
        axes.set_ylim(-2, 4)
        axes.axhspan(-2, 0, color="#5b8fb0")
        axes.axvspan(self.width, self.width + 10, color="#6b6459")
        axes.axvspan(-25, -20, color="#b04f3c")
        axes.plot([-25, self.width], [0.4, 0.4], color="#333333", linewidth=1)
        axes.fill_between([state.position - 8, state.position], 0.0, 1.2, color="#d9a441")
        axes.annotate(
            "",
            (self.width / 2 + 120 * self.tide * math.sin(state.phase), -1),
            (self.width / 2, -1),
            arrowprops={"arrowstyle": "->", "color": "white"},
        )
        axes.set_title(f"{self.width - state.position:.0f} m to go at {state.speed:.1f} m/s")
        axes.set_xlabel("metres from the home quay")
        axes.set_yticks([])
