"""Which of a roster's policies are hard for the agent that learns, so that these are drawn more often.

For each policy the mean return of the learning players in their episodes with it is kept, over about the last `MEMORY`
of them. A policy's share grows with the square of how far below the best of these means its own lies, as in Vinyals et
al. (2019), "Grandmaster level in StarCraft II using multi-agent reinforcement learning", Methods, where the chance to
win is in the place of a return; a part of all draws is even, so that none is forgotten.
"""

from __future__ import annotations

from typing import Any

import numpy as np

MEMORY = 50
EVEN = 0.25


def no_losses(count: int) -> dict[str, Any]:
    """What is known of so many policies before the first episode."""
    return {"episodes": np.zeros(count, np.float32), "returns": np.zeros(count, np.float32)}


def update_losses(losses: dict[str, Any], running: Any, partner: Any, rewards: Any, closed: Any, dropped: Any) -> Any:
    """What is known after some turns.

    Parameters
    ----------
    losses : dict
        ``episodes`` and ``returns`` by policy, shape ``(policies,)``.
    running : array, shape ``(copies,)``
        The returns of the episodes under way.
    partner, rewards, closed, dropped : array, shape ``(turns, copies)``
        Which policy played, what the learning players got on average, whether the episode closed, and whether it is
        another one than the turn before.

    Returns
    -------
    losses : dict
    running : array, shape ``(copies,)``

    Examples
    --------
    >>> import jax.numpy as jnp
    >>> whole = jnp.ones((1, 2), bool)
    >>> known, running = update_losses(no_losses(2), jnp.zeros(2), jnp.array([[0, 1]]), jnp.array([[3.0, 5.0]]), whole, ~whole)
    >>> known["returns"].tolist(), running.tolist()
    ([3.0, 5.0], [0.0, 0.0])
    """
    import jax
    import jax.numpy as jnp
    from jax import lax

    def turn(carry: Any, inputs: Any) -> Any:
        (episodes, returns), running = carry
        partner, rewards, closed, dropped = inputs
        running = jnp.where(dropped, 0.0, running) + rewards
        is_closed = closed.astype(jnp.float32)
        count = jax.ops.segment_sum(is_closed, partner, len(episodes))
        total = jax.ops.segment_sum(is_closed * running, partner, len(episodes))
        weight = jnp.minimum(episodes + count, jnp.maximum(MEMORY, count))
        change = jnp.where(count > 0, (total - count * returns) / jnp.maximum(weight, 1.0), 0.0)
        return ((weight, returns + change), jnp.where(closed, 0.0, running)), None

    initial = ((jnp.asarray(losses["episodes"]), jnp.asarray(losses["returns"])), jnp.asarray(running, jnp.float32))
    ((episodes, returns), running), _ = lax.scan(
        turn, initial, (partner, rewards.astype(jnp.float32), closed, jnp.broadcast_to(dropped, closed.shape))
    )
    return {"episodes": episodes, "returns": returns}, running


def harder_more_often(xp: Any, losses: dict[str, Any], is_available: Any) -> Any:
    """The share of each policy, shape ``(policies,)``; of one that is not there it is 0, and one that was never met
    counts as the hardest.

    Parameters
    ----------
    losses : dict
    is_available : bool array, shape ``(policies,)``

    Examples
    --------
    >>> known = {"episodes": np.array([9.0, 9.0, 9.0]), "returns": np.array([4.0, 0.0, 2.0])}
    >>> harder_more_often(np, known, np.array([True, True, True])).round(3).tolist()
    [0.083, 0.683, 0.233]
    """
    met = is_available & (losses["episodes"] > 0)
    best = xp.max(xp.where(met, losses["returns"], -xp.inf))
    worst = xp.min(xp.where(met, losses["returns"], xp.inf))
    is_decided = xp.any(met) & (best > worst)
    span = xp.where(is_decided, best - worst, 1.0)
    below = xp.where(met & is_decided, (xp.where(is_decided, best, 0.0) - losses["returns"]) / span, 1.0)
    hard = xp.where(is_available, below**2, 0.0)
    even = is_available / xp.sum(is_available)
    return EVEN * even + (1.0 - EVEN) * hard / xp.sum(hard)
