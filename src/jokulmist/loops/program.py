"""Many turns as one compiled program: built, and kept for the next run of the same shapes."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, NamedTuple

import jax
import jax.numpy as jnp
import numpy as np
from jax import lax

from jokulmist.agents.configs import Config, Hyperparameters
from jokulmist.agents.contract import Agent, Experience, counts_advances
from jokulmist.agents.foreign import three
from jokulmist.arrays import Array
from jokulmist.environments.chance.draws import CountingDraw, Request, RowDraw
from jokulmist.environments.chance.noise import Stream
from jokulmist.environments.spaces.channels import ObservationBatch
from jokulmist.environments.spaces.legal import mask_widths
from jokulmist.environments.spaces.player_actions import players_of
from jokulmist.lanes.compiled.copies import CompiledEnvironment
from jokulmist.lanes.compiled.transition import BeginRows, CompiledTransition, at_turn, spread_all
from jokulmist.learning.schedules import Progress, value_at
from jokulmist.loading import ships
from jokulmist.loops.compiled_turn import (
    CLOSED_UNASKED,
    NEVER,
    NEVER_ASKED,
    NOTHING_ALLOWED,
    Carry,
    Turn,
    first_failure,
    forbidden,
    no_failure,
)
from jokulmist.loops.program_cache import CachedFunction, CachedRequests, key_of, key_of_update

ROOM_BYTES = 48_000_000
MOST_CHUNK_DECISIONS = 32_768
# An evaluation looks after so many turns whether every copy has closed its episode.
EVALUATED_TURNS = 512
# Of a method that learns once a horizon, rollout and update are two programs where so many decisions lie between two
# updates, or where there are few updates: else the calls, 0.3 to 1 ms an update, cost more than is saved where the
# update was compiled for another environment.
DECISIONS_APART, UPDATES_APART = 1024, 500


ENVIRONMENT_STREAMS = (
    Stream.ADVANCE,
    Stream.SENSE,
    Stream.LOOK,
    Stream.BEGIN,
    Stream.BEGIN_SENSE,
    Stream.BEGIN_LOOK,
    Stream.VARY,
    Stream.OBSERVATION,
    Stream.BEGIN_OBSERVATION,
    Stream.ACTION,
    Stream.WAIT,
    Stream.BEGIN_WAIT,
)


FIRST_STREAMS = (
    Stream.FIRST_VARY,
    Stream.FIRST_BEGIN,
    Stream.FIRST_SENSE,
    Stream.FIRST_LOOK,
    Stream.FIRST_OBSERVATION,
    Stream.FIRST_WAIT,
)


class CompiledProgram(NamedTuple):
    """What is compiled once for a class, an agent's shapes and a number of copies."""

    compiled: CompiledEnvironment
    choose_requests: tuple[Request, ...]
    learn_requests: tuple[Request, ...]
    room: int
    start: Any
    chunk: Any


_PROGRAMS: dict[Any, CompiledProgram] = {}


KEPT_PROGRAMS = 16


def key_name(key: Any) -> str:
    return str(next(getattr(key, kind) for kind in ("name", "key", "idx") if hasattr(key, kind)))


def program_for(
    compiled: CompiledEnvironment, agent: Agent, config: Config, learner: Any, memory: Any, steps: int | None
) -> CompiledProgram:
    """The program of a training: for a class, an agent's shapes and a number of copies, and a run of so many decisions;
    kept for the next run."""
    per_update = agent.decisions_per_update(config.copies)
    decisions = per_update * config.copies
    few = steps is not None and steps <= UPDATES_APART * decisions
    is_separate = per_update > 1 and (few or decisions >= DECISIONS_APART)
    return _cached(
        (compiled, agent, config, is_separate), lambda: _build(compiled, agent, config, learner, memory, is_separate)
    )


def evaluation_program(
    compiled: CompiledEnvironment, agent: Agent, config: Config, learner: Any, memory: Any, explore: bool
) -> CompiledProgram:
    """The program of an evaluation: turns without updates; kept for the next evaluation."""
    key = (compiled, agent, config, f"evaluation, explore={explore}")
    return _cached(key, lambda: _build_evaluation(compiled, agent, config, learner, memory, explore))


def _cached(
    key: tuple[CompiledEnvironment, Agent, Config, Any], build: Callable[[], CompiledProgram]
) -> CompiledProgram:
    compiled, agent, config, kind = key
    # A number that is 0 may be left out, and the program with it: which there are decides, too.
    program_key = (compiled.static_key, type(agent), config, tuple(agent.schedules()), kind)
    if program_key not in _PROGRAMS:
        while len(_PROGRAMS) >= KEPT_PROGRAMS:
            _PROGRAMS.pop(next(iter(_PROGRAMS)))
        _PROGRAMS[program_key] = build()
    return _PROGRAMS[program_key]


