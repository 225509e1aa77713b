"""Games of two whose solution is known."""

from typing import ClassVar

import jokulmist as jm


class Table(jm.Environment):
    """One decision of two, paid by a table: `first` has the rows."""

    players = ("first", "second")
    deadline = 1
    tables: ClassVar = {
        "prisoners": (((3, 0), (5, 1)), ((3, 5), (0, 1))),
        "pennies": (((1, -1), (-1, 1)), ((-1, 1), (1, -1))),
    }
    game: str = jm.parameter("prisoners", fixed=True)

    class State(jm.State):
        moved: int = jm.seen(low=0, high=1)

    action = jm.Choice(2)

    def begin(self, draw):
        return self.State(moved=0)

    def advance(self, state, actions, draw):
        return state.replace(moved=1)

    @jm.reward
    def paid(self, actions, player):
        table = self.xp.asarray(self.tables[self.game][player], dtype=self.xp.float32)
        return table[actions.first, actions.second]


class Sticks(jm.Environment):
    """Two take one to three sticks in turn; who takes the last wins."""

    players = ("first", "second")
    least: int = jm.parameter(5, low=1, fixed=True)
    most: int = jm.parameter(12, low=2, fixed=True)

    class State(jm.State):
        left: int = jm.seen(low=0, high="most")
        moves: int
        won: float = jm.flow()

    action = jm.Choice("one", "two", "three")

    def begin(self, draw):
        return self.State(left=draw.integers(self.least, self.most + 1), moves=0)

    def turn(self, state):
        return state.moves % 2

    def legal(self, state, player):
        return self.xp.arange(1, 4) <= self.xp.maximum(state.left, 1)

    def advance(self, state, actions, draw):
        xp = self.xp
        left = state.left - 1 - xp.where(state.moves % 2 == 0, actions.first, actions.second)
        won = xp.where(left == 0, xp.where(state.moves % 2 == 0, 1.0, -1.0), 0.0)
        return state.replace(left=left, moves=state.moves + 1, won=won)

    @jm.reward
    def game(self, after, player):
        return after.won * (1.0 - 2.0 * player)

    @jm.ending
    def over(self, after):
        return after.left == 0


class Team(jm.Environment):
    """`first` chooses one of two tables, and then both choose in it; what it pays, both get."""

    players = ("first", "second")
    deadline = 2
    tables: ClassVar = (((7, 7), (7, 7)), ((0, 1), (1, 8)))

    class State(jm.State):
        at: int = jm.seen(low=0, high=2)  # 0 before the choice, then the table and one

    action = jm.Choice(2)

    def begin(self, draw):
        return self.State(at=0)

    def advance(self, state, actions, draw):
        return state.replace(at=self.xp.where(state.at == 0, 1 + actions.first, state.at))

    @jm.reward
    def paid(self, before, actions):
        table = self.xp.asarray(self.tables, dtype=self.xp.float32)
        return self.xp.where(
            before.at == 0, 0.0, table[self.xp.maximum(before.at - 1, 0), actions.first, actions.second]
        )
