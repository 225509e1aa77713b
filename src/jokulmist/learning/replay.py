"""Replay memory: what happened, kept to be learned from again, with each moment stored once.

A ring for each copy, all in one array. A turn writes one row (what was seen, what was done, what came of it); an episode
that closes writes one row more, which holds its true last observation and is never a start. So the row after a
transition always holds what followed it, and an image is stored once: stacks are put together when they are
sampled, from the rows before, as far back as the episode's age reaches. A million frames of 84 x 84 take 7 GB.

The newest observation stands, ahead of its turn, in the row that the next turn will write; where the episode has
closed, that row is skipped. Rows of numbers are one float32 array, images one uint8 array each.

Prioritised sampling is proportional (Schaul et al., 2016, section 3.3): by exact prefix sums over blocks of rows, then
over the rows of a block, so that nothing is approximated and a change touches one block.
"""

from __future__ import annotations

import math
from typing import Any, NamedTuple

import numpy as np

from jokulmist.environments.channels import Seen, Spec
from jokulmist.environments.legal import choices_of
from jokulmist.errors import SettingError

CANDIDATES = 4
# Columns of a row after the numbers and the mask.
ACTION, REWARD, START, ENDED, CLOSED, AGE, FACTS = range(7)


class Priorities(NamedTuple):
    """Attributes: ``each``, one a row, 0 where no transition starts; ``blocks``, their sums by block; ``most`` so far."""

    each: Any
    blocks: Any
    most: Any


class Replay(NamedTuple):
    """The memory of all copies.

    Attributes
    ----------
    rows : float32, shape ``(copies * slots, columns)``
    images : dict of str to uint8, shape ``(copies * slots, height * width * channels)``
        The newest moment of each image channel.
    at : int32, shape ``(copies,)``
        The slot that each copy writes next.
    stored : int32, shape ``(copies,)``
        How many slots before it are filled.
    priorities : Priorities, optional
    """

    rows: Any
    images: dict[str, Any]
    at: Any
    stored: Any
    priorities: Priorities | None


class Sample(NamedTuple):
    """Transitions of one or several steps, one row each.

    Attributes
    ----------
    observed, following : Seen
        What was decided on, and what stood at the end of the steps.
    action : int32
    gain : float32
        Discounted sum of the rewards on the way.
    weight_ahead : float32
        What the value of `following` counts: the discount to the number of steps, 0 after an end.
    importance : float32
        Weight of the row in the loss.
    row : int32
        Where it stands, for new priorities.
    """

    observed: Seen
    following: Seen
    action: Any
    gain: Any
    weight_ahead: Any
    importance: Any
    row: Any


