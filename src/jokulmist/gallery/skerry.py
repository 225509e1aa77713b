"""The skerries off the settlement: feel the way along a rocky shore with five sounding beams."""

from __future__ import annotations

from collections import deque

import numpy as np

from jokulmist.arrays import NumpyArray
from jokulmist.environments.declaration import parts as jm
from jokulmist.environments.declaration.state import State as BaseState
from jokulmist.environments.declaration.state import field, flow, seen
from jokulmist.environments.environment import Environment
from jokulmist.environments.spaces.actions import Choice

HEIGHT, WIDTH, CHARTS, REACH = 10, 18, 12, 5
# North, east, south, west: how a move changes row and column.
ROWS, COLUMNS = np.array([-1, 0, 1, 0]), np.array([0, 1, 0, -1])
FAR = 999


def charts() -> tuple[NumpyArray, NumpyArray]:
    """Rocks, and the moves that are left to the harbour, both with a border of rock as wide as a beam reaches.

    Returns
    -------
    rocks : bool, shape ``(CHARTS, HEIGHT + 2 REACH, WIDTH + 2 REACH)``
    moves : int64, same shape
        `FAR` where no way leads from.
    """
    chance = np.random.default_rng(11)
    rocks: list[NumpyArray] = []
    moves: list[NumpyArray] = []
    while len(rocks) < CHARTS:
        chart = np.ones((HEIGHT + 2 * REACH, WIDTH + 2 * REACH), bool)
        chart[REACH:-REACH, REACH:-REACH] = chance.random((HEIGHT, WIDTH)) < 0.30
        left = ways(chart, (REACH + HEIGHT // 2, REACH + WIDTH - 1))
        if (left[REACH:-REACH, REACH] < FAR).sum() >= 4:
            chart[left == FAR] = True  # water that leads nowhere is filled
            rocks.append(chart)
            moves.append(left)
    return np.array(rocks), np.array(moves)


def ways(chart: NumpyArray, harbour: tuple[int, int]) -> NumpyArray:
    """The fewest moves from each place to the harbour, by breadth-first search."""
    chart[harbour] = False
    left = np.full(chart.shape, FAR)
    left[harbour] = 0
    waiting = deque([harbour])
    while waiting:
        row, column = waiting.popleft()
        for down, right in zip(ROWS.tolist(), COLUMNS.tolist(), strict=True):
            neighbour = (row + down, column + right)
            if not chart[neighbour] and left[neighbour] == FAR:
                left[neighbour] = left[row, column] + 1
                waiting.append(neighbour)
    return left


ROCKS, MOVES = charts()
# Places to start from: free water of the first three columns, as many as the chart with the fewest has.
_STARTS = [np.argwhere(moves[:, REACH : REACH + 3] < FAR) for moves in MOVES]
STARTS = np.array([places[: min(map(len, _STARTS))] for places in _STARTS]) + np.array([0, REACH])


class Skerry(Environment):
    """Feel the way along a rocky shore to the harbour, with five sounding beams.

    The boat moves from place to place of a chart that it does not have; which of twelve charts it is, nobody tells.
    Five beams tell how much water there is to port, ahead, to starboard and between, up to five places; a lamp at the
    harbour shows its bearing. Each decision turns the boat and moves it a place, or moves it astern; into a rock is not
    allowed. A bay that looks open can be a trap, so `Skerry().modified(jm.modifiers.Stack(4))` and
    `jm.modifiers.LastAction()` help. Time is cut after 120 decisions.

    Good play follows the shore towards the lamp and leaves a bay at once. The fewest moves are known exactly. Over 200
    episodes, seed 1: random play returns -11.2 (sd 1.4), `shortest_way`, which has the chart, 5.95 (sd 0.25), and
    `PPO()` after 1,000,000 decisions about 5.9.
    """

    toll: float = jm.parameter(0.1, low=0.0, high=1.0, help="What a decision costs.")
    time_limit = 120

    class State(BaseState):
        chart: int = field()
        row: int = field()
        column: int = field()
        heading: int = seen(low=0, values=4)
        moved: float = flow()

    action = Choice("port", "ahead", "starboard", "astern")
    rocks = jm.series(ROCKS)
    moves = jm.series(MOVES)
    starts = jm.series(STARTS)
    downs = jm.series(ROWS)
    rights = jm.series(COLUMNS)
    turns = jm.series(np.array([3, 0, 1, 2]))  # quarters to the right in which a choice moves
    # The five beams ahead, clockwise from port: how many places down and right, when heading north.
    beams_down = jm.series(np.array([0, -1, -1, -1, 0]))
    beams_right = jm.series(np.array([-1, -1, 0, 1, 1]))
    steps_out = jm.series(np.arange(1, REACH + 1))

    def begin(self, draw):
        chart = draw.integers(0, CHARTS)
        place = self.starts[chart, draw.integers(0, STARTS.shape[1])]
        return self.State(chart=chart, row=place[0], column=place[1], heading=1)

    def cell_ahead(self, state):
        """Row and column that each choice leads to, shape ``(4,)`` each."""
        way = (state.heading + self.turns) % 4
        return state.row + self.downs[way], state.column + self.rights[way]

    def legal(self, state):
        rows, columns = self.cell_ahead(state)
        return ~self.rocks[state.chart, rows, columns]

    def advance(self, state, action, draw):
        xp = self.xp
        rows, columns = self.cell_ahead(state)
        heading = xp.where(action == 3, state.heading, (state.heading + self.turns[action]) % 4)
        return state.replace(row=rows[action], column=columns[action], heading=heading, moved=1.0)

    @jm.sensor(low=0, high=REACH, shape=5)
    def beams(self, state):
        """Free places to port, port ahead, ahead, starboard ahead, starboard."""
        xp = self.xp
        # A quarter turn to the right makes (down, right) into (right, -down).
        cos = xp.asarray([1, 0, -1, 0])[state.heading]
        sin = xp.asarray([0, 1, 0, -1])[state.heading]
        down = cos * self.beams_down + sin * self.beams_right
        right = cos * self.beams_right - sin * self.beams_down
        rows = state.row + down[:, None] * self.steps_out
        columns = state.column + right[:, None] * self.steps_out
        hit = self.rocks[state.chart, rows, columns]
        return 1.0 * xp.min(xp.where(hit, self.steps_out - 1, REACH), axis=1)

    def away(self, state):
        """How far the lamp is, in places."""
        down = 1.0 * (REACH + HEIGHT // 2 - state.row)
        right = 1.0 * (REACH + WIDTH - 1 - state.column)
        return self.xp.sqrt(down * down + right * right)

    @jm.sensor(low=-1.0, high=1.0, shape=2)
    def lamp(self, state):
        """The harbour's bearing: how far ahead and how far to starboard it lies, as a direction."""
        xp = self.xp
        down = 1.0 * (REACH + HEIGHT // 2 - state.row)
        right = 1.0 * (REACH + WIDTH - 1 - state.column)
        far = xp.maximum(self.away(state), 1e-6)
        forward = down * self.downs[state.heading] + right * self.rights[state.heading]
        starboard = down * self.rights[state.heading] - right * self.downs[state.heading]
        return xp.stack([forward / far, starboard / far])

    @jm.reward(weight=-1.0)
    def underway(self, after):
        """The toll of each decision."""
        return self.toll * after.moved

    @jm.reward(weight=0.2)
    def nearer(self, before, after):
        """Places gained towards the lamp, as the gull flies."""
        return self.away(before) - self.away(after)

    @jm.reward(weight=5.0)
    def landed(self, after):
        """1 in the harbour."""
        return 1.0 * (self.moves[after.chart, after.row, after.column] == 0)

    @jm.ending
    def in_harbour(self, after):
        return self.moves[after.chart, after.row, after.column] == 0

    @jm.measure(over="min")
    def nearest(self, after):
        """The fewest moves to the harbour that were ever left."""
        return 1.0 * self.moves[after.chart, after.row, after.column]

    @jm.reference
    def shortest_way(self, state) -> int:
        """The choice that leads to the fewest moves left, on the chart."""
        rows, columns = self.cell_ahead(state)
        return int(np.argmin(self.moves[state.chart, rows, columns]))

    def picture(self, axes, state) -> None:
        rock, water = np.array([107, 100, 89], np.uint8), np.array([170, 205, 216], np.uint8)
        axes.imshow(np.where(ROCKS[state.chart][:, :, None], rock, water))
        axes.plot(REACH + WIDTH - 1, REACH + HEIGHT // 2, marker="*", markersize=14, color="#d9a441")
        marker = ("^", ">", "v", "<")[int(state.heading)]
        axes.plot(state.column, state.row, marker=marker, markersize=11, color="#b04f3c")
        axes.set_xlim(REACH - 1.5, REACH + WIDTH + 0.5)
        axes.set_ylim(REACH + HEIGHT + 0.5, REACH - 1.5)
        axes.set_title(f"{self.moves[state.chart, state.row, state.column]} moves to the harbour")
        axes.set_xticks([])
        axes.set_yticks([])
