"""Many turns as one compiled program: built, and kept for the next run of the same shapes."""

from __future__ import annotations

from typing import Any, NamedTuple

import jax
import jax.numpy as jnp
import numpy as np
from jax import lax

from jokulmist.agents.contract import Agent, Experience, Numbers, Shapes, counts_advances
from jokulmist.agents.foreign import three
from jokulmist.environments.chance.draws import CountingDraw, Request, RowDraw
from jokulmist.environments.chance.noise import Stream
from jokulmist.environments.spaces.channels import Seen
from jokulmist.environments.spaces.legal import mask_widths
from jokulmist.environments.spaces.player_actions import players_of
from jokulmist.lanes.compiled.copies import CompiledEnvironment
from jokulmist.lanes.compiled.transition import BeginRows, Transition, at_turn, spread_all
from jokulmist.learning.schedules import Progress, value_at
from jokulmist.loading import ships
from jokulmist.training.loops.compiled_turn import (
    CLOSED_UNASKED,
    NEVER,
    NEVER_ASKED,
    NOTHING_ALLOWED,
    Carry,
    first_stuck,
    forbidden,
    nothing_stuck,
    turn_of,
)
from jokulmist.training.loops.kept_code import KeptFunction, KeptRequests, key_of, key_of_update

ROOM_BYTES = 48_000_000


MOST_CHUNK_DECISIONS = 32_768
# Of a method that learns once a horizon, rollout and update are two programs where so many decisions lie between two updates, or where there are
# few updates: else the calls, 0.3 to 1 ms an update, cost more than is saved where the update was compiled for another environment.
DECISIONS_APART, UPDATES_APART = 1024, 500
UNLIMITED = np.iinfo(np.int32).max


ENVIRONMENT_STREAMS = (
    Stream.ADVANCE, Stream.SENSE, Stream.LOOK, Stream.BEGIN, Stream.BEGIN_SENSE, Stream.BEGIN_LOOK, Stream.VARY,
    Stream.OBSERVATION, Stream.BEGIN_OBSERVATION, Stream.ACTION, Stream.WAIT, Stream.BEGIN_WAIT,
)  # fmt: skip


FIRST_STREAMS = (
    Stream.FIRST_VARY, Stream.FIRST_BEGIN, Stream.FIRST_SENSE, Stream.FIRST_LOOK, Stream.FIRST_OBSERVATION, Stream.FIRST_WAIT,
)  # fmt: skip


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


def key_name(key: Any) -> str:
    return str(next(getattr(key, kind) for kind in ("name", "key", "idx") if hasattr(key, kind)))


def program_for(
    compiled: CompiledEnvironment, agent: Agent, shapes: Shapes, learner: Any, memory: Any, steps: int | None
) -> Program:
    """The compiled program for a class, an agent's shapes and a number of copies, and for a run of so many decisions; kept for the next run."""
    per_update = agent.decisions_per_update(shapes.copies)
    decisions = per_update * shapes.copies
    few = steps is not None and steps <= UPDATES_APART * decisions
    apart = per_update > 1 and (few or decisions >= DECISIONS_APART)
    # A number that is 0 may be left out, and the program with it: which there are decides, too.
    key = (compiled.static_key, type(agent), shapes, tuple(agent.numbers()), apart)
    if key not in _PROGRAMS:
        while len(_PROGRAMS) >= KEPT_PROGRAMS:
            _PROGRAMS.pop(next(iter(_PROGRAMS)))
        _PROGRAMS[key] = _build(compiled, agent, shapes, learner, memory, apart)
    return _PROGRAMS[key]


