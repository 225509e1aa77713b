"""The order in which everything happens in the copies of an environment, as traced functions over all copies.

It is the order of `environments.transition.copy.Copy`, which says it in words; `tests/lanes/test_agree.py` holds the
two together.
"""

from __future__ import annotations

from typing import Any, NamedTuple, Protocol

import jax
import jax.numpy as jnp
from jax import lax

from jokulmist.arrays import Array
from jokulmist.environments.declaration.state import State
from jokulmist.environments.modifiers.base import idle_of
from jokulmist.environments.spaces.channels import ObservationBatch
from jokulmist.environments.transition.waiting import MOST_WAITING
from jokulmist.lanes.compiled.copies import CompiledEnvironment


class EpisodeStates(Protocol):
    """What all copies are in their episodes, each leaf with a leading axis of copies."""

    @property
    def states(self) -> Any: ...
    @property
    def copy_parameters(self) -> dict[str, Any]: ...
    @property
    def memories(self) -> Any: ...
    @property
    def action_memories(self) -> Any: ...
    @property
    def reward_memories(self) -> Any: ...
    @property
    def steps(self) -> Any: ...
    @property
    def age(self) -> Any: ...
    @property
    def measures(self) -> tuple[Any, ...]: ...


class BeginRows(NamedTuple):
    """The base noise of an episode's begin, by what draws it."""

    begin: Any
    wait: Any
    sense: Any
    look: Any
    observation: Any


class StartedEpisodes(NamedTuple):
    """Episodes that have begun.

    Attributes
    ----------
    states
    observed : ObservationBatch
        Through the modifiers; what is legal as it is.
    memories
        Of the observation modifiers.
    opened : DecisionOutcome
        What the advances before the first decision brought; empty where the agent is always asked.
    """

    states: Any
    observed: ObservationBatch
    memories: Any
    opened: Any


class TurnOutcome(NamedTuple):
    """What a decision led to in all copies.

    Attributes
    ----------
    decided : DecisionOutcome
    rewards : as they are learned from
    ended : a true end, or one for learning
    age : decisions since the episode began
    last : ObservationBatch
        Where nothing is allowed, all is: an episode may close there.
    legal : as the class says
    memories, action_memories, reward_memories : of the modifiers
    """

    decided: Any
    rewards: Any
    ended: Any
    age: Any
    last: ObservationBatch
    legal: Any
    memories: Any
    action_memories: Any
    reward_memories: Any


class CompiledTransition:
    """Episodes begin, and a decision leads on."""

    def __init__(self, compiled: CompiledEnvironment, copies: int) -> None:
        self.compiled, self.copies = compiled, copies
        self.description = compiled.description

    def start(
        self,
        numbers: Any,
        copy_parameters: Any,
        rows: BeginRows,
        unit: Array,
        mask: Array | None = None,
        states: State | None = None,
    ) -> StartedEpisodes:
        """Begin an episode in all copies, or in those of `mask`; the others stay in their `states`."""
        compiled = self.compiled
        first_states = spread(compiled.begin(numbers, copy_parameters, rows.begin, unit), self.copies)
        if mask is not None:
            first_states = jax.tree.map(lambda new, old: choose(mask, new, old), first_states, states)
        opened: Any = ()
        if self.description.gated:
            going = jnp.ones(self.copies, bool) if mask is None else mask
            opened = Advancing(compiled, numbers, copy_parameters, None, unit).first_decision(
                first_states, going, rows.wait
            )
            first_states = opened.after
        first = compiled.observe(numbers, copy_parameters, first_states, rows.sense, rows.look, unit)
        memories, observation = compiled.first_seen(first, rows.observation, unit)
        legal = compiled.legal(numbers, copy_parameters, first_states)
        seen = ObservationBatch(observation.numbers, observation.images, legal, jnp.zeros(self.copies, jnp.int32))
        return StartedEpisodes(first_states, seen, memories, opened and opened._replace(after=()))

    def no_reset(self, numbers: Any, copy_parameters: Any, states: State, unit: Array) -> Any:
        """`Begun.opened` where no episode has begun."""
        if not self.description.gated:
            return ()
        return Advancing(self.compiled, numbers, copy_parameters, None, unit).start((), self.copies)._replace(after=())

    def decided(
        self, numbers: Any, before: EpisodeStates, actions: Any, noise: Any, t: Array, unit: Array, within: Any = None
    ) -> TurnOutcome:
        """Do all copies' actions until their next decisions."""
        compiled, description, copy_parameters = self.compiled, self.description, before.copy_parameters
        action_memories, done = compiled.handled(before.action_memories, actions, at_turn(noise["ACTION"], t), unit)
        outcome = Advancing(compiled, numbers, copy_parameters, within, unit).decided(before, done, noise, t)
        steps = outcome.steps
        age = before.age + 1 if description.holds else steps
        rewards = weighed(numbers["weights"], outcome.terms, self.copies) if within is None else outcome.gain
        # An end for learning alone: the copy goes on, and what is learned from does not see it go on.
        ended = ((outcome.satisfied & description.ending_bits) != 0) | outcome.marked
        sense, look = at_turn(noise["SENSE"], t), at_turn(noise["LOOK"], t)
        channel_values = compiled.observe(numbers, copy_parameters, outcome.after, sense, look, unit)
        reward_memories, rewards = compiled.valued(before.reward_memories, rewards, before.states, outcome.after, ended)
        channel_values = channel_values._replace(numbers=channel_values.numbers / unit)
        memories, observation = compiled.seen(
            before.memories, channel_values, actions, steps, at_turn(noise["OBSERVATION"], t), unit
        )
        legal = compiled.legal(numbers, copy_parameters, outcome.after)
        able = tuple(mask | ~jnp.any(mask, axis=-1, keepdims=True) for mask in legal)
        last = ObservationBatch(observation.numbers, observation.images, able, age)
        return TurnOutcome(outcome, rewards, ended, age, last, legal, memories, action_memories, reward_memories)


