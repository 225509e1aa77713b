"""Batches of decisions as rows, and gradients as one vector: what methods with networks share."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from jokulmist.arrays import Array
from jokulmist.environments.chance.draws import Draw

if TYPE_CHECKING:
    from jokulmist.agents.configs import Config


def seed_from(noise: Draw) -> int:
    """A seed for the first weights, from the run's own noise."""
    return (int(noise.integers(0, 1 << 23)) << 23) | int(noise.integers(0, 1 << 23))


def in_rows(tree: Any) -> Any:
    """Arrays with axes (turns, copies, ...) as one row a decision."""
    import jax

    return jax.tree.map(lambda leaf: leaf.reshape(leaf.shape[0] * leaf.shape[1], *leaf.shape[2:]), tree)


def in_parts(tree: Any, count: int, size: int) -> Any:
    """Rows as so many minibatches of a size, with a leading axis of minibatches."""
    import jax

    return jax.tree.map(lambda leaf: leaf.reshape(count, size, *leaf.shape[1:]), tree)


def as_flat(gradients: list[Any]) -> Array:
    """Gradients of a module's arrays as one vector, in the order of `Layout`."""
    import jax.numpy as jnp

    return jnp.concatenate([gradient.reshape(-1) for gradient in gradients])


def minibatch_of(config: Config, rows: Any, noise: Draw) -> Any:
    """Some rows, each equally likely."""
    import jax
    import jax.numpy as jnp

    count = rows.rewards.shape[0]
    u = noise.uniform(shape=(config.minibatch,))
    place = jnp.minimum(jnp.floor(u * count), count - 1).astype(jnp.int32)
    return jax.tree.map(lambda leaf: leaf[place], rows)
