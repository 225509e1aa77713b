"""The order in which everything happens in the copies of an environment, as traced functions over all copies.

It is the order of `environments.transition.copy.Copy`, which says it in words; `tests/lanes/test_agree.py` holds the
two together.
"""

from __future__ import annotations

from typing import Any, NamedTuple, Protocol

import jax
import jax.numpy as jnp
from jax import lax

from jokulmist.environments.modifiers.base import idle_of
from jokulmist.environments.spaces.channels import Seen
from jokulmist.environments.transition.waiting import MOST_WAITING
from jokulmist.lanes.compiled.copies import CompiledEnvironment


class Episodes(Protocol):
    """What all copies are in their episodes, each leaf with a leading axis of copies."""

    @property
    def states(self) -> Any: ...
    @property
    def own(self) -> dict[str, Any]: ...
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


class Begun(NamedTuple):
    """Episodes that have begun.

    Attributes
    ----------
    states
    observed : Seen
        Through the modifiers; what is legal as it is.
    memories
        Of the observation modifiers.
    opened : Decided
        What the advances before the first decision brought; empty where the agent is always asked.
    """

    states: Any
    observed: Seen
    memories: Any
    opened: Any


class After(NamedTuple):
    """What a decision led to in all copies.

    Attributes
    ----------
    judged : Decided
    rewards : as they are learned from
    ended : a true end, or one for learning
    age : decisions since the episode began
    last : Seen
        Where nothing is allowed, all is: an episode may close there.
    legal : as the class says
    memories, action_memories, reward_memories : of the modifiers
    """

    judged: Any
    rewards: Any
    ended: Any
    age: Any
    last: Seen
    legal: Any
    memories: Any
    action_memories: Any
    reward_memories: Any


class Transition:
    """Episodes begin, and a decision leads on."""

    def __init__(self, compiled: CompiledEnvironment, copies: int) -> None:
        self.compiled, self.copies = compiled, copies
        self.description = compiled.description

    def begun(self, numbers: Any, own: Any, rows: BeginRows, one: Any, where: Any = None, states: Any = None) -> Begun:
        """Begin an episode in all copies, or in those of `where`; the others stay in their `states`."""
        compiled = self.compiled
        begun = spread(compiled.begin(numbers, own, rows.begin, one), self.copies)
        if where is not None:
            begun = jax.tree.map(lambda new, old: choose(where, new, old), begun, states)
        opened: Any = ()
        if self.description.gated:
            going = jnp.ones(self.copies, bool) if where is None else where
            opened = Advancing(compiled, numbers, own, None, one).first_decision(begun, going, rows.wait)
            begun = opened.after
        first = compiled.observe(numbers, own, begun, rows.sense, rows.look, one)
        memories, shown = compiled.first_seen(first, rows.observation, one)
        legal = compiled.legal(numbers, own, begun)
        seen = Seen(shown.numbers, shown.images, legal, jnp.zeros(self.copies, jnp.int32))
        return Begun(begun, seen, memories, opened and opened._replace(after=()))

    def nothing_begun(self, numbers: Any, own: Any, states: Any, one: Any) -> Any:
        """`Begun.opened` where no episode has begun."""
        if not self.description.gated:
            return ()
        return Advancing(self.compiled, numbers, own, None, one).begun((), self.copies)._replace(after=())

    def decided(
        self, numbers: Any, now: Episodes, actions: Any, noise: Any, t: Any, one: Any, within: Any = None
    ) -> After:
        """Do all copies' actions until their next decisions."""
        compiled, description, own = self.compiled, self.description, now.own
        action_memories, done = compiled.handled(now.action_memories, actions, at_turn(noise["ACTION"], t), one)
        judged = Advancing(compiled, numbers, own, within, one).decided(now, done, noise, t)
        steps = judged.steps
        age = now.age + 1 if description.holds else steps
        rewards = weighed(numbers["weights"], judged.terms, self.copies) if within is None else judged.gain
        # An end for learning alone: the copy goes on, and what is learned from does not see it go on.
        ended = ((judged.held & description.ending_bits) != 0) | judged.marked
        sense, look = at_turn(noise["SENSE"], t), at_turn(noise["LOOK"], t)
        channel_values = compiled.observe(numbers, own, judged.after, sense, look, one)
        reward_memories, rewards = compiled.valued(now.reward_memories, rewards, now.states, judged.after, ended)
        channel_values = channel_values._replace(numbers=channel_values.numbers / one)
        memories, shown = compiled.seen(
            now.memories, channel_values, actions, steps, at_turn(noise["OBSERVATION"], t), one
        )
        legal = compiled.legal(numbers, own, judged.after)
        able = tuple(mask | ~jnp.any(mask, axis=-1, keepdims=True) for mask in legal)
        last = Seen(shown.numbers, shown.images, able, age)
        return After(judged, rewards, ended, age, last, legal, memories, action_memories, reward_memories)


def weighed(weights: Any, terms: Any, copies: int) -> Any:
    """Rewards from unweighted terms, float32, shape ``(copies,)``; of several players ``(copies, players)``."""
    if weights.ndim == 2:
        return sum(term[:, None] * weights[k][None] for k, term in enumerate(terms))
    return sum(weights[k] * term for k, term in enumerate(terms)) + jnp.zeros(copies, jnp.float32)


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
    gain : the reward, each advance's weighted by the discount to the number of those before it; empty where it is the
    sum
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
    """The advances of a decision in all copies."""

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
            gain=()
            if self.within is None
            else weighed(self.numbers["weights"], (zeros,) * len(self.description.terms), copies),
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
            reward = weighed(self.numbers["weights"], new.terms, now.held.shape[0])
            later = self.within ** now.lasted.astype(jnp.float32)
            gain = now.gain + later.reshape((-1,) + (1,) * (reward.ndim - 1)) * reward
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

    def decided(self, episodes: Episodes, actions: Any, noise: Any, t: Any) -> Decided:
        """Advance all copies by a decision; one that closes on the way stands still for the rest of it."""
        description = self.description
        every = description.decide_every
        if not description.holds:
            return self.once(
                episodes.states, episodes.measures, episodes.steps + 1, actions, at_turn(noise["ADVANCE"], t)
            )

        def held(now: Decided, j: Any) -> tuple[Decided, None]:
            return self.onward(now, now.held == 0, actions, at_turn(noise["ADVANCE"], t * every + j)), None

        begun = self.begun(episodes.states, episodes.steps.shape[0], episodes.measures, episodes.steps)
        now: Decided = lax.scan(held, begun, jnp.arange(every))[0]
        if description.gated:
            now = self.waited(now, now.held == 0, at_turn(noise["WAIT"], t))
        return now

    def first_decision(self, states: Any, going: Any, key: Any) -> Decided:
        """New episodes of the copies that are going, advanced to their first decision."""
        return self.waited(self.begun(states, going.shape[0]), going, key)


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
