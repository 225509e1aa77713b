"""One turn of all compiled copies as a traced function: choose, advance, start again where an episode closed, write a
row.

`program.py` joins turns and updates into programs, `compiled.py` drives them; here is what happens within a turn.
"""

from __future__ import annotations

from typing import Any, NamedTuple

import jax
import jax.numpy as jnp
import numpy as np
from jax import lax

from jokulmist.agents.configs import Config, Hyperparameters
from jokulmist.agents.contract import Agent, Experience, counts_advances
from jokulmist.agents.foreign import outside, three
from jokulmist.arrays import Array
from jokulmist.environments.chance.draws import RowDraw
from jokulmist.environments.declaration.state import State
from jokulmist.environments.spaces.channels import ObservationBatch
from jokulmist.lanes.compiled.copies import CompiledEnvironment
from jokulmist.lanes.compiled.transition import (
    BeginRows,
    CompiledTransition,
    DecisionOutcome,
    TurnOutcome,
    at_turn,
    choose,
    reset_where,
)
from jokulmist.lanes.plain import NEVER_CUT
from jokulmist.loading import ships
from jokulmist.loops.episode_row import EpisodeRow

NEVER = np.iinfo(np.int32).max
# Why a copy cannot go on.
NOTHING_ALLOWED, NEVER_ASKED, CLOSED_UNASKED, NO_ACTION = 0, 1, 2, 3


class Carry(NamedTuple):
    """All that a run is between two turns."""

    states: Any
    copy_parameters: dict[str, Any]
    observed: ObservationBatch
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


