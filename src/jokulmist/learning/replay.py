"""Replay memory: what happened, kept to be learned from again.

A ring of turns: each turn of all copies is one write in one place, and any row is the start of a transition. A row
holds what was seen, done and gained, and the true observation after it (numbers are few; finding them in the next row
would cost a search for the rows that close an episode).

Images are many, so each moment is stored once, in a ring of frames for each copy: every decision adds the frame that
was seen, and an episode that closes adds its last one. A row knows its frame by number; what followed is the frame
after it, and a stack is put together when it is sampled, from the frames before, as far back as the episode's age
reaches. A million frames of 84 x 84 take 7 GB.

Prioritised sampling is proportional (Schaul et al., 2016, section 3.3): by exact prefix sums over blocks of blocks of
rows, then over the blocks of one, and so on down to the rows, so that nothing is approximated, and finding a row and
changing it take as many sums as the logarithm of all rows.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from typing import TYPE_CHECKING, Any, NamedTuple

import numpy as np

from jokulmist.arrays import Array
from jokulmist.environments.spaces.channels import ObservationBatch, Spec
from jokulmist.environments.spaces.legal import choices_of
from jokulmist.errors import SettingError

if TYPE_CHECKING:
    from jokulmist.agents.contract import Experience

# Columns of a row, counted from its end; the action stands before them.
LASTED, REWARD, ENDED, CLOSED = -4, -3, -2, -1
FACTS = 3
# Numbers in a block of priorities: the sums of a block are one stroke for the processor.
BLOCK = 32


class Priorities(NamedTuple):
    """What rows are drawn by.

    Attributes
    ----------
    levels : tuple of float32 vectors
        One number a row, 0 where nothing stands; the sums of each `BLOCK` of them; the sums of each `BLOCK` of those;
        and so on, down to one block. Each vector is filled up with 0 to whole blocks.
    most : float32
        The largest priority so far.
    """

    levels: tuple[Any, ...]
    most: Any


class FrameStore(NamedTuple):
    """The images of all copies.

    Attributes
    ----------
    images : dict of str to uint8, shape ``(copies * slots, height * width * channels)``
        The newest moment of each image channel, by copy and then by frame number modulo slots.
    newest : int32, shape ``(copies,)``
        Number of the frame that will be decided on next.
    number, age : int32, shape ``(slots, copies)``
        Of the frame that was decided on in each row, and how many decisions its episode was old.
    """

    images: dict[str, Any]
    newest: Any
    number: Any
    age: Any


class Replay(NamedTuple):
    """The memory of all copies.

    Attributes
    ----------
    rows : float32, shape ``(slots, copies, columns)``
    write_index, stored : int32
        The slot that is written next, and how many are filled.
    frames : FrameStore, optional
    priorities : Priorities, optional

    Examples
    --------
    >>> import jokulmist as jm
    >>> int(jm.parts.fresh_replay(jm.parts.spec_of(jm.gallery.Tarn()), copies=4, slots=500).stored)
    0
    """

    rows: Any
    write_index: Any
    stored: Any
    frames: FrameStore | None
    priorities: Priorities | None


class Bonus(NamedTuple):
    """What is added to rewards when they are learned from, and changes while they are in memory.

    Attributes
    ----------
    met : float32, shape ``(turns, copies)``
        Of the decisions that are written now.
    replayed : function (Sample of one step a row) -> float32, shape ``(rows,)``
        Of decisions that are sampled, as things stand now.
    """

    met: Any
    replayed: Callable[[Sample], Any]


class Sample(NamedTuple):
    """Transitions of one or several steps, one a row.

    Attributes
    ----------
    observed, following : ObservationBatch
        What was decided on, and what stood at the end of the steps.
    action : float32, shape ``(rows, numbers)``
    n_step_return : float32
        Discounted sum of the rewards on the way.
    bootstrap_discount : float32
        What the value of `following` counts: the discount to the number of steps, 0 after an end.
    importance : float32
        Weight of the row in the loss.
    place : int32
        Where it stands, for new priorities.
    steps : int32
        How many rewards were summed.

    Examples
    --------
    >>> import jokulmist as jm
    >>> jm.parts.Sample._fields[:4]
    ('observed', 'following', 'action', 'n_step_return')
    """

    observed: ObservationBatch
    following: ObservationBatch
    action: Any
    n_step_return: Any
    bootstrap_discount: Any
    importance: Any
    place: Any
    steps: Any = ()


def slots_for(size: int, copies: int, turns: int) -> int:
    """Slots for a memory of so many decisions: a whole number of writes of so many turns."""
    return -(-size // (copies * turns)) * turns


def refuse_slots(size: int, slots: int, copies: int, turns: int, n_step: int, spec: Spec) -> None:
    """Raise `SettingError` where a memory has no room for what one learned row reaches over."""
    least = max(n_step, _deepest(spec)) + turns + 1
    if slots < least:
        raise SettingError(
            f"`replay_size` of {size} leaves {slots} decisions to each of {copies} copies; at least {least} are "
            "needed. Use a larger `replay_size` or fewer copies."
        )


def _deepest(spec: Spec) -> int:
    return max([c.stacked for c in spec.images], default=1)


def fresh_replay(
    spec: Spec,
    copies: int,
    slots: int,
    prioritised: bool = False,
    action_numbers: int = 1,
    counted: bool = False,
) -> Replay:
    """A memory that holds nothing.

    Parameters
    ----------
    spec : Spec
    copies, slots : int
        It holds ``copies * slots`` decisions; the slots are a multiple of the turns that are written at once.
    prioritised : bool
        Whether rows are sampled by their last error (Schaul et al., 2016).
    action_numbers : int
        How many numbers an action is kept as.
    counted : bool
        Whether a row also holds how many advances its decision lasted.

    Examples
    --------
    >>> import jokulmist as jm
    >>> jm.parts.fresh_replay(jm.parts.spec_of(jm.gallery.Tarn()), copies=4, slots=500).rows.shape
    (500, 4, 8)
    """
    count = copies * slots
    frames = priorities = None
    if spec.images:
        frames = FrameStore(
            images={c.name: np.zeros((count, math.prod(c.newest)), np.uint8) for c in spec.images},
            newest=np.zeros(copies, np.int32),
            number=np.zeros((slots, copies), np.int32),
            age=np.zeros((slots, copies), np.int32),
        )
    if prioritised:
        sizes = [-(-count // BLOCK) * BLOCK]
        while sizes[-1] > BLOCK:
            sizes.append(-(-sizes[-1] // BLOCK**2) * BLOCK)
        priorities = Priorities(tuple(np.zeros(size, np.float32) for size in sizes), np.float32(1.0))
    columns = 2 * (spec.width + sum(_mask_widths(spec))) + action_numbers + counted + FACTS
    return Replay(np.zeros((slots, copies, columns), np.float32), np.int32(0), np.int32(0), frames, priorities)


def bytes_of(spec: Spec, copies: int, slots: int) -> int:
    """What a memory of so many slots takes, nearly: rows and images."""
    columns = 2 * (spec.width + sum(_mask_widths(spec))) + 1 + FACTS
    return copies * slots * (4 * columns + sum(math.prod(c.newest) for c in spec.images))


def _mask_widths(spec: Spec) -> list[int]:
    return [choice.count for choice in choices_of(spec.action).values()] if spec.masked else []


def add_to_replay(spec: Spec, replay: Replay, experience: Experience, action: Any, counted: bool = False) -> Replay:
    """The memory after some turns of all copies.

    Parameters
    ----------
    spec : Spec
    replay : Replay
    experience : Experience
        Arrays with axes (turns, copies, ...).
    action : array, shape ``(turns, copies, numbers)``
    counted : bool
        As `fresh_replay` was told.

    Examples
    --------
    Two turns of one copy:

    >>> import jokulmist as jm
    >>> spec = jm.parts.spec_of(jm.gallery.Tarn())
    >>> rows = jm.parts.ObservationBatch(np.ones((2, 1, spec.width), np.float32), {}, (), np.zeros((2, 1), np.int32))
    >>> no = np.zeros((2, 1), bool)
    >>> turns = jm.parts.Experience(rows, np.zeros((2, 1), np.int32), np.ones((2, 1), np.float32), no, no, rows, rows, ())
    >>> replay = jm.parts.fresh_replay(spec, copies=1, slots=100)
    >>> int(jm.parts.add_to_replay(spec, replay, turns, turns.actions[..., None]).stored)
    2
    """
    import jax.numpy as jnp
    from jax import lax

    turns, copies = experience.rewards.shape
    slots = replay.rows.shape[0]
    # A row that begins another episode although the row before it closed none says so by 2 more.
    closed = experience.closed
    if len(experience.broken):
        closed = closed.astype(jnp.float32) + 2.0 * experience.broken.astype(jnp.float32)
    facts: tuple[Any, ...] = (experience.rewards, experience.ended, closed)
    if counted:
        uniform_advances = isinstance(experience.advances, tuple)
        facts = (jnp.ones_like(experience.rewards) if uniform_advances else experience.advances, *facts)
    masks = (*experience.observed.legal, *experience.last.legal)
    parts = [experience.observed.numbers, experience.last.numbers, *masks, action, *(f[..., None] for f in facts)]
    row = jnp.concatenate([jnp.asarray(part, jnp.float32) for part in parts], axis=-1)
    frames = replay.frames
    if frames is not None:
        frames = _frames_after(spec, frames, experience, replay.write_index)
    priorities = replay.priorities
    if priorities is not None:
        touched = replay.write_index * copies + jnp.arange(turns * copies)
        priorities = _with_priorities(priorities, touched, priorities.most)
    return Replay(
        rows=lax.dynamic_update_slice(replay.rows, row, (replay.write_index, 0, 0)),
        write_index=(replay.write_index + turns) % slots,
        stored=jnp.minimum(replay.stored + turns, slots),
        frames=frames,
        priorities=priorities,
    )


def _frames_after(spec: Spec, frames: FrameStore, experience: Experience, index: Any) -> FrameStore:
    """The frames after some turns: the one that was decided on, and the one after it, which the next turn writes again
    unless the episode has closed."""
    import jax.numpy as jnp
    from jax import lax

    copies = frames.newest.shape[0]
    slots = frames.number.shape[0]
    # An end for learning alone goes on in the same frames; a new episode shows by its age.
    sizes = 1 + (experience.following.age == 0).astype(jnp.int32)
    before = experience.broken.astype(jnp.int32) if len(experience.broken) else 0
    sizes = sizes + before  # the last frame of an episode that was lost stays where it is
    ends = jnp.cumsum(sizes, axis=0)
    number = frames.newest + ends - sizes + before
    base = jnp.arange(copies, dtype=jnp.int32) * slots
    images = {}
    for channel in spec.images:
        depth = channel.newest[-1]
        memory = frames.images[channel.name]
        for step, seen in ((1, experience.last), (0, experience.observed)):
            slots_written = (base + (number + step) % slots).reshape(-1)
            newest = seen.images[channel.name][..., -depth:].reshape(slots_written.shape[0], -1)
            memory = _put(memory, slots_written, newest)
        images[channel.name] = memory
    return FrameStore(
        images=images,
        newest=frames.newest + ends[-1],
        number=lax.dynamic_update_slice(frames.number, number, (index, 0)),
        age=lax.dynamic_update_slice(frames.age, experience.observed.age, (index, 0)),
    )


def _put(memory: Any, index: Any, rows: Any) -> Any:
    """Rows written one after another: a scatter is taken apart into slower steps."""
    from jax import lax

    def put_copy(k: Array, memory: Array) -> Array:
        return lax.dynamic_update_slice(memory, lax.dynamic_slice_in_dim(rows, k, 1), (index[k], 0))

    return lax.fori_loop(0, rows.shape[0], put_copy, memory)


def replay_draws(noise: Any, rows: int, prioritised: bool) -> Any:
    """The uniform numbers that `sample_replay` needs for so many rows.

    Examples
    --------
    >>> import jokulmist as jm
    >>> from types import SimpleNamespace
    >>> jm.parts.replay_draws(SimpleNamespace(uniform=np.zeros), rows=64, prioritised=False).shape
    (2, 64)
    """
    return noise.uniform(shape=(rows,) if prioritised else (2, rows))


def sample_replay(
    spec: Spec,
    replay: Replay,
    chance: Array,
    n_step: int,
    discount: Any,
    correction: Any = None,
    counted: bool = False,
    minibatches: int = 1,
    bonus: Bonus | None = None,
) -> Sample:
    """Transitions, drawn from replay memory uniformly or by priority.

    Parameters
    ----------
    chance : arrays
        As `replay_draws` gives them; one transition a row.
    n_step : int
        Rewards that are summed before the value of what follows; a target that meets an end or a cut stops there.
    correction : float, optional
        Exponent of the importance weights, with priorities.
    minibatches : int
        How many minibatches the rows will be cut into, in order; with priorities each gets rows from all of memory.
    bonus : Bonus, optional
        Added to the rewards.

    Returns
    -------
    Sample

    Examples
    --------
    Two turns of one copy, and three of them sampled:

    >>> import jokulmist as jm
    >>> spec = jm.parts.spec_of(jm.gallery.Tarn())
    >>> rows = jm.parts.ObservationBatch(np.ones((2, 1, spec.width), np.float32), {}, (), np.zeros((2, 1), np.int32))
    >>> no = np.zeros((2, 1), bool)
    >>> turns = jm.parts.Experience(rows, np.zeros((2, 1), np.int32), np.ones((2, 1), np.float32), no, no, rows, rows, ())
    >>> replay = jm.parts.fresh_replay(spec, copies=1, slots=100)
    >>> replay = jm.parts.add_to_replay(spec, replay, turns, turns.actions[..., None])
    >>> chance = np.random.default_rng(1).uniform(size=(2, 3)).astype(np.float32)
    >>> sample = jm.parts.sample_replay(spec, replay, chance, n_step=1, discount=0.9)
    >>> sample.n_step_return.tolist(), sample.bootstrap_discount.tolist()
    ([1.0, 1.0, 1.0], [0.89..., 0.89..., 0.89...])
    """
    import jax.numpy as jnp

    slots, copies = replay.rows.shape[:2]
    if replay.priorities is None:
        place = places(spec, replay, chance, n_step)
        importance = jnp.ones(place.shape, jnp.float32)
    else:
        place, weight = _by_priority(replay.priorities, chance, correction, replay.stored * copies, minibatches)
        back = (replay.write_index - place // copies - 1) % slots + 1
        oldest = _oldest(spec, replay)
        reach = oldest[place % copies] if oldest.shape else oldest
        weight = jnp.where((back >= n_step) & (back <= reach), weight, 0.0)
        importance = weight / jnp.maximum(jnp.max(weight), 1e-12)
    return transitions(spec, replay, place, importance, n_step, discount, counted, bonus)


def places(spec: Spec, replay: Replay, chance: Any, lookahead: int) -> Any:
    """Rows drawn uniformly, as slot times copies plus copy, each with so many rows from itself on."""
    import jax.numpy as jnp

    slots, copies = replay.rows.shape[:2]
    oldest = _oldest(spec, replay)
    copy = jnp.minimum(jnp.floor(chance[0] * copies), copies - 1).astype(jnp.int32)
    span = (oldest[copy] if oldest.shape else oldest) - lookahead + 1
    # The newest rows are left until the steps after them have happened.
    back = lookahead + jnp.minimum(jnp.floor(chance[1] * span), span - 1).astype(jnp.int32)
    return (replay.write_index - back) % slots * copies + copy


def _oldest(spec: Spec, replay: Replay) -> Any:
    """How many turns back a transition may start; for images by copy, while the frames of its stack still stand."""
    import jax.numpy as jnp
    from jax import lax

    if replay.frames is None:
        return replay.stored
    frames, slots = replay.frames, replay.rows.shape[0]
    copies = jnp.arange(frames.newest.shape[0])
    # The frame ahead of its turn may be in the place of the oldest.
    first = jnp.maximum(frames.newest - slots + _deepest(spec), 0)

    def halved(_: Any, bounds: Any) -> Any:
        newest, far = bounds
        middle = (newest + far + 1) // 2
        stands = frames.number[(replay.write_index - middle) % slots, copies] >= first
        return jnp.where(stands, middle, newest), jnp.where(stands, far, middle - 1)

    bounds = (jnp.ones_like(frames.newest), jnp.broadcast_to(replay.stored, frames.newest.shape))
    return lax.fori_loop(0, math.ceil(math.log2(slots)) + 1, halved, bounds)[0]


def _by_priority(priorities: Priorities, u: Any, correction: Any, count: Any, minibatches: int) -> tuple[Any, Any]:
    """Rows in proportion to their priorities, one from each of as many equal shares of the sum; and their weights.

    The shares are dealt out in turn, so that each minibatch draws from all of memory instead of one part of it.
    """
    import jax.numpy as jnp

    levels = priorities.levels
    reach = jnp.cumsum(levels[-1])
    stratum = np.arange(u.shape[0]).reshape(-1, minibatches).T.reshape(-1)
    left = (stratum + u) / u.shape[0] * reach[-1]
    place = jnp.zeros(u.shape, jnp.int32)
    for level in reversed(levels):
        lower_sums = level.reshape(-1, BLOCK)[place]
        inside = jnp.cumsum(lower_sums, axis=1)
        # Rounding can carry a target beyond its block's sum, or below 0: the last or the first number above 0 is meant
        # then.
        left = jnp.clip(left, 0.0, inside[:, -1] * (1.0 - 2.0**-22))
        within = jnp.minimum(jnp.sum(left[:, None] >= inside, axis=1), BLOCK - 1).astype(jnp.int32)
        chosen = within[:, None]
        left = (
            left - (jnp.take_along_axis(inside, chosen, axis=1) - jnp.take_along_axis(lower_sums, chosen, axis=1))[:, 0]
        )
        place = place * BLOCK + within
    chance = jnp.maximum(levels[0][place] / reach[-1], 1e-12)
    return place, (count * chance) ** -correction


def transitions(
    spec: Spec,
    replay: Replay,
    place: Array,
    importance: Array,
    n_step: int,
    discount: Any,
    counted: bool = False,
    bonus: Bonus | None = None,
) -> Sample:
    """The transitions that start in the given places (slot times copies, plus copy)."""
    import jax.numpy as jnp

    slots, copies, columns = replay.rows.shape
    rows = replay.rows.reshape(-1, columns)
    successors = (place[:, None] + jnp.arange(n_step) * copies) % (slots * copies)
    sequence = rows[successors]
    rewards = sequence[..., REWARD]
    if bonus is not None:
        each = successors.reshape(-1)
        steps_alone = transitions(spec, replay, each, jnp.ones(each.shape, jnp.float32), 1, discount, counted)
        rewards = rewards + bonus.replayed(steps_alone).reshape(rewards.shape)
    closed, ended = sequence[..., CLOSED] % 2.0, sequence[..., ENDED]
    # 1 as long as no step before has closed the episode, or was the last that is known of it.
    going = (1.0 - closed[:, :-1]) * (sequence[:, 1:, CLOSED] < 2.0)
    running = jnp.concatenate([jnp.ones_like(closed[:, :1]), jnp.cumprod(going, axis=1)], axis=1)
    power: Any = discount ** jnp.arange(n_step, dtype=jnp.float32)
    steps = jnp.sum(running, axis=1)
    last_index = steps.astype(jnp.int32) - 1
    bootstrap_weight = discount**steps
    if counted:  # each step is discounted by the advances that it lasted
        lasted = jnp.cumsum(sequence[..., LASTED] * running, axis=1)
        bootstrap_weight = discount ** lasted[:, -1]
        power = discount ** jnp.concatenate([jnp.zeros_like(lasted[:, :1]), lasted[:, :-1]], axis=1)
    last = jnp.take_along_axis(sequence, last_index[:, None, None], axis=1)[:, 0] if n_step > 1 else sequence[:, 0]
    width, masks = spec.width, sum(_mask_widths(spec))
    frame = frame_last = age = age_last = None
    if replay.frames is not None:
        copy, place_last = place % copies, jnp.take_along_axis(successors, last_index[:, None], axis=1)[:, 0]
        frame, age = _frame(replay.frames, place), replay.frames.age.reshape(-1)[place]
        frame_last, age_last = _frame(replay.frames, place_last) + 1, replay.frames.age.reshape(-1)[place_last] + 1
    images = images_last = {}
    if replay.frames is not None:
        images = _stacks(spec, replay.frames, copy, frame, age)
        images_last = _stacks(spec, replay.frames, copy, frame_last, age_last)
    return Sample(
        observed=ObservationBatch(sequence[:, 0, :width], images, _masks(spec, sequence[:, 0, 2 * width :]), age),
        following=ObservationBatch(
            last[:, width : 2 * width], images_last, _masks(spec, last[:, 2 * width + masks :]), age_last
        ),
        action=sequence[:, 0, 2 * (width + masks) : -FACTS - counted],
        n_step_return=jnp.sum(rewards * running * power, axis=1),
        bootstrap_discount=bootstrap_weight * (1.0 - jnp.max(ended * running, axis=1)),
        importance=importance,
        place=place,
        steps=last_index + 1,
    )


def _masks(spec: Spec, columns: Array) -> tuple[Any, ...]:
    """One mask a choice, from the columns that begin with them."""
    legal, begin = [], 0
    for count in _mask_widths(spec):
        legal.append(columns[:, begin : begin + count] > 0.0)
        begin += count
    return tuple(legal)


def _frame(frames: FrameStore, place: Any) -> Any:
    return frames.number.reshape(-1)[place]


def _stacks(spec: Spec, frames: FrameStore, copy: Any, number: Any, age: Any) -> dict[str, Any]:
    """Images by frame number, with stacks put together from the frames before."""
    import jax.numpy as jnp

    slots = frames.number.shape[0]
    images = {}
    for channel in spec.images:
        memory = frames.images[channel.name]
        moments = []
        for back in reversed(range(channel.stacked)):
            then = copy * slots + (number - jnp.minimum(back, age)) % slots
            moments.append(memory[then].reshape(-1, *channel.newest))
        images[channel.name] = jnp.concatenate(moments, axis=-1) if len(moments) > 1 else moments[0]
    return images


def reprioritised(priorities: Priorities, place: Array, priority: Array, counts: Array) -> Priorities:
    """New priorities of some rows; `counts` says which of them take theirs."""
    import jax.numpy as jnp

    new = jnp.where(counts, priority, priorities.levels[0][place])
    most = jnp.maximum(priorities.most, jnp.max(jnp.where(counts, priority, 0.0)))
    return _with_priorities(priorities._replace(most=most), place, new)


def _with_priorities(priorities: Priorities, place: Array, new: Any) -> Priorities:
    """Rows with new priorities; the sums that they lie in are taken again, so that errors of rounding do not pile
    up."""
    import jax.numpy as jnp

    levels = [priorities.levels[0].at[place].set(new)]
    for level in priorities.levels[1:]:
        place = place // BLOCK
        levels.append(level.at[place].set(jnp.sum(levels[-1].reshape(-1, BLOCK)[place], axis=1)))
    return priorities._replace(levels=tuple(levels))
