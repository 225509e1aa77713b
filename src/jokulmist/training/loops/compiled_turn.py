"""One turn of all compiled copies as a traced function: choose, advance, begin anew where an episode closed, write a row.

`compiled_loop.py` joins turns and updates into a program and drives it; here is what happens within one.
"""

from __future__ import annotations

from typing import Any, NamedTuple

import jax
import jax.numpy as jnp
import numpy as np
from jax import lax

from jokulmist.agents.contract import Agent, Experience, Numbers, Shapes, counts_advances
from jokulmist.agents.foreign import outside, three
from jokulmist.environments.chance.draws import RowDraw
from jokulmist.environments.spaces.channels import Seen
from jokulmist.lanes.compiled.copies import CompiledEnvironment
from jokulmist.lanes.compiled.transition import BeginRows, Decided, Transition, at_turn, begun_anew, choose
from jokulmist.lanes.plain import NEVER_CUT
from jokulmist.loading import ships

NEVER = np.iinfo(np.int32).max
# Why a copy cannot go on.
NOTHING_ALLOWED, NEVER_ASKED, CLOSED_UNASKED, NO_ACTION = 0, 1, 2, 3


class Carry(NamedTuple):
    """All that a run is between two turns."""

    states: Any
    own: dict[str, Any]
    observed: Seen
    memories: tuple[Any, ...]
    action_memories: tuple[Any, ...]
    learned: Any
    stuck: Any
    steps: Any
    age: Any
    totals: tuple[Any, ...]
    measures: tuple[Any, ...]
    learner: Any
    memory: Any
    episodes: Any
    sums: tuple[Any, ...]
    rows: Any
    recorded_steps: Any = ()
    first_ages: Any = ()
    reward_memories: tuple[Any, ...] = ()


def turn_of(
    compiled: CompiledEnvironment, kind: type[Agent], shapes: Shapes, explore: bool = True, learns: bool = True
) -> Any:
    """One turn of all copies: choose, advance, begin anew where an episode closed, write the row."""
    copies = shapes.copies
    description = compiled.description
    transition = Transition(compiled, copies)
    overs = [m.over for m in description.measures]
    counted = learns and description.holds and counts_advances(shapes)

    def turn(
        numbers: Any, level: Any, now: Numbers, carry: Carry, noise: Any, t: Any, one: Any
    ) -> tuple[Carry, Experience]:
        before, own = carry.observed, carry.own
        draw = RowDraw(jnp, at_turn(noise["EXPLORE"], t), one)
        chosen = kind.choose(shapes, now, carry.learner, carry.memory, carry.observed, draw, explore)
        actions, memory, notes = three(kind, "choose", chosen)
        after = transition.decided(numbers, carry, actions, noise, t, one, now.discount if counted else None)
        judged, steps, age = after.judged, after.judged.steps, after.age
        closed = judged.held != 0
        closing = jnp.sum(closed, dtype=jnp.int32)
        first_ages: Any = carry.first_ages
        beginning = closing > 0
        if len(first_ages):  # a first episode that is cut for learning alone, and not recorded
            closed = closed | (age >= first_ages)
            first_ages = jnp.where(closed, NEVER_CUT, first_ages)
            beginning = jnp.any(closed)
        shown = after.last._replace(legal=after.legal)

        def anew(_: None) -> Any:
            drawn = compiled.vary(level, at_turn(noise["VARY"], t), one, copies)
            next_own = {name: jnp.where(closed, drawn[name], own[name]) for name in own}
            names = ("BEGIN", "BEGIN_WAIT", "BEGIN_SENSE", "BEGIN_LOOK", "BEGIN_OBSERVATION")
            rows = BeginRows(*[at_turn(noise[name], t) for name in names])
            begun = transition.begun(numbers, next_own, rows, one, closed, judged.after)
            observed, kept = jax.tree.map(
                lambda a, b: choose(closed, a, b), (begun.observed, begun.memories), (shown, after.memories)
            )
            return begun.states, next_own, observed, kept, begun.opened

        def onward(_: None) -> Any:
            none = transition.nothing_begun(numbers, own, judged.after, one)
            return judged.after, own, shown, after.memories, none

        states, next_own, observed, memories, opened = lax.cond(beginning, anew, onward, None)
        own_rows = [own[name].astype(jnp.float32) for name in description.varied]
        if learns:
            own_rows += [one.astype(jnp.float32) for one in kind.recorded(memory)]
        stuck = carry.stuck
        if not ships(kind):
            stuck = first_stuck(stuck, outside(description.action, actions), NO_ACTION, carry.states, t)
        if after.legal:
            stuck = first_stuck(stuck, forbidden(observed.legal), NOTHING_ALLOWED, states, t)
        if description.gated:
            asked = compiled.asks(numbers, next_own, states)
            stuck = first_stuck(stuck, opened.held != 0, CLOSED_UNASKED, states, t)
            stuck = first_stuck(stuck, ~asked, NEVER_ASKED, states, t)
        totals = tuple(so_far + term for so_far, term in zip(carry.totals, judged.terms, strict=True))
        measures = judged.measures
        action_memories, reward_memories = after.action_memories, after.reward_memories
        learned: Any = carry.learned
        if description.reward_pipeline.modifiers:
            learned = learned + (after.rewards.mean(axis=-1) if description.players else after.rewards)
            own_rows = [*own_rows, learned]
            learned = jnp.where(closed, 0.0, learned)
        if description.holds:
            own_rows = [*own_rows, steps.astype(jnp.float32)]
        if description.action_pipeline.modifiers:
            action_memories = begun_anew(closed, description.action_pipeline.begun(jnp), action_memories)
        if description.reward_pipeline.modifiers:
            reward_memories = begun_anew(closed, description.reward_pipeline.begun(jnp), reward_memories)
        told = tuple(m / steps if over == "mean" else m for over, m in zip(overs, measures, strict=True))
        row = jnp.stack([judged.held.astype(jnp.float32), age.astype(jnp.float32), *totals, *told, *own_rows])
        carry = Carry(
            states=states,
            own=next_own,
            observed=observed,
            memories=memories,
            action_memories=action_memories,
            learned=learned,
            stuck=stuck,
            steps=jnp.where(closed, opened.steps if opened else 0, steps),
            age=jnp.where(closed, 0, age) if description.holds else (),
            totals=_from_begin(closed, opened and opened.terms, totals),
            measures=_from_begin(closed, opened and opened.measures, measures),
            learner=carry.learner,
            memory=memory,
            episodes=carry.episodes + closing,
            sums=carry.sums,
            rows=lax.dynamic_update_index_in_dim(carry.rows, row, t, 0),
            recorded_steps=_with_frame(carry, actions, judged, after.last, t) if carry.recorded_steps else (),
            first_ages=first_ages,
            reward_memories=reward_memories,
        )
        happened = Experience(
            observed=before, actions=actions, rewards=after.rewards, ended=after.ended,
            closed=closed | judged.marked, last=after.last, following=observed, notes=notes,
            advances=judged.lasted if counted else (),
        )  # fmt: skip
        return carry, happened

    return turn


