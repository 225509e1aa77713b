"""What the copies of a recurrent network remember: kept from decision to decision, cleared where an episode begins."""

from __future__ import annotations

from typing import Any, NamedTuple

import numpy as np

from jokulmist.agents.configs import NetworkConfig, PolicyConfig
from jokulmist.agents.contract import Experience
from jokulmist.arrays import Array
from jokulmist.environments.spaces.channels import ObservationBatch
from jokulmist.learning.networks.inputs import Inputs


class Past(NamedTuple):
    """What a recurrent network remembered before a decision.

    Attributes
    ----------
    states : float32 array, shape ``(..., copies, width)``
    restarts : bool array, shape ``(..., copies)``
        Where the state is not what came of the decision before: an episode begins.
    """

    states: Any
    restarts: Any


def fresh_states(config: NetworkConfig) -> dict[str, Any]:
    """What is in an agent's memory before the first decision; nothing without a recurrent network."""
    if not config.state_width:
        return {}
    return {"state": np.zeros((config.copies, config.state_width), np.float32)}


def past_of(memory: Any, observed: ObservationBatch) -> Past:
    """What is remembered before the decisions on what is seen now."""
    import jax.numpy as jnp

    restarts = observed.age == 0
    return Past(jnp.where(restarts[:, None], 0.0, memory["state"]), restarts)


def past_by_time(past: Any, experience: Experience) -> Any:
    """The same along the turns of an experience; a decision that does not follow the one before it has its own
    state."""
    if not isinstance(past, Past) or isinstance(experience.broken, tuple):
        return past
    return past._replace(restarts=past.restarts | experience.broken)


def apply_network(networks: Any, inputs: Inputs, past: Any) -> tuple[Any, Any]:
    """What networks say of rows, turn after turn, and what they remember after each; without recurrence they remember
    nothing."""
    if not past:
        return networks(inputs), ()
    outputs: tuple[Any, Any] = networks.apply_sequence(inputs, past.restarts, past.states)
    return outputs


def apply_to_next(networks: Any, inputs: Inputs, remembered: Any) -> tuple[Array, Array]:
    """What networks say of what followed each row, without going on from there."""
    if isinstance(remembered, tuple):
        outputs: tuple[Any, Any] = networks(inputs)
        return outputs
    outputs = networks.step(inputs, remembered)[0]
    return outputs


def stretch_of(config: PolicyConfig) -> int:
    """Decisions of a copy that are learned from together: of a recurrent network the largest part of the horizon that
    its gradient goes through."""
    if not config.state_width:
        return 1
    return max(n for n in range(1, config.horizon + 1) if config.horizon % n == 0 and n <= config.network.sequence)


def split_sequences(rows: Any, shape: tuple[int, ...], length: int) -> Any:
    """Rows of turns times copies as sequences of a copy, with axes (sequences, turns, ...)."""
    import jax

    turns, copies = shape

    def cut(leaf: Any) -> Any:
        parts = leaf.reshape(turns // length, length, copies, *leaf.shape[1:]).swapaxes(1, 2)
        return parts.reshape(-1, length, *leaf.shape[1:])

    return jax.tree.map(cut, rows)


def in_time(sequences: Any, past: Any) -> tuple[Any, Any]:
    """Sequences as rows of turns times sequences, in the order in which a network goes along them, and what was
    remembered, with both axes."""
    import jax

    flat = jax.tree.map(lambda leaf: leaf.swapaxes(0, 1).reshape(-1, *leaf.shape[2:]), sequences)
    return flat, jax.tree.map(lambda leaf: leaf.swapaxes(0, 1), past)