def slots_for(size: int, copies: int, n_step: int, spec: Spec) -> int:
    """Slots of each copy for a memory of so many decisions."""
    slots = -(-size // copies)
    deepest = max([c.stacked for c in spec.images], default=1)
    if slots < n_step + deepest + 2:
        raise SettingError(
            f"`replay_size` of {size} leaves {slots} decisions to each of {copies} copies, too few for `n_step` {n_step}"
            f"{f' and stacks of {deepest}' if deepest > 1 else ''}. Use a larger `replay_size` or fewer copies."
        )
    return slots


def fresh_replay(spec: Spec, copies: int, slots: int, prioritised: bool) -> Replay:
    """A memory that holds nothing."""
    count = copies * slots
    priorities = None
    if prioritised:
        width = block_width(count)
        blocks = -(-count // width)
        zeros = np.zeros(blocks * width, np.float32)
        priorities = Priorities(zeros, np.zeros(blocks, np.float32), np.float32(1.0))
    return Replay(
        rows=np.zeros((count, spec.width + _mask_width(spec) + FACTS), np.float32),
        images={c.name: np.zeros((count, math.prod(c.newest)), np.uint8) for c in spec.images},
        at=np.zeros(copies, np.int32),
        stored=np.zeros(copies, np.int32),
        priorities=priorities,
    )


def block_width(count: int) -> int:
    """Rows in one block of priorities: about the root of all."""
    return 1 << max(4, round(math.log2(max(count, 1)) / 2))


def _mask_width(spec: Spec) -> int:
    return sum(choice.count for choice in choices_of(spec.action).values()) if spec.masked else 0


def written(spec: Spec, replay: Replay, experience: Any, action: Any) -> Replay:
    """The memory after some turns of all copies.

    Parameters
    ----------
    experience : Experience
        Arrays with axes (turns, copies, ...).
    action : int32 array, shape ``(turns, copies)``
    """
    import jax.numpy as jnp

    turns, copies = experience.rewards.shape
    slots = replay.rows.shape[0] // copies
    sizes = 1 + experience.closed.astype(jnp.int32)
    ahead = jnp.cumsum(sizes, axis=0)
    starts = (replay.at + ahead - sizes) % slots
    base = jnp.arange(copies, dtype=jnp.int32) * slots
    where = (base + starts).reshape(-1)
    where_last = (base + (starts + 1) % slots).reshape(-1)
    flags = (jnp.ones_like(experience.rewards), experience.ended, experience.closed)
    row = _rows(spec, experience.observed, action, experience.rewards, *flags)
    nothing = jnp.zeros_like(experience.rewards)
    last = _rows(spec, experience.last, action, nothing, nothing, nothing, nothing)
    # What stood ahead of its turn first, and then the turns: within a stretch they overwrite it with the same.
    rows = _put(_put(replay.rows, where_last, last), where, row)
    images = {}
    for channel in spec.images:
        memory = replay.images[channel.name]
        for at, seen in ((where_last, experience.last), (where, experience.observed)):
            memory = _put(memory, at, _newest(channel, seen.images[channel.name]))
        images[channel.name] = memory
    priorities = replay.priorities
    if priorities is not None:
        each = priorities.each.at[where_last].set(0.0).at[where].set(priorities.most)
        touched = jnp.concatenate([where_last, where])
        priorities = _resummed(priorities._replace(each=each), touched)
    total = ahead[-1]
    return Replay(
        rows, images, (replay.at + total) % slots, jnp.minimum(replay.stored + total, slots - 1), priorities
    )


def _rows(spec: Spec, seen: Seen, action: Any, reward: Any, start: Any, ended: Any, closed: Any) -> Any:
    import jax.numpy as jnp

    facts = jnp.stack([jnp.asarray(f, jnp.float32) for f in (action, reward, start, ended, closed, seen.age)], axis=-1)
    masks = [mask.astype(jnp.float32) for mask in seen.legal]
    parts = jnp.concatenate([seen.numbers, *masks, facts], axis=-1)
    return parts.reshape(-1, parts.shape[-1])


def _newest(channel: Any, image: Any) -> Any:
    depth = channel.newest[-1]
    return image[..., -depth:].reshape(math.prod(image.shape[:2]), -1)


def _put(memory: Any, at: Any, rows: Any) -> Any:
    """Rows written one after another: a scatter is taken apart into slower steps."""
    from jax import lax

    for k in range(rows.shape[0]) if rows.shape[0] <= MOST_UNROLLED else ():
        memory = lax.dynamic_update_slice(memory, rows[k : k + 1], (at[k], 0))
    if rows.shape[0] <= MOST_UNROLLED:
        return memory

    def one(k: Any, memory: Any) -> Any:
        return lax.dynamic_update_slice(memory, lax.dynamic_slice_in_dim(rows, k, 1), (at[k], 0))

    return lax.fori_loop(0, rows.shape[0], one, memory)


MOST_UNROLLED = 16


def chances_for(noise: Any, rows: int, copies: int, prioritised: bool) -> Any:
    """The uniform numbers that `sampled` needs for so many rows."""
    if prioritised:
        return (noise.uniform(shape=(rows,)),)
    shape = (rows, CANDIDATES)
    return (noise.uniform(shape=shape),) + ((noise.uniform(shape=shape),) if copies > 1 else ())


def sampled(spec: Spec, replay: Replay, chance: Any, n_step: int, discount: Any, correction: Any = None) -> Sample:
    """Transitions, drawn uniformly or by priority.

    Parameters
    ----------
    chance : arrays
        As `chances_for` gives them; one transition a row.
    n_step : int
        Rewards that are summed before the value of what follows; a target that meets an end or a cut stops there.
    correction : float, optional
        Exponent of the importance weights, with priorities.
    """
    import jax.numpy as jnp

    if replay.priorities is None:
        row = _uniformly(spec, replay, chance, n_step)
        importance = jnp.ones(row.shape, jnp.float32)
    else:
        row, importance = _by_priority(spec, replay, chance[0], n_step, correction)
    return transitions(spec, replay, row, importance, n_step, discount)


def _span(spec: Spec, n_step: int) -> int:
    """The oldest rows that a stack may reach beyond: those are no starts."""
    return max([c.stacked for c in spec.images], default=1) - 1


def _uniformly(spec: Spec, replay: Replay, chance: Any, n_step: int) -> Any:
    """Rows that start a transition: a copy, then how far back; drawn again where an episode's last row was met.

    With four candidates a last row is left over once in (episode's length + 1)**4, and then the row before it is taken.
    """
    import jax.numpy as jnp

    copies = replay.at.shape[0]
    slots = replay.rows.shape[0] // copies
    u = chance[0]
    copy = jnp.zeros(u.shape, jnp.int32)
    if copies > 1:
        copy = jnp.minimum(jnp.floor(chance[1] * copies), copies - 1).astype(jnp.int32)
    least, most = n_step, (replay.stored - _span(spec, n_step))[copy]
    back = least + jnp.minimum(jnp.floor(u * (most - least + 1)), most - least).astype(jnp.int32)
    row = copy * slots + (replay.at[copy] - back) % slots
    start = replay.rows[row, replay.rows.shape[1] - FACTS + START] > 0.0
    first = jnp.argmax(start, axis=1)
    chosen = jnp.take_along_axis(row, first[:, None], axis=1)[:, 0]
    before = copy[:, 0] * slots + (chosen % slots - 1) % slots
    return jnp.where(jnp.any(start, axis=1), chosen, before)


def _by_priority(spec: Spec, replay: Replay, u: Any, n_step: int, correction: Any) -> tuple[Any, Any]:
    """Rows in proportion to their priorities, one from each of as many equal shares of the sum; and importance weights."""
    import jax.numpy as jnp

    assert replay.priorities is not None
    each, blocks, _ = replay.priorities
    width = each.shape[0] // blocks.shape[0]
    reach = jnp.cumsum(blocks)
    share = (jnp.arange(u.shape[0]) + u) / u.shape[0]
    target = jnp.minimum(share * reach[-1], reach[-1] * (1.0 - 2.0**-22))
    block = jnp.minimum(jnp.sum(target[:, None] >= reach[None, :], axis=1), blocks.shape[0] - 1)
    left = target - (reach[block] - blocks[block])
    inside = jnp.cumsum(each.reshape(-1, width)[block], axis=1)
    # Rounding can carry a target beyond its block's sum: the last row that has a chance is meant then.
    left = jnp.minimum(left, inside[:, -1] * (1.0 - 2.0**-22))
    row = block * width + jnp.sum(left[:, None] >= inside, axis=1)
    chance = each[row] / reach[-1]
    copies = replay.at.shape[0]
    slots = replay.rows.shape[0] // copies
    copy = row // slots
    back = (replay.at[copy] - row % slots) % slots
    whole = (back >= n_step) & (back <= replay.stored[copy] - _span(spec, n_step))
    count = jnp.sum(replay.stored).astype(jnp.float32)
    weight = jnp.where(whole, (count * jnp.maximum(chance, 1e-12)) ** -correction, 0.0)
    return row, weight / jnp.maximum(jnp.max(weight), 1e-12)


def transitions(spec: Spec, replay: Replay, row: Any, importance: Any, n_step: int, discount: Any) -> Sample:
    """The transitions that start at the given rows."""
    import jax.numpy as jnp

    copies = replay.at.shape[0]
    slots = replay.rows.shape[0] // copies
    base, slot = row // slots * slots, row % slots
    onward = base[:, None] + (slot[:, None] + jnp.arange(n_step + 1)) % slots
    found = replay.rows[onward]
    facts = found[..., -FACTS:]
    closed, ended = facts[:, :n_step, CLOSED], facts[:, :n_step, ENDED]
    # 1 as long as no step before has closed the episode.
    running = jnp.concatenate([jnp.ones_like(closed[:, :1]), jnp.cumprod(1.0 - closed, axis=1)[:, :-1]], axis=1)
    power = discount ** jnp.arange(n_step, dtype=jnp.float32)
    gain = jnp.sum(facts[:, :n_step, REWARD] * running * power, axis=1)
    steps = jnp.sum(running, axis=1)
    ahead = discount**steps * (1.0 - jnp.max(ended * running, axis=1))
    at = steps.astype(jnp.int32)
    after = jnp.take_along_axis(found, at[:, None, None], axis=1)[:, 0]
    row_after = base + (slot + at) % slots
    return Sample(
        observed=_seen(spec, replay, found[:, 0], row),
        following=_seen(spec, replay, after, row_after),
        action=facts[:, 0, ACTION].astype(jnp.int32),
        gain=gain,
        weight_ahead=ahead,
        importance=importance,
        row=row,
    )


def _seen(spec: Spec, replay: Replay, found: Any, row: Any) -> Seen:
    """What was seen in rows, with stacks put together from the rows before."""
    import jax.numpy as jnp

    copies = replay.at.shape[0]
    slots = replay.rows.shape[0] // copies
    age = found[:, -FACTS + AGE].astype(jnp.int32)
    legal, at = [], spec.width
    for choice in choices_of(spec.action).values() if spec.masked else ():
        legal.append(found[:, at : at + choice.count] > 0.0)
        at += choice.count
    images = {}
    for channel in spec.images:
        memory = replay.images[channel.name]
        shape = (row.shape[0], *channel.newest)
        moments = []
        for back in reversed(range(channel.stacked)):
            then = row // slots * slots + (row % slots - jnp.minimum(back, age)) % slots
            moments.append(memory[then].reshape(shape))
        images[channel.name] = jnp.concatenate(moments, axis=-1) if len(moments) > 1 else moments[0]
    return Seen(found[:, : spec.width], images, tuple(legal), age)


def reprioritised(replay: Replay, row: Any, priority: Any, counts: Any) -> Priorities:
    """New priorities of some rows.

    Parameters
    ----------
    counts : bool array
        Which rows take theirs.
    """
    import jax.numpy as jnp

    old = replay.priorities
    assert old is not None
    new = jnp.where(counts & (old.each[row] > 0.0), priority, old.each[row])
    most = jnp.maximum(old.most, jnp.max(jnp.where(counts, priority, 0.0)))
    return _resummed(old._replace(each=old.each.at[row].set(new), most=most), row)


def _resummed(priorities: Priorities, touched: Any) -> Priorities:
    """The sums of the blocks that some rows lie in, taken anew: errors of rounding do not pile up."""
    import jax.numpy as jnp

    width = priorities.each.shape[0] // priorities.blocks.shape[0]
    block = touched // width
    sums = jnp.sum(priorities.each.reshape(-1, width)[block], axis=1)
    return priorities._replace(blocks=priorities.blocks.at[block].set(sums))
