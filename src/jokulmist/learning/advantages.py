"""Advantages and returns over a stretch of turns, with ends and cuts.

An end has no future. A cut has one: the value of the true last observation. Neither lets anything of the next episode
through, and no column of a copy meets another's.
"""

from __future__ import annotations

from typing import Any


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
    """
    import jax.numpy as jnp

    assert rewards.shape == ended.shape == closed.shape == values.shape == values_after.shape
    errors = rewards + discount * jnp.where(ended, 0.0, values_after) - values
    return accumulated(errors, jnp.where(closed, 0.0, discount * trace_decay))


def accumulated(amounts: Any, kept_share: Any) -> Any:
    """``sum_t = amount_t + kept_t sum_{t+1}``, from the last turn backwards; shape ``(turns, copies)``."""
    import jax.numpy as jnp
    from jax import lax

    def back(later: Any, inputs: Any) -> Any:
        total = inputs[0] + inputs[1] * later
        return total, total

    return lax.scan(back, jnp.zeros_like(amounts[0]), (amounts, kept_share), reverse=True)[1]


def normalised(amounts: Any, least_spread: float = 0.0, mean: Any = None) -> Any:
    """Mean 0 and spread 1 over all entries; left as they are where there is one entry or no spread.

    Where the spread is below `least_spread`, that is what they are divided by: once all is solved, advantages are the
    noise of the value alone, and at spread 1 the policy would walk at random. `mean` counts some of the entries only.
    """
    import jax.numpy as jnp

    if amounts.size < 2:
        return amounts
    mean = mean or jnp.mean
    centred = amounts - mean(amounts)
    spread = jnp.sqrt(mean(jnp.square(centred)))
    return jnp.where(spread > 1e-6, centred / jnp.maximum(spread, max(least_spread, 1e-6)), amounts)


def explained_variance(values: Any, returns: Any, mean: Any = None) -> Any:
    """How much of the returns' variance the values predict: 1 all, 0 none, below 0 worse than their mean; `mean` counts
    some of the entries only."""
    import jax.numpy as jnp

    def variance(amounts: Any) -> Any:
        return jnp.var(amounts) if mean is None else mean(jnp.square(amounts - mean(amounts)))

    spread = variance(returns)
    return jnp.where(spread > 1e-12, 1.0 - variance(returns - values) / jnp.maximum(spread, 1e-12), 0.0)
