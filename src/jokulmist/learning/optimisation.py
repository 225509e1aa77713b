"""A step down a gradient, over a flat vector of weights: clipping, and an optimiser of optax."""

from __future__ import annotations

from typing import Any, Literal, NamedTuple

import numpy as np

from jokulmist.arrays import Array

Optimiser = Literal["adam", "rmsprop", "sgd"]


class Moments(NamedTuple):
    """What an optimiser remembers between two steps; what it does not use is ``()``.

    Attributes
    ----------
    count : int32
        Steps until now.
    first, second : float32 array, shape ``(size,)``
        Running means of the gradient, and of its square.
    """

    count: Any = ()
    first: Any = ()
    second: Any = ()


def first_moments(optimiser: Optimiser, weights: Array) -> Any:
    """What the optimiser remembers before its first step: zeros.

    Parameters
    ----------
    optimiser : {"adam", "rmsprop", "sgd"}
    weights : float32 array, shape ``(size,)``

    Examples
    --------
    >>> import jokulmist as jm
    >>> jm.parts.first_moments("adam", np.ones(2, np.float32)).second.tolist()
    [0.0, 0.0]
    """
    # Made without optax, which a program that was kept does not need.
    if optimiser == "sgd":
        return ()
    zeros = np.zeros(weights.shape, np.float32)
    return Moments(np.int32(0), zeros, zeros.copy()) if optimiser == "adam" else Moments(second=zeros)


def stepped(optimiser: Optimiser, gradient: Array, moments: Any) -> tuple[Array, Any]:
    """The step along a gradient, without the learning rate, which may move, and what is remembered after it.

    Adam (Kingma and Ba, 2015), RMSprop (Tieleman and Hinton, 2012), or the gradient itself.
    """
    import optax

    if optimiser == "adam":
        step, after = optax.scale_by_adam(eps=1e-7).update(gradient, optax.ScaleByAdamState(*moments))
        return step, Moments(after.count, after.mu, after.nu)
    if optimiser == "rmsprop":
        step, after = optax.scale_by_rms(decay=0.99, eps=1e-7).update(gradient, optax.ScaleByRmsState(moments.second))
        return step, Moments(second=after.nu)
    return gradient, moments


def descend(
    optimiser: Optimiser, weights: Array, moments: Any, gradient: Array, rate: Any, most: Any = None
) -> tuple[Array, Any, Array]:
    """One step down a gradient.

    Parameters
    ----------
    optimiser : {"adam", "rmsprop", "sgd"}
        Adam (Kingma and Ba, 2015), RMSprop (Tieleman and Hinton, 2012), or the gradient itself.
    weights, gradient : float32 array, shape ``(size,)``
    moments : as `first_moments` and earlier steps give them
    rate : float
        The learning rate.
    most : float, optional
        Largest norm of the gradient; a larger one is scaled down to it (Pascanu et al., 2013).

    Returns
    -------
    weights, moments, and the norm of the gradient before clipping

    Examples
    --------
    >>> import jax.numpy as jnp
    >>> import jokulmist as jm
    >>> weights, _, norm = jm.parts.descend("sgd", jnp.asarray([1.0, 2.0]), (), jnp.asarray([3.0, 4.0]), 0.5, 1.0)
    >>> [round(float(w), 3) for w in weights], float(norm)
    ([0.7, 1.6], 5.0)
    """
    import jax.numpy as jnp

    norm = jnp.sqrt(jnp.sum(jnp.square(gradient)))
    if most is not None:
        gradient = gradient * jnp.minimum(1.0, most / jnp.maximum(norm, 1e-12))
    step, moments = stepped(optimiser, gradient, moments)
    return weights - rate * step, moments, norm


def squared(error: Array) -> Array:
    """Half the square of an error, elementwise."""
    return 0.5 * error * error


def huber(error: Array, reach: Any) -> Array:
    """Half the square within `reach`, and a straight line beyond it (Huber, 1964), elementwise.

    Examples
    --------
    >>> import jax.numpy as jnp
    >>> import jokulmist as jm
    >>> jm.parts.huber(jnp.asarray([1.0, 10.0]), 2.0).tolist()
    [0.5, 18.0]
    """
    import jax.numpy as jnp

    size = jnp.abs(error)
    return jnp.where(size <= reach, 0.5 * error * error, reach * (size - 0.5 * reach))