def weighed(weights: Any, terms: Any, copies: int) -> Any:
    """Rewards from unweighted terms, float32, shape ``(copies,)``; of several players ``(copies, players)``."""
    if weights.ndim == 2:
        return sum(term[:, None] * weights[k][None] for k, term in enumerate(terms))
    return sum(weights[k] * term for k, term in enumerate(terms)) + jnp.zeros(copies, jnp.float32)


def reset_where(closed: Array, initial: Any, memories: Any) -> Any:
    """Memories of a modifier of all copies; as at the begin where an episode closed."""
    fresh = spread_all(initial, closed.shape[0])
    return jax.tree.map(lambda new, old: choose(closed, new, old), fresh, memories)


class DecisionOutcome(NamedTuple):
    """What a decision led to in all copies, however many advances it was held for.

    Attributes
    ----------
    after : states
    terms : sums over the advances
    measures : running, since the episode began
    satisfied : the closings that hold
    marked : whether a measure made an end for learning
    steps : advances since the episode began
    lasted : advances of this decision; empty where each lasts one
    gain : the reward, each advance's weighted by the discount to the number of those before it; empty where it is the
    sum
    """

    after: Any
    terms: tuple[Any, ...]
    measures: tuple[Any, ...]
    satisfied: Any
    marked: Any
    steps: Any
    lasted: Any = ()
    gain: Any = ()


