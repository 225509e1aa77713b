"""Numbers that are decided: between the [-1, 1] that methods work in and the units of the environment, and Gaussians.

A method never sees units: what it draws lies in [-1, 1], and is brought to the declared bounds at the last moment. That
constant factor is left out of every probability, here as everywhere.

At a bound a Gaussian sample is either *clipped* (the environment gets the clipped value, and the probability is that of
the sample before) or *squashed* by the hyperbolic tangent (whose slope then is in the probability). The sample
before is always kept, never recovered from the action.
"""

from __future__ import annotations

import math
from typing import Any, Literal

import numpy as np

from jokulmist.arrays import Array
from jokulmist.environments.spaces.actions import Action, Actions, Range
from jokulmist.errors import SettingError

AtBounds = Literal["clipped", "squashed"]
LEAST_LOG_SPREAD, MOST_LOG_SPREAD = -5.0, 1.0
HALF_LOG_TAU = 0.5 * math.log(2.0 * math.pi)


def ranges_of(action: Action) -> dict[str, Range]:
    """The Ranges of an action by part; a Range by itself has the empty name."""
    if isinstance(action, Range):
        return {"": action}
    parts = action.parts if isinstance(action, Actions) else {}
    return {name: part for name, part in parts.items() if isinstance(part, Range)}


class Units:
    """From [-1, 1] to the units of all ranges of an action, side by side.

    An entry without two finite bounds keeps its unit: 0 is then its finite bound, if it has one, or 0.

    Attributes
    ----------
    width : int
        Numbers of all ranges together.
    """

    def __init__(self, ranges: dict[str, Range]) -> None:
        self.ranges = ranges
        self.width = sum(part.size for part in ranges.values())
        self.low, self.high = (
            np.concatenate([np.zeros(0, np.float32), *(getattr(part, side).reshape(-1) for part in ranges.values())])
            for side in ("low", "high")
        )
        bounded = np.isfinite(self.low) & np.isfinite(self.high)
        one_side = np.where(np.isfinite(self.low), self.low, np.where(np.isfinite(self.high), self.high, 0.0))
        low, high = np.where(bounded, self.low, 0.0), np.where(bounded, self.high, 0.0)
        self.centre = np.where(bounded, 0.5 * (low + high), one_side).astype(np.float32)
        self.half = np.where(bounded, 0.5 * (high - low), 1.0).astype(np.float32)
        self.bounded = bool(bounded.all())

    def native(self, unit: Any) -> list[Any]:
        """The value of each range, never outside its bounds.

        Parameters
        ----------
        unit : array, shape ``(..., width)``
            What lies outside [-1, 1] is clipped.
        """
        values = (self.centre + self.half * unit).clip(self.low, self.high)
        parts, start = [], 0
        for part in self.ranges.values():
            parts.append(values[..., start : start + part.size].reshape(*values.shape[:-1], *part.shape))
            start += part.size
        return parts

    def by_part(self, numbers: Array) -> list[Any]:
        """Sums over the numbers of each range; shape ``(...)`` each."""
        parts, start = [], 0
        for part in self.ranges.values():
            parts.append(numbers[..., start : start + part.size].sum(axis=-1))
            start += part.size
        return parts


def refuse_unbounded(action: Action, method: str, fix: str) -> None:
    """Raise `SettingError` where a range has an infinite bound."""
    for name, part in ranges_of(action).items():
        if not (np.isfinite(part.low).all() and np.isfinite(part.high).all()):
            context = f"the part `{name}` of the action" if name else "the action"
            raise SettingError(f"`{method}` needs finite bounds, and {context} is {part!r}. {fix}")


def log_density(before: Array, mean: Array, log_spread: Array) -> Array:
    """Logarithm of the Gaussian density of each number; all of one shape."""
    import jax.numpy as jnp

    standardised = (before - mean) * jnp.exp(-log_spread)
    return -0.5 * standardised * standardised - log_spread - HALF_LOG_TAU


def log_slope(before: Array) -> Array:
    """``log(1 - tanh(u)^2)``, written so that nothing is lost far out: ``2 (log 2 - u - softplus(-2 u))``."""
    import jax
    import jax.numpy as jnp

    return 2.0 * (jnp.log(2.0) - before - jax.nn.softplus(-2.0 * before))