class Turn:
    """One turn of all copies as a traced function: choose, advance, begin where an episode closed, write the row."""

    def __init__(
        self,
        compiled: CompiledEnvironment,
        kind: type[Agent],
        config: Config,
        explore: bool = True,
        learns: bool = True,
    ) -> None:
        self._compiled, self._kind, self._config = compiled, kind, config
        self._description, self._explore, self._learns = compiled.description, explore, learns
        self._transition = CompiledTransition(compiled, config.copies)
        self._counts_advances = learns and self._description.holds and counts_advances(config)

    def __call__(
        self,
        parameters: Any,
        level: Array,
        hyperparameters: Hyperparameters,
        carry: Carry,
        noise: Any,
        t: Array,
        unit: Array,
    ) -> tuple[Carry, Experience]:
        description, kind = self._description, self._kind
        draw = RowDraw(jnp, at_turn(noise["EXPLORE"], t), unit)
        chosen = kind.choose(
            self._config, hyperparameters, carry.learner, carry.memory, carry.observed, draw, self._explore
        )
        actions, memory, extras = three(kind, "choose", chosen)
        discount = hyperparameters.discount if self._counts_advances else None
        after = self._transition.decided(parameters, carry, actions, noise, t, unit, discount)
        decided = after.decided
        closed, first_ages = self._closed(carry, after)
        states, copy_parameters, observed, memories, opened = lax.cond(
            jnp.any(closed),
            lambda: self._begin_where(closed, parameters, level, carry.copy_parameters, after, noise, t, unit),
            lambda: self._begin_nowhere(parameters, carry.copy_parameters, after, unit),
        )
        totals = tuple(total + term for total, term in zip(carry.totals, decided.terms, strict=True))
        learned: Any = carry.learned
        if description.reward_pipeline.modifiers:
            learned = learned + (after.rewards.mean(axis=-1) if description.players else after.rewards)
        row = self._row(carry, after, totals, learned, memory)
        new = Carry(
            states=states,
            copy_parameters=copy_parameters,
            observed=observed,
            memories=memories,
            action_memories=_restarted(description.action_pipeline, closed, after.action_memories),
            learned=jnp.where(closed, 0.0, learned) if description.reward_pipeline.modifiers else learned,
            stuck=self._first_failure(carry, actions, parameters, copy_parameters, states, observed, after, opened, t),
            steps=jnp.where(closed, opened.steps if opened else 0, decided.steps),
            age=jnp.where(closed, 0, after.age) if description.holds else (),
            totals=_from_begin(closed, opened and opened.terms, totals),
            measures=_from_begin(closed, opened and opened.measures, decided.measures),
            learner=carry.learner,
            memory=memory,
            episodes=carry.episodes + jnp.sum(decided.satisfied != 0, dtype=jnp.int32),
            sums=carry.sums,
            rows=lax.dynamic_update_index_in_dim(carry.rows, row, t, 0),
            recorded_steps=_with_frame(carry, actions, decided, after.last, t) if carry.recorded_steps else (),
            first_ages=first_ages,
            reward_memories=_restarted(description.reward_pipeline, closed, after.reward_memories),
        )
        experience = Experience(
            observed=carry.observed,
            actions=actions,
            rewards=after.rewards,
            ended=after.ended,
            closed=closed | decided.marked,
            last=after.last,
            following=observed,
            policy_extras=extras,
            advances=decided.lasted if self._counts_advances else (),
        )
        return new, experience

    def _closed(self, carry: Carry, after: TurnOutcome) -> tuple[Array, Any]:
        """Where an episode closed, or a first one is cut for learning alone (which is not recorded); the ages at which
        others will be cut."""
        closed = after.decided.satisfied != 0
        if not len(carry.first_ages):
            return closed, carry.first_ages
        closed = closed | (after.age >= carry.first_ages)
        return closed, jnp.where(closed, NEVER_CUT, carry.first_ages)

    def _begin_where(
        self,
        closed: Array,
        parameters: Any,
        level: Array,
        copy_parameters: Any,
        after: TurnOutcome,
        noise: Any,
        t: Array,
        unit: Array,
    ) -> Any:
        """Begin an episode in the copies whose last one closed."""
        last_observed = after.last._replace(legal=after.legal)
        new_parameters = self._compiled.vary(level, at_turn(noise["VARY"], t), unit, self._config.copies)
        copy_parameters = {name: jnp.where(closed, new_parameters[name], old) for name, old in copy_parameters.items()}
        names = ("BEGIN", "BEGIN_WAIT", "BEGIN_SENSE", "BEGIN_LOOK", "BEGIN_OBSERVATION")
        rows = BeginRows(*[at_turn(noise[name], t) for name in names])
        started = self._transition.start(parameters, copy_parameters, rows, unit, closed, after.decided.after)
        observed, memories = jax.tree.map(
            lambda new, old: choose(closed, new, old),
            (started.observed, started.memories),
            (last_observed, after.memories),
        )
        return started.states, copy_parameters, observed, memories, started.opened

    def _begin_nowhere(self, parameters: Any, copy_parameters: Any, after: TurnOutcome, unit: Array) -> Any:
        observed = after.last._replace(legal=after.legal)
        opened = self._transition.no_reset(parameters, copy_parameters, after.decided.after, unit)
        return after.decided.after, copy_parameters, observed, after.memories, opened

    def _row(self, carry: Carry, after: TurnOutcome, totals: Any, learned: Any, memory: Any) -> Array:
        """What the host reads of a closed episode, by copy; float32, shape ``(columns, copies)``."""
        description, decided = self._description, after.decided
        measures = tuple(
            value / decided.steps if measure.over == "mean" else value
            for measure, value in zip(description.measures, decided.measures, strict=True)
        )
        varied = [carry.copy_parameters[name] for name in description.varied]
        records = list(self._kind.recorded(memory)) if self._learns else []
        numbers = [*totals, *measures, *varied, *records]
        layout = EpisodeRow(description, len(records))
        return layout.pack(decided.satisfied, after.age, numbers, learned, decided.steps)

    def _first_failure(
        self,
        carry: Carry,
        actions: Any,
        parameters: Any,
        copy_parameters: Any,
        states: State,
        observed: ObservationBatch,
        after: TurnOutcome,
        opened: Any,
        t: Array,
    ) -> Any:
        """Why a copy cannot go on, as `first_failure` keeps it."""
        stuck, description = carry.stuck, self._description
        if not ships(self._kind):
            stuck = first_failure(stuck, outside(description.action, actions), NO_ACTION, carry.states, t)
        if after.legal:
            stuck = first_failure(stuck, forbidden(observed.legal), NOTHING_ALLOWED, states, t)
        if description.gated:
            is_asked = self._compiled.asks(parameters, copy_parameters, states)
            stuck = first_failure(stuck, opened.satisfied != 0, CLOSED_UNASKED, states, t)
            stuck = first_failure(stuck, ~is_asked, NEVER_ASKED, states, t)
        return stuck


