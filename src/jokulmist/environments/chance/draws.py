"""Chance, as `begin`, `advance` and sensors ask for it.

Every draw is a transform of base noise (`noise.py`), written once against ``xp`` so that NumPy and a traced loop give
the same numbers up to rounding. No draw keeps a key or a generator: compiled, the base noise of a whole chunk is made
before the loop, which is what makes the loop fast. The first trace counts what a method asks for.

Accuracy. Uniform base numbers have 24 bits, so that no draw resolves probabilities below 6e-8. Poisson and binomial
invert the distribution function: summed up to a mean of 12, and above it by the expansion of the quantile around the
normal one (Giles, 2016, "Algorithm 955", eq. 8; Cornish and Fisher, 1938), with an error in probability below 2e-3.
Gamma takes the first accepted of 8 proposals of Marsaglia and Tsang (2000); all are refused with probability below
1e-9, and then the mean is used.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from types import ModuleType
from typing import Any

import numpy as np

from jokulmist.arrays import Array
from jokulmist.environments.chance.noise import BaseKind, Noise, Stream
from jokulmist.errors import NoiseError

Dims = int | Sequence[int]
SUMMED_MEAN = 12.0
SUMMED_TERMS = 40
LEAST_TERM = 2.0**-24
PROPOSALS = 8
LISTED_TURNS = 256


@dataclass(frozen=True)
class Request:
    """One call on a draw: how many base numbers of which kind."""

    kind: BaseKind
    width: int


def _dims(shape: Dims) -> tuple[int, ...]:
    if type(shape) is tuple:
        return shape
    return (shape,) if isinstance(shape, int) else tuple(shape)


class Draw:
    """The source of chance that an environment's methods are given.

    Every distribution takes ``shape=``: ``()`` gives a single number, anything else an array.
    """

    xp: ModuleType = np

    def _take(self, kind: BaseKind, shape: tuple[int, ...]) -> Any:
        raise NotImplementedError

    def settle(self, value: Any) -> Any:
        """The same value; compiled, it is computed once, and not again in each place that reads it."""
        return value

    def uniform(self, low: Any = 0.0, high: Any = 1.0, shape: Dims = ()) -> Any:
        """Uniform in ``[low, high)``."""
        return low + (high - low) * self._take("uniform", _dims(shape))

    def normal(self, mean: Any = 0.0, sd: Any = 1.0, shape: Dims = ()) -> Any:
        """Normal with the given mean and standard deviation."""
        return mean + sd * self._take("normal", _dims(shape))

    def integers(self, low: Any, high: Any, shape: Dims = ()) -> Any:
        """A whole number, each from `low` to ``high - 1`` equally likely; the span must stay below 2**24."""
        u = self._take("uniform", _dims(shape))
        span = high - low
        if isinstance(u, float):
            if span < 1:
                raise NoiseError(f"`draw.integers({low}, {high})` has no value to give; `high` must exceed `low`.")
            return int(low) + min(int(u * span), int(span) - 1)
        # A product in float32 can round up to the span itself.
        step = self.xp.minimum(self.xp.floor(u * span), span - 1)
        return self.xp.asarray(low + step, dtype=self.xp.int32)

    def bernoulli(self, probability: Any = 0.5, shape: Dims = ()) -> Any:
        """True with the given probability."""
        return self._take("uniform", _dims(shape)) < probability

    def exponential(self, scale: Any = 1.0, shape: Dims = ()) -> Any:
        """Exponential with mean `scale`."""
        return self.settle(-scale * self.xp.log1p(-self._take("uniform", _dims(shape))))

    def lognormal(self, mean: Any = 0.0, sd: Any = 1.0, shape: Dims = ()) -> Any:
        """Exponential of a normal number with the given mean and standard deviation."""
        return self.settle(self.xp.exp(mean + sd * self._take("normal", _dims(shape))))

    def poisson(self, mean: Any, shape: Dims = ()) -> Any:
        """A count with the given mean, as a whole number (int32 in arrays)."""
        u = self._take("uniform", () if shape == () else _dims(shape))
        if isinstance(u, float) and isinstance(mean, (int, float)):
            mean = float(mean)
            if not 0.0 <= mean < math.inf:
                raise NoiseError(f"`draw.poisson` needs a mean of at least 0; got {mean!r}.")
            if mean <= SUMMED_MEAN:
                return _summed_poisson(u, mean)
        return self.settle(self._as_whole(_poisson(self.xp, u, mean), u))

    def binomial(self, count: Any, probability: Any, shape: Dims = ()) -> Any:
        """Successes among `count` trials, as a whole number (int32 in arrays)."""
        u = self._take("uniform", _dims(shape))
        if isinstance(u, float) and not (count >= 0 and 0.0 <= probability <= 1.0):
            raise NoiseError(
                f"`draw.binomial` needs a count of at least 0 and a probability in [0, 1]; got {count!r}, "
                f"{probability!r}."
            )
        return self.settle(self._as_whole(_binomial(self.xp, u, count, probability), u))

    def gamma(self, form: Any, scale: Any = 1.0, shape: Dims = ()) -> Any:
        """Gamma with shape parameter `form` (k) and the given scale; the mean is ``form * scale``."""
        return self.settle(scale * self.xp.exp(self._log_gamma(form, shape)))

    def _log_gamma(self, form: Any, shape: Dims) -> Any:
        dims = _dims(shape)
        z = self._take("normal", (*dims, PROPOSALS))
        u = self._take("uniform", (*dims, PROPOSALS + 1))
        return _log_gamma(self.xp, z, u, form)

    def beta(self, a: Any, b: Any, shape: Dims = ()) -> Any:
        """Beta on (0, 1) with mean ``a / (a + b)``."""
        first, second = self._log_gamma(a, shape), self._log_gamma(b, shape)
        # In logarithms: with small parameters both gamma numbers are too small for single precision.
        return self.settle(self.xp.exp(-self.xp.logaddexp(0.0, second - first)))

    def pick(self, items: Any, weights: Any = None, shape: Dims = ()) -> Any:
        """One of `items` (a sequence, or a number n for 0 to n - 1), with probabilities in proportion to `weights`."""
        count = items if isinstance(items, int) else len(items)
        if count < 1:
            raise NoiseError("`draw.pick` needs at least one item to pick from.")
        if weights is None:
            index = self.integers(0, count, shape)
        else:
            reach = self.xp.cumsum(self.xp.asarray(weights, dtype=self.xp.float32))
            if reach.shape != (count,):
                raise NoiseError(f"`draw.pick` needs one weight an item; got {reach.shape[0]} for {count}.")
            u = self.xp.asarray(self._take("uniform", _dims(shape)), dtype=self.xp.float32)
            index = self.xp.sum(u[..., None] * reach[-1] >= reach[:-1], axis=-1)
            index = int(index) if isinstance(index, np.integer) else index
        if isinstance(items, int):
            return index
        return items[index] if isinstance(index, int) else self.xp.asarray(items)[index]

    def permutation(self, count: int) -> Any:
        """The numbers 0 to ``count - 1`` in random order, an int array of shape ``(count,)``."""
        order = self.xp.rint(self._take("order", (count,)))  # exact in float32 up to 2**24
        return self.xp.asarray(order, dtype=self.xp.int32)

    def _as_whole(self, value: Any, like: Any) -> Any:
        return int(value) if isinstance(like, float) else self.xp.asarray(value, dtype=self.xp.int32)


class PlainDraw(Draw):
    """Draws of one stream on a plain lane; `for_step` moves it to a copy and a turn.

    Single numbers are kept as nested lists, because indexing a list is several times faster than indexing an array for
    one element; a short stretch of turns at a time, because a long one falls out of the processor's cache.
    """

    def __init__(self, noise: Noise, stream: Stream) -> None:
        self._noise = noise
        self._stream = stream
        self._scalars: dict[tuple[int, str], list[list[float]]] = {}
        self._block_turns = noise.block_turns(1, noise.copies)
        self._listed_turns = min(self._block_turns, LISTED_TURNS)
        self._listed = -1
        self._arrays: dict[tuple[int, str, int], tuple[int, Any]] = {}
        self._requests = 0
        self._copy = 0
        self._turn = -1
        self._row = 0

    def for_step(self, turn: int, copy: int) -> PlainDraw:
        """Begin the draws of one copy's turn."""
        self._requests = 0
        self._copy = copy
        if turn != self._turn:
            self._turn = turn
            self._row = turn % self._listed_turns
            if turn - self._row != self._listed:
                self._listed = turn - self._row
                self._scalars = {}
        return self

    def uniform(self, low: Any = 0.0, high: Any = 1.0, shape: Dims = ()) -> Any:
        if shape == ():
            return low + (high - low) * self._number("uniform")
        return low + (high - low) * self._take("uniform", _dims(shape))

    def normal(self, mean: Any = 0.0, sd: Any = 1.0, shape: Dims = ()) -> Any:
        if shape == ():
            return mean + sd * self._number("normal")
        return mean + sd * self._take("normal", _dims(shape))

    def _number(self, kind: BaseKind) -> float:
        """A single base number."""
        request = self._requests
        self._requests = request + 1
        key = (request, kind)
        if key not in self._scalars:
            first = self._listed % self._block_turns
            block = self._block(request, kind, 1, self._listed // self._block_turns)
            self._scalars[key] = block[first : first + self._listed_turns, :, 0].tolist()
        return self._scalars[key][self._row][self._copy]

    def _take(self, kind: BaseKind, shape: tuple[int, ...]) -> Any:
        if not shape:
            return self._number(kind)
        request = self._requests
        self._requests = request + 1
        width = math.prod(shape)
        number, row = divmod(self._turn, self._noise.block_turns(width, self._noise.copies))
        return self._block(request, kind, width, number)[row, self._copy].reshape(shape)

    def _block(self, request: int, kind: BaseKind, width: int, number: int) -> Any:
        key = (request, kind, width)
        cached = self._arrays.get(key)
        if cached is None or cached[0] != number:
            cached = (number, self._noise.block(self._stream, request, kind, width, number, self._noise.copies))
            self._arrays[key] = cached
        return cached[1]


class CountingDraw(Draw):
    """Counts what a method asks for, giving the middle of each distribution; used under the first trace."""

    def __init__(self, xp: ModuleType) -> None:
        self.xp = xp
        self.requests: list[Request] = []

    def _take(self, kind: BaseKind, shape: tuple[int, ...]) -> Any:
        self.requests.append(Request(kind, math.prod(shape)))
        if kind == "order":
            return self.xp.arange(shape[-1], dtype=self.xp.float32)
        return self.xp.full(shape, 0.5 if kind == "uniform" else 0.0, dtype=self.xp.float32)


class RowDraw(Draw):
    """Draws from base noise that is already at hand: one array of shape ``(width,)`` a request.

    `one` is 1.0, but not known to the compiler as such. A division by it is the last step of a long transform, because
    a division is what keeps the compiler from computing the whole transform again for each of its readers (measured:
    12 against 5 million steps per second).
    """

    def __init__(self, xp: ModuleType, rows: Sequence[Any], unit: Any) -> None:
        self.xp = xp
        self._rows = rows
        self._unit = unit
        self._requests = 0

    def _take(self, kind: BaseKind, shape: tuple[int, ...]) -> Any:
        row = self._rows[self._requests]
        self._requests += 1
        return row.reshape(shape)

    def settle(self, value: Any) -> Any:
        if value.dtype == self.xp.int32:
            as_float = self.xp.asarray(value, dtype=self.xp.float32)  # exact up to 2**24
            return self.xp.asarray(as_float / self._unit, dtype=self.xp.int32)
        return value / self._unit


def _summed_poisson(u: float, mean: float) -> int:
    term = reach = math.exp(-mean)
    count = 0
    while u >= reach and count < SUMMED_TERMS - 1:
        count += 1
        term *= mean / count
        reach += term
    return count


def _poisson(xp: ModuleType, u: Any, mean: Any) -> Any:
    small = xp.minimum(mean, SUMMED_MEAN)
    term = xp.exp(-small)
    reach, count = term, 0.0 * u
    for k in range(1, SUMMED_TERMS):
        term = term * (small * (1.0 / k))
        # The sum stalls a little below 1 in single precision: a term that adds nothing is not counted.
        count = count + ((u >= reach) & (term > LEAST_TERM * reach))
        reach = reach + term
    large = xp.maximum(mean, SUMMED_MEAN)
    root = xp.sqrt(large)
    z = normal_quantile(xp, u)
    wide = xp.floor(large + root * z + (1.0 / 3.0 + z * z / 6.0) - (z / 36.0 + z**3 / 72.0) / root)
    return xp.where(mean <= SUMMED_MEAN, count, xp.maximum(wide, 0.0))


def _binomial(xp: ModuleType, u: Any, trials: Any, probability: Any) -> Any:
    # Counting the rarer of success and failure keeps the mean, and so the sum, small.
    flipped = probability > 0.5
    p = xp.where(flipped, 1.0 - probability, probability)
    u = xp.where(flipped, 1.0 - u, u)
    mean = trials * p
    odds = p / (1.0 - p)
    safe = xp.where(mean <= SUMMED_MEAN, trials, 1.0)
    term = xp.exp(safe * xp.log1p(-p))
    reach, count = term, 0.0 * u
    for k in range(1, SUMMED_TERMS):
        term = term * xp.maximum((safe - (k - 1)) * (1.0 / k), 0.0) * odds
        count = count + ((u >= reach) & (term > LEAST_TERM * reach))
        reach = reach + term
    spread = xp.sqrt(xp.maximum(mean * (1.0 - p), 1e-6))
    z = normal_quantile(xp, u)
    skew = (1.0 - 2.0 * p) / spread
    excess = (1.0 - 6.0 * p * (1.0 - p)) / spread**2
    bent = z + skew * (z * z - 1.0) / 6.0 + excess * (z**3 - 3.0 * z) / 24.0 - skew**2 * (2.0 * z**3 - 5.0 * z) / 36.0
    wide = xp.floor(mean + spread * bent + 0.5 - z / (24.0 * spread))
    successes = xp.clip(xp.where(mean <= SUMMED_MEAN, count, wide), 0.0, trials)
    return xp.where(flipped, trials - successes, successes)


def _log_gamma(xp: ModuleType, z: Array, u: Array, form: Any) -> Any:
    """The logarithm of a gamma number: Marsaglia and Tsang (2000), section 4, with the boost of section 6 below a form
    of 1."""
    boosted = form < 1.0
    d = xp.where(boosted, form + 1.0, form) - 1.0 / 3.0
    v = (1.0 + z / xp.sqrt(9.0 * d)) ** 3
    log_v = xp.log(xp.where(v > 0.0, v, 1.0))
    chance = xp.maximum(u[..., :PROPOSALS], 1e-8)
    accepted = (v > 0.0) & (xp.log(chance) < 0.5 * z * z + d - d * v + d * log_v)
    first = xp.argmax(accepted, axis=-1)
    chosen_v = xp.take_along_axis(v, first[..., None], axis=-1)[..., 0]
    value = d * xp.where(xp.any(accepted, axis=-1), chosen_v, 1.0)
    power = 1.0 / xp.where(boosted, form, 1.0)
    return xp.log(value) + xp.where(boosted, power * xp.log(xp.maximum(u[..., PROPOSALS], 1e-8)), 0.0)


def normal_quantile(xp: ModuleType, u: Any) -> Any:
    """The normal quantile of `u`, relative error 3e-7 (Giles, 2010, "Approximating the erfinv function", table 1)."""
    x = xp.clip(2.0 * u - 1.0, -1.0 + 1.2e-7, 1.0 - 1.2e-7)
    w = -xp.log((1.0 - x) * (1.0 + x))
    central, tail = w - 2.5, xp.sqrt(xp.maximum(w, 5.0)) - 3.0
    p = 2.81022636e-08
    for c in (
        3.43273939e-07,
        -3.5233877e-06,
        -4.39150654e-06,
        0.00021858087,
        -0.00125372503,
        -0.00417768164,
        0.246640727,
        1.50140941,
    ):
        p = c + p * central
    q = -0.000200214257
    for c in (
        0.000100950558,
        0.00134934322,
        -0.00367342844,
        0.00573950773,
        -0.0076224613,
        0.00943887047,
        1.00167406,
        2.83297682,
    ):
        q = c + q * tail
    return math.sqrt(2.0) * xp.where(w < 5.0, p, q) * x
