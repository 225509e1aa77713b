"""How an observation's numbers fall into the cells of a table, over plain numbers or arrays."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import cached_property, reduce
from typing import Any, NamedTuple

from jokulmist.environments.spaces.channels import Spec
from jokulmist.errors import SettingError, listed, nearest
from jokulmist.learning.action_distributions import joint_over

MOST_ENTRIES = 50_000_000  # 200 MB, in the process and in each checkpoint; more would not be filled in a night


class Ops(NamedTuple):
    """The functions that differ between plain numbers and arrays."""

    best: Callable[[Sequence[Any]], Any]
    clip: Callable[[Any, int, int], Any]
    select: Callable[[Any, Any, Any], Any]
    masked: bool = False


# The value that stands for an action that is not allowed; it takes part in no best and no mean.
FORBIDDEN = -3.0e38
SCALARS = Ops(
    max,
    lambda value, low, high: low if value < low else high if value > high else int(value),
    lambda condition, yes, no: yes if condition else no,
)


def array_ops(masked: bool = False, xp: Any = None) -> Ops:
    """The functions over arrays of ``jax.numpy``, or of `xp`; `masked` says that rows may hold `FORBIDDEN`."""
    if xp is None:
        import jax.numpy as xp

    return Ops(
        lambda row: reduce(xp.maximum, row),
        lambda value, low, high: xp.clip(value, low, high).astype(xp.int32),
        xp.where,
        masked,
    )


@dataclass(frozen=True)
class StateGrid:
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


def grid_for(spec: Spec, bins: Any, agent: str) -> StateGrid:
    """The cells of a spec, from declared bounds; an error names the channel that cannot be binned."""
    if spec.images:
        raise SettingError(
            f"`{agent}` keeps a table, and `{spec.images[0].name}` is an image. "
            f"Use a method with a network, or an environment whose channels are numbers."
        )
    bin_counts = dict(bins) if isinstance(bins, (dict, tuple)) else {}
    names = [c.name for c in spec.numbers]
    for name in bin_counts:
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
                f"`{agent}` needs bounds to bin `{channel.name}`, which reaches from {channel.low:g} to "
                f"{channel.high:g}. Declare them, e.g. `jm.seen(low=0.0, high=10.0)`."
            )
        wanted = bin_counts.get(channel.name, bins if isinstance(bins, int) else 10)
        count = channel.bins(wanted)
        for _ in range(channel.size):
            low.append(channel.low)
            high.append(channel.high)
            per_unit.append(1.0 if channel.whole else count / (channel.high - channel.low))
            counts.append(count)
    entries = math.prod(counts) * joint_over(spec.action).count
    if entries > MOST_ENTRIES:
        sizes = ", ".join(
            f"{c.name}: {c.bins(bin_counts.get(c.name, bins if isinstance(bins, int) else 10))}" for c in spec.numbers
        )
        raise SettingError(
            f"the table of `{agent}` would have {entries:.2g} entries ({sizes}); at most {MOST_ENTRIES:.0e} are "
            "allowed. Use fewer `bins`, or a method with a network."
        )
    strides = [math.prod(counts[i + 1 :]) for i in range(len(counts))]
    return StateGrid(tuple(low), tuple(high), tuple(per_unit), tuple(counts), tuple(strides))
