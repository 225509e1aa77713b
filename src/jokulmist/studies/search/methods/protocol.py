"""What every method of a search is: given what is known, it names the next leg."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, Protocol

import numpy as np

from jokulmist.plans.plan import Plan
from jokulmist.studies.search.candidates import Board, Candidate, Instalment
from jokulmist.studies.search.space import Settings, Space


@dataclass(frozen=True)
class SearchProblem:
    """What a method goes by."""

    space: Space
    plan: Plan
    candidates: int
    seed: int = 0
    points: int = 5
    one_in: int = 3
    rungs: int = 3
    looks: int = 10

    def draw(self, *key: int) -> np.random.Generator:
        """Chance that depends on the seed and a key alone, never on what was drawn before."""
        return np.random.default_rng([self.seed, *key])


class Method(Protocol):
    """A way to search.

    Notes
    -----
    It may hold nothing that cannot be found again from the board: a search goes on from there after it was killed.
    """

    def __init__(self, problem: SearchProblem) -> None: ...

    @property
    def untils(self) -> list[int]:
        """Where candidates halt, from the end of the plan (0) downwards."""
        ...

    @property
    def decisions(self) -> float:
        """How many decisions a seed of all candidates will take altogether, about."""
        ...

    def next(self, board: Board) -> Instalment | None:
        """The next leg; None where there is none, or none before more is known. New candidates are put on the board."""
        ...

    def best(self, board: Board) -> tuple[Candidate, int] | None:
        """The candidate to prefer, of those that came furthest, and where it halted last."""
        ...


class ByScore:
    """A method whose winner has the best score."""

    untils: list[int]

    def best(self, board: Board) -> tuple[Candidate, int] | None:
        return board.best(self.untils)


class SearchMethod(ByScore):
    """Base of a search method of your own: say in `next` which candidate is trained next.

    A plan names it by ``method = "file.py:Name"``, and `jm.tune` takes the class. A search that was killed goes on from
    its board, so that a method may hold nothing which cannot be found again from there; chance comes from
    ``self.problem.draw(number)``.

    Attributes
    ----------
    problem : SearchProblem
        What is searched: `space`, whose `sample(draw)` gives the settings of a candidate, `plan`, `candidates`, `seed`.
    untils : list of int
        Decisions at which candidates halt, from the end of the plan (0) downwards.

    Examples
    --------
    >>> import jokulmist as jm
    >>> class FirstHalf(jm.parts.SearchMethod):
    ...     def next(self, board):
    ...         number = len(board.candidates)
    ...         if number >= self.problem.candidates // 2:
    ...             return None
    ...         return self.train(board, self.problem.space.sample(self.problem.draw(number)))
    >>> search = jm.tune(
    ...     jm.gallery.Tarn(), jm.QLearning(), over={"agent.bins": jm.among(2, 12)}, method=FirstHalf, candidates=4, steps=500,
    ...     again=0, workers=1,
    ... )
    >>> len(search.board.candidates)
    2
    """

    untils = [0]

    def __init__(self, problem: SearchProblem) -> None:
        self.problem = problem

    @property
    def decisions(self) -> float:
        """How many decisions a seed of all candidates will take altogether, about; for the forecast."""
        return float(self.problem.candidates * whole_steps(self.problem))

    def next(self, board: Board) -> Instalment | None:
        """What is trained next; None where there is nothing, or nothing before more is known.

        Parameters
        ----------
        board : Board
            The candidates so far, with their scores; `board.ranked(until)` has them from best to worst.
        """
        raise NotImplementedError

    def train(self, board: Board, settings: Settings, until: int = 0) -> Instalment:
        """Put a new candidate on the board, to be trained so many decisions (0 for the whole plan)."""
        return Instalment(board.add(settings).number, until)


def whole_steps(problem: SearchProblem) -> int:
    """The decisions of a whole run; 0 where the plan counts episodes."""
    return problem.plan.training.steps or 0


def halts(problem: Any, shares: list[float]) -> list[int]:
    """Decisions at which to halt, for shares of the plan; a share of 1 is 0, the whole plan."""
    return [0 if share >= 1.0 else max(1, round(whole_steps(problem) * share)) for share in shares]
