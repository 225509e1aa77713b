"""Decisions of one player among several that wait: until it is known where they led, and until there are as many as its
method learns from.

A method learns from whole turns of all its copies. Where players take turns, copies get on at different speed, so
finished decisions are kept a copy by itself, and as soon as each copy has enough the method is given them as turns. A
copy that is far ahead of the slowest leaves decisions out; the next that is kept is marked as the begin of something
new, as after a lost process.
"""

from __future__ import annotations

from typing import Any

import numpy as np

from jokulmist.agents.configs import Hyperparameters
from jokulmist.agents.contract import Experience
from jokulmist.arrays import Array
from jokulmist.environments.chance.draws import CountingDraw, Draw, PlainDraw, RowDraw
from jokulmist.environments.chance.noise import Domain, Noise, Stream
from jokulmist.environments.spaces.channels import ObservationBatch

# Decisions of a row that are kept beside those that are learned from next.
MOST_PENDING = 8


def nothing_waiting(group: Any, hyperparameters: Hyperparameters, asks: bool) -> dict[str, Any]:
    """What is in an agent's memory before the first decision: room for what waits."""
    import jax
    import jax.numpy as jnp

    config, rows = group.config, group.config.copies
    spec = config.spec
    choices = [part for part in getattr(spec.action, "parts", {"": spec.action}).values() if hasattr(part, "count")]
    observed = ObservationBatch(
        jnp.zeros((rows, spec.width), jnp.float32),
        {c.name: jnp.zeros((rows, *c.shape), jnp.uint8) for c in spec.images},
        tuple(jnp.ones((rows, c.count), bool) for c in choices) if spec.masked else (),
        jnp.zeros(rows, jnp.int32),
    )
    draw = PlainDraw(Noise(0, 1, Domain.CHECK), Stream.FRESH).for_step(0, 0)
    learner, memory = (
        group.kind.fresh_learner(config, hyperparameters, draw),
        group.kind.fresh_memory(config, hyperparameters),
    )

    def chosen(settings: Any, learner: Any, memory: Any, observed: ObservationBatch) -> Any:
        numbers_now, draw = Hyperparameters(**settings), CountingDraw(jnp)
        actions, _, policy_extras = group.kind.choose(config, numbers_now, learner, memory, observed, draw, True)
        return actions, policy_extras

    def empty(like: Any) -> Any:
        return jax.tree.map(lambda leaf: jnp.zeros(leaf.shape, leaf.dtype), like)

    actions, policy_extras = empty(jax.eval_shape(chosen, vars(hyperparameters), learner, memory, observed))
    flags, zeros = jnp.zeros(rows, bool), jnp.zeros(rows, jnp.float32)
    row = Experience(observed, actions, zeros, flags, flags, observed, observed, policy_extras, flags if asks else ())
    room = group.every + (MOST_PENDING + group.every if asks else 0)
    waiting: dict[str, Any] = {
        "finished": jax.tree.map(lambda leaf: jnp.zeros((room, *leaf.shape), leaf.dtype), row),
        "count": jnp.zeros(rows, jnp.int32),
        "told": jnp.zeros(len(group.kind.reading_names), jnp.float32),
    }
    if asks:
        waiting["open"] = (observed, actions, policy_extras, zeros, flags)
        waiting["left_out"] = flags
    blank: dict[str, Any] = jax.tree.map(
        np.array, waiting
    )  # each an array of its own: a loop writes over what it is given
    return blank


