"""Two islanders who share out driftwood in turns: one sees the pile, the other does not."""

from __future__ import annotations

from jokulmist.environments.declaration import parts as jm
from jokulmist.environments.declaration.state import State as BaseState
from jokulmist.environments.declaration.state import flow, seen
from jokulmist.environments.environment import Environment
from jokulmist.environments.spaces.actions import Choice


class Lots(Environment):
    """Two islanders share out a pile of driftwood in turns.

    In turn each takes one, two or three logs. Whoever reaches for more than is left brings the pile down, loses `fall`
    logs' worth, and the sharing is over; it is over, too, when nothing is left. `elder` stands where the pile can be
    seen; `younger` sees only how much both have taken so far.

    `elder` never has to reach too far; `younger` has to weigh another log against the fall. Over 200 episodes, seed 1:
    random play returns 2.9 to the two in the mean (3.3 to `elder`, 2.4 to `younger`), the hand-written `measured` 4.0
    (6.3 and 1.7).
    """

    players = ("elder", "younger")
    least: int = jm.parameter(4, low=1, high=12, fixed=True, help="Logs in the smallest pile.")
    most: int = jm.parameter(12, low=2, high=20, fixed=True, help="Logs in the largest pile.")
    fall: float = jm.parameter(3.0, low=0.0, high=10.0, help="What it costs to bring the pile down, in logs.")

    class State(BaseState):
        left: int
        taken: int = seen(low=0, high="most")
        moves: int
        got: float = flow(unit="logs")
        fell: float = flow()

    action = Choice("one", "two", "three")

    def begin(self, draw):
        return self.State(left=draw.integers(self.least, self.most + 1), taken=0, moves=0)

    def turn(self, state):
        return state.moves % 2

    def advance(self, state, actions, draw):
        xp = self.xp
        wanted = 1 + xp.where(state.moves % 2 == 0, actions.elder, actions.younger)
        falls = wanted > state.left
        got = xp.where(falls, 0, wanted)
        return state.replace(
            left=xp.where(falls, 0, state.left - wanted),
            taken=xp.minimum(state.taken + got, self.most),
            moves=state.moves + 1,
            got=1.0 * got,
            fell=xp.where(falls, 1.0, 0.0),
        )

    @jm.sensor(low=0.0, high="most", unit="logs", of="elder")
    def pile(self, state):
        """Logs that are left."""
        return state.left

    @jm.reward
    def logs(self, before, after, player: int):
        """Logs that the player took."""
        return self.xp.where(before.moves % 2 == player, after.got, 0.0)

    @jm.reward
    def fallen(self, before, after, player: int):
        """What the fall of the pile costs whoever brought it down."""
        return self.xp.where(before.moves % 2 == player, -self.fall * after.fell, 0.0)

    @jm.ending
    def shared_out(self, after):
        return (after.left == 0) & (after.fell == 0.0)

    @jm.ending
    def brought_down(self, after):
        return after.fell > 0.0

    @jm.reference
    def measured(self, state, player: int) -> int:
        """`elder` takes what there is; `younger` takes three while a fall is unlikely, and then one."""
        if player == 0:
            return int(min(max(state.left, 1), 3)) - 1
        return 2 if state.taken <= self.least - 3 else 0
