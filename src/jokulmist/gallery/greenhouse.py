"""The greenhouse below the terrace: keep it warm and dry with a heater and a vent through an arctic day."""

from __future__ import annotations

import math

from jokulmist.environments.declaration import parts as jm
from jokulmist.environments.declaration.state import State as BaseState
from jokulmist.environments.declaration.state import seen
from jokulmist.environments.environment import Environment
from jokulmist.environments.spaces.actions import Actions, Range


class Greenhouse(Environment):
    """Keep a fog-prone greenhouse warm and dry with a heater and a vent through an arctic day.

    Every ten minutes the heater and the vent are set again. The low sun warms the house for some hours, if the cloud
    lets it; the plants breathe out water all the time, more when it is warm; cold panes take a little of it. An open
    vent dries the air and cools it, and the outside air wanders about a daily cycle of its own. Plants grow best near
    19 degrees in the light, and hardly by night; wet air above 0.85 of what it can hold is fog, which breeds mould;
    heating costs; a vent that is thrown about wears out. When the air falls below freezing the crop is `lost`, and the
    day is over.

    Good play lets the sun heat, holds the night near 19 degrees while that pays, and opens the vent little and early.
    Over 200 episodes, seed 1: random play returns 1.1 (sd 4.8), the hand-written `thermostat` 34.6 (sd 3.0), and
    `PPO()` after 1,000,000 decisions about 39.
    """

    sun: float = jm.parameter(7.0, low=0.0, high=20.0, unit="degC/h", help="What a clear noon adds.")
    outside: float = jm.parameter(-6.0, low=-30.0, high=10.0, unit="degC", help="Mean of the air outside.")
    leak: float = jm.parameter(0.12, low=0.02, high=1.0, unit="1/h", help="Share of the warmth lost through the panes.")
    power: float = jm.parameter(1.0, low=0.2, high=4.0, unit="degC/h/kW", help="What the heater adds.")
    wind: float = jm.parameter(0.35, low=0.0, high=2.0, unit="degC", help="Spread of the air outside, a decision.")
    hours = 1.0 / 6.0
    deadline = 144

    class State(BaseState):
        warmth: float = seen(low=-10.0, high=45.0, unit="degC")
        vapour: float = seen(low=0.0, high=40.0, unit="g/m3")
        outer: float = seen(low=-40.0, high=25.0, unit="degC")
        cloud: float = seen(low=0.0, high=1.0)
        vent: float = seen(low=0.0, high=1.0)
        decision: int = seen(low=0, high=144)

    action = Actions(heater=Range(0.0, 8.0, unit="kW"), vent=Range(0.0, 1.0))

    def begin(self, draw):
        return self.State(
            warmth=draw.uniform(8.0, 14.0),
            vapour=draw.uniform(6.0, 9.0),
            outer=self.outside - 4.0 + draw.normal(0.0, 1.5),
            cloud=draw.uniform(0.0, 0.9),
            vent=0.0,
            decision=0,
        )

    def light(self, state):
        """Sunlight through the panes, from 0 to 1: up from eight to sixteen o'clock, dimmed by cloud."""
        height = self.xp.sin(math.pi * (state.decision * self.hours - 8.0) / 8.0)
        up = (state.decision >= 48) & (state.decision <= 96)
        return self.xp.where(up, height, 0.0) * (1.0 - 0.8 * state.cloud)

    def holds(self, warmth):
        """Water that air can hold, g/m3 (Magnus' formula and the law of gases)."""
        return 1323.0 * self.xp.exp(17.6 * warmth / (warmth + 243.0)) / (warmth + 273.0)

    def advance(self, state, action, draw):
        xp = self.xp
        light = self.light(state)
        exchange = 0.1 + 1.5 * action.vent  # changes of air an hour
        lost = (self.leak + 0.15 * exchange) * (state.warmth - state.outer)
        gained = self.power * action.heater + self.sun * light
        warmth = state.warmth + self.hours * (gained - lost)
        outer_holds = 0.8 * self.holds(state.outer)
        breath = 0.8 + 0.10 * xp.maximum(state.warmth, 0.0) + 3.0 * light
        condensed = 0.25 * xp.maximum(state.vapour - self.holds(0.6 * state.warmth + 0.4 * state.outer), 0.0)
        vapour = state.vapour + self.hours * (breath - exchange * (state.vapour - outer_holds) - condensed)
        daily = self.outside - 4.0 * xp.cos(2.0 * math.pi * (state.decision * self.hours - 2.0) / 24.0)
        return state.replace(
            warmth=xp.clip(warmth, -10.0, 45.0),
            vapour=xp.clip(vapour, 0.0, xp.minimum(self.holds(warmth), 40.0)),
            outer=xp.clip(state.outer + 0.08 * (daily - state.outer) + draw.normal(0.0, self.wind), -40.0, 25.0),
            cloud=xp.clip(state.cloud + draw.normal(0.0, 0.06), 0.0, 1.0),
            vent=action.vent,
            decision=state.decision + 1,
        )

    @jm.sensor(low=0.0, high=1.0)
    def damp(self, state):
        """Relative humidity."""
        return self.xp.clip(state.vapour / self.holds(state.warmth), 0.0, 1.0)

    @jm.sensor(low=0.0, high=1.0)
    def sunlight(self, state):
        """Sunlight through the panes."""
        return self.light(state)

    @jm.reward(weight=1.0)
    def growth(self, after):
        """1 a decision at 19 degrees in full light, a quarter of that by night, nothing far from it."""
        closeness = self.xp.exp(-0.5 * ((after.warmth - 19.0) / 5.0) ** 2)
        return closeness * (0.25 + 0.75 * self.light(after))

    @jm.reward(weight=-1.0)
    def fog(self, after):
        """0 up to a relative humidity of 0.85, 1 where the air holds no more."""
        return self.xp.maximum(self.damp(after) - 0.85, 0.0) / 0.15

    @jm.reward(weight=-0.02)
    def heating(self, action):
        """Energy, in kW over a decision."""
        return action.heater

    @jm.reward(weight=-0.5)
    def wear(self, before, action):
        """How far the vent was moved, squared."""
        return (action.vent - before.vent) ** 2

    @jm.reward(weight=-25.0)
    def crop_lost(self, after):
        """1 when the crop froze."""
        return 1.0 * (after.warmth <= 0.0)

    @jm.ending
    def frozen(self, after):
        return after.warmth <= 0.0

    @jm.measure
    def foggy_hours(self, after):
        """Hours with relative humidity above 0.85."""
        return self.hours * (self.damp(after) > 0.85)

    @jm.measure(over="min")
    def coldest(self, after):
        """Lowest temperature, degC."""
        return after.warmth

    @jm.measure
    def energy(self, action):
        """Energy of the heater, kWh."""
        return self.hours * action.heater

    @jm.reference
    def thermostat(self, state) -> dict[str, float]:
        """Heat towards 18 degrees in proportion to what is missing, and open the vent in proportion to the damp."""
        heater = min(max(1.2 * (18.0 - state.warmth) + 2.0, 0.0), 8.0)
        vent = min(max(2.0 * (self.damp(state) - 0.78), 0.0), 1.0)
        return {"heater": heater, "vent": vent}

    def picture(self, axes, state) -> None:
        light = float(self.light(state))
        damp = float(self.damp(state))
        axes.set_xlim(0.0, 10.0)
        axes.set_ylim(0.0, 6.0)
        axes.axhspan(0.0, 6.0, color=(0.15 + 0.5 * light, 0.22 + 0.5 * light, 0.35 + 0.5 * light))
        axes.fill([2, 2, 5, 8, 8], [0.4, 3.2, 5.0, 3.2, 0.4], color="#d8e6df", alpha=0.9)
        axes.fill([2, 2, 5, 8, 8], [0.4, 3.2, 5.0, 3.2, 0.4], color="#8a949e", alpha=max(damp - 0.7, 0.0) * 2.5)
        axes.plot(
            [5, 5 + 2.6 * math.cos(0.55 * state.vent)], [5, 5 - 1.56 + 2.4 * state.vent], color="#333333", linewidth=3
        )
        for place in (3.0, 4.0, 5.0, 6.0, 7.0):
            axes.plot([place, place], [0.4, 1.5], color="#3f7d4e", linewidth=5)
        axes.set_title(
            f"{state.decision / 6.0:04.1f} h: {state.warmth:.1f} degC inside, {state.outer:.1f} outside, "
            f"{100 * damp:.0f} % damp"
        )
        axes.set_xticks([])
        axes.set_yticks([])