def learned_when_gathered(
    group: Any,
    hyperparameters: Hyperparameters,
    learner: Any,
    stored: dict[str, Any],
    transition: Experience,
    noise: Draw,
    acted: Any,
    deciding: Any,
    gone: Any,
) -> tuple[Any, dict[str, Any], tuple[Any, ...]]:
    """Keep what has finished, and learn once each row has enough."""
    import jax
    import jax.numpy as jnp
    from jax import lax

    def finished(stored: dict[str, Any], turn: Any) -> tuple[dict[str, Any], None]:
        row, acts, asks, out = turn
        return (_all_finished(stored, row) if acts is None else _some_finished(stored, row, acts, asks, out)), None

    waiting = {name: part for name, part in stored.items() if name != "own"}
    waiting = lax.scan(finished, waiting, (transition, acted, deciding, gone))[0]

    def learn(state: Any, draw: Draw) -> Any:
        learner, inner_memory = state
        turns = jax.tree.map(lambda leaf: leaf[: group.every], waiting["finished"])
        learner, inner_memory, group_readings = group.kind.learn(
            group.config, hyperparameters, learner, inner_memory, turns, draw
        )
        return (learner, inner_memory), jnp.stack(group_readings) if len(group_readings) else jnp.zeros(0)

    counting = CountingDraw(jnp)
    jax.eval_shape(lambda state: learn(state, counting), (learner, stored["own"]))
    # Drawn before: what is done under a condition may be traced more than once.
    rows = [noise._take(request.kind, (request.width,)) for request in counting.requests]
    unit = getattr(noise, "_unit", None)

    def learned(state: Any) -> Any:
        draw = RowDraw(jnp, rows, jnp.float32(1.0) if unit is None else unit)
        (learner, inner_memory), group_readings = learn(state[:2], draw)
        moved = jax.tree.map(lambda leaf: jnp.roll(leaf, -group.every, axis=0), waiting["finished"])
        return learner, inner_memory, moved, waiting["count"] - group.every, group_readings.astype(jnp.float32)

    def not_yet(state: Any) -> Any:
        return (*state, waiting["finished"], waiting["count"], waiting["told"])

    ready = jnp.min(waiting["count"]) >= group.every
    new, inner_memory, moved, count, group_readings = lax.cond(ready, learned, not_yet, (learner, stored["own"]))
    after = {**waiting, "own": inner_memory, "finished": moved, "count": count, "told": group_readings}
    return new, after, tuple(group_readings[k] for k in range(len(group.kind.reading_names)))


def _all_finished(stored: dict[str, Any], row: Experience) -> dict[str, Any]:
    """Every row's decision has led somewhere."""
    import jax

    row_index = stored["count"][0]
    written = jax.tree.map(lambda buffer, row_value: buffer.at[row_index].set(row_value), stored["finished"], row)
    return {**stored, "finished": written, "count": stored["count"] + 1}


def _some_finished(stored: dict[str, Any], row: Experience, acts: Array, asks: Array, out: Any) -> dict[str, Any]:
    """Those have whose player is asked again, or whose episode closed."""
    import jax
    import jax.numpy as jnp

    def chosen(mask: Array, new: Any, old: Any) -> Any:
        return jax.tree.map(lambda a, b: jnp.where(mask.reshape((-1,) + (1,) * (b.ndim - 1)), a, b), new, old)

    observed, actions, policy_extras, paid, is_open = stored["open"]
    observed, actions, policy_extras = chosen(
        acts, (row.observed, row.actions, row.policy_extras), (observed, actions, policy_extras)
    )
    is_open = is_open | acts
    paid = jnp.where(acts, 0.0, paid) + row.rewards * is_open
    ended, closed = (row.ended, row.closed) if out is None else (row.ended | out & ~row.closed, row.closed | out)
    done = is_open & (closed | asks)
    count, finished = stored["count"], stored["finished"]
    room = jax.tree.leaves(finished)[0].shape[0]
    put = done & (count < room)
    age = observed.age + 1
    last, following = row.last._replace(age=age), row.following._replace(age=jnp.where(closed, 0, age))
    new = Experience(observed, actions, paid, ended, closed, last, following, policy_extras, stored["left_out"])
    places, rows = jnp.where(put, count, room), jnp.arange(count.shape[0])
    written = jax.tree.map(lambda buffer, row_value: buffer.at[places, rows].set(row_value, mode="drop"), finished, new)
    left_out = jnp.where(done, ~put, stored["left_out"])
    return {
        **stored,
        "finished": written,
        "count": count + put,
        "open": (observed, actions, policy_extras, paid, is_open & ~done),
        "left_out": left_out,
    }
