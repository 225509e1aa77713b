"""Many outcomes at once: `advance` traced over rows of states, decisions and what is drawn, in double precision.

A class that cannot be traced, or whose rows differ from what its methods give one at a time, is gone through one
outcome at a time.
"""

from __future__ import annotations

import math
from collections.abc import Iterator
from functools import cached_property
from typing import Any, NamedTuple

import jax
import jax.numpy as jnp
import numpy as np

from jokulmist.arrays import Array, NumpyArray
from jokulmist.environments.chance.draws import Dims, Draw
from jokulmist.environments.declaration.state import Field, zero_of
from jokulmist.environments.environment import Environment
from jokulmist.environments.transition.stepping import Stepper
from jokulmist.errors import JokulmistError
from jokulmist.judging.solving.counting import MOST_ORDERED, MOST_OUTCOMES, orders_of, outcomes, poisson_probabilities
from jokulmist.lanes.compiled.copies import CompiledEnvironment

ROWS = 32_768
FEW_ROWS = 2_048
COMPARED = 20
OF_MEAN = 0  # in the place of how many outcomes: that is told by the mean
TOLERANCE = 1e-11
KINDS: dict[str, Any] = {"f": np.float64, "i": np.int64, "u": np.int64, "b": np.bool_}


class Unequal(Exception):
    """Rows cannot be had, or are not what the methods give one at a time."""


class Outcomes(NamedTuple):
    """What some decisions may lead to, one row an outcome, in the order of the decisions.

    Attributes
    ----------
    decision : int array, shape ``(rows,)``
        Which of the decisions.
    chance : float array, shape ``(rows,)``
    after : dict of str to array
        The fields of the state, without flows.
    reward : float array, shape ``(rows,)`` or ``(rows, players)``
    closed : bool array, shape ``(rows,)``
    """

    decision: NumpyArray
    chance: NumpyArray
    after: dict[str, NumpyArray]
    reward: NumpyArray
    closed: NumpyArray


class DigitDraw(Draw):
    """A draw whose outcomes are told: the k-th number that is drawn has the outcome `digits[k]`.

    Attributes
    ----------
    chance
        Of all outcomes together.
    counts, signs : list
        Of each number that was drawn, how many outcomes it has, and what that follows from.
    """

    xp = jnp

    def __init__(self, digits: Any, left: Any) -> None:
        self._digits, self._left = digits, left
        self.chance: Any = 1.0
        self.counts: list[Any] = []
        self.signs: list[Any] = []

    def _among(self, shape: Dims, count: Any, sign: Any, chance_of: Any) -> Any:
        """The outcomes of some numbers; `chance_of` gives the chance of each from its digit and what is left over for
        the last."""
        dims = (shape,) if isinstance(shape, int) else tuple(shape)
        size, place = math.prod(dims), len(self.counts)
        counts, signs = (jnp.broadcast_to(jnp.asarray(part), dims).reshape(-1) for part in (count, sign))
        self.counts.extend(counts[k].astype(jnp.int32) for k in range(size))
        self.signs.extend(signs[k].astype(jnp.float64) for k in range(size))
        if self._digits is None:  # only counting
            return jnp.zeros(dims, jnp.int64)
        digits = self._digits[place : place + size].reshape(dims)
        self.chance = self.chance * jnp.prod(chance_of(digits, self._left[place : place + size].reshape(dims)))
        return digits

    def integers(self, low: Any, high: Any, shape: Dims = ()) -> Any:
        span = jnp.asarray(high) - jnp.asarray(low)
        return jnp.asarray(low) + self._among(shape, span, span, lambda digit, _: 1.0 / (span + 0 * digit))

    def bernoulli(self, probability: Any = 0.5, shape: Dims = ()) -> Any:
        p = jnp.clip(jnp.asarray(probability, jnp.float64), 0.0, 1.0)
        return self._among(shape, 2, 2.0, lambda digit, _: jnp.where(digit == 1, p, 1.0 - p)) == 1

    def poisson(self, mean: Any, shape: Dims = ()) -> Any:
        m = jnp.asarray(mean, jnp.float64)

        def chance_of(digit: Any, left: Any) -> Any:
            return _poisson_chance(digit, m) + left

        return self._among(shape, OF_MEAN, m, chance_of)

    def binomial(self, count: Any, probability: Any, shape: Dims = ()) -> Any:
        n, p = jnp.asarray(count, jnp.float64), jnp.asarray(probability, jnp.float64)

        def chance_of(digit: Any, _: Any) -> Any:
            ways = jnp.round(
                jnp.exp(jax.lax.lgamma(n + 1.0) - jax.lax.lgamma(digit + 1.0) - jax.lax.lgamma(n - digit + 1.0))
            )
            return ways * p**digit * (1.0 - p) ** (n - digit)

        return self._among(shape, n + 1, n, chance_of)

    def pick(self, items: Any, weights: Any = None, shape: Dims = ()) -> Any:
        count = items if isinstance(items, int) else len(items)
        item_weights = jnp.ones(count) if weights is None else jnp.asarray(weights, jnp.float64)
        shares = item_weights / jnp.sum(item_weights)
        digits = self._among(shape, count, float(count), lambda digit, _: shares[digit])
        return digits if isinstance(items, int) else jnp.asarray(items)[digits]

    def permutation(self, count: int) -> Any:
        if count > MOST_ORDERED:
            raise Unequal
        orders = np.array(orders_of(count))
        chance = 1.0 / len(orders)
        return jnp.asarray(orders)[self._among((), len(orders), float(len(orders)), lambda *_: jnp.float64(chance))]

    def _take(self, kind: Any, shape: tuple[int, ...]) -> Any:
        raise Unequal


