"""Two boats that drag one net past a skerry: a shared reward, and two good ways that do not fit each other."""

from __future__ import annotations

from jokulmist.environments.declaration import parts as jm
from jokulmist.environments.declaration.state import State as BaseState
from jokulmist.environments.declaration.state import field, seen
from jokulmist.environments.environment import Environment
from jokulmist.environments.spaces.actions import Choice


class Haul(Environment):
    """Two boats drag one net past a skerry.

    They begin abreast, `north` to port of the skerry and `south` to starboard, and see each other's lights. The net
    catches most while it is about `opening` metres wide. At the skerry both boats have to be on the same side of it,
    else the net tears and the haul is over; a boat that comes too near strikes. So one of the two has to cross over in
    time, and either may: pairs that were trained apart may both cross, or neither.

    Good play lets one boat cross early and the other make room. Over 200 episodes, seed 1: random play returns 10.9 (sd
    3.7), the hand-written `north_crosses` 31.4 (sd 0.2), as `south_crosses` does.
    """

    players = ("north", "south")
    opening: float = jm.parameter(8.0, low=2.0, high=20.0, unit="m", help="Width of the net at which it catches most.")
    reef: float = jm.parameter(1.5, low=0.0, high=4.0, unit="m", help="Nearer than this to the middle a boat strikes.")
    drift: float = jm.parameter(0.15, low=0.0, high=1.0, unit="m", help="Spread of the drift of a boat in a step.")
    skerry_at = 16
    deadline = 32

    class State(BaseState):
        way: int = seen(low=0, high=32)
        boats: float = field(shape=(2,))

    action = Choice("to_port", "ahead", "to_starboard")
    helm = jm.series([1.0, 0.0, -1.0])

    def begin(self, draw):
        return self.State(way=0, boats=self.xp.asarray([4.0, -4.0]) + draw.normal(0.0, 0.3, shape=(2,)))

    def advance(self, state, actions, draw):
        xp = self.xp
        helms = xp.stack([xp.asarray(self.helm[actions.north]), xp.asarray(self.helm[actions.south])])
        boats = state.boats + helms + draw.normal(0.0, 1.0, shape=(2,)) * self.drift
        return state.replace(way=state.way + 1, boats=xp.clip(boats, -15.0, 15.0))

    @jm.sensor(low=-15.0, high=15.0, unit="m")
    def abeam(self, state, player: int):
        """Metres to port of the line through the skerry."""
        return state.boats[player]

    @jm.sensor(low=-15.0, high=15.0, unit="m")
    def partner(self, state, player: int):
        """The other boat's lights: metres to port of the line."""
        return state.boats[1 - player]

    @jm.reward
    def catch(self, after):
        """What the net catches in a step: 1 at its best width."""
        wide = abs(after.boats[0] - after.boats[1])
        return self.xp.exp(-(((wide - self.opening) / 4.0) ** 2))

    @jm.reward(weight=-0.02)
    def fuel(self, actions, player: int):
        """Steps in which a boat turns."""
        return self.helm[actions[player]] ** 2

    @jm.ending
    def torn(self, after):
        """The skerry stands between the boats."""
        return (after.way == self.skerry_at) & (after.boats[0] * after.boats[1] < 0.0)

    @jm.ending
    def struck(self, after):
        nearest = self.xp.minimum(abs(after.boats[0]), abs(after.boats[1]))
        return (after.way == self.skerry_at) & (nearest < self.reef)

    @jm.measure(over="last")
    def to_port(self, after):
        """Where the middle of the net is at the end, metres to port."""
        return 0.5 * (after.boats[0] + after.boats[1])

    @jm.reference
    def north_crosses(self, state, player: int) -> int:
        """`north` goes over to starboard, and `south` makes room."""
        return self._steered(self.abeam(state, player), -3.0 if player == 0 else -11.0)

    @jm.reference
    def south_crosses(self, state, player: int) -> int:
        """`south` goes over to port, and `north` makes room."""
        return self._steered(self.abeam(state, player), 11.0 if player == 0 else 3.0)

    def _steered(self, place: float, wanted: float) -> int:
        return 0 if place < wanted - 0.6 else 2 if place > wanted + 0.6 else 1

    def picture(self, axes, state) -> None:
        axes.set_xlim(-2, 34)
        axes.set_ylim(-16, 16)
        axes.axhspan(-16, 16, color="#cfdde2")
        reef = max(self.reef, 0.8)
        axes.fill_between([self.skerry_at - 0.8, self.skerry_at + 0.8], -reef, reef, color="#54504a")
        middle = 0.5 * (state.boats[0] + state.boats[1])
        axes.plot(
            [state.way - 0.6, state.way - 2.2, state.way - 0.6],
            [state.boats[0], middle, state.boats[1]],
            color="#d9a441",
            linewidth=4,
        )
        for place, color, name in zip(state.boats, ("#2f6f8f", "#b04f3c"), self.players, strict=True):
            axes.fill_between([state.way - 0.6, state.way + 0.9], place - 0.9, place + 0.9, color=color, label=name)
        axes.legend(loc="upper left", ncols=2)
        axes.set_title(f"the net is {abs(state.boats[0] - state.boats[1]):.1f} m wide")
        axes.set_xlabel("steps; the skerry is at 16")
        axes.set_ylabel("metres to port")