class Frame(NamedTuple):
    """What is recorded of the first copy, one row a turn: before the decision, the decision, and after it."""

    numbers: Any
    images: Any
    states: Any
    actions: Any
    terms: Any
    measures: Any
    numbers_after: Any
    images_after: Any
    states_after: Any


def frame_of(observed: Seen, states: Any, actions: Any, judged: Decided, shown: Any) -> Frame:
    """The first copy's turn."""
    whole = Frame(
        observed.numbers, observed.images, states, actions, judged.terms, judged.measures, shown.numbers, shown.images,
        judged.after,
    )  # fmt: skip
    first: Frame = jax.tree.map(lambda leaf: leaf[0], whole)
    return first


def _with_frame(carry: Carry, actions: Any, judged: Decided, shown: Any, t: Any) -> Any:
    recorded_steps = packed(frame_of(carry.observed, carry.states, actions, judged, shown))
    return jax.tree.map(
        lambda old, now: lax.dynamic_update_index_in_dim(old, now, t, 0), carry.recorded_steps, recorded_steps
    )


def packed(frame: Frame) -> tuple[Any, tuple[Any, ...]]:
    """All numbers of a frame as one row, and its images: each array of its own would make the compiler compute again what it
    holds. Whole numbers are exact up to 2**24."""
    leaves = jax.tree.leaves(frame)
    numbers = [leaf.reshape(-1).astype(jnp.float32) for leaf in leaves if leaf.dtype != jnp.uint8]
    return jnp.concatenate(numbers), tuple(leaf for leaf in leaves if leaf.dtype == jnp.uint8)


def unpacked(model: Frame, recorded_steps: tuple[Any, tuple[Any, ...]]) -> Frame:
    """Frames again, on the host, from rows of `packed`; `model` is one frame."""
    rows, images = recorded_steps[0], iter(recorded_steps[1])
    leaves, at = [], 0
    for leaf in jax.tree.leaves(model):
        if leaf.dtype == np.uint8:
            leaves.append(next(images))
            continue
        part = rows[:, at : at + leaf.size]
        leaves.append(part.reshape(len(rows), *leaf.shape).astype(leaf.dtype))
        at += leaf.size
    frames: Frame = jax.tree.unflatten(jax.tree.structure(model), leaves)
    return frames


def _from_begin(closed: Any, begun: Any, so_far: tuple[Any, ...]) -> tuple[Any, ...]:
    """What has gathered in each copy's episode: where one closed, what its next has gathered before its first decision."""
    first = begun or (0.0,) * len(so_far)
    return tuple(jnp.where(closed, new, old) for new, old in zip(first, so_far, strict=True))


def forbidden(legal: Any) -> Any:
    """The copies in which some choice has no allowed alternative."""
    return ~jnp.stack([jnp.any(mask, axis=-1) for mask in legal]).all(axis=0)


def nothing_stuck(states: Any) -> Any:
    """What `first_stuck` begins with."""
    return (jnp.int32(NEVER), jnp.int32(0), jnp.int32(0), jax.tree.map(lambda leaf: leaf[0], states))


def first_stuck(first: Any, bad: Any, why: int, states: Any, turn: Any) -> Any:
    """The first turn, reason, copy and state in which a copy could not go on."""
    copy = jnp.argmax(bad)
    here = (jnp.int32(turn), jnp.int32(why), jnp.int32(copy), jax.tree.map(lambda leaf: leaf[copy], states))
    new = (first[0] == NEVER) & bad[copy]
    return jax.tree.map(lambda now, old: jnp.where(new, now, old), here, first)