def _poisson_chance(digit: Any, mean: Any) -> Array:
    probability = jnp.exp(digit * jnp.log(jnp.where(mean > 0.0, mean, 1.0)) - mean - jax.lax.lgamma(digit + 1.0))
    return jnp.where(mean > 0.0, probability, jnp.where(digit == 0, 1.0, 0.0))


class Batches:
    """The outcomes of many decisions of an environment."""

    def __init__(self, environment: Environment) -> None:
        self._compiled = CompiledEnvironment(environment)
        self._stepper = Stepper(environment)
        self._description = self._compiled.description
        self._all = self._description.fields
        self.fields = tuple(f for f in self._all if f.role != "flow")
        self._outline = self._description.outline
        self._compared = 0

    @cached_property
    def numbers(self) -> dict[str, Any]:
        env = self._compiled.environment
        return {p.name: _wide(getattr(env, p.name)) for p in self._outline.parameters if not p.fixed}

    def outcomes(self, states: list[Any], decisions: list[Any], of_state: NumpyArray) -> Iterator[Outcomes]:
        """What decisions may lead to, some of them after another."""
        columns = {f.name: np.array([s.__dict__[f.name] for s in states], held_as(f)) for f in self.fields}
        actions = jax.tree.map(lambda *leaves: np.stack([_wide(leaf) for leaf in leaves]), *decisions)
        with jax.enable_x64(True):
            try:
                yield from self._in_pieces(states, decisions, columns, actions, of_state)
            except (Unequal, JokulmistError):
                raise
            except Exception as failure:  # whatever tracing raises: the class is not made for it
                raise Unequal from failure

    def _counted(
        self, columns: dict[str, NumpyArray], actions: Array, of_state: NumpyArray
    ) -> tuple[NumpyArray, NumpyArray, NumpyArray]:
        """How many outcomes each number that is drawn has, what that follows from, and what the last outcome's chance
        has beside its own; shapes ``(decisions, numbers)``."""
        counted_parts = []
        for begin in range(0, len(of_state), ROWS):
            rows_now = np.arange(begin, min(begin + ROWS, len(of_state)))
            rows = _padded(rows_now)
            before = {name: column[of_state[rows]] for name, column in columns.items()}
            counted = self._counting(self.numbers, before, jax.tree.map(lambda leaf, r=rows: leaf[r], actions))
            counted_parts.append([np.asarray(part)[: len(rows_now)] for part in counted])
        counts, signs = (np.concatenate(parts) for parts in zip(*counted_parts, strict=True))
        left = np.zeros(counts.shape)
        poisson = counts == OF_MEAN
        for mean in np.unique(signs[poisson]).tolist():
            probabilities, is_poisson = poisson_probabilities(mean), poisson & (signs == mean)
            counts[is_poisson] = len(probabilities)
            left[is_poisson] = probabilities[-1] - float(
                _poisson_chance(np.float64(len(probabilities) - 1), np.float64(mean))
            )
        return counts, signs, left

    def _in_pieces(
        self,
        states: list[Any],
        decisions: list[Any],
        columns: dict[str, NumpyArray],
        actions: Array,
        of_state: NumpyArray,
    ) -> Iterator[Outcomes]:
        counts, signs, beside = self._counted(columns, actions, of_state)
        totals = counts.prod(axis=1, dtype=float)
        if totals.min() < 1 or totals.max() > MOST_OUTCOMES:  # refused one at a time, with the line
            raise Unequal
        totals = totals.astype(np.int64)
        ends = np.cumsum(totals)
        for begin in range(0, int(ends[-1]), ROWS):
            row = np.arange(begin, min(begin + ROWS, int(ends[-1])))
            decision = np.searchsorted(ends, row, side="right")
            within = row - (ends[decision] - totals[decision])
            digits = np.zeros((len(row), counts.shape[1]), np.int64)
            for k in range(counts.shape[1] - 1, -1, -1):  # the last number takes its outcomes first
                digits[:, k] = within % counts[decision, k]
                within //= counts[decision, k]
            left = np.where(digits == counts[decision] - 1, beside[decision], 0.0)
            rows = _padded(np.arange(len(row)))
            before = {name: column[of_state[decision[rows]]] for name, column in columns.items()}
            action = jax.tree.map(lambda leaf, d=decision[rows]: leaf[d], actions)
            pieces = self._leading(self.numbers, before, action, digits[rows], left[rows])
            after, terms, closed, chance, repeats = jax.tree.map(lambda leaf, r=row: np.asarray(leaf)[: len(r)], pieces)
            # Where what is drawn depends on what was drawn before, the outcomes are not those that were counted.
            if not np.allclose(repeats, signs[decision], rtol=1e-12, atol=0.0):
                raise Unequal
            weights = np.asarray(self._description.shares or self._description.weights, float)
            reward = np.zeros((len(row), *weights.shape[1:]))
            for term, weight in zip(terms, weights, strict=True):
                reward += np.multiply.outer(term, weight)
            outcomes = Outcomes(decision, chance, after, reward, closed)
            if self._compared < COMPARED:
                self._compare(states, decisions, of_state, outcomes)
            is_possible = chance > 0.0
            after_values = {name: column[is_possible] for name, column in after.items()}
            yield Outcomes(
                decision[is_possible], chance[is_possible], after_values, reward[is_possible], closed[is_possible]
            )

    def _compare(self, states: list[Any], decisions: list[Any], of_state: NumpyArray, all_outcomes: Outcomes) -> None:
        """Some of the decisions against what the methods give one at a time."""
        complete = np.unique(all_outcomes.decision)[1:-1]  # the first and the last may go on in other pieces
        step = self._stepper
        for k in complete[:: max(1, len(complete) // COMPARED)]:
            before, action = states[of_state[k]], decisions[k]
            rows_of = np.flatnonzero((all_outcomes.decision == k) & (all_outcomes.chance > 0.0))
            plain = list(outcomes(lambda draw, a=action, b=before: step.advance(b, a, draw)))  # type: ignore[misc]
            if len(plain) != len(rows_of):
                raise Unequal
            for row, (after, chance) in zip(rows_of, plain, strict=True):
                reward: Any = 0.0
                for method, judge, weight in step.direct_terms:
                    reward = reward + weight * float(method(after) if judge is None else judge(before, action, after))
                same = all(
                    np.allclose(after.__dict__[n], c[row], rtol=TOLERANCE, atol=TOLERANCE)
                    for n, c in all_outcomes.after.items()
                )
                if not (
                    same
                    and bool(step.satisfied(before, action, after, 0)) == bool(all_outcomes.closed[row])
                    and math.isclose(chance, all_outcomes.chance[row], rel_tol=1e-9, abs_tol=1e-13)
                    and np.allclose(reward, all_outcomes.reward[row], rtol=1e-9, atol=1e-12)
                ):
                    raise Unequal
            self._compared += 1

    @cached_property
    def _counting(self) -> Any:
        def single(numbers: Any, before: dict[str, Any], action: Any) -> Any:
            draw = DigitDraw(None, None)
            self._advanced(numbers, before, action, draw)
            if not draw.counts:
                return jnp.zeros(0, jnp.int32), jnp.zeros(0)
            return jnp.stack(draw.counts), jnp.stack(draw.signs)

        return jax.jit(jax.vmap(single, in_axes=(None, 0, 0)))

    @cached_property
    def _leading(self) -> Any:
        def single(numbers: Any, before: dict[str, Any], action: Any, digits: Any, left: Any) -> Any:
            draw = DigitDraw(digits, left)
            twin, first, after = self._advanced(numbers, before, action, draw)
            arguments = {"before": first, "action": action, "after": after}

            def call(method: Any) -> Any:
                return jnp.asarray(getattr(twin, method.name)(*[arguments[name] for name in method.takes]))

            closed = jnp.asarray(False)
            for method in (*self._outline.endings, *self._outline.cuts):
                closed = closed | call(method)
            terms = tuple(call(term).astype(jnp.float64) for term in self._outline.terms)
            values = {f.name: after.__dict__[f.name] for f in self.fields}
            signs = jnp.stack(draw.signs) if draw.signs else jnp.zeros(0)
            return values, terms, closed, jnp.asarray(draw.chance, jnp.float64), signs

        return jax.jit(jax.vmap(single, in_axes=(None, 0, 0, 0, 0)))

    def _advanced(self, numbers: Any, before: dict[str, Any], action: Any, draw: DigitDraw) -> tuple[Any, Any, Any]:
        """The instance, the state before, and the state after one advance."""
        twin, cls = self._compiled.twin(numbers), type(self._compiled.environment).State
        first = object.__new__(cls)
        first.__dict__.update(
            {f.name: jnp.asarray(zero_of(f), held_as(f)) if f.role == "flow" else before[f.name] for f in self._all}
        )
        state = twin.advance(first, action, draw)
        if type(state) is not cls:
            raise Unequal
        after = object.__new__(cls)
        for f in self._all:
            value = jnp.asarray(state.__dict__[f.name])
            if value.shape != f.shape:
                raise Unequal
            after.__dict__[f.name] = value.astype(held_as(f))
        return twin, first, after


def held_as(field: Field) -> Any:
    """The dtype of a field: of one number Python's own, of several the declared one."""
    dtype = np.dtype(field.dtype)
    return KINDS[dtype.kind] if field.scalar else dtype


def _wide(value: Any) -> NumpyArray:
    array = np.asarray(value)
    return array.astype(KINDS[array.dtype.kind])


def _padded(rows: NumpyArray) -> NumpyArray:
    """The rows, the last one again and again: two programs for all sizes."""
    size = FEW_ROWS if len(rows) <= FEW_ROWS else ROWS
    return np.concatenate([rows, np.full(size - len(rows), rows[-1])]) if len(rows) < size else rows