def _build(
    compiled: CompiledEnvironment, agent: Agent, shapes: Shapes, learner: Any, memory: Any, apart: bool
) -> Program:
    kind, copies = type(agent), shapes.copies
    per_update = agent.decisions_per_update(copies)
    names = list(agent.numbers())
    described = compiled.description
    code = key_of(compiled, agent, shapes)
    kept = KeptRequests(code)
    asked = kept.read()
    if asked is None:
        lasting = described.holds and counts_advances(shapes)
        asked = _agent_requests(kind, shapes, names, learner, memory, per_update, lasting)
        kept.keep(asked)
    choose_requests, learn_requests = asked
    requests = compiled.requests
    per_turn = 4 * copies * (2 + len(described.terms) + len(described.measures) + len(described.varied) + 2)
    for stream in ENVIRONMENT_STREAMS:
        times = described.decide_every if stream is Stream.ADVANCE else 1
        per_turn += 4 * copies * times * sum(r.width for r in requests.of(stream))
    per_turn += 4 * sum(r.width for r in choose_requests)
    per_turn += 4 * sum(r.width for r in learn_requests) // per_update
    updates = max(1, min(MOST_CHUNK_DECISIONS // copies, ROOM_BYTES // max(per_turn, 1)) // per_update)
    room = updates * per_update

    def start(
        numbers: Any, level: Any, vary: Any, begin_rows: Any, sense_rows: Any, look_rows: Any, modifying_rows: Any, wait: Any,
        one: Any,
    ) -> Any:  # fmt: skip
        own = compiled.vary(level, vary, one, copies)
        rows = BeginRows(begin_rows, wait, sense_rows, look_rows, modifying_rows)
        begun = Transition(compiled, copies).begun(numbers, own, rows, one)
        states, legal, opened = begun.states, begun.observed.legal, begun.opened
        action_memories = spread_all(compiled.description.action_pipeline.begun(jnp), copies)
        reward_memories = spread_all(compiled.description.reward_pipeline.begun(jnp), copies)
        stuck: Any = ()
        if legal or described.gated or not ships(kind):
            stuck = nothing_stuck(states)
        if legal:
            stuck = first_stuck(stuck, forbidden(legal), NOTHING_ALLOWED, states, jnp.int32(0))
        if described.gated:
            stuck = first_stuck(stuck, opened.held != 0, CLOSED_UNASKED, states, jnp.int32(0))
            stuck = first_stuck(stuck, ~compiled.asks(numbers, own, states), NEVER_ASKED, states, jnp.int32(0))
        return states, own, begun.observed, begun.memories, action_memories, reward_memories, stuck, opened

    turn = turn_of(compiled, kind, shapes)

    def settings(coefficients: Any, plan: Any, t: Any, episodes: Any, one: Any) -> Any:
        # From the turn's own number: a sum of floats would round differently when a run is cut elsewhere.
        decisions = jnp.float32(copies) * (plan["turn"] + t).astype(jnp.float32)
        done = plan["by_steps"] * decisions + (1.0 - plan["by_steps"]) * episodes
        progress = Progress(decisions, jnp.float32(episodes), jnp.minimum(done * plan["per_share"], 1.0))
        # All settings at once, and settled: else each reader of a setting computes its schedule again.
        return value_at(coefficients, progress, jnp) / one

    def named(values: Any) -> Numbers:
        return Numbers(**{name: values[k] for k, name in enumerate(names)})

    def rollout(
        numbers: Any, coefficients: Any, plan: Any, learner: Any, carry: Carry, noise: Any, u: Any, one: Any
    ) -> Any:
        """The turns of one update, and what `update` needs of them."""
        first = u * per_update

        def step(carry: Carry, offset: Any) -> Any:
            t = first + offset
            now = named(settings(coefficients, plan, t, carry.episodes, one))
            carry = carry._replace(learner=learner)  # only read on the way, so it stays out of what goes round
            carry, happened = turn(numbers, plan["level"], now, carry, noise, t, one)
            return carry._replace(learner=None), happened

        if per_update == 1:
            carry, happened = step(carry, 0)
            experience = jax.tree.map(lambda leaf: leaf[None], happened)
        else:
            carry, experience = lax.scan(step, carry, jnp.arange(per_update))
        now = settings(coefficients, plan, first + per_update - 1, carry.episodes, one)
        return carry, experience, now, at_turn(noise["LEARN"], u)

    def update(learned: Any, experience: Any, now: Any, rows: Any, one: Any) -> Any:
        learner, memory, sums = learned
        given = kind.learn(shapes, named(now), learner, memory, experience, RowDraw(jnp, rows, one))
        learner, memory, readings = three(kind, "learn", given)
        return learner, memory, tuple(total + reading for total, reading in zip(sums, readings, strict=True))

    def chunk(numbers: Any, coefficients: Any, plan: Any, carry: Carry, noise: Any, count: Any, one: Any) -> Any:
        def both(state: tuple[Any, Carry]) -> tuple[Any, Carry]:
            u, carry = state
            learner = carry.learner
            carry, experience, now, rows = rollout(
                numbers, coefficients, plan, learner, carry._replace(learner=None), noise, u, one
            )
            learner, memory, sums = update((learner, carry.memory, carry.sums), experience, now, rows, one)
            return u + 1, carry._replace(learner=learner, memory=memory, sums=sums)

        def going(state: tuple[Any, Carry]) -> Any:
            more = (state[0] < count) & (state[1].episodes < plan["episodes"])
            return more if state[1].stuck == () else more & (state[1].stuck[0] == NEVER)

        return lax.while_loop(going, both, (jnp.int32(0), carry))

    program: Any
    if apart:
        program = Alternating(KeptFunction(rollout, code, 4), KeptFunction(update, key_of_update(agent, shapes), 0))
    else:
        program = KeptFunction(chunk, code, 3)
    return Program(compiled, choose_requests, learn_requests, room, KeptFunction(start, code), program)


class Alternating:
    """Rollouts and updates as two programs, one after the other: the update is compiled once for all environments with the same channels and actions."""

    def __init__(self, rollout: KeptFunction, update: KeptFunction) -> None:
        self._rollout, self._update = rollout, update

    def __call__(
        self, numbers: Any, coefficients: Any, plan: Any, carry: Carry, noise: Any, count: Any, one: Any
    ) -> Any:
        noise = jax.device_put(noise)  # once for all rollouts
        learner, carry, done = carry.learner, carry._replace(learner=None), 0
        counted = plan["episodes"] < UNLIMITED
        while done < count and not (counted and int(carry.episodes) >= plan["episodes"]):
            carry, experience, now, rows = self._rollout(
                numbers, coefficients, plan, learner, carry, noise, np.int32(done), one
            )
            learner, memory, sums = self._update((learner, carry.memory, carry.sums), experience, now, rows, one)
            carry, done = carry._replace(memory=memory, sums=sums), done + 1
        return done, carry._replace(learner=learner)

    @property
    def forms(self) -> int:
        return max(self._rollout.forms, self._update.forms)


def _agent_requests(
    kind: type[Agent], shapes: Shapes, names: list[str], learner: Any, memory: Any, per_update: int, lasting: bool
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
        tuple(like((copies, width), jnp.bool_) for width in mask_widths(spec.action)) if spec.masked else (),
        like((copies,), jnp.int32),
    )
    actions, memory, notes = count(
        lambda now, a, b, c, draw: three(kind, "choose", kind.choose(shapes, now, a, b, c, draw, True)),
        learner,
        memory,
        observed,
    )
    flag = like((per_update, copies), jnp.bool_)
    many, actions, notes = jax.tree.map(
        lambda leaf: like((per_update, *leaf.shape), leaf.dtype), (observed, actions, notes)
    )
    players = players_of(spec.action)
    rewards = like((per_update, copies, len(players)) if players else (per_update, copies))
    experience = Experience(many, actions, rewards, flag, flag, many, many, notes)
    if lasting:
        experience = experience._replace(advances=like((per_update, copies), jnp.int32))
    count(lambda now, *rest: three(kind, "learn", kind.learn(shapes, now, *rest)), learner, memory, experience)
    return counted[0], counted[1]
