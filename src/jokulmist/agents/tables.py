"""Action values in a table: what Q-learning, Sarsa and expected Sarsa share.

The observation falls into a cell, the table holds one value for each cell and action. Every formula is written once,
with the actions unrolled, over numbers that are either plain Python numbers (one copy on a plain lane) or arrays with
one entry a copy (compiled); `Ops` holds the few functions that differ. Reading and writing the table differ too: in
place for NumPy, by slices for JAX.

Within a compiled turn the table is read twice and then written once, and nothing reads it after the write: so it is
never copied (measured: 12 million decisions per second with one copy, against 0.4 where a row was read after the write).
"""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import cached_property, reduce
from typing import Annotated, Any, ClassVar, NamedTuple

import numpy as np
from pydantic import BeforeValidator

from jokulmist.agents.protocol import Agent, FixedShare, Numbers, Shapes, Share
from jokulmist.environments.actions import Choice
from jokulmist.environments.channels import Spec
from jokulmist.errors import SettingError, listed, nearest
from jokulmist.learning.schedules import linear

MOST_ENTRIES = 200_000_000


class Ops(NamedTuple):
    """The functions that differ between plain numbers and arrays."""

    best: Callable[[Sequence[Any]], Any]
    clip: Callable[[Any, int, int], Any]
    where: Callable[[Any, Any, Any], Any]


SCALARS = Ops(
    max,
    lambda value, low, high: low if value < low else high if value > high else int(value),
    lambda condition, yes, no: yes if condition else no,
)


def array_ops() -> Ops:
    import jax.numpy as jnp

    return Ops(
        lambda row: reduce(jnp.maximum, row),
        lambda value, low, high: jnp.clip(value, low, high).astype(jnp.int32),
        jnp.where,
    )


@dataclass(frozen=True)
class Grid:
    """How an observation's numbers fall into cells; one entry of each tuple a number of the flat row."""

    low: tuple[float, ...]
    high: tuple[float, ...]
    per_unit: tuple[float, ...]
    counts: tuple[int, ...]
    strides: tuple[int, ...]

    @property
    def cells(self) -> int:
        return math.prod(self.counts)

    @cached_property
    def _columns(self) -> tuple[tuple[float, float, int, int, float, float], ...]:
        slack = [1e-5 * count for count in self.counts]  # rounding is not outside
        parts = zip(self.low, self.per_unit, self.counts, self.strides, self.reach, slack, strict=True)
        return tuple((low, per, count - 1, stride, -s, reach + s) for low, per, count, stride, reach, s in parts)

    @cached_property
    def reach(self) -> tuple[float, ...]:
        """The upper bound of each number, counted in bins from the lower one."""
        parts = zip(self.low, self.high, self.per_unit, strict=True)
        return tuple((high - low) * per for low, high, per in parts)

    def place(self, values: Sequence[Any], ops: Ops) -> tuple[Any, Any]:
        """The cell of one row of numbers, or of rows given as one array a column; and how many lay outside.

        A value at the upper bound falls in the last bin; one outside is clipped and counted.
        """
        index: Any = 0
        outside: Any = 0
        clip = ops.clip
        for value, (low, per_unit, last, stride, least, most) in zip(values, self._columns, strict=True):
            x = (value - low) * per_unit
            index = index + clip(x, 0, last) * stride
            outside = outside + ((x < least) | (x > most))
        return index, outside


