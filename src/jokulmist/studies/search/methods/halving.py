"""Successive halving: many candidates are trained a little, the best of them further, with promotion as results come
in."""

from __future__ import annotations

import math
from itertools import pairwise

from jokulmist.errors import SettingError
from jokulmist.studies.search.candidates import OPEN, Board, Candidate, Instalment
from jokulmist.studies.search.methods.protocol import ByScore, SearchProblem, halts, whole_steps


class Halving(ByScore):
    """Of the candidates that reached a rung, one in so many goes on to the next, as soon as it is among the best so
    far.

    Jamieson and Talwalkar (2016), "Non-stochastic best arm identification and hyperparameter optimization"; promotion
    as results come in after Li et al. (2020), "A system for massively parallel hyperparameter tuning", algorithm 2.

    Notes
    -----
    Differs from the paper: there are no more candidates than asked for, and in the end the best of the highest rung is
    trained to the end of the plan in any case. Fails when a short training says nothing of a long one: a high learning
    rate looks good early.
    """

    def __init__(self, problem: SearchProblem) -> None:
        if not whole_steps(problem):
            raise SettingError(
                "halving trains to shares of a run, so the plan must give its length in `steps`, not in `episodes`."
            )
        self.problem = problem
        # From the lowest rung to the whole plan.
        self.rungs = halts(problem, [problem.one_in ** -(problem.rungs - 1 - k) for k in range(problem.rungs)])
        self.untils = self.rungs[::-1]

    @property
    def decisions(self) -> float:
        total, before = 0.0, 0
        for k, rung in enumerate(self.rungs):
            until = rung or whole_steps(self.problem)
            total += max(self.problem.candidates // self.problem.one_in**k, 1) * (until - before)
            before = until
        return total

    def next(self, board: Board) -> Instalment | None:
        for low, high in reversed(list(pairwise(self.rungs))):
            promoted = self._promoted(board, low, high)
            if promoted is not None:
                return Instalment(promoted.number, high)
        if len(board.candidates) < self.problem.candidates:
            number = len(board.candidates)
            return Instalment(board.add(self.problem.space.sample(self.problem.draw(number))).number, self.rungs[0])
        if board.running:
            return None
        return self._last_word(board)

    def _promoted(self, board: Board, low: int, high: int) -> Candidate | None:
        """The best candidate of a rung that is due to go on."""
        ranked = board.ranked(low)
        for merit, candidate in ranked[: len(ranked) // self.problem.one_in]:
            if math.isfinite(merit) and self._stands(candidate, high):
                return candidate
        return None

    def _stands(self, candidate: Candidate, high: int) -> bool:
        """Whether it waits below a rung, and is not on its way there."""
        return candidate.status == OPEN and candidate.until is None and str(high) not in candidate.scores

    def _last_word(self, board: Board) -> Instalment | None:
        """Nobody may have come to the end of the plan: few candidates, or the promoted ones failed."""
        best = board.best(self.untils)
        if best is None or best[1] == self.rungs[-1]:
            return None
        candidate, until = best
        return Instalment(candidate.number, self.rungs[self.rungs.index(until) + 1])
