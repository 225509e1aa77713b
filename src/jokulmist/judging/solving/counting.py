"""Every outcome of what an environment draws, one after another, with its chance.

A method is called again and again. Each of its draws answers with one of its outcomes; after each call the last draw
that has another takes it, as the digits of a counter do, until none has.
"""

from __future__ import annotations

import itertools
import math
import sys
from collections.abc import Callable, Iterator, Sequence
from functools import lru_cache
from pathlib import Path
from typing import Any, NoReturn

import numpy as np

from jokulmist.arrays import Array
from jokulmist.environments.chance.draws import Dims, Draw
from jokulmist.errors import BrokenEnvironment, SettingError

LEFT_OUT = 1e-9
MOST_ORDERED = 7
MOST_OUTCOMES = 1_000_000
PACKAGE = Path(__file__).resolve().parents[2]
MENDS = {
    "uniform": (
        "Where a chance is meant, use `draw.bernoulli(p)`; where steps of a range are meant, `draw.integers(0, 10) / "
        "10`"
    ),
    "normal": "Use a few values with their probabilities, e.g. `draw.pick([-1.0, 0.0, 1.0], weights=[1, 2, 1])`",
}


class CountedDraw(Draw):
    """A draw that goes through its outcomes.

    Attributes
    ----------
    chance : float
        Of all the outcomes that were taken in this call.
    """

    def __init__(self) -> None:
        self._branches: list[int] = []
        self._counts: list[int] = []
        self._requests = 0
        self.chance = 1.0

    def restart(self) -> None:
        """Begin a call."""
        self._requests, self.chance = 0, 1.0

    def next_branch(self) -> bool:
        """Take the next outcomes; whether there are any."""
        del self._branches[self._requests :], self._counts[self._requests :]
        while self._branches:
            if self._branches[-1] + 1 < self._counts[-1]:
                self._branches[-1] += 1
                return True
            self._branches.pop()
            self._counts.pop()
        return False

    def _among(self, probabilities: Sequence[float]) -> int:
        """The outcome of this draw: an index."""
        place = self._requests
        self._requests += 1
        if place == len(self._branches):
            self._branches.append(0)
            self._counts.append(len(probabilities))
        outcome = self._branches[place]
        self.chance *= probabilities[outcome]
        return outcome

    def _each(self, shape: Dims, function: Callable[..., Any], *arguments: Any) -> Any:
        """Draws of an array, one number after another."""
        dims = (shape,) if isinstance(shape, int) else tuple(shape)
        if not dims:
            return function(*arguments)
        parts = [np.broadcast_to(np.asarray(part), dims).reshape(-1).tolist() for part in arguments]
        values_found = [function(*values) for values in zip(*parts, strict=True)]
        return np.array(values_found).reshape(dims)

    def integers(self, low: Any, high: Any, shape: Dims = ()) -> Any:
        return self._each(shape, self._integer, low, high)

    def _integer(self, low: Any, high: Any) -> int:
        span = int(high) - int(low)
        if span < 1:
            raise BrokenEnvironment(f"`draw.integers({low}, {high})` has no value to give; `high` must exceed `low`.")
        return int(low) + self._among([1.0 / span] * span)

    def bernoulli(self, probability: Any = 0.5, shape: Dims = ()) -> Any:
        return self._each(shape, self._flag, probability)

    def _flag(self, probability: Any) -> bool:
        p = min(max(float(probability), 0.0), 1.0)
        if p in (0.0, 1.0):
            return p == 1.0
        return self._among([1.0 - p, p]) == 1

    def poisson(self, mean: Any, shape: Dims = ()) -> Any:
        return self._each(shape, lambda value: self._among(poisson_probabilities(float(value))), mean)

    def binomial(self, count: Any, probability: Array, shape: Dims = ()) -> Any:
        return self._each(shape, lambda n, p: self._among(binomial_probabilities(int(n), float(p))), count, probability)

    def pick(self, items: Any, weights: Any = None, shape: Dims = ()) -> Any:
        count = items if isinstance(items, int) else len(items)
        if count < 1:
            raise BrokenEnvironment("`draw.pick` needs at least one item to pick from.")
        item_weights = np.ones(count) if weights is None else np.asarray(weights, float)
        possible = np.flatnonzero(item_weights > 0.0)
        probabilities = (item_weights[possible] / item_weights[possible].sum()).tolist()
        dims = (shape,) if isinstance(shape, int) else tuple(shape)
        index = [int(possible[self._among(probabilities)]) for _ in range(math.prod(dims))]
        if not dims:
            return index[0] if isinstance(items, int) else items[index[0]]
        indices = np.array(index).reshape(dims)
        return indices if isinstance(items, int) else np.asarray(items)[indices]

    def permutation(self, count: int) -> Any:
        if count > MOST_ORDERED:
            _refuse(
                "permutation",
                f"it has more than {math.factorial(MOST_ORDERED):,} outcomes",
                f"Order at most {MOST_ORDERED}, or draw one after another",
            )
        orders = orders_of(count)
        return orders[self._among([1.0 / len(orders)] * len(orders))]

    def _take(self, kind: str, shape: tuple[int, ...]) -> Any:
        noun = "normal" if kind == "normal" else "uniform"
        _refuse(None, "it may give any number", MENDS[noun])


