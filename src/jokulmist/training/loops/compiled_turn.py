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
from jokulmist.agents.foreign import outside
from jokulmist.environments.chance.draws import RowDraw
from jokulmist.environments.modifiers.base import idle_of
from jokulmist.environments.spaces.channels import Seen
from jokulmist.environments.transition.waiting import MOST_WAITING
from jokulmist.lanes.compiled.copies import CompiledEnvironment
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


def turn_of(compiled: CompiledEnvironment, kind: type[Agent], shapes: Shapes) -> Any:
    """One turn of all copies: choose, advance, begin anew where an episode closed, write the row."""
    copies = shapes.copies
    description = compiled.description
    end_bits = description.ending_bits
    overs = [m.over for m in description.measures]
    counted = description.holds and counts_advances(shapes)

    def turn(
        numbers: Any, level: Any, now: Numbers, carry: Carry, noise: Any, t: Any, one: Any
    ) -> tuple[Carry, Experience]:
        before, own = carry.observed, carry.own
        draw = RowDraw(jnp, at_turn(noise["EXPLORE"], t), one)
        actions, memory, notes = kind.choose(shapes, now, carry.learner, carry.memory, carry.observed, draw, True)
        action_memories, done = compiled.handled(carry.action_memories, actions, at_turn(noise["ACTION"], t), one)
        within = now.discount if counted else None
        judged = Advancing(compiled, numbers, own, within, one).decided(carry, done, noise, t)
        steps = judged.steps
        age = carry.age + 1 if description.holds else steps
        weights = numbers["weights"]
        reward = sum(weights[k] * term for k, term in enumerate(judged.terms)) + jnp.zeros(copies, jnp.float32)
        reward = judged.gain if counted else reward
        closed, ended = judged.held != 0, (judged.held & end_bits) != 0
        channel_values = compiled.observe(
            numbers, own, judged.after, at_turn(noise["SENSE"], t), at_turn(noise["LOOK"], t), one
        )
        # An end for learning alone: the copy goes on, and what is learned from does not see it go on.
        ended = ended | judged.marked
        reward_memories, reward = compiled.valued(carry.reward_memories, reward, carry.states, judged.after, ended)
        channel_values = channel_values._replace(numbers=channel_values.numbers / one)
        memories, shown = compiled.seen(
            carry.memories, channel_values, actions, steps, at_turn(noise["OBSERVATION"], t), one
        )
        legal = compiled.legal(numbers, own, judged.after)
        # Where nothing is allowed, nothing need be: an episode may close there. Else `stuck` tells of it.
        able = tuple(mask | ~jnp.any(mask, axis=-1, keepdims=True) for mask in legal)
        last = Seen(shown.numbers, shown.images, able, age)
        closing = jnp.sum(closed, dtype=jnp.int32)
        first_ages: Any = carry.first_ages
        beginning = closing > 0
        if len(first_ages):  # a first episode that is cut for learning alone, and not recorded
            closed = closed | (age >= first_ages)
            first_ages = jnp.where(closed, NEVER_CUT, first_ages)
            beginning = jnp.any(closed)

        def anew(_: None) -> Any:
            drawn = compiled.vary(level, at_turn(noise["VARY"], t), one, copies)
            next_own = {name: jnp.where(closed, drawn[name], own[name]) for name in own}
            begun = spread(compiled.begin(numbers, next_own, at_turn(noise["BEGIN"], t), one), copies)
            states = jax.tree.map(lambda new, old: choose(closed, new, old), begun, judged.after)
            opened: Any = ()
            if description.gated:
                waiting = Advancing(compiled, numbers, next_own, None, one)
                opened = waiting.first_decision(states, closed, at_turn(noise["BEGIN_WAIT"], t))
                states = opened.after
            first = compiled.observe(
                numbers, next_own, states, at_turn(noise["BEGIN_SENSE"], t), at_turn(noise["BEGIN_LOOK"], t), one
            )
            kept, shown_first = compiled.first_seen(first, at_turn(noise["BEGIN_OBSERVATION"], t), one)
            allowed = compiled.legal(numbers, next_own, states)
            seen = Seen(shown_first.numbers, shown_first.images, allowed, jnp.zeros_like(steps))
            new = (seen, kept)
            observed, kept = jax.tree.map(
                lambda a, b: choose(closed, a, b), new, (last._replace(legal=legal), memories)
            )
            return states, next_own, observed, kept, opened and opened._replace(after=())

        def onward(_: None) -> Any:
            none = Advancing(compiled, numbers, own, None, one).begun((), copies) if description.gated else ()
            return judged.after, own, last._replace(legal=legal), memories, none

        states, next_own, observed, memories, opened = lax.cond(beginning, anew, onward, None)
        own_rows = [own[name].astype(jnp.float32) for name in description.varied]
        stuck = carry.stuck
        if not ships(kind):
            stuck = first_stuck(stuck, outside(description.action, actions), NO_ACTION, carry.states, t)
        if legal:
            stuck = first_stuck(stuck, forbidden(observed.legal), NOTHING_ALLOWED, states, t)
        if description.gated:
            asked = compiled.asks(numbers, next_own, states)
            stuck = first_stuck(stuck, opened.held != 0, CLOSED_UNASKED, states, t)
            stuck = first_stuck(stuck, ~asked, NEVER_ASKED, states, t)
        totals = tuple(so_far + term for so_far, term in zip(carry.totals, judged.terms, strict=True))
        measures = judged.measures
        learned: Any = carry.learned
        if description.reward_pipeline.modifiers:
            learned = learned + reward
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
            recorded_steps=_with_frame(carry, actions, judged, shown, t) if carry.recorded_steps else (),
            first_ages=first_ages,
            reward_memories=reward_memories,
        )
        happened = Experience(
            observed=before, actions=actions, rewards=reward, ended=ended,
            closed=closed | judged.marked, last=last, following=observed, notes=notes,
            advances=judged.lasted if counted else (),
        )  # fmt: skip
        return carry, happened

    return turn


