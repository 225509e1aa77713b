"""Replay for a recurrent network: sequences of decisions that follow one another, each with the state that was kept at
its first.

Hausknecht and Stone (2015), "Deep recurrent Q-learning for partially observable MDPs"; Kapturowski et al. (2019),
"Recurrent experience replay in distributed reinforcement learning", section 3: stored state and burn-in.
"""

from __future__ import annotations

from typing import Any

import numpy as np

from jokulmist.agents.configs import Hyperparameters, NetworkReplayConfig
from jokulmist.agents.contract import Experience
from jokulmist.agents.recurrence import Past, past_by_time
from jokulmist.learning import replay as memory_of
from jokulmist.learning.networks.layout import Recurrent


def stored_width(config: NetworkReplayConfig) -> int:
    """How many numbers replay keeps of a decision: the action, and with a recurrent network whether its state was
    given, and the state."""
    width: int = config.action_numbers + (1 + config.remembered if config.remembered else 0)
    return width


def lookahead_rows(config: NetworkReplayConfig) -> int:
    """Rows from the start of what is sampled to its end."""
    if isinstance(config.network, Recurrent):
        return int(config.network.burn_in + config.network.sequence + config.n_step - 1)
    return int(config.n_step)


def with_past(action: Any, past: Any, experience: Experience) -> Any:
    """The numbers that replay keeps of each decision; shape ``(turns, copies, stored_width)``."""
    import jax.numpy as jnp

    past = past_by_time(past, experience)
    return jnp.concatenate([action, past.restarts[..., None], past.states], axis=-1)


def sample_sequences(
    config: NetworkReplayConfig,
    hyperparameters: Hyperparameters,
    replay: Any,
    chance: Any,
    counted: bool,
    bonus: Any = None,
) -> Any:
    """Samples with axes (sequences, decisions, ...)."""
    import jax
    import jax.numpy as jnp

    slots, copies = replay.rows.shape[:2]
    first = memory_of.places(config.spec, replay, chance, config.lookahead)
    place = (first[:, None] + jnp.arange(config.lookahead) * copies) % (slots * copies)
    flat = place.reshape(-1)
    unit_steps = jnp.ones(flat.shape, jnp.float32)
    sample = memory_of.transitions(
        config.spec, replay, flat, unit_steps, config.n_step, hyperparameters.discount, counted, bonus
    )
    return jax.tree.map(lambda leaf: leaf.reshape(*place.shape, *leaf.shape[1:]), sample)


def time_major(sample: Any) -> Any:
    """The same as rows of decisions times sequences; places and steps keep both axes."""
    import jax

    turned = jax.tree.map(lambda leaf: leaf.swapaxes(0, 1), sample)
    flat = jax.tree.map(lambda leaf: leaf.reshape(-1, *leaf.shape[2:]), turned)
    return flat._replace(place=turned.place, steps=turned.steps)


def past_in(config: NetworkReplayConfig, sample: Any) -> Past:
    """What was remembered before each decision of the sequences."""
    lead, width = sample.place.shape, config.action_numbers
    return Past(sample.action[:, width + 1 :].reshape(*lead, -1), sample.action[:, width].reshape(lead) > 0.5)


def before_each(past: Past, after: Any) -> Any:
    """What networks that go along the sequences remember before each decision, from what they remember after each; one
    row a decision."""
    import jax.numpy as jnp

    going = jnp.concatenate([past.states[:1], after.reshape(past.states.shape)[:-1]])
    restarts = past.restarts.at[0].set(True)
    return jnp.where(restarts[..., None], past.states, going).reshape(-1, past.states.shape[-1])


def at_the_end(remembered: Any, steps: Any, turns: int) -> Any:
    """What was remembered at the end of the steps that each row's target goes through."""
    import jax.numpy as jnp

    rows = steps.shape[1]
    then = jnp.minimum(jnp.arange(turns)[:, None] + steps - 1, turns - 1)
    return remembered[(then * rows + jnp.arange(rows)).reshape(-1)]


def learned_rows(config: NetworkReplayConfig, turns: int, rows: int) -> Any:
    """The weight of each row in the loss: none while the state is burnt in, and none where the target looks beyond the
    sequence."""
    begin = config.network.burn_in
    counts = np.zeros((turns, rows), np.float32)
    counts[begin : begin + config.network.sequence] = 1.0 / (config.network.sequence * rows)
    return counts.reshape(-1)