def _bytes_per_turn(compiled: CompiledEnvironment, copies: int, choose_requests: tuple[Request, ...]) -> int:
    """Of the rows and the base noise of a turn."""
    described, requests = compiled.description, compiled.requests
    total = 4 * copies * (2 + len(described.terms) + len(described.measures) + len(described.varied) + 2)
    for stream in ENVIRONMENT_STREAMS:
        times = described.decide_every if stream is Stream.ADVANCE else 1
        total += 4 * copies * times * sum(r.width for r in requests.for_stream(stream))
    return total + 4 * sum(r.width for r in choose_requests)


def _start_of(compiled: CompiledEnvironment, kind: type[Agent], copies: int) -> Callable[..., Any]:
    """The function that begins an episode in all copies."""
    described = compiled.description

    def start(
        numbers: Any,
        level: Array,
        vary: Any,
        begin_rows: Any,
        sense_rows: Any,
        look_rows: Any,
        modifying_rows: Any,
        wait: Any,
        unit: Array,
    ) -> Any:
        copy_parameters = compiled.vary(level, vary, unit, copies)
        rows = BeginRows(begin_rows, wait, sense_rows, look_rows, modifying_rows)
        started = CompiledTransition(compiled, copies).start(numbers, copy_parameters, rows, unit)
        states, legal, opened = started.states, started.observed.legal, started.opened
        action_memories = spread_all(described.action_pipeline.start(jnp), copies)
        reward_memories = spread_all(described.reward_pipeline.start(jnp), copies)
        stuck: Any = ()
        if legal or described.gated or not ships(kind):
            stuck = no_failure(states)
        if legal:
            stuck = first_failure(stuck, forbidden(legal), NOTHING_ALLOWED, states, jnp.int32(0))
        if described.gated:
            stuck = first_failure(stuck, opened.satisfied != 0, CLOSED_UNASKED, states, jnp.int32(0))
            stuck = first_failure(
                stuck, ~compiled.asks(numbers, copy_parameters, states), NEVER_ASKED, states, jnp.int32(0)
            )
        return (
            states,
            copy_parameters,
            started.observed,
            started.memories,
            action_memories,
            reward_memories,
            stuck,
            opened,
        )

    return start


def _no_failure(carry: Carry) -> Any:
    return True if carry.stuck == () else carry.stuck[0] == NEVER


def _cached_requests(
    key: str | None, count: Callable[[], tuple[tuple[Request, ...], ...]]
) -> tuple[tuple[Request, ...], ...]:
    """What a method asks of chance, which knows nothing of the environment but its channels and actions: as another
    process has counted it, or counted and kept."""
    cached = CachedRequests(key)
    requests = cached.read()
    if requests is None:
        requests = count()
        cached.store(requests)
    return requests