def begun_anew(closed: Any, begun: Any, memories: Any) -> Any:
    """Memories of a modifier of all copies; as at the begin where an episode closed."""
    fresh = spread_all(begun, closed.shape[0])
    return jax.tree.map(lambda new, old: choose(closed, new, old), fresh, memories)


class Decided(NamedTuple):
    """What a decision led to in all copies, however many advances it was held for.

    Attributes
    ----------
    after : states
    terms : sums over the advances
    measures : running, since the episode began
    held : the closings that hold
    marked : whether a measure made an end for learning
    steps : advances since the episode began
    lasted : advances of this decision; empty where each lasts one
    gain : the reward, each advance's weighted by the discount to the number of those before it; empty where it is the sum
    """

    after: Any
    terms: tuple[Any, ...]
    measures: tuple[Any, ...]
    held: Any
    marked: Any
    steps: Any
    lasted: Any = ()
    gain: Any = ()


class Advancing:
    """The advances of a decision in all copies.

    Parameters
    ----------
    compiled : CompiledEnvironment
    numbers, own : the parameters, shared and by copy
    within : float, optional
        What a reward one advance later counts within a decision; None where rewards are summed up.
    one : 1.0
    """

    def __init__(self, compiled: CompiledEnvironment, numbers: Any, own: Any, within: Any, one: Any) -> None:
        self.compiled, self.numbers, self.own, self.within, self.one = compiled, numbers, own, within, one
        self.description = compiled.description

    def begun(self, states: Any, copies: int, measures: Any = None, steps: Any = None) -> Decided:
        """Before the first advance of a decision, by default of an episode's first."""
        zeros = jnp.zeros(copies, jnp.float32)
        whole = jnp.zeros(copies, jnp.int32)
        return Decided(
            after=states,
            terms=tuple(zeros for _ in self.description.terms),
            measures=tuple(zeros for _ in self.description.measures) if measures is None else measures,
            held=whole,
            marked=jnp.zeros(copies, bool),
            steps=whole if steps is None else steps,
            lasted=whole,
            gain=() if self.within is None else zeros,
        )

    def once(self, states: Any, measures: Any, steps: Any, actions: Any, rows: Any, waited: Any = None) -> Decided:
        """One advance."""
        judged = self.compiled.advance(self.numbers, self.own, states, actions, steps, rows, self.one, waited)
        running = tuple(
            _running(m.over, so_far, value, steps)
            for m, so_far, value in zip(self.description.measures, measures, judged.measures, strict=True)
        )
        marked = jnp.zeros(steps.shape, bool)
        for k in self.description.ending_measures:
            marked = marked | (judged.measures[k] != 0.0)
        return Decided(judged.after, judged.terms, running, judged.held, marked, steps)

    def onward(self, now: Decided, going: Any, actions: Any, rows: Any, waited: Any = None) -> Decided:
        """One advance more in the copies that are going."""
        new = self.once(now.after, now.measures, now.steps + 1, actions, rows, waited)
        gain: Any = ()
        if self.within is not None:
            weights = self.numbers["weights"]
            reward = sum(weights[k] * term for k, term in enumerate(new.terms))
            gain = now.gain + self.within ** now.lasted.astype(jnp.float32) * reward
        terms = tuple(a + b for a, b in zip(now.terms, new.terms, strict=True))
        new = new._replace(terms=terms, marked=now.marked | new.marked, lasted=now.lasted + 1, gain=gain)
        return jax.tree.map(lambda after, before: choose(going, after, before), new, now)  # type: ignore[no-any-return]

    def waited(self, now: Decided, going: Any, key: Any) -> Decided:
        """Advances on which nobody is asked, in the copies that are going."""
        meanwhile = spread_all(idle_of(jnp, self.description.action, self.description.meanwhile), now.held.shape[0])

        def waits(now: Decided) -> Any:
            return going & (now.held == 0) & ~self.compiled.asks(self.numbers, self.own, now.after)

        def further(state: Any) -> Any:
            j, now, waiting = state
            now = self.onward(now, waiting, meanwhile, key, j)
            return j + 1, now, waits(now)

        first = (jnp.int32(0), now, waits(now))
        met: Decided = lax.while_loop(lambda s: (s[0] < MOST_WAITING) & jnp.any(s[2]), further, first)[1]
        return met

    def decided(self, carry: Carry, actions: Any, noise: Any, t: Any) -> Decided:
        """Advance all copies by a decision; one that closes on the way stands still for the rest of it."""
        description = self.description
        every = description.decide_every
        if not description.holds:
            return self.once(carry.states, carry.measures, carry.steps + 1, actions, at_turn(noise["ADVANCE"], t))

        def held(now: Decided, j: Any) -> tuple[Decided, None]:
            return self.onward(now, now.held == 0, actions, at_turn(noise["ADVANCE"], t * every + j)), None

        begun = self.begun(carry.states, carry.steps.shape[0], carry.measures, carry.steps)
        now: Decided = lax.scan(held, begun, jnp.arange(every))[0]
        if description.gated:
            now = self.waited(now, now.held == 0, at_turn(noise["WAIT"], t))
        return now

    def first_decision(self, states: Any, going: Any, key: Any) -> Decided:
        """New episodes of the copies that are going, advanced to their first decision."""
        return self.waited(self.begun(states, going.shape[0]), going, key)


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


def at_turn(arrays: list[Any], t: Any) -> list[Any]:
    return [lax.dynamic_index_in_dim(array, t, keepdims=False) for array in arrays]


def choose(closed: Any, new: Any, old: Any) -> Any:
    return jnp.where(closed.reshape((-1,) + (1,) * (old.ndim - 1)), new, old)


def spread(states: Any, copies: int) -> Any:
    return jax.tree.map(lambda leaf: jnp.broadcast_to(leaf, (copies, *leaf.shape[1:])), states)


def spread_all(tree: Any, copies: int) -> Any:
    """The same for every copy."""
    return jax.tree.map(lambda leaf: jnp.broadcast_to(leaf, (copies, *leaf.shape)), tree)


def _running(over: str, so_far: Any, value: Any, steps: Any) -> Any:
    """`stepping.combined`, for arrays over copies."""
    if over in ("sum", "mean"):
        return so_far + value
    if over == "last":
        return value
    beyond = jnp.maximum(so_far, value) if over == "max" else jnp.minimum(so_far, value)
    return jnp.where(steps == 1, value, beyond)
