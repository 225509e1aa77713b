"""What the methods share that learn from replay: when they learn, and how a turn's updates go one after another."""

from __future__ import annotations

import math
from collections.abc import Callable
from typing import Any

from jokulmist.agents.batches import in_parts
from jokulmist.agents.configs import ReplayConfig
from jokulmist.agents.contract import Experience
from jokulmist.errors import SettingError
from jokulmist.learning import replay as memory_of

MOST_UNROLLED = 4


def turns_between(learn_every: int, copies: int) -> int:
    """Turns of all copies until a whole number of updates is due."""
    return learn_every // math.gcd(copies, learn_every)


def learned_when_started(
    decisions: Any, start: int, learned: Callable[[Any], tuple[Any, Any]], learning: Any, readings: int
) -> tuple[Any, Any]:
    """What is learned once there are enough decisions, and the readings; until then nothing moves and these are 0.

    Only what changes may be in `learning`: whatever goes through the condition is copied by it, a memory, too.
    """
    import jax.numpy as jnp
    from jax import lax

    def waited(learning: Any) -> tuple[Any, Any]:
        return learning, jnp.zeros(readings, jnp.float32)

    return lax.cond(decisions >= start, learned, waited, learning)  # type: ignore[no-any-return]


def apply_in_turn(update: Callable[..., Any], learning: Any, updates: int, minibatch: int, *rows: Any) -> Any:
    """Updates on parts of the rows, all of which were gathered before the first: a loop over updates would copy the
    memory that it reads.
    """
    from jax import lax

    parts = in_parts(rows, updates, minibatch)
    return lax.scan(lambda state, part: update(state, *part), learning, parts, unroll=updates <= MOST_UNROLLED)


def rows_due(config: ReplayConfig, experience: Experience, at_once: int = 1) -> tuple[int, int]:
    """How many updates a turn's decisions make, so many `at_once`, and how many rows they take."""
    updates = experience.rewards.size // config.learn_every * at_once
    return updates, updates * config.minibatch


def start_of(config: ReplayConfig, n_step: int = 1) -> int:
    """Decisions before the first update: as many as were asked for, and enough for one target of `n_step` rewards in
    each copy."""
    return max(int(config.replay_start), n_step * int(config.copies))


def slots_of(agent: Any, config: ReplayConfig) -> int:
    """The slots of an agent's replay memory."""
    if agent.minibatch > agent.replay_size:
        raise SettingError(
            f"`minibatch` of `{type(agent).__name__}` is {agent.minibatch:,}, which is more than `replay_size` = "
            f"{agent.replay_size:,} holds. Use a smaller `minibatch`, e.g. 64."
        )
    return memory_of.slots_for(agent.replay_size, config.copies, agent.decisions_per_update(config.copies))


def refuse_few_slots(agent: Any, config: ReplayConfig, n_step: int = 1) -> None:
    """Raise `SettingError` where the replay memory is too small for so many copies."""
    turns = agent.decisions_per_update(config.copies)
    memory_of.refuse_slots(agent.replay_size, config.slots, config.copies, turns, n_step, config.spec)
