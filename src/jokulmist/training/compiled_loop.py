"""The training loop over compiled copies: choose, advance and learn as one program, run in chunks.

A chunk is a loop of whole updates whose length is an argument, so that every length runs the same compiled code. Base
noise is made before the chunk and indexed by turn; each turn writes one row per copy (the closings that held, the
steps, the totals), from which the host reads the finished episodes. The room for those rows and for the noise follows
from the plan alone.

The rows cost one contiguous write a turn; a ring of finished episodes would write less but needs a scatter per copy.
"""

from __future__ import annotations

from typing import Any, NamedTuple

import jax
import jax.numpy as jnp
import numpy as np
from jax import lax

from jokulmist.agents.protocol import Agent, Experience, Numbers, Shapes, numbers_at
from jokulmist.environments.channels import Seen
from jokulmist.environments.description import Description
from jokulmist.environments.draws import CountingDraw, PlainDraw, Request, RowDraw
from jokulmist.environments.environment import Environment, describe
from jokulmist.environments.legal import choices_of
from jokulmist.environments.noise import Domain, Noise, Stream
from jokulmist.environments.stepping import none_allowed
from jokulmist.errors import BrokenEnvironment
from jokulmist.lanes.backend import start_backend
from jokulmist.lanes.compiled import CompiledEnvironment, stacked_rows
from jokulmist.learning.schedules import Coefficients, Progress, number_at, value_at
from jokulmist.records.episodes import Episodes
from jokulmist.training.loop import Planned

ROOM_BYTES = 48_000_000
MOST_CHUNK_DECISIONS = 32_768
ENVIRONMENT_STREAMS = (
    Stream.ADVANCE, Stream.SENSE, Stream.LOOK, Stream.BEGIN, Stream.BEGIN_SENSE, Stream.BEGIN_LOOK, Stream.VARY,
    Stream.GLASS, Stream.BEGIN_GLASS, Stream.GRIP,
)  # fmt: skip
FIRST_STREAMS = (Stream.FIRST_VARY, Stream.FIRST_BEGIN, Stream.FIRST_SENSE, Stream.FIRST_LOOK, Stream.FIRST_GLASS)
NEVER = np.iinfo(np.int32).max


class Carry(NamedTuple):
    """All that a run is between two turns."""

    states: Any
    own: dict[str, Any]
    observed: Seen
    memories: tuple[Any, ...]
    grips: tuple[Any, ...]
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


class Program(NamedTuple):
    """What is compiled once for a class, an agent's shapes and a number of copies."""

    compiled: CompiledEnvironment
    choose_requests: tuple[Request, ...]
    learn_requests: tuple[Request, ...]
    room: int
    start: Any
    chunk: Any


_PROGRAMS: dict[Any, Program] = {}
KEPT_PROGRAMS = 16


