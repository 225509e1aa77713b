"""A tarn above the settlement: release meltwater through a turbine at hourly prices, before the tarn spills."""

from __future__ import annotations

from jokulmist.environments.declaration import parts as jm
from jokulmist.environments.declaration.state import State as BaseState
from jokulmist.environments.declaration.state import flow, seen
from jokulmist.environments.environment import Environment
from jokulmist.environments.spaces.actions import Choice


class Tarn(Environment):
    """Release meltwater through a turbine at hourly prices, before the tarn spills.

    Every hour the gate is closed, half open or fully open. Water that passes the turbine earns the price of the hour;
    water over the brim floods the path below, which costs more than it would have earned. The melt is random around a
    mean that follows the sun. After four days the season is over, and water left in the tarn is worth nothing.

    Good play keeps the water for the morning and evening peaks, makes room before the warm afternoons, and is empty at
    the end. Over 200 episodes, seed 1: random play returns 92.5 (sd 19), the hand-written `sell_high` 145.9 (sd 13),
    and `QLearning(bins=20, discount=1.0)` after 2,000,000 decisions about 155.
    """

    capacity: float = jm.parameter(25.0, low=10.0, high=80.0, unit="dam3", help="The tarn spills above it.")
    melt: float = jm.parameter(1.6, low=0.0, high=4.0, help="Factor on the season's mean melt.")
    hours: int = jm.parameter(96, low=24, high=168, unit="h", fixed=True, help="Length of the season.")
    deadline = "hours"

    class State(BaseState):
        level: float = seen(low=0.0, high="capacity", unit="dam3")
        hour: int = seen(low=0, high="hours", unit="h")
        released: float = flow(unit="dam3")
        spilled: float = flow(unit="dam3")

    action = Choice("hold", "half", "full")
    rate = jm.series([0.0, 2.0, 4.0])
    price = jm.series(file="season.csv", column="price")
    mean_melt = jm.series(file="season.csv", column="melt")

    def begin(self, draw):
        return self.State(level=draw.uniform(0.25, 0.75) * self.capacity, hour=0)

    def advance(self, state, action, draw):
        xp = self.xp
        released = xp.minimum(self.rate[action], state.level)
        level = state.level - released + draw.poisson(self.melt * self.mean_melt[state.hour])
        spilled = xp.maximum(level - self.capacity, 0.0)
        return state.replace(level=level - spilled, hour=state.hour + 1, released=released, spilled=spilled)

    @jm.reward
    def sales(self, before, after):
        """What the released water earns, in crowns."""
        return self.price[before.hour] * after.released

    @jm.reward(weight=-2.0)
    def flooding(self, after):
        """Water over the brim, in dam3 (1000 m3)."""
        return after.spilled

    @jm.ending
    def washed_out(self, after):
        """So much spilled in one hour that the path is gone."""
        return after.spilled > 8.0

    @jm.measure
    def energy(self, after):
        """MWh made."""
        return 0.9 * after.released

    @jm.measure(over="max")
    def highest_level(self, after):
        return after.level

    @jm.reference
    def sell_high(self, state) -> int:
        """Open fully at high prices or high water, half at middling prices, hold else."""
        price = self.price[min(state.hour, self.hours - 1)]
        if price > 0.8 or state.level > 0.85 * self.capacity or self.hours - state.hour < state.level / 4.0:
            return 2
        return 1 if price > 0.6 else 0

    def picture(self, axes, state) -> None:
        axes.set_xlim(0, 10)
        axes.set_ylim(0, 1.15 * self.capacity)
        axes.fill_between([0, 2, 8, 10], [self.capacity, 0, 0, self.capacity], -1, color="#6b6459")
        half = 3 + 2 * state.level / self.capacity
        axes.fill_between([5 - half, 2, 8, 5 + half], [state.level, 0, 0, state.level], state.level, color="#5b8fb0")
        axes.set_title(f"hour {state.hour}, {state.level:.1f} of {self.capacity:g} (dam3)")
        axes.set_xticks([])
        axes.set_ylabel("level (dam3)")


class WholeTarn(Tarn):
    """The tarn in whole numbers: levels, releases and melt are counts of dam3 (1000 m3).

    Small enough to be solved exactly by dynamic programming. From its first states the optimum, without discounting,
    is 162.3; random play returns 92.1, the hand-written `sell_high` 145.5. `QLearning(discount=1.0,
    learning_rate=jm.linear(0.5, 0.001, over=1.0), exploration=jm.linear(1.0, 0.2, over=1.0))` comes within 0.5 % of it
    in 20,000,000 decisions, with 16 copies, on all of the seeds 0 to 9 (`benchmarks/levels.py`).
    """

    capacity: int = jm.parameter(25, low=10, high=80, unit="dam3", help="The tarn spills above it.")

    class State(BaseState):
        level: int = seen(low=0, high="capacity", unit="dam3")
        hour: int = seen(low=0, high="hours", unit="h")
        released: int = flow(unit="dam3")
        spilled: int = flow(unit="dam3")

    rate = jm.series([0, 2, 4])

    def begin(self, draw):
        return self.State(level=draw.integers(self.capacity // 4, 3 * self.capacity // 4 + 1), hour=0)

    def advance(self, state, action, draw):
        xp = self.xp
        released = xp.minimum(self.rate[action], state.level)
        level = state.level - released + draw.poisson(self.melt * self.mean_melt[state.hour])
        spilled = xp.maximum(level - self.capacity, 0)
        return state.replace(level=level - spilled, hour=state.hour + 1, released=released, spilled=spilled)
