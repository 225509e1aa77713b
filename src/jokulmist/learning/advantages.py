"""Advantages and returns over a stretch of turns, with ends and cuts.

An end has no future. A cut has one: the value of the true last observation. Neither lets anything of the next episode
through, and no column of a copy meets another's.
"""

from __future__ import annotations

from typing import Any

from jokulmist.arrays import Array


def generalised_advantages(
    rewards: Any, ended: Any, closed: Any, values: Any, values_after: Any, discount: Any, trace_decay: Any
) -> Any:
    """Generalised advantage estimates (Schulman et al., 2016, equation 16).

    delta_t = r_t + discount v(last_t) - v_t, and A_t = delta_t + discount trace_decay A_{t+1}, where v(last_t) is 0
    after an end, and A_{t+1} is left out after an end or a cut.

    Parameters
    ----------
    rewards, values : float32 array, shape ``(turns, copies)``
    ended, closed : bool array, shape ``(turns, copies)``
    values_after : float32 array, shape ``(turns, copies)``
        Of the true observation after each advance.
    discount : float, in [0, 1], or array of shape ``(turns, copies)``
        What the future counts after each decision.
    trace_decay : float, in [0, 1]

    Returns
    -------
    float32 array, shape ``(turns, copies)``
        With ``trace_decay=1`` the return minus the value, bootstrapped where the stretch ends.

    Examples
    --------
    Two turns of one copy, which ends: the second reward is worth all of itself to the first turn.

    >>> import jax.numpy as jnp
    >>> import jokulmist as jm
    >>> rewards, ended = jnp.asarray([[1.0], [2.0]]), jnp.asarray([[False], [True]])
    >>> values = jnp.zeros((2, 1))
    >>> jm.parts.generalised_advantages(rewards, ended, ended, values, values, 1.0, 1.0).tolist()
    [[3.0], [2.0]]
    """
    import jax.numpy as jnp

    assert rewards.shape == ended.shape == closed.shape == values.shape == values_after.shape
    errors = rewards + discount * jnp.where(ended, 0.0, values_after) - values
    return discounted_sums(errors, jnp.where(closed, 0.0, discount * trace_decay))


def discounted_sums(amounts: Any, discounts: Any) -> Any:
    """Sums from the last turn backwards, ``sum_t = amount_t + discount_t sum_{t+1}``.

    Parameters
    ----------
    amounts, discounts : float32 array, shape ``(turns, copies)``
        A discount of 0 begins a new sum, as an end or a cut does.

    Returns
    -------
    float32 array, shape ``(turns, copies)``

    Examples
    --------
    >>> import jax.numpy as jnp
    >>> import jokulmist as jm
    >>> jm.parts.discounted_sums(jnp.asarray([[1.0], [1.0], [4.0]]), jnp.asarray([[0.5], [0.0], [0.5]])).tolist()
    [[1.5], [1.0], [4.0]]
    """
    import jax.numpy as jnp
    from jax import lax

    def back(later: Array, inputs: Any) -> Any:
        total = inputs[0] + inputs[1] * later
        return total, total

    return lax.scan(back, jnp.zeros_like(amounts[0]), (amounts, discounts), reverse=True)[1]


def standardise(amounts: Array, least_spread: float = 0.0, mean: Any = None) -> Array:
    """Mean 0 and spread 1 over all entries; left as they are where there is one entry or no spread.

    Parameters
    ----------
    amounts : float32 array
    least_spread : float
        A smaller spread is not divided by, but this: once all is solved, advantages are the noise of the value alone,
        and at spread 1 the policy would walk at random.
    mean : callable, optional
        The mean of an array like `amounts`, where some of the entries do not count.

    Examples
    --------
    >>> import jax.numpy as jnp
    >>> import jokulmist as jm
    >>> jm.parts.standardise(jnp.asarray([1.0, 3.0])).tolist()
    [-1.0, 1.0]
    """
    import jax.numpy as jnp

    if amounts.size < 2:
        return amounts
    mean = mean or jnp.mean
    centred = amounts - mean(amounts)
    spread = jnp.sqrt(mean(jnp.square(centred)))
    return jnp.where(spread > 1e-6, centred / jnp.maximum(spread, max(least_spread, 1e-6)), amounts)


def explained_variance(values: Array, returns: Array, mean: Any = None) -> Array:
    """How much of the returns' variance the values predict: 1 all, 0 none, below 0 worse than their mean.

    Parameters
    ----------
    values, returns : float32 array
    mean : callable, optional
        The mean of such an array, where some of the entries do not count.

    Examples
    --------
    >>> import jax.numpy as jnp
    >>> import jokulmist as jm
    >>> float(jm.parts.explained_variance(jnp.asarray([1.0, 3.0]), jnp.asarray([1.0, 3.0])))
    1.0
    """
    import jax.numpy as jnp

    def variance(amounts: Array) -> Array:
        return jnp.var(amounts) if mean is None else mean(jnp.square(amounts - mean(amounts)))

    spread = variance(returns)
    return jnp.where(spread > 1e-12, 1.0 - variance(returns - values) / jnp.maximum(spread, 1e-12), 0.0)
