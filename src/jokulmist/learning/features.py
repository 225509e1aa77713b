"""Features of the numbers that are observed, for values that are linear in them: tiles, and radial bases.

Both are given over numbers scaled to [0, 1] by their declared bounds.
"""

from __future__ import annotations

import itertools
from typing import Any, Literal, NamedTuple

import numpy as np

from jokulmist.arrays import Array
from jokulmist.environments.spaces.channels import Spec
from jokulmist.errors import SettingError

Kind = Literal["tiles", "radial"]
MOST_FEATURES = 20_000_000
MOST_RADIAL = 20_000


class Features(NamedTuple):
    """Which features there are.

    Attributes
    ----------
    kind : {"tiles", "radial"}
    spec : Spec
    each : int
        Tiles, or centres, along each number.
    tilings : int
        Displaced grids of tiles; 1 for radial bases.
    """

    kind: Kind
    spec: Spec
    each: int
    tilings: int

    @property
    def size(self) -> int:
        """How many features there are."""
        if self.kind == "radial":
            return int(self.each**self.spec.width)
        return int(self.tilings * (self.each + 1) ** self.spec.width)

    def refuse(self, method: str) -> None:
        """Raise `SettingError` where there would be too many, or a number has no bounds."""
        for channel in self.spec.numbers:
            if not channel.bounded:
                raise SettingError(
                    f"`{method}` lays features between the bounds of each number, and `{channel.name}` has none. "
                    f"Declare `low=` and `high=`."
                )
        most = MOST_RADIAL if self.kind == "radial" else MOST_FEATURES
        if self.size > most:
            word = "centres" if self.kind == "radial" else "tiles"
            raise SettingError(
                f"`{word}` of {self.each} along each of {self.spec.width} numbers gives `{method}` {self.size:,} "
                f"features; at most {most:,} are allowed. Use fewer `{word}`, or `DQN`."
            )

    def unit(self, rows: Array) -> Array:
        """Rows scaled to [0, 1]; what lies outside its bounds is clipped."""
        low, high = self.spec.low, self.spec.high
        return ((rows - low) / (high - low)).clip(0.0, 1.0)

    def tiles(self, rows: Array) -> Array:
        """The tile of each tiling that each row lies in, int32, shape ``(rows, tilings)``.

        Tiling k is displaced by k / tilings of a tile, times 1, 3, 5, ... along the first, second, third number (Sutton
        and Barto, 2018, section 9.5.4).
        """
        import jax.numpy as jnp

        width = self.spec.width
        shift = np.arange(self.tilings)[:, None] / self.tilings * (2 * np.arange(width) + 1) % 1.0
        cell = jnp.floor(self.unit(rows)[:, None, :] * self.each + shift.astype(np.float32)).astype(jnp.int32)
        strides = (self.each + 1) ** np.arange(width, dtype=np.int64)
        place = jnp.sum(jnp.minimum(cell, self.each) * strides.astype(np.int32), axis=-1)
        return place + np.arange(self.tilings, dtype=np.int32) * int((self.each + 1) ** width)

    def radial(self, rows: Any) -> Any:
        """Gaussian bases around a grid of centres, scaled to a sum of 1, float32, shape ``(rows, size)``.

        Their spread is the distance between two centres (Moody and Darken, 1989).
        """
        import jax.numpy as jnp

        grid = np.linspace(0.0, 1.0, self.each, dtype=np.float32) if self.each > 1 else np.array([0.5], np.float32)
        centres = np.array(list(itertools.product(grid, repeat=self.spec.width)), np.float32)
        reach = 1.0 / max(self.each - 1, 1)
        # From the parts of the square, as a product of matrices: the differences would be a large array.
        unit = self.unit(rows)
        distances = jnp.sum(unit * unit, axis=1)[:, None] - 2.0 * unit @ centres.T + np.sum(centres * centres, axis=1)
        activations = jnp.exp(-0.5 * (distances - jnp.min(distances, axis=1, keepdims=True)) / reach**2)
        return activations / jnp.sum(activations, axis=1, keepdims=True)

    def values(self, weights: Any, rows: Any) -> Any:
        """Sums of the weights under each row's features, shape ``(rows, actions)``."""
        import jax.numpy as jnp

        if self.kind == "radial":
            return self.radial(rows) @ weights
        return jnp.sum(weights[self.tiles(rows)], axis=1)

    def moved(self, weights: Any, rows: Any, action: Any, step: Any) -> Any:
        """The weights after each row's value of its action has been moved by `step`.

        A row by itself moves its value by just that: the step is shared out over its features. Where rows share
        features (and an action), they share the step: that of row j is divided by the sum of ``near_j . near_l`` over
        the rows l of the same action, for tiles by the mean of what the rows in a tile ask for. So many copies, or a
        minibatch, never overshoot.
        """
        import jax.numpy as jnp

        if self.kind == "radial":
            activations = self.radial(rows)
            one_hot = (action[:, None] == jnp.arange(weights.shape[1])).astype(jnp.float32)
            overlap = jnp.sum((activations @ activations.T) * (action[:, None] == action[None, :]), axis=1)
            return weights + activations.T @ (one_hot * (step / overlap)[:, None])
        place = self.tiles(rows)
        key = place * weights.shape[1] + action[:, None]
        same = (key[:, None, :] == key[None, :, :]).astype(jnp.float32)
        mean = jnp.einsum("bct,c->bt", same, step) / jnp.sum(same, axis=1)
        # Rows that meet in an entry carry the same number, so the order of writing does not matter.
        new = weights[place, action[:, None]] + mean / self.tilings
        return weights.at[place, action[:, None]].set(new)