class Advancing:
    """The advances of a decision in all copies."""

    def __init__(
        self, compiled: CompiledEnvironment, numbers: Any, copy_parameters: Any, within: Any, unit: Array
    ) -> None:
        self.compiled, self.numbers, self.copy_parameters, self.within, self.unit = (
            compiled,
            numbers,
            copy_parameters,
            within,
            unit,
        )
        self.description = compiled.description

    def start(self, states: Any, copies: int, measures: Any = None, steps: Any = None) -> DecisionOutcome:
        """Before the first advance of a decision, by default of an episode's first."""
        zeros = jnp.zeros(copies, jnp.float32)
        zero_counts = jnp.zeros(copies, jnp.int32)
        return DecisionOutcome(
            after=states,
            terms=tuple(zeros for _ in self.description.terms),
            measures=tuple(zeros for _ in self.description.measures) if measures is None else measures,
            satisfied=zero_counts,
            marked=jnp.zeros(copies, bool),
            steps=zero_counts if steps is None else steps,
            lasted=zero_counts,
            gain=()
            if self.within is None
            else weighed(self.numbers["weights"], (zeros,) * len(self.description.terms), copies),
        )

    def once(
        self, states: State, measures: Any, steps: Array, actions: Any, rows: Any, waited: Any = None
    ) -> DecisionOutcome:
        """One advance."""
        outcome = self.compiled.advance(
            self.numbers, self.copy_parameters, states, actions, steps, rows, self.unit, waited
        )
        running = tuple(
            _running(m.over, earlier, value, steps)
            for m, earlier, value in zip(self.description.measures, measures, outcome.measures, strict=True)
        )
        marked = jnp.zeros(steps.shape, bool)
        for k in self.description.ending_measures:
            marked = marked | (outcome.measures[k] != 0.0)
        return DecisionOutcome(outcome.after, outcome.terms, running, outcome.satisfied, marked, steps)

    def advance_where(
        self, decision: DecisionOutcome, going: Any, actions: Any, rows: Any, waited: Any = None
    ) -> DecisionOutcome:
        """One advance more in the copies that are going."""
        new = self.once(decision.after, decision.measures, decision.steps + 1, actions, rows, waited)
        gain: Any = ()
        if self.within is not None:
            reward = weighed(self.numbers["weights"], new.terms, decision.satisfied.shape[0])
            later = self.within ** decision.lasted.astype(jnp.float32)
            gain = decision.gain + later.reshape((-1,) + (1,) * (reward.ndim - 1)) * reward
        terms = tuple(a + b for a, b in zip(decision.terms, new.terms, strict=True))
        new = new._replace(terms=terms, marked=decision.marked | new.marked, lasted=decision.lasted + 1, gain=gain)
        return jax.tree.map(lambda after, before: choose(going, after, before), new, decision)  # type: ignore[no-any-return]

    def waited(self, decision: DecisionOutcome, going: Any, key: Any) -> DecisionOutcome:
        """Advances on which nobody is asked, in the copies that are going."""
        meanwhile = spread_all(
            idle_of(jnp, self.description.action, self.description.meanwhile), decision.satisfied.shape[0]
        )

        def waits(decision: DecisionOutcome) -> Any:
            return (
                going
                & (decision.satisfied == 0)
                & ~self.compiled.asks(self.numbers, self.copy_parameters, decision.after)
            )

        def further(state: Any) -> Any:
            j, decision, waiting = state
            decision = self.advance_where(decision, waiting, meanwhile, key, j)
            return j + 1, decision, waits(decision)

        first = (jnp.int32(0), decision, waits(decision))
        met: DecisionOutcome = lax.while_loop(lambda s: (s[0] < MOST_WAITING) & jnp.any(s[2]), further, first)[1]
        return met

    def decided(self, episodes: EpisodeStates, actions: Any, noise: Any, t: Array) -> DecisionOutcome:
        """Advance all copies by a decision; one that closes on the way stands still for the rest of it."""
        description = self.description
        every = description.decide_every
        if not description.holds:
            return self.once(
                episodes.states, episodes.measures, episodes.steps + 1, actions, at_turn(noise["ADVANCE"], t)
            )

        def hold(decision: DecisionOutcome, j: Any) -> tuple[DecisionOutcome, None]:
            return self.advance_where(
                decision, decision.satisfied == 0, actions, at_turn(noise["ADVANCE"], t * every + j)
            ), None

        initial = self.start(episodes.states, episodes.steps.shape[0], episodes.measures, episodes.steps)
        decision: DecisionOutcome = lax.scan(hold, initial, jnp.arange(every))[0]
        if description.gated:
            decision = self.waited(decision, decision.satisfied == 0, at_turn(noise["WAIT"], t))
        return decision

    def first_decision(self, states: Any, going: Any, key: Any) -> DecisionOutcome:
        """New episodes of the copies that are going, advanced to their first decision."""
        return self.waited(self.start(states, going.shape[0]), going, key)


def at_turn(arrays: list[Any], t: Array) -> list[Any]:
    return [lax.dynamic_index_in_dim(array, t, keepdims=False) for array in arrays]


def choose(closed: Array, new: Any, old: Any) -> Array:
    return jnp.where(closed.reshape((-1,) + (1,) * (old.ndim - 1)), new, old)


def spread(states: Any, copies: int) -> Any:
    return jax.tree.map(lambda leaf: jnp.broadcast_to(leaf, (copies, *leaf.shape[1:])), states)


def spread_all(tree: Any, copies: int) -> Any:
    """The same for every copy."""
    return jax.tree.map(lambda leaf: jnp.broadcast_to(leaf, (copies, *leaf.shape)), tree)


def _running(aggregation: str, running: Array, value: Array, steps: Array) -> Array:
    """`stepping.combined`, for arrays over copies."""
    if aggregation in ("sum", "mean"):
        return running + value
    if aggregation == "last":
        return value
    beyond = jnp.maximum(running, value) if aggregation == "max" else jnp.minimum(running, value)
    return jnp.where(steps == 1, value, beyond)
