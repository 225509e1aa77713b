"""What every method of a search is: given what is known, it names the next leg."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, Protocol

import numpy as np

from jokulmist.studies.search.candidates import Board, Candidate, Instalment
from jokulmist.studies.search.space import Space
from jokulmist.training.plans.plan import Plan


@dataclass(frozen=True)
class Known:
    """What a method goes by.

    Parameters
    ----------
    space : Space
    plan : Plan
        The plan that the candidates change.
    candidates : int
    seed : int
        Of what the method draws.
    points : int
        Of a grid: values of each range.
    one_in, rungs : int
        Of halving: of so many candidates one goes on, so often.
    looks : int
        Of a population: how often members are compared.
    """

    space: Space
    plan: Plan
    candidates: int
    seed: int = 0
    points: int = 5
    one_in: int = 3
    rungs: int = 3
    looks: int = 10

    def draw(self, *key: int) -> np.random.Generator:
        """Chance that hangs on the seed and a key alone, never on what was drawn before."""
        return np.random.default_rng([self.seed, *key])


class Method(Protocol):
    """A way to search.

    Notes
    -----
    It may hold nothing that cannot be found again from the board: a search goes on from there after it was killed.
    """

    def __init__(self, asked: Known) -> None: ...

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


def whole(asked: Known) -> int:
    """The decisions of a whole run; 0 where the plan counts episodes."""
    return asked.plan.training.steps or 0


def halts(asked: Any, shares: list[float]) -> list[int]:
    """Decisions at which to halt, for shares of the plan; a share of 1 is 0, the whole plan."""
    return [0 if share >= 1.0 else max(1, round(whole(asked) * share)) for share in shares]