class CompiledLoop:
    """A run in progress on compiled copies.

    Parameters
    ----------
    environment : Environment
        Of a class that `lanes.finding.find` found to compile.
    agent : Agent
    seed : int
    copies : int
    planned : Planned
    """

    def __init__(self, environment: Environment, agent: Agent, seed: int, copies: int, planned: Planned) -> None:
        start_backend()  # before any array is made
        self.description: Description = describe(environment)
        self.copies = copies
        self.planned = planned
        self.turns_per_update = agent.decisions_per_update(copies)
        self.decisions = self.episodes = self.turn = 0
        self._agent = agent
        self._noise = Noise(seed, copies, Domain.TRAINING)
        self._own = Noise(seed, 1, Domain.TRAINING)
        self._coefficients = agent.numbers()
        table = np.array(list(self._coefficients.values()), np.float32).reshape(-1, len(Coefficients._fields))
        self._columns = Coefficients(*table.T.copy())
        shapes = agent.shapes(self.description.spec, copies)
        learner, memory = agent.fresh(
            shapes, numbers_at(self._coefficients), PlainDraw(self._own, Stream.FRESH).at(0, 0)
        )
        learner, memory = jax.tree.map(jnp.asarray, (learner, memory))
        self._program = program_for(CompiledEnvironment(environment), agent, shapes, learner, memory)
        # The instance's own numbers: a kept program may stem from another instance of the class.
        self._numbers = CompiledEnvironment(environment).numbers
        levels = self.description.varying.levels if self.description.varying is not None else None
        self._level = np.float32(levels.values[0] if levels is not None else 0.0)
        self._carry = self._begun(learner, memory)
        self._updates = 0
        self._ahead: tuple[int, int, dict[str, Any]] | None = None

    @property
    def most_turns(self) -> int:
        return self._program.room

    def _begun(self, learner: Any, memory: Any) -> Carry:
        program, requests = self._program, self._program.compiled.requests
        first = [
            [rows[0] for rows in stacked_rows(self._noise, stream, requests.of(stream), 0, 1, 1)]
            for stream in FIRST_STREAMS
        ]
        states, own, observed, memories, grips, stuck = program.start(
            self._numbers, self._level, *first, np.float32(1.0)
        )
        zeros = jnp.zeros(self.copies, jnp.float32)
        terms, measures = len(self.description.terms), len(self.description.measures)
        more = int(bool(self.description.worth.modifiers)) + int(self.description.decide_every > 1)
        return Carry(
            states=states,
            own=own,
            observed=observed,
            memories=memories,
            grips=grips,
            learned=zeros + 0 if self.description.worth.modifiers else (),
            stuck=stuck,
            steps=jnp.zeros(self.copies, jnp.int32),
            age=() if self.description.decide_every == 1 else jnp.zeros(self.copies, jnp.int32),
            totals=tuple(zeros + 0 for _ in range(terms)),
            measures=tuple(zeros + 0 for _ in range(measures)),
            learner=learner,
            memory=memory,
            episodes=jnp.int32(0),
            sums=tuple(jnp.float32(0) for _ in self._agent.reading_names),
            rows=jnp.zeros((program.room, 2 + terms + measures + len(own) + more, self.copies), jnp.float32),
        )

    def advance(self, turns: int) -> Episodes:
        """Go on for so many turns, or until the planned episodes are done."""
        parts = []
        while turns > 0:
            count = min(turns, self._program.room)
            batch, done = self._chunk(count)
            parts.append(batch)
            turns -= count
            if done < count:
                break
        return Episodes.joined(parts)

    def _chunk(self, turns: int) -> tuple[Episodes, int]:
        program, per_update = self._program, self.turns_per_update
        noise = self._noise_from(self.turn, turns)
        updates = -(-turns // per_update)
        planned = self.planned
        plan = {
            "turn": np.int32(self.turn),
            "per_share": np.float32(1.0 / (planned.steps or planned.episodes or 1)),
            "by_steps": np.float32(planned.steps is not None),
            "episodes": np.int32(planned.episodes or np.iinfo(np.int32).max),
            "level": self._level,
        }
        done, self._carry = program.chunk(
            self._numbers, self._columns, plan, self._carry, noise, np.int32(updates), np.float32(1.0)
        )
        # The program runs beside Python: its next stretch is most likely as long, and its noise is made meanwhile.
        self._ahead = (self.turn + turns, turns, self._noise_from(self.turn + turns, turns))
        done = int(done) * per_update
        self._refuse_stuck()
        batch = self._finished(done)
        self.turn += done
        self.decisions += done * self.copies
        self.episodes += len(batch)
        self._updates += done // per_update
        return batch, done

    def _refuse_stuck(self) -> None:
        """Tell of a copy that was allowed nothing; the program keeps the first."""
        if self._carry.stuck == ():
            return
        turn, copy, state = jax.device_get(self._carry.stuck)
        if turn < NEVER:
            raise BrokenEnvironment(none_allowed(self.description.name, int(copy), state))

    def _noise_from(self, start: int, turns: int) -> dict[str, Any]:
        """The base noise of a stretch of turns, for every stream."""
        if self._ahead is not None and self._ahead[:2] == (start, turns):
            return self._ahead[2]
        program, per_update = self._program, self.turns_per_update
        requests, room = program.compiled.requests, program.room
        noise = {}
        for stream in ENVIRONMENT_STREAMS:
            # An advance has noise of its own, also where a decision is held for several.
            every = self.description.decide_every if stream is Stream.ADVANCE else 1
            noise[stream.name] = stacked_rows(
                self._noise, stream, requests.of(stream), start * every, turns * every, room * every
            )
        explore = stacked_rows(self._own, Stream.EXPLORE, program.choose_requests, start, turns, room)
        updates, most_updates = -(-turns // per_update), max(1, room // per_update)
        learn = stacked_rows(
            self._own, Stream.LEARN, program.learn_requests, start // per_update, updates, most_updates
        )
        noise["EXPLORE"] = [rows[:, 0] for rows in explore]
        noise["LEARN"] = [rows[:, 0] for rows in learn]
        return noise

    def _finished(self, turns: int) -> Episodes:
        """The episodes that closed in the rows of the last chunk."""
        rows = np.asarray(self._carry.rows)
        turn, copy = np.nonzero(rows[:turns, 0, :])
        found = np.array(rows[turn, :, copy])  # a copy: the chunk's buffer is handed on
        terms, measures = len(self.description.terms), len(self.description.measures)
        rest = 2 + terms + measures + len(self.description.varied)
        return Episodes(
            decisions=(self.turn + turn + 1) * self.copies,
            copy=copy,
            steps=found[:, 1].astype(np.int64),
            held=found[:, 0].astype(np.int64),
            totals=found[:, 2 : 2 + terms],
            measures=found[:, 2 + terms : 2 + terms + measures],
            varied=found[:, 2 + terms + measures : rest],
            learned=found[:, rest] if self.description.worth.modifiers else np.zeros(len(found), np.float32),
            advances=found[:, -1 if self.description.decide_every > 1 else 1].astype(np.int64),
        )

    def set_level(self, value: float) -> None:
        """The level of the curriculum for episodes that begin from now on."""
        self._level = np.float32(value)

    def readings(self) -> dict[str, float]:
        """Means of the readings since the last call, and the settings that move."""
        count = max(self._updates, 1)
        names = self._agent.reading_names
        found = {name: float(total) / count for name, total in zip(names, self._carry.sums, strict=True)}
        progress = Progress(self.decisions, self.episodes, self.planned.share(self.decisions, self.episodes))
        for name, c in self._coefficients.items():
            if c.slope != 0.0 or c.log_rate != 0.0:
                found[name] = number_at(c, progress)
        self._carry = self._carry._replace(sums=tuple(np.float32(0) for _ in names))
        self._updates = 0
        return found

    def learner(self) -> Any:
        """What a policy needs of what was learned so far, as NumPy arrays; a copy."""
        return jax.tree.map(np.array, self._agent.kept(self._carry.learner))


def program_for(compiled: CompiledEnvironment, agent: Agent, shapes: Shapes, learner: Any, memory: Any) -> Program:
    """The compiled program for a class, an agent's shapes and a number of copies; kept for the next run."""
    key = (compiled.static_key, type(agent), shapes)
    if key not in _PROGRAMS:
        while len(_PROGRAMS) >= KEPT_PROGRAMS:
            _PROGRAMS.pop(next(iter(_PROGRAMS)))
        _PROGRAMS[key] = _build(compiled, agent, shapes, learner, memory)
    return _PROGRAMS[key]


def _build(compiled: CompiledEnvironment, agent: Agent, shapes: Shapes, learner: Any, memory: Any) -> Program:
    kind, copies = type(agent), shapes.copies
    per_update = agent.decisions_per_update(copies)
    names = list(agent.numbers())
    choose_requests, learn_requests = _agent_requests(kind, shapes, names, learner, memory, per_update)
    requests = compiled.requests
    described = compiled.description
    per_turn = 4 * copies * (2 + len(described.terms) + len(described.measures) + len(described.varied) + 2)
    for stream in ENVIRONMENT_STREAMS:
        times = described.decide_every if stream is Stream.ADVANCE else 1
        per_turn += 4 * copies * times * sum(r.width for r in requests.of(stream))
    per_turn += 4 * sum(r.width for r in choose_requests)
    per_turn += 4 * sum(r.width for r in learn_requests) // per_update
    updates = max(1, min(MOST_CHUNK_DECISIONS // copies, ROOM_BYTES // max(per_turn, 1)) // per_update)
    room = updates * per_update

    def start(
        numbers: Any, level: Any, vary: Any, begin_rows: Any, sense_rows: Any, look_rows: Any, glass: Any, one: Any
    ) -> Any:
        own = compiled.vary(level, vary, one, copies)
        states = _spread(compiled.begin(numbers, own, begin_rows, one), copies)
        glimpse = compiled.observe(numbers, own, states, sense_rows, look_rows, one)
        memories, shown = compiled.first_seen(glimpse, glass, one)
        grips = _spread_all(compiled.description.grip.begun(jnp), copies)
        legal = compiled.legal(numbers, own, states)
        stuck: Any = ()
        if legal:
            first = (jnp.int32(NEVER), jnp.int32(0), jax.tree.map(lambda leaf: leaf[0], states))
            stuck = _stuck(first, legal, states, jnp.int32(0))
        seen = Seen(shown.numbers, shown.images, legal, jnp.zeros(copies, jnp.int32))
        return states, own, seen, memories, grips, stuck

    turn = _turn_of(compiled, kind, shapes)

    def chunk(numbers: Any, coefficients: Any, plan: Any, carry: Carry, noise: Any, count: Any, one: Any) -> Any:
        def settings(t: Any, episodes: Any) -> Numbers:
            # From the turn's own number: a sum of floats would round differently when a run is cut elsewhere.
            decisions = jnp.float32(copies) * (plan["turn"] + t).astype(jnp.float32)
            done = plan["by_steps"] * decisions + (1.0 - plan["by_steps"]) * episodes
            progress = Progress(decisions, jnp.float32(episodes), jnp.minimum(done * plan["per_share"], 1.0))
            # All settings at once, and settled: else each reader of a setting computes its schedule again.
            values = value_at(coefficients, progress, jnp) / one
            return Numbers(**{name: values[k] for k, name in enumerate(names)})

        def update(state: tuple[Any, Carry]) -> tuple[Any, Carry]:
            u, carry = state
            first = u * per_update
            if per_update == 1:
                carry, happened = turn(
                    numbers, plan["level"], settings(first, carry.episodes), carry, noise, first, one
                )
                experience = jax.tree.map(lambda leaf: leaf[None], happened)
            else:
                learner = carry.learner  # only read on the way, so it stays out of what goes round

                def step(carry: Carry, offset: Any) -> Any:
                    t = first + offset
                    carry, happened = turn(
                        numbers, plan["level"], settings(t, carry.episodes), carry._replace(learner=learner), noise, t,
                        one,
                    )  # fmt: skip
                    return carry._replace(learner=None), happened

                carry, experience = lax.scan(step, carry._replace(learner=None), jnp.arange(per_update))
                carry = carry._replace(learner=learner)
            draw = RowDraw(jnp, _at(noise["LEARN"], u), one)
            now = settings(first + per_update - 1, carry.episodes)
            new, memory, readings = kind.learn(shapes, now, carry.learner, carry.memory, experience, draw)
            sums = tuple(total + reading for total, reading in zip(carry.sums, readings, strict=True))
            return u + 1, carry._replace(learner=new, memory=memory, sums=sums)

        def going(state: tuple[Any, Carry]) -> Any:
            more = (state[0] < count) & (state[1].episodes < plan["episodes"])
            return more if state[1].stuck == () else more & (state[1].stuck[0] == NEVER)

        return lax.while_loop(going, update, (jnp.int32(0), carry))

    return Program(compiled, choose_requests, learn_requests, room, jax.jit(start), jax.jit(chunk, donate_argnums=(3,)))


def _turn_of(compiled: CompiledEnvironment, kind: type[Agent], shapes: Shapes) -> Any:
    """One turn of all copies: choose, advance, begin anew where an episode closed, write the row."""
    copies = shapes.copies
    description = compiled.description
    end_bits = description.ending_bits
    overs = [m.over for m in description.measures]

    def turn(
        numbers: Any, level: Any, now: Numbers, carry: Carry, noise: Any, t: Any, one: Any
    ) -> tuple[Carry, Experience]:
        before, own = carry.observed, carry.own
        draw = RowDraw(jnp, _at(noise["EXPLORE"], t), one)
        actions, memory, notes = kind.choose(shapes, now, carry.learner, carry.memory, carry.observed, draw, True)
        grips, done = compiled.handled(carry.grips, actions, _at(noise["GRIP"], t), one)
        judged = _decided(compiled, numbers, own, carry, done, noise["ADVANCE"], t, one)
        steps = judged.steps
        age = steps if description.decide_every == 1 else carry.age + 1
        weights = numbers["weights"]
        reward = sum(weights[k] * term for k, term in enumerate(judged.terms)) + jnp.zeros(copies, jnp.float32)
        closed, ended = judged.held != 0, (judged.held & end_bits) != 0
        glimpse = compiled.observe(numbers, own, judged.after, _at(noise["SENSE"], t), _at(noise["LOOK"], t), one)
        # An end for learning alone: the copy goes on, and what is learned from does not see it go on.
        ended = ended | judged.marked
        reward = compiled.valued(reward, carry.states, judged.after, ended)
        glimpse = glimpse._replace(numbers=glimpse.numbers / one)
        memories, shown = compiled.seen(carry.memories, glimpse, actions, steps, _at(noise["GLASS"], t), one)
        legal = compiled.legal(numbers, own, judged.after)
        # Where nothing is allowed, nothing need be: an episode may close there. Else `stuck` tells of it.
        able = tuple(mask | ~jnp.any(mask, axis=-1, keepdims=True) for mask in legal)
        last = Seen(shown.numbers, shown.images, able, age)
        closing = jnp.sum(closed, dtype=jnp.int32)

        def anew(_: None) -> Any:
            drawn = compiled.vary(level, _at(noise["VARY"], t), one, copies)
            next_own = {name: jnp.where(closed, drawn[name], own[name]) for name in own}
            begun = _spread(compiled.begin(numbers, next_own, _at(noise["BEGIN"], t), one), copies)
            states = jax.tree.map(lambda new, old: _choose(closed, new, old), begun, judged.after)
            first = compiled.observe(
                numbers, next_own, states, _at(noise["BEGIN_SENSE"], t), _at(noise["BEGIN_LOOK"], t), one
            )
            kept, shown_first = compiled.first_seen(first, _at(noise["BEGIN_GLASS"], t), one)
            allowed = compiled.legal(numbers, next_own, states)
            seen = Seen(shown_first.numbers, shown_first.images, allowed, jnp.zeros_like(steps))
            new = (seen, kept)
            observed, kept = jax.tree.map(
                lambda a, b: _choose(closed, a, b), new, (last._replace(legal=legal), memories)
            )
            return states, next_own, observed, kept

        states, next_own, observed, memories = lax.cond(
            closing > 0, anew, lambda _: (judged.after, own, last._replace(legal=legal), memories), None
        )
        own_rows = [own[name].astype(jnp.float32) for name in description.varied]
        stuck = carry.stuck if not legal else _stuck(carry.stuck, observed.legal, states, t)
        totals = tuple(so_far + term for so_far, term in zip(carry.totals, judged.terms, strict=True))
        measures = judged.measures
        learned: Any = carry.learned
        if description.worth.modifiers:
            learned = learned + reward
            own_rows = [*own_rows, learned]
            learned = jnp.where(closed, 0.0, learned)
        if description.decide_every > 1:
            own_rows = [*own_rows, steps.astype(jnp.float32)]
        if description.grip.modifiers:
            fresh_grips = _spread_all(description.grip.begun(jnp), copies)
            grips = jax.tree.map(lambda new, old: _choose(closed, new, old), fresh_grips, grips)
        told = tuple(m / steps if over == "mean" else m for over, m in zip(overs, measures, strict=True))
        row = jnp.stack([judged.held.astype(jnp.float32), age.astype(jnp.float32), *totals, *told, *own_rows])
        carry = Carry(
            states=states,
            own=next_own,
            observed=observed,
            memories=memories,
            grips=grips,
            learned=learned,
            stuck=stuck,
            steps=jnp.where(closed, 0, steps),
            age=() if description.decide_every == 1 else jnp.where(closed, 0, age),
            totals=tuple(jnp.where(closed, 0.0, total) for total in totals),
            measures=tuple(jnp.where(closed, 0.0, measure) for measure in measures),
            learner=carry.learner,
            memory=memory,
            episodes=carry.episodes + closing,
            sums=carry.sums,
            rows=lax.dynamic_update_index_in_dim(carry.rows, row, t, 0),
        )
        happened = Experience(
            observed=before, actions=actions, rewards=reward, ended=ended,
            closed=closed | judged.marked, last=last, following=observed, notes=notes,
        )  # fmt: skip
        return carry, happened

    return turn


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
    """

    after: Any
    terms: tuple[Any, ...]
    measures: tuple[Any, ...]
    held: Any
    marked: Any
    steps: Any


def _decided(
    compiled: CompiledEnvironment, numbers: Any, own: Any, carry: Carry, actions: Any, noise: Any, t: Any, one: Any
) -> Decided:
    """Advance all copies by a decision; one that closes on the way stands still for the rest of it."""
    description = compiled.description
    every, overs = description.decide_every, [m.over for m in description.measures]

    def advanced(states: Any, measures: Any, steps: Any, at: Any) -> Decided:
        judged = compiled.advance(numbers, own, states, actions, steps, _at(noise, at), one)
        running = tuple(
            _running(over, so_far, value, steps)
            for over, so_far, value in zip(overs, measures, judged.measures, strict=True)
        )
        marked = jnp.zeros(steps.shape, bool)
        for k in description.ending_measures:
            marked = marked | (judged.measures[k] != 0.0)
        return Decided(judged.after, judged.terms, running, judged.held, marked, steps)

    if every == 1:
        return advanced(carry.states, carry.measures, carry.steps + 1, t)

    def held(now: Decided, j: Any) -> tuple[Decided, None]:
        new = advanced(now.after, now.measures, now.steps + 1, t * every + j)
        terms = tuple(a + b for a, b in zip(now.terms, new.terms, strict=True))
        new = new._replace(terms=terms, marked=now.marked | new.marked)
        return jax.tree.map(lambda after, before: _choose(now.held == 0, after, before), new, now), None

    nothing = tuple(jnp.zeros(carry.steps.shape, jnp.float32) for _ in description.terms)
    unmarked = jnp.zeros(carry.steps.shape, bool)
    begun = Decided(carry.states, nothing, carry.measures, jnp.zeros_like(carry.steps), unmarked, carry.steps)
    return lax.scan(held, begun, jnp.arange(every))[0]


def _stuck(first: Any, legal: Any, states: Any, turn: Any) -> Any:
    """The first turn, copy and state in which some choice had no allowed alternative."""
    free = jnp.stack([jnp.any(mask, axis=-1) for mask in legal]).all(axis=0)
    copy = jnp.argmin(free)
    here = (jnp.int32(turn), jnp.int32(copy), jax.tree.map(lambda leaf: leaf[copy], states))
    new = (first[0] == NEVER) & ~free[copy]
    return jax.tree.map(lambda now, old: jnp.where(new, now, old), here, first)


def _at(arrays: list[Any], t: Any) -> list[Any]:
    return [lax.dynamic_index_in_dim(array, t, keepdims=False) for array in arrays]


def _choose(closed: Any, new: Any, old: Any) -> Any:
    return jnp.where(closed.reshape((-1,) + (1,) * (old.ndim - 1)), new, old)


def _spread(states: Any, copies: int) -> Any:
    return jax.tree.map(lambda leaf: jnp.broadcast_to(leaf, (copies, *leaf.shape[1:])), states)


def _spread_all(tree: Any, copies: int) -> Any:
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


def _agent_requests(
    kind: type[Agent], shapes: Shapes, names: list[str], learner: Any, memory: Any, per_update: int
) -> tuple[tuple[Request, ...], tuple[Request, ...]]:
    """What `choose` and `learn` ask of chance, counted by tracing them once."""
    copies = shapes.copies
    counted: list[tuple[Request, ...]] = []

    def like(shape: tuple[int, ...], dtype: Any = jnp.float32) -> Any:
        return jax.ShapeDtypeStruct(shape, dtype)  # type: ignore[no-untyped-call]

    def count(function: Any, *arguments: Any) -> Any:
        draw = CountingDraw(jnp)
        result = jax.eval_shape(lambda v, a: function(Numbers(**v), *a, draw), values, arguments)
        counted.append(tuple(draw.requests))
        return result

    values = {name: like(()) for name in names}
    spec = shapes.spec
    observed = Seen(
        like((copies, spec.width)),
        {c.name: like((copies, *c.shape), jnp.uint8) for c in spec.images},
        tuple(like((copies, c.count), jnp.bool_) for c in choices_of(spec.action).values()) if spec.masked else (),
        like((copies,), jnp.int32),
    )
    actions, memory, notes = count(
        lambda now, a, b, c, draw: kind.choose(shapes, now, a, b, c, draw, True), learner, memory, observed
    )
    flag = like((per_update, copies), jnp.bool_)
    many, actions, notes = jax.tree.map(
        lambda leaf: like((per_update, *leaf.shape), leaf.dtype), (observed, actions, notes)
    )
    experience = Experience(many, actions, like((per_update, copies)), flag, flag, many, many, notes)
    count(lambda now, *rest: kind.learn(shapes, now, *rest), learner, memory, experience)
    return counted[0], counted[1]