def grid_for(spec: Spec, bins: Any, agent: str) -> Grid:
    """The cells of a spec, from declared bounds; an error names the channel that cannot be binned."""
    if spec.images:
        raise SettingError(
            f"`{agent}` keeps a table, and `{spec.images[0].name}` is an image. "
            f"Use a method with a network, or an environment whose channels are numbers."
        )
    given = dict(bins) if isinstance(bins, (dict, tuple)) else {}
    names = [c.name for c in spec.numbers]
    for name in given:
        if name not in names:
            raise SettingError(
                f"`bins` of `{agent}` names `{name}`; the channels are {listed(names)}.{nearest(name, names)}"
            )
    low: list[float] = []
    high: list[float] = []
    per_unit: list[float] = []
    counts: list[int] = []
    for channel in spec.numbers:
        if not channel.bounded:
            raise SettingError(
                f"`{agent}` needs bounds to bin `{channel.name}`, which reaches from {channel.low:g} to {channel.high:g}. "
                f"Declare them, e.g. `jm.seen(low=0.0, high=10.0)`."
            )
        wanted = given.get(channel.name, bins if isinstance(bins, int) else 10)
        count = channel.bins(wanted)
        for _ in range(channel.size):
            low.append(channel.low)
            high.append(channel.high)
            per_unit.append(1.0 if channel.whole else count / (channel.high - channel.low))
            counts.append(count)
    entries = math.prod(counts) * (spec.action.count if isinstance(spec.action, Choice) else 1)
    if entries > MOST_ENTRIES:
        sizes = ", ".join(
            f"{c.name}: {c.bins(given.get(c.name, bins if isinstance(bins, int) else 10))}" for c in spec.numbers
        )
        raise SettingError(
            f"the table of `{agent}` would have {entries:.2g} entries ({sizes}); at most {MOST_ENTRIES:.0e} are allowed. "
            f"Use fewer `bins`, or a method with a network."
        )
    strides = [math.prod(counts[i + 1 :]) for i in range(len(counts))]
    return Grid(tuple(low), tuple(high), tuple(per_unit), tuple(counts), tuple(strides))


def chances(row: Sequence[Any], exploration: Any, ops: Ops) -> list[Any]:
    """Probability of each action: with chance `exploration` any, else one of the best, ties shared evenly.

    (Sutton and Barto, 2018, section 2.2.)
    """
    best = ops.best(row)
    among_best = [1.0 * (value == best) for value in row]
    any_action = exploration / len(row)
    best_action = (1.0 - exploration) / sum(among_best)
    return [any_action + best_action * one for one in among_best]


def drawn(probabilities: Sequence[Any], u: Any) -> Any:
    """The action that a uniform number picks."""
    reach: Any = 0.0
    action = 0 * (u >= reach)
    for probability in probabilities[:-1]:
        reach = reach + probability
        action = action + (u >= reach)
    return action


def expectation(row: Sequence[Any], probabilities: Sequence[Any]) -> Any:
    """The mean value of a row under the probabilities of its actions."""
    total = row[0] * probabilities[0]
    for value, probability in zip(row[1:], probabilities[1:], strict=True):
        total = total + value * probability
    return total


def _bins(value: Any) -> Any:
    sizes = list(value.values()) if isinstance(value, dict) else [value]
    if any(isinstance(n, bool) or not isinstance(n, int) or n < 1 for n in sizes) or not sizes:
        raise ValueError("must be a whole number above 0, or one a channel, e.g. bins={'level': 20}")
    return value


class Table(NamedTuple):
    """What was learned: ``values`` of shape ``(cells, actions)``, float32."""

    values: Any


class Carried(NamedTuple):
    """What belongs to each copy: the action already drawn for its next decision, -1 where none is (Sarsa)."""

    pending: Any


