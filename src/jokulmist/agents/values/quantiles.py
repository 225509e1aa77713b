"""Values as distributions: for each action some quantiles of the return, learned by quantile regression.

Dabney, Rowland, Bellemare and Munos (2018), "Distributional reinforcement learning with quantile regression".
"""

from __future__ import annotations

from typing import Any

import numpy as np

from jokulmist.agents.configs import DQNConfig
from jokulmist.arrays import Array
from jokulmist.learning.optimisation import huber


def levels(count: int) -> Any:
    """The levels of the quantiles, in the middle of as many equal parts (lemma 2)."""
    return ((np.arange(count) + 0.5) / count).astype(np.float32)


def by_action(config: DQNConfig, outputs: Any) -> Any:
    """The quantiles of each action from a network's outputs, shape ``(rows, actions, quantiles)``."""
    return outputs.reshape(outputs.shape[0], config.joint.count, config.quantiles)


def mean_of_quantiles(config: DQNConfig, quantiles: Any) -> Any:
    """What actions are chosen by: the mean of their quantiles, or of the lowest part of them; shape ``(rows,
    actions)``."""
    if config.tail == config.quantiles:
        return quantiles.mean(axis=-1)
    if isinstance(quantiles, np.ndarray):
        return np.sort(quantiles, axis=-1)[..., : config.tail].mean(axis=-1)
    import jax.numpy as jnp

    return jnp.sort(quantiles, axis=-1)[..., : config.tail].mean(axis=-1)


def of_action(quantiles: Any, index: Any) -> Any:
    """The quantiles of one action a row, shape ``(rows, quantiles)``."""
    import jax.numpy as jnp

    one_hot = index[:, None] == jnp.arange(quantiles.shape[1])
    return jnp.sum(jnp.where(one_hot[..., None], quantiles, 0.0), axis=1)


# In the scale that is learned in, where returns have a spread of about 1; a longer one draws quantiles towards each
# other.
REACH = 0.05


def quantile_loss(chosen: Array, wanted: Array, reach: float = REACH) -> Array:
    """How far quantiles are from targets, one a row (equation 10): ``sum_i mean_j |tau_i - (u < 0)| huber(u) / reach``,
    u = target_j - quantile_i."""
    import jax.numpy as jnp

    differences = wanted[:, None, :] - chosen[:, :, None]
    weight = jnp.abs(levels(chosen.shape[1])[None, :, None] - (differences < 0.0))
    return jnp.sum(jnp.mean(weight * huber(differences, reach) / reach, axis=2), axis=1)
