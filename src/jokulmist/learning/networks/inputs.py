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

    Examples
    --------
    >>> import jokulmist as jm
    >>> jm.parts.Inputs(numbers=np.zeros((8, 3), np.float32), images={}).numbers.shape
    (8, 3)
    """

    numbers: Any
    images: dict[str, Any]


def apply_network(module: Any, inputs: Inputs) -> Any:
    """The outputs of a network for many observations.

    Parameters
    ----------
    module : as `build_network` gives it
        A module of one's own takes one observation at a time.
    inputs : Inputs
        With a leading axis ``batch``.

    Returns
    -------
    float32 array, shape ``(batch, outputs)``

    Examples
    --------
    >>> import jokulmist as jm
    >>> spec = jm.parts.spec_of(jm.gallery.Tarn())
    >>> network = jm.parts.build_network(jm.Dense(16), spec, outputs=2, seed=1)
    >>> inputs = jm.parts.Inputs(np.zeros((8, spec.width), np.float32), {})
    >>> jm.parts.apply_network(network, inputs).shape
    (8, 2)
    """
    if getattr(module, "takes_batches", False):
        return module(inputs)
    import jax
    import jax.numpy as jnp

    images = {name: image.astype(jnp.float32) * np.float32(1.0 / 255.0) for name, image in inputs.images.items()}
    return jax.vmap(module)(inputs._replace(images=images))