class TableAgent(Agent):
    """Settings and functions of the methods that keep a table. Not used by itself.

    Parameters
    ----------
    learning_rate : float or schedule, in [0, 1]
        Step towards the target.
    discount : float, in [0, 1]
        Weight of the reward one decision later.
    exploration : float or schedule, in [0, 1]
        Chance of a random action.
    bins : int, or dict of channel to int
        Equal bins of each number between its declared bounds; whole-number channels have one bin a value.
    initial_value : float
        What the table holds at first; a high one makes the agent try everything.
    """

    learning_rate: Share = linear(0.5, 0.05, over=1.0)
    discount: FixedShare = 0.99
    exploration: Share = linear(1.0, 0.05, over=0.5)
    bins: Annotated[int | dict[str, int], BeforeValidator(_bins)] = 10
    initial_value: float = 0.0

    reading_names: ClassVar[tuple[str, ...]] = ("error", "outside")
    plain: ClassVar[bool] = True
    draws_ahead: ClassVar[bool] = False

    def refuse(self, spec: Spec) -> None:
        if not isinstance(spec.action, Choice):
            raise SettingError(
                f"`{type(self).__name__}` chooses among labels, and the action is {spec.action!r}. "
                f'Declare `action = jm.Choice("low", "high")`.'
            )

    def shapes(self, spec: Spec, copies: int) -> Shapes:
        shapes = super().shapes(spec, copies)
        shapes.bins = tuple(sorted(self.bins.items())) if isinstance(self.bins, dict) else self.bins
        shapes.grid = grid_for(spec, shapes.bins, type(self).__name__)
        shapes.actions = spec.action.count  # type: ignore[union-attr]
        shapes.method = type(self)
        return shapes

    @classmethod
    def ahead(cls, row: Sequence[Any], exploration: Any, upcoming: Any, closed: Any, ops: Ops) -> Any:
        """The value of what follows, from the row of the true next observation."""
        raise NotImplementedError

    @staticmethod
    def fresh(shapes: Any, numbers: Numbers, noise: Any) -> tuple[Table, Carried]:
        table = np.full((shapes.grid.cells, shapes.actions), numbers.initial_value, np.float32)
        return Table(table), Carried(np.full(shapes.copies, -1, np.int32))

    @staticmethod
    def choose(
        shapes: Any, numbers: Numbers, learner: Table, memory: Carried, observed: Any, noise: Any, explore: bool
    ) -> tuple[Any, Carried, tuple[()]]:
        ops = array_ops()
        row = _rows(learner.values, shapes.grid.place(list(observed.T), ops)[0], noise)
        action = drawn(
            chances(row, numbers.exploration if explore else 0.0, ops), noise.uniform(shape=(shapes.copies,))
        )
        if shapes.method.draws_ahead and explore:
            action = ops.where(memory.pending >= 0, memory.pending, action)
        return noise.settle(action), memory, ()

    @staticmethod
    def learn(
        shapes: Any, numbers: Numbers, learner: Table, memory: Carried, experience: Any, noise: Any
    ) -> tuple[Table, Carried, tuple[Any, ...]]:
        import jax.numpy as jnp

        ops = array_ops()
        observed, action, reward, ended, closed, last = (part[0] for part in experience[:6])
        cell = noise.settle(shapes.grid.place(list(observed.T), ops)[0])
        row = _rows(learner.values, cell, noise)
        cell_after, outside = shapes.grid.place(list(last.T), ops)
        row_after = _rows(learner.values, cell_after, noise)
        upcoming = None
        if shapes.method.draws_ahead:
            likely = chances(row_after, numbers.exploration, ops)
            upcoming = drawn(likely, noise.uniform(shape=(shapes.copies,)))
            memory = Carried(jnp.where(closed, -1, upcoming))
        value = shapes.method.ahead(row_after, numbers.exploration, upcoming, closed, ops)
        taken = row[0]
        for k in range(1, shapes.actions):
            taken = jnp.where(action == k, row[k], taken)
        error = noise.settle(reward + numbers.discount * jnp.where(ended, 0.0, value) - taken)
        step = numbers.learning_rate * _meeting(error, cell * shapes.actions + action)
        values = _written(learner.values, cell, action, taken + step)
        readings = (jnp.mean(jnp.abs(error)), jnp.mean(1.0 * outside))
        return Table(values), memory, readings

    @staticmethod
    def choose_plain(
        shapes: Any, numbers: Numbers, learner: Table, memory: Any, observed: Any, noise: Any, explore: bool
    ) -> tuple[Any, Any, Any]:
        """`choose` over Python numbers; `memory` may hold the cells that `learn_plain` already found."""
        pending, cells = memory or (None, None)
        if cells is None:
            cells = [shapes.grid.place(row, SCALARS)[0] for row in observed]
        table = learner.values
        exploration = numbers.exploration if explore else 0.0
        rows = [table[cell].tolist() for cell in cells]
        uniforms = _uniforms(noise, shapes.copies)
        actions = [drawn(chances(row, exploration, SCALARS), u) for row, u in zip(rows, uniforms, strict=True)]
        if pending is not None and explore:
            actions = [action if ahead < 0 else ahead for action, ahead in zip(actions, pending, strict=True)]
        return actions, (pending, cells), (cells, rows)

    @staticmethod
    def learn_plain(
        shapes: Any, numbers: Numbers, learner: Table, memory: Any, experience: Any, noise: Any
    ) -> tuple[Table, Any, tuple[float, ...]]:
        """`learn` over Python numbers; writes the table in place."""
        _, actions, rewards, ended, closed, last, following, (cells, rows) = experience
        place, method, table = shapes.grid.place, shapes.method, learner.values
        exploration, discount, rate, copies = (
            numbers.exploration,
            numbers.discount,
            numbers.learning_rate,
            shapes.copies,
        )
        uniform = _uniforms(noise, copies) if method.draws_ahead else None
        pending: Any = None if uniform is None else [-1] * copies
        errors, next_cells = [], []
        outside = 0
        for i in range(copies):
            cell, beyond = place(last[i], SCALARS)
            outside += beyond
            row = table[cell].tolist()
            upcoming = None
            if uniform is not None:
                upcoming = drawn(chances(row, exploration, SCALARS), uniform[i])
                pending[i] = -1 if closed[i] else upcoming
            value = 0.0 if ended[i] else method.ahead(row, exploration, upcoming, closed[i], SCALARS)
            errors.append(rewards[i] + discount * value - rows[i][actions[i]])
            next_cells.append(place(following[i], SCALARS)[0] if closed[i] else cell)
        if copies == 1:
            table[cells[0], actions[0]] = rows[0][actions[0]] + rate * errors[0]
            return learner, (pending, next_cells), (abs(errors[0]), outside)
        met: dict[tuple[int, int], list[float]] = {}
        for met_cell, action, error in zip(cells, actions, errors, strict=True):
            met.setdefault((met_cell, action), []).append(error)
        for (met_cell, action), several in met.items():
            table[met_cell, action] += rate * (sum(several) / len(several))
        return learner, (pending, next_cells), (sum(map(abs, errors)) / copies, outside / copies)

    @staticmethod
    def values(shapes: Any, learner: Table, row: Sequence[float]) -> np.ndarray[Any, Any]:
        """The values of all actions for one observation, float32, shape ``(actions,)``."""
        found: np.ndarray[Any, Any] = np.asarray(learner.values)[shapes.grid.place(row, SCALARS)[0]]
        return found


