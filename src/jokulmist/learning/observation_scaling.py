"""From what is seen to what a network is given: numbers brought to a common scale.

Numbers are scaled from their declared bounds to [-1, 1], or by running statistics to mean 0 and a spread between 0.1
and 1. The statistics belong to the learner: they are saved with the policy and stand still in evaluation. They move
only after an update, so that what was chosen on and what is learned from have the same scale.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, Literal, NamedTuple

import numpy as np

from jokulmist.arrays import Array
from jokulmist.environments.spaces.channels import ObservationBatch, Spec
from jokulmist.learning.networks.inputs import Inputs

if TYPE_CHECKING:
    from jokulmist.agents.contract import Experience

Scaling = Literal["bounds", "running", "none"]
FURTHEST = 10.0
MOST_COUNTED = 2.0**22
# Rows of statistics before the first decision that is learned from: a thousand decisions of random play, each with what
# was decided on and what followed.
WARM_UP = 2_000
LEAST_SHARE, WIDEST = 0.01, 12.0


class Running(NamedTuple):
    """Running mean and spread of each number of the flat row.

    Attributes
    ----------
    count : float32
    mean : float32, shape ``(width,)``
    square : float32, shape ``(width,)``
        Sum of the squared distances from the mean.
    """

    count: Any
    mean: Any
    square: Any


def fresh_running(width: int) -> Running:
    """Statistics before anything was seen."""
    return Running(np.float32(0.0), np.zeros(width, np.float32), np.zeros(width, np.float32))


def fresh_statistics(spec: Spec, scaling: Scaling) -> Running | None:
    """Statistics of the flat row; None where none are kept."""
    return fresh_running(spec.width) if _by_statistics(spec, scaling).any() else None


def _by_statistics(spec: Spec, scaling: Scaling) -> Any:
    """Which numbers are scaled by statistics: all, or those without bounds."""
    if scaling == "running":
        return np.ones(spec.width, bool)
    if scaling == "none":
        return np.zeros(spec.width, bool)
    return ~(np.isfinite(spec.low) & np.isfinite(spec.high))


def gathered(statistics: Running | None, numbers: Any) -> Running | None:
    """The statistics after more rows (Chan, Golub and LeVeque, 1983, equations 2.1).

    Parameters
    ----------
    numbers : array, shape ``(..., width)``
    """
    if statistics is None:
        return None
    import jax.numpy as jnp

    rows = numbers.reshape(-1, numbers.shape[-1])
    count = np.float32(rows.shape[0])
    mean = jnp.mean(rows, axis=0)
    square = jnp.sum(jnp.square(rows - mean), axis=0)
    total = statistics.count + count
    delta = mean - statistics.mean
    sums = statistics.square + square + jnp.square(delta) * (statistics.count * count / total)
    # A count in single precision stops growing at 2^24 while the sums would not; kept below, older rows fade instead.
    bounded_count = jnp.minimum(total, MOST_COUNTED)
    return Running(bounded_count, statistics.mean + delta * (count / total), sums * (bounded_count / total))


def gathered_unless(still: bool, statistics: Running | None, numbers: Array) -> Running | None:
    """The statistics after more rows; those that are warm stay as they are under weights that are held (`still`).

    A network with frozen weights is another function as soon as its inputs are scaled otherwise.
    """
    after = gathered(statistics, numbers)
    if statistics is None or after is None or not still:
        return after
    import jax.numpy as jnp

    warm = is_warm(statistics)
    return Running(*(jnp.where(warm, old, new) for old, new in zip(statistics, after, strict=True)))


def counted_fully(statistics: Running) -> Running:
    """Warm statistics as if they were of as many rows as are counted at most, so that a policy that is begun with is
    not changed at once by other numbers."""
    if not is_warm(statistics):
        return statistics
    more = np.float32(MOST_COUNTED) / statistics.count
    return Running(np.asarray(MOST_COUNTED, np.float32), statistics.mean, statistics.square * more)


def is_warm(statistics: Running | None) -> Any:
    """Whether the statistics have met enough to be learned with; always where there are none."""
    return True if statistics is None else statistics.count >= WARM_UP


def met(experience: Experience) -> Array:
    """All numbers that networks are given of what happened: what was decided on, and what stood at the end of each
    decision.

    The last observation of an episode that was cut is bootstrapped from, and may differ from all that is ever decided
    on: left out of the statistics it would be far outside of their scale, and values ran away from there.
    """
    import jax.numpy as jnp

    return jnp.concatenate([experience.observed.numbers, experience.last.numbers])


def prepared(spec: Spec, scaling: Scaling, statistics: Running | None, seen: ObservationBatch) -> Inputs:
    """What a network is given for many observations.

    Parameters
    ----------
    seen : ObservationBatch
        With one leading axis.
    """
    return Inputs(scaled(spec, scaling, statistics, seen.numbers), seen.images)


def scaled(spec: Spec, scaling: Scaling, statistics: Running | None, rows: Any) -> Any:
    """Rows of numbers in the scale of the network; shape ``(..., width)``."""
    if scaling == "bounds":
        rows = spec.scaled(rows)
    if statistics is None:
        return rows
    spread = _spread(spec, scaling, statistics)
    is_scaled = _by_statistics(spec, scaling) & (statistics.count > 1.0)
    # Written without `where`, so that it is the same over NumPy and traced arrays.
    return rows + is_scaled * (((rows - statistics.mean) / spread).clip(-FURTHEST, FURTHEST) - rows)


def _spread(spec: Spec, scaling: Scaling, statistics: Running) -> Any:
    """What numbers are divided by: their running spread; of a bounded number half its range, as long as that lies
    between the spread and `WIDEST` times it.

    Bounds that fit keep inputs small and a policy smooth (on the winch the excess cost is 2 % instead of 11 %); bounds
    that are far wider than what is met, or tighter, are not believed. A number that hardly moved so far would be blown
    up by whatever it does next, so its spread counts as a share of its range.
    """
    spread: Any = (statistics.square / statistics.count.clip(1.0) + 1e-8) ** 0.5
    if scaling != "running":
        return spread
    bounded = np.isfinite(spec.low) & np.isfinite(spec.high)
    range_ = np.where(bounded, spec.high, 0.0) - np.where(bounded, spec.low, 0.0)
    half = (0.5 * range_).astype(np.float32)
    spread = spread.clip(LEAST_SHARE * half, None)
    # The larger of the two, written so that it is the same over NumPy and traced arrays.
    return spread + ((WIDEST * spread).clip(None, half) - spread).clip(0.0, None)
