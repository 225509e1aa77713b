"""Table methods on a plain lane: the same formulas over Python numbers, the table written in place."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np

from jokulmist.agents.configs import Hyperparameters, TableConfig
from jokulmist.agents.tables.cells import SCALARS
from jokulmist.agents.tables.greedy import action_probabilities, draw_index
from jokulmist.arrays import Array


class ScalarTable:
    """The `ScalarAgent` of a table."""

    def __init__(
        self,
        config: TableConfig,
        hyperparameters: Hyperparameters,
        table: Array,
        explore: Any,
        learn: Any,
        exploring: bool,
    ) -> None:
        copies = config.copies
        self._place, self._method, self._copies = config.grid.place, config.method, copies
        self._numbers, self._table = hyperparameters, table
        self._explore, self._learn, self._exploring = explore, learn, exploring
        self._draws_ahead = config.method.draws_needed and learn is not None
        self._uniforms, self._ahead_uniforms = [0.0] * copies, [0.0] * copies
        self._cells, self._next = [0] * copies, [0] * copies
        self._rows: list[list[float]] = [[]] * copies
        self._actions, self._pending = [0] * copies, [-1] * copies
        self._errors: list[Any] = [0.0] * copies
        self._outside = 0

    def see(self, i: int, row: Sequence[float]) -> None:
        self._next[i] = self._place(row, SCALARS)[0]

    def saved(self) -> dict[str, Any]:
        return {"next": np.array(self._next), "pending": np.array(self._pending)}

    def restore(self, saved: Mapping[str, Any]) -> None:
        self._next, self._pending = list(map(int, saved["next"])), list(map(int, saved["pending"]))

    def turn(self, turn: int) -> None:
        self._cells[:] = self._next
        self._outside = 0
        if self._copies == 1:  # an array of one holds the same number as a single one, which is cheaper
            self._uniforms[0] = self._explore.for_step(turn, 0).uniform()
        else:
            self._uniforms = self._explore.for_step(turn, 0).uniform(shape=(self._copies,)).tolist()
        if self._draws_ahead:
            self._ahead_uniforms = self._learn.for_step(turn, 0).uniform(shape=(self._copies,)).tolist()

    def decide(self, i: int) -> int:
        row = self._rows[i] = self._table[self._cells[i]].tolist()
        action = self._pending[i]
        if action < 0:
            exploration = self._numbers.exploration if self._exploring else 0.0
            action = draw_index(action_probabilities(row, exploration, SCALARS), self._uniforms[i])
        self._actions[i] = action
        return action

    def judge(self, i: int, reward: float, ended: bool, closed: bool, last: Sequence[float]) -> None:
        cell, beyond = self._place(last, SCALARS)
        hyperparameters = self._numbers
        row = self._table[cell].tolist()
        upcoming = None
        if self._draws_ahead:
            upcoming = draw_index(
                action_probabilities(row, hyperparameters.exploration, SCALARS), self._ahead_uniforms[i]
            )
            self._pending[i] = -1 if closed else upcoming
        value = 0.0 if ended else self._method.next_value(row, hyperparameters.exploration, upcoming, closed, SCALARS)
        self._errors[i] = reward + hyperparameters.discount * value - self._rows[i][self._actions[i]]
        self._outside += beyond
        self._next[i] = cell

    def write(self) -> tuple[float, ...]:
        errors, cells, actions, table = self._errors, self._cells, self._actions, self._table
        rate = self._numbers.learning_rate
        if self._copies == 1:
            action = actions[0]
            table[cells[0], action] = self._rows[0][action] + rate * errors[0]
            return abs(errors[0]), self._outside
        met: dict[tuple[int, int], list[float]] = {}
        for cell, action, error in zip(cells, actions, errors, strict=True):
            met.setdefault((cell, action), []).append(error)
        for (cell, action), several in met.items():
            table[cell, action] += rate * (sum(several) / len(several))
        return sum(map(abs, errors)) / self._copies, self._outside / self._copies
