"""Grid and random search: candidates that do not depend on what is found."""

from __future__ import annotations

from functools import cached_property

from jokulmist.errors import SettingError
from jokulmist.studies.search.candidates import Board, Instalment
from jokulmist.studies.search.methods.protocol import SearchMethod, whole_steps
from jokulmist.studies.search.space import Settings

MOST_GRID = 10_000


class Random(SearchMethod):
    """Every candidate drawn at random. Hard to beat with few candidates; the measure of every other method.

    Bergstra and Bengio (2012), "Random search for hyper-parameter optimization".
    """

    def next(self, board: Board) -> Instalment | None:
        number = len(board.candidates)
        if number >= self.problem.candidates:
            return None
        return self.train(board, self.problem.space.sample(self.problem.draw(number)))


class GridSearch(SearchMethod):
    """Every combination of the values, in the order of the settings; of a range so many values, both bounds among
    them."""

    @cached_property
    def combinations(self) -> list[Settings]:
        combinations: list[Settings] = []
        for settings in self.problem.space.grid(self.problem.points):
            combinations.append(settings)
            if len(combinations) > MOST_GRID:
                raise SettingError(
                    f"the grid has more than {MOST_GRID:,} combinations. Take fewer `points` (now "
                    f"{self.problem.points}) or fewer "
                    f'settings, or search by `method = "random"`.'
                )
        return combinations

    @property
    def decisions(self) -> float:
        return float(len(self.combinations) * whole_steps(self.problem))

    def next(self, board: Board) -> Instalment | None:
        number = len(board.candidates)
        return None if number >= len(self.combinations) else self.train(board, self.combinations[number])