def _build_evaluation(
    compiled: CompiledEnvironment, agent: Agent, config: Config, learner: Any, memory: Any, explore: bool
) -> CompiledProgram:
    kind, names, copies = type(agent), list(agent.schedules()), config.copies
    code = key_of(compiled, agent, config)
    code = code and f"{code}-{'sampled' if explore else 'greedy'}"
    acting = key_of_update(agent, config)
    (requests,) = _cached_requests(
        acting and f"{acting}-{'sampled' if explore else 'greedy'}",
        lambda: (_choose_requests(kind, config, names, learner, memory, explore)[0],),
    )
    limit = compiled.description.limit or EVALUATED_TURNS
    room = max(1, min(limit, EVALUATED_TURNS, ROOM_BYTES // _bytes_per_turn(compiled, copies, requests)))
    turn = Turn(compiled, kind, config, explore, learns=False)

    def play(numbers: Any, values: Any, plan: Any, carry: Carry, noise: Any, count: Any, unit: Any) -> Any:
        hyperparameters = Hyperparameters(**{name: values[k] / unit for k, name in enumerate(names)})

        def step(state: tuple[Any, Carry]) -> tuple[Any, Carry]:
            t, carry = state
            return t + 1, turn(numbers, plan["level"], hyperparameters, carry, noise, t, unit)[0]

        def going(state: tuple[Any, Carry]) -> Any:
            return (state[0] < count) & _no_failure(state[1])

        return lax.while_loop(going, step, (jnp.int32(0), carry))

    start = CachedFunction(_start_of(compiled, kind, copies), code)
    return CompiledProgram(compiled, requests, (), room, start, CachedFunction(play, code, 3))


def _build(
    compiled: CompiledEnvironment, agent: Agent, config: Config, learner: Any, memory: Any, is_separate: bool
) -> CompiledProgram:
    kind, copies = type(agent), config.copies
    per_update = agent.decisions_per_update(copies)
    names = list(agent.schedules())
    code = key_of(compiled, agent, config)
    lasting = compiled.description.holds and counts_advances(config)
    method = key_of_update(agent, config)
    choose_requests, learn_requests = _cached_requests(
        method and f"{method}-{'lasting' if lasting else 'training'}",
        lambda: _agent_requests(kind, config, names, learner, memory, per_update, lasting),
    )
    per_turn = _bytes_per_turn(compiled, copies, choose_requests)
    per_turn += 4 * sum(r.width for r in learn_requests) // per_update
    updates = max(1, min(MOST_CHUNK_DECISIONS // copies, ROOM_BYTES // max(per_turn, 1)) // per_update)
    room = updates * per_update
    start = CachedFunction(_start_of(compiled, kind, copies), code)
    functions = TrainingFunctions(compiled, agent, config)
    program: Any
    if is_separate:
        update = CachedFunction(functions.update, key_of_update(agent, config), 0)
        program = Alternating(CachedFunction(functions.rollout, code, 4), update)
    else:
        program = CachedFunction(functions.chunk, code, 3)
    return CompiledProgram(compiled, choose_requests, learn_requests, room, start, program)


class TrainingFunctions:
    """The traced functions of a training: the turns of one update, the update, and many of both."""

    def __init__(self, compiled: CompiledEnvironment, agent: Agent, config: Config) -> None:
        self._kind, self._config, self._names = type(agent), config, list(agent.schedules())
        self._per_update = agent.decisions_per_update(config.copies)
        self._turn = Turn(compiled, self._kind, config)

    def _schedules(self, coefficients: Any, plan: Any, t: Any, episodes: Any, unit: Any) -> Any:
        """The hyperparameters at a turn, as one row in the order of their names."""
        # From the turn's own number: a sum of floats would round differently when a run is cut elsewhere.
        decisions = jnp.float32(self._config.copies) * (plan["turn"] + t).astype(jnp.float32)
        done = plan["by_steps"] * decisions + (1.0 - plan["by_steps"]) * episodes
        progress = Progress(decisions, jnp.float32(episodes), jnp.minimum(done * plan["per_share"], 1.0))
        # All settings at once, and settled: else each reader of a setting computes its schedule again.
        return value_at(coefficients, progress, jnp) / unit

    def _named(self, values: Array) -> Hyperparameters:
        return Hyperparameters(**{name: values[k] for k, name in enumerate(self._names)})

    def rollout(
        self,
        parameters: Any,
        coefficients: Any,
        plan: Any,
        learner: Any,
        carry: Carry,
        noise: Any,
        u: Array,
        unit: Array,
    ) -> Any:
        """The turns of one update, and what `update` needs of them."""
        first = u * self._per_update

        def step(carry: Carry, offset: Any) -> Any:
            t = first + offset
            hyperparameters = self._named(self._schedules(coefficients, plan, t, carry.episodes, unit))
            carry = carry._replace(learner=learner)  # only read on the way, so it stays out of what goes round
            carry, transition = self._turn(parameters, plan["level"], hyperparameters, carry, noise, t, unit)
            return carry._replace(learner=None), transition

        if self._per_update == 1:
            carry, transition = step(carry, 0)
            experience = jax.tree.map(lambda leaf: leaf[None], transition)
        else:
            carry, experience = lax.scan(step, carry, jnp.arange(self._per_update))
        values = self._schedules(coefficients, plan, first + self._per_update - 1, carry.episodes, unit)
        return carry, experience, values, at_turn(noise["LEARN"], u)

    def update(self, learning: Any, experience: Experience, values: Array, rows: Any, unit: Array) -> Any:
        """What the method learns from the turns since its last update; `learning` is the learner, its memory, and the
        sums of the readings."""
        learner, memory, sums = learning
        draw = RowDraw(jnp, rows, unit)
        learned = self._kind.learn(self._config, self._named(values), learner, memory, experience, draw)
        learner, memory, readings = three(self._kind, "learn", learned)
        return learner, memory, tuple(total + reading for total, reading in zip(sums, readings, strict=True))

    def chunk(
        self, parameters: Any, coefficients: Any, plan: Any, carry: Carry, noise: Any, count: Any, unit: Any
    ) -> Any:
        """So many updates with their turns, or fewer where the planned episodes have closed or a copy cannot go on."""

        def both(state: tuple[Array, Carry]) -> tuple[Array, Carry]:
            u, carry = state
            learner = carry.learner
            carry, experience, values, rows = self.rollout(
                parameters, coefficients, plan, learner, carry._replace(learner=None), noise, u, unit
            )
            learning = (learner, carry.memory, carry.sums)
            learner, memory, sums = self.update(learning, experience, values, rows, unit)
            return u + 1, carry._replace(learner=learner, memory=memory, sums=sums)

        def going(state: tuple[Any, Carry]) -> Any:
            return (state[0] < count) & (state[1].episodes < plan["episodes"]) & _no_failure(state[1])

        return lax.while_loop(going, both, (jnp.int32(0), carry))


class Alternating:
    """Rollouts and updates as two programs, one after the other: the update is compiled once for all environments with
    the same channels and actions."""

    def __init__(self, rollout: CachedFunction, update: CachedFunction) -> None:
        self._rollout, self._update = rollout, update

    def __call__(
        self, numbers: Any, coefficients: Any, plan: Any, carry: Carry, noise: Any, count: Any, unit: Any
    ) -> Any:
        noise = jax.device_put(noise)  # once for all rollouts
        learner, carry, done = carry.learner, carry._replace(learner=None), 0
        counted = plan["episodes"] < NEVER
        while done < count and not (counted and int(carry.episodes) >= plan["episodes"]):
            carry, experience, values, rows = self._rollout(
                numbers, coefficients, plan, learner, carry, noise, np.int32(done), unit
            )
            learner, memory, sums = self._update((learner, carry.memory, carry.sums), experience, values, rows, unit)
            carry, done = carry._replace(memory=memory, sums=sums), done + 1
        return done, carry._replace(learner=learner)

    @property
    def forms(self) -> int:
        return max(self._rollout.forms, self._update.forms)


def _like(shape: tuple[int, ...], dtype: Any = jnp.float32) -> Any:
    return jax.ShapeDtypeStruct(shape, dtype)  # type: ignore[no-untyped-call]


def _count(function: Callable[..., Any], names: list[str], *arguments: Any) -> tuple[tuple[Request, ...], Any]:
    """What a function of a method asks of chance, counted by tracing it once, and the shapes of what it gives."""
    draw = CountingDraw(jnp)
    values = {name: _like(()) for name in names}
    result = jax.eval_shape(lambda v, a: function(Hyperparameters(**v), *a, draw), values, arguments)
    return tuple(draw.requests), result


def _observed_like(config: Config) -> ObservationBatch:
    copies, spec = config.copies, config.spec
    return ObservationBatch(
        _like((copies, spec.width)),
        {c.name: _like((copies, *c.shape), jnp.uint8) for c in spec.images},
        tuple(_like((copies, width), jnp.bool_) for width in mask_widths(spec.action)) if spec.masked else (),
        _like((copies,), jnp.int32),
    )


def _choose_requests(
    kind: type[Agent], config: Config, names: list[str], learner: Any, memory: Any, explore: bool
) -> tuple[tuple[Request, ...], Any]:
    return _count(
        lambda hyperparameters, a, b, c, draw: three(
            kind, "choose", kind.choose(config, hyperparameters, a, b, c, draw, explore)
        ),
        names,
        learner,
        memory,
        _observed_like(config),
    )


def _agent_requests(
    kind: type[Agent], config: Config, names: list[str], learner: Any, memory: Any, per_update: int, lasting: bool
) -> tuple[tuple[Request, ...], tuple[Request, ...]]:
    """What `choose` and `learn` ask of chance."""
    copies = config.copies
    chosen, (actions, memory, policy_extras) = _choose_requests(kind, config, names, learner, memory, True)
    flag = _like((per_update, copies), jnp.bool_)
    many, actions, policy_extras = jax.tree.map(
        lambda leaf: _like((per_update, *leaf.shape), leaf.dtype), (_observed_like(config), actions, policy_extras)
    )
    players = players_of(config.spec.action)
    rewards = _like((per_update, copies, len(players)) if players else (per_update, copies))
    experience = Experience(many, actions, rewards, flag, flag, many, many, policy_extras)
    if lasting:
        experience = experience._replace(advances=_like((per_update, copies), jnp.int32))
    learned, _ = _count(
        lambda hyperparameters, *rest: three(kind, "learn", kind.learn(config, hyperparameters, *rest)),
        names,
        learner,
        memory,
        experience,
    )
    return chosen, learned
