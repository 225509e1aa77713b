"""Rewards brought to a common scale: divided by the spread of the running discounted return, never centred.

The running return of a copy starts again at every end and cut. The statistics move before the rewards are divided, so
that the first update has a scale, too; nothing that was chosen depends on them. They belong to the learner, and are
saved with the policy, so that its values can be told in the environment's own scale.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np

from jokulmist.arrays import Array
from jokulmist.learning.observation_scaling import Running, gathered

if TYPE_CHECKING:
    from jokulmist.agents.configs import NetworkConfig
    from jokulmist.agents.contract import Experience

SMALLEST_SPREAD = 1e-6


def open_returns(config: NetworkConfig) -> Any:
    """The running returns of all copies as they begin, shape ``(copies,)``; empty where rewards are not scaled."""
    return np.zeros(config.copies, np.float32) if config.rewards_scaled else ()


def followed(open_before: Array, rewards: Array, closed: Array, discount: Any) -> tuple[Array, Array]:
    """The running discounted return after each turn, and what is open after the last.

    R_t = r_t + discount R_{t-1}, where R_{t-1} is left out after an end or a cut.

    Parameters
    ----------
    open_before : float32, shape ``(copies,)``
    rewards, closed : arrays, shape ``(turns, copies)``
    """
    from jax import lax
    from jax import numpy as jnp

    def accumulate(total: Array, inputs: Any) -> Any:
        new_total = inputs[0] + inputs[2] * total
        return jnp.where(inputs[1], 0.0, new_total), new_total

    after, returns = lax.scan(accumulate, open_before, (rewards, closed, jnp.broadcast_to(discount, rewards.shape)))
    return returns, after


def spread_of(returns: Running | None) -> Any:
    """What rewards are divided by: 1 where nothing is scaled or nothing was seen to vary."""
    if returns is None:
        return 1.0
    spread = (returns.square[0] / returns.count.clip(1.0)) ** 0.5
    is_known = spread > SMALLEST_SPREAD
    return spread * is_known + (1.0 - is_known)


def returns_after(
    experience: Experience, returns: Running | None, memory: Any, discount: Any, bonus: Any = None
) -> tuple[Running | None, Any]:
    """The statistics after some turns, and the running returns of all copies; both as they were where nothing is
    scaled."""
    if returns is None:
        return None, memory
    rewards = experience.rewards if bonus is None else experience.rewards + bonus.met
    new_returns, memory = followed(memory, rewards, experience.closed, discount)
    return gathered(returns, new_returns[..., None]), memory


def in_scale(
    experience: Experience, returns: Running | None, memory: Array, discount: Any
) -> tuple[Experience, Running | None, Array]:
    """Experience with rewards in scale, the statistics after it, and the running returns; all as they were without."""
    returns, memory = returns_after(experience, returns, memory, discount)
    if returns is None:
        return experience, None, memory
    return experience._replace(rewards=experience.rewards / spread_of(returns)), returns, memory