def _refuse(name: str | None, why: str, fix: str) -> NoReturn:
    """Refuse a draw, with the line that asks for it."""
    frame, place = sys._getframe(1), ""
    while frame is not None:
        path = Path(frame.f_code.co_filename)
        is_own = PACKAGE in path.resolve().parents and (PACKAGE / "gallery") not in path.resolve().parents
        if not is_own:
            place = f" ({path.name}:{frame.f_lineno})"
            break
        if path.name == "draws.py":
            name = frame.f_code.co_name if not frame.f_code.co_name.startswith("_") else name
        frame = frame.f_back  # type: ignore[assignment]
    raise SettingError(f"the outcomes of `draw.{name}`{place} cannot be counted: {why}. {fix}.")


@lru_cache(maxsize=8)
def orders_of(count: int) -> list[Any]:
    return [np.array(order, np.int32) for order in itertools.permutations(range(count))]


@lru_cache(maxsize=4096)
def poisson_probabilities(mean: float) -> tuple[float, ...]:
    """The probabilities of 0, 1, ... of a Poisson count, until less than 1e-9 is left, which the last one has, too."""
    if not 0.0 <= mean < math.inf:
        raise BrokenEnvironment(f"`draw.poisson` needs a mean of at least 0; got {mean!r}.")
    probabilities, left, k = [], 1.0, 0
    while left > LEFT_OUT:
        chance = math.exp(k * math.log(mean) - mean - math.lgamma(k + 1)) if mean > 0.0 else float(k == 0)
        probabilities.append(chance)
        left -= chance
        k += 1
        if k > mean and chance < LEFT_OUT * 1e-3:  # what is left is an error of rounding
            break
    probabilities[-1] += max(left, 0.0)
    return tuple(probabilities)


@lru_cache(maxsize=4096)
def binomial_probabilities(count: int, probability: float) -> tuple[float, ...]:
    """The probabilities of 0 to `count` successes."""
    if count < 0 or not 0.0 <= probability <= 1.0:
        raise BrokenEnvironment(
            f"`draw.binomial` needs a count of at least 0 and a probability in [0, 1]; got {count!r}, {probability!r}."
        )
    return tuple(math.comb(count, k) * probability**k * (1.0 - probability) ** (count - k) for k in range(count + 1))


def outcomes(method: Callable[[CountedDraw], Any]) -> Iterator[tuple[Any, float]]:
    """What a method of a draw gives, once for each outcome, with the chance of it.

    Raises
    ------
    SettingError
        When outcomes cannot be counted, or are more than a million.

    Examples
    --------
    >>> list(outcomes(lambda draw: draw.integers(0, 2) + 10 * draw.bernoulli(0.25)))
    [(0, 0.375), (10, 0.125), (1, 0.375), (11, 0.125)]
    """
    draw, count = CountedDraw(), 0
    while True:
        draw.restart()
        outcome = method(draw)
        if draw.chance > 0.0:
            yield outcome, draw.chance
        count += 1
        if count > MOST_OUTCOMES:
            raise SettingError(
                f"one step has more than {MOST_OUTCOMES:,} outcomes. Draw fewer numbers, or among fewer values."
            )
        if not draw.next_branch():
            return