def _restarted(pipeline: Any, closed: Array, memories: Any) -> Any:
    """What modifiers remember, as at the begin of an episode where one closed."""
    return reset_where(closed, pipeline.start(jnp), memories) if pipeline.modifiers else memories


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


def frame_of(
    observed: ObservationBatch, states: State, actions: Array, decided: DecisionOutcome, after: ObservationBatch
) -> Frame:
    """The first copy's turn."""
    frame = Frame(
        observed.numbers,
        observed.images,
        states,
        actions,
        decided.terms,
        decided.measures,
        after.numbers,
        after.images,
        decided.after,
    )
    first: Frame = jax.tree.map(lambda leaf: leaf[0], frame)
    return first


def _with_frame(carry: Carry, actions: Array, decided: DecisionOutcome, after: ObservationBatch, t: Array) -> Any:
    recorded_steps = packed(frame_of(carry.observed, carry.states, actions, decided, after))
    return jax.tree.map(
        lambda old, new: lax.dynamic_update_index_in_dim(old, new, t, 0), carry.recorded_steps, recorded_steps
    )


def packed(frame: Frame) -> tuple[Array, tuple[Any, ...]]:
    """All numbers of a frame as one row, and its images: each array of its own would make the compiler compute again
    what it holds. Whole numbers are exact up to 2**24."""
    leaves = jax.tree.leaves(frame)
    numbers = [leaf.reshape(-1).astype(jnp.float32) for leaf in leaves if leaf.dtype != jnp.uint8]
    return jnp.concatenate(numbers), tuple(leaf for leaf in leaves if leaf.dtype == jnp.uint8)


def unpacked(model: Frame, recorded_steps: tuple[Array, tuple[Any, ...]]) -> Frame:
    """Frames again, on the host, from rows of `packed`; `model` is one frame."""
    rows, images = recorded_steps[0], iter(recorded_steps[1])
    leaves, start = [], 0
    for leaf in jax.tree.leaves(model):
        if leaf.dtype == np.uint8:
            leaves.append(next(images))
            continue
        part = rows[:, start : start + leaf.size]
        leaves.append(part.reshape(len(rows), *leaf.shape).astype(leaf.dtype))
        start += leaf.size
    frames: Frame = jax.tree.unflatten(jax.tree.structure(model), leaves)
    return frames


def _from_begin(closed: Array, initial: Any, progress: tuple[Any, ...]) -> tuple[Any, ...]:
    """What has gathered in each copy's episode: where one closed, what its next has gathered before its first
    decision."""
    first = initial or (0.0,) * len(progress)
    return tuple(jnp.where(closed, new, old) for new, old in zip(first, progress, strict=True))


def forbidden(legal: Any) -> Array:
    """The copies in which some choice has no allowed alternative."""
    return ~jnp.stack([jnp.any(mask, axis=-1) for mask in legal]).all(axis=0)


def no_failure(states: State) -> Any:
    """What `first_failure` begins with."""
    return (jnp.int32(NEVER), jnp.int32(0), jnp.int32(0), jax.tree.map(lambda leaf: leaf[0], states))


def first_failure(first: Any, bad: Array, why: int, states: State, turn: Array) -> Any:
    """The first turn, reason, copy and state in which a copy could not go on."""
    copy = jnp.argmax(bad)
    candidate = (jnp.int32(turn), jnp.int32(why), jnp.int32(copy), jax.tree.map(lambda leaf: leaf[copy], states))
    new = (first[0] == NEVER) & bad[copy]
    return jax.tree.map(lambda new_value, old: jnp.where(new, new_value, old), candidate, first)
