"""What a network is given for many observations."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any, NamedTuple

import numpy as np

# What the first weights towards the outputs are scaled by: one number, or one an output.
Gain = float | Sequence[float]


class Inputs(NamedTuple):
    """What a network is given.

    Attributes
    ----------
    numbers : float32 array, shape ``(width,)``
        The number channels, scaled.
    images : dict of str to array, shape ``(height, width, channels)``
        For a function of one's own float32 in [0, 1]; for the shipped networks uint8 as it was seen.

    The shipped networks take many observations at once, with a leading axis.
    """

    numbers: Any
    images: dict[str, Any]


def applied(module: Any, inputs: Inputs) -> Any:
    """The outputs for many observations, shape ``(batch, outputs)``; a module of one's own takes one at a time."""
    if getattr(module, "takes_batches", False):
        return module(inputs)
    import jax
    import jax.numpy as jnp

    images = {name: image.astype(jnp.float32) * np.float32(1.0 / 255.0) for name, image in inputs.images.items()}
    return jax.vmap(module)(inputs._replace(images=images))