def _uniforms(noise: Any, copies: int) -> list[float]:
    """One uniform number a copy; one of width 1 is the same number as a single one, and cheaper."""
    if copies == 1:
        return [noise.uniform()]
    found: list[float] = noise.uniform(shape=(copies,)).tolist()
    return found


def _rows(table: Any, cell: Any, noise: Any) -> list[Any]:
    """The rows of the given cells, as one array over copies for each action.

    They are settled: else the compiler reads the table again wherever a row is used, after the write too, and copies
    the whole table for that.
    """
    from jax import lax

    if cell.shape[0] == 1:
        rows = lax.dynamic_slice(table, (cell[0], 0), (1, table.shape[1]))
    else:
        rows = table.at[cell].get(mode="promise_in_bounds")
    rows = noise.settle(rows)
    return [rows[:, k] for k in range(table.shape[1])]


def _meeting(error: Any, key: Any) -> Any:
    """The errors, where copies meet in one entry of the table the mean of theirs."""
    import jax.numpy as jnp

    if error.shape[0] == 1:
        return error
    same = jnp.asarray(key[:, None] == key[None, :], dtype=jnp.float32)
    summed = same @ jnp.stack([error, jnp.ones_like(error)], axis=1)
    return summed[:, 0] / summed[:, 1]


def _written(table: Any, cell: Any, action: Any, value: Any) -> Any:
    from jax import lax

    if cell.shape[0] == 1:
        return lax.dynamic_update_slice(table, value[:, None], (cell[0], action[0]))
    # Copies that meet in an entry carry the same value, so the order of writing does not matter.
    return table.at[cell, action].set(value, mode="promise_in_bounds")
