"""The training loop over compiled copies: choose, advance and learn as one program or two, run in chunks.

A chunk is a loop of whole updates whose length is an argument, so that every length runs the same compiled code. Base
noise is made before the chunk and indexed by turn; each turn writes one row per copy (the closings that held, the
steps, the totals), from which the host reads the finished episodes. The room for those rows and for the noise follows
from the plan alone.

The rows cost one contiguous write a turn; a ring of finished episodes would write less but needs a scatter per copy.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import jax
import jax.numpy as jnp
import numpy as np

from jokulmist.agents.contract import Agent, hyperparameters_at
from jokulmist.environments.chance.draws import PlainDraw
from jokulmist.environments.chance.noise import SEED_LIMIT, Domain, Noise, Stream
from jokulmist.environments.declaration.description import Description
from jokulmist.environments.declaration.instance import describe
from jokulmist.environments.environment import Environment
from jokulmist.environments.transition.stepping import closed_unasked, never_asked, none_allowed
from jokulmist.errors import BrokenEnvironment, RecordError, SettingError
from jokulmist.lanes.compiled.backend import start_backend
from jokulmist.lanes.compiled.copies import CompiledEnvironment
from jokulmist.lanes.compiled.requests import stacked_rows
from jokulmist.lanes.compiled.tracing import action_like
from jokulmist.lanes.compiled.transition import DecisionOutcome
from jokulmist.learning.schedules import Progress, columns, number_at
from jokulmist.loops.compiled_turn import (
    CLOSED_UNASKED,
    NEVER,
    NEVER_ASKED,
    NO_ACTION,
    NOTHING_ALLOWED,
    Carry,
    frame_of,
    packed,
    unpacked,
)
from jokulmist.loops.contract import MOST_ADVANCES, SIDE_BY_SIDE, Planned, first_ages, never_closed
from jokulmist.loops.episode_assembler import EpisodeAssembler
from jokulmist.loops.episode_row import EpisodeRow
from jokulmist.loops.program import (
    ENVIRONMENT_STREAMS,
    FIRST_STREAMS,
    CompiledProgram,
    evaluation_program,
    key_name,
    program_for,
)
from jokulmist.loops.rollout_recorder import COPY, Recorded
from jokulmist.records.episodes import Episodes

if TYPE_CHECKING:
    from jokulmist.loops.policy import Policy


class CompiledCopies:
    """Copies of an environment that a program steps, the rows that it writes, and the noise that it is given."""

    def __init__(
        self, environment: Environment, agent: Agent, noise: Noise, agent_noise: Noise, records: int = 0
    ) -> None:
        start_backend()  # before any array is made
        self.description: Description = describe(environment)
        self._row = EpisodeRow(self.description, records)
        self.copies = noise.copies
        self.turn = 0
        self._agent, self._noise, self._agent_noise = agent, noise, agent_noise
        self._compiled = CompiledEnvironment(environment)
        # The instance's own numbers: a kept program may stem from another instance of the class.
        self._numbers = self._compiled.numbers
        levels = self.description.varying.levels if self.description.varying is not None else None
        self._level = np.float32(levels.values[0] if levels is not None else 0.0)
        self._program: CompiledProgram
        self._carry: Carry

    def _begin(self, learner: Any, memory: Any, readings: int) -> Carry:
        program, requests = self._program, self._program.compiled.requests
        first = [
            [rows[0] for rows in stacked_rows(self._noise, stream, requests.for_stream(stream), 0, 1, 1)]
            for stream in FIRST_STREAMS
        ]
        states, copy_parameters, observed, memories, action_memories, reward_memories, stuck, opened = program.start(
            self._numbers, self._level, *first, np.float32(1.0)
        )
        copies = self.copies
        terms, measures = len(self.description.terms), len(self.description.measures)
        zeros: Any = np.zeros(copies, np.float32)
        blank = Carry(
            states=(),
            copy_parameters=(),  # type: ignore[arg-type]
            observed=(),  # type: ignore[arg-type]
            memories=(),
            action_memories=(),
            learned=zeros if self.description.reward_pipeline.modifiers else (),
            stuck=(),
            steps=() if opened else np.zeros(copies, np.int32),
            age=np.zeros(copies, np.int32) if self.description.holds else (),
            totals=() if opened else (zeros,) * terms,
            measures=() if opened else (zeros,) * measures,
            learner=(),
            memory=(),
            episodes=np.int32(0),
            sums=(np.float32(0),) * readings,
            rows=np.zeros((program.room, self._row.width, copies), np.float32),
        )
        carry: Carry = _placed(blank)._replace(
            states=states,
            copy_parameters=copy_parameters,
            observed=observed,
            memories=memories,
            action_memories=action_memories,
            stuck=stuck,
            learner=learner,
            memory=memory,
            reward_memories=reward_memories,
        )
        if opened:
            carry = carry._replace(steps=opened.steps, totals=opened.terms, measures=opened.measures)
        return carry

    def _noise_of_turns(self, start: int, turns: int) -> dict[str, Any]:
        """The base noise of a stretch of turns, of the environment and of what is chosen."""
        requests, room = self._program.compiled.requests, self._program.room
        noise = {}
        for stream in ENVIRONMENT_STREAMS:
            # An advance has noise of its own, also where a decision is held for several.
            every = self.description.decide_every if stream is Stream.ADVANCE else 1
            noise[stream.name] = stacked_rows(
                self._noise, stream, requests.for_stream(stream), start * every, turns * every, room * every
            )
        explore = stacked_rows(self._agent_noise, Stream.EXPLORE, self._program.choose_requests, start, turns, room)
        noise["EXPLORE"] = [rows[:, 0] for rows in explore]
        return noise

    def _raise_failure(self) -> None:
        """Tell of a copy that could not go on; the program keeps the first."""
        if self._carry.stuck == ():
            return
        turn, why, copy, state = jax.device_get(self._carry.stuck)
        if turn < NEVER:
            if why == NO_ACTION:
                raise BrokenEnvironment(
                    f"`{type(self._agent).__name__}.choose` gave an action in copy {int(copy)} that the environment "
                    "does not have: "
                    f'it takes {self.description.action!r}. The plain lane shows which (`lane="plain"`).'
                )
            if why == NOTHING_ALLOWED:
                players = self.description.players
                raise BrokenEnvironment(none_allowed(self.description.name, int(copy), state, players))
            message = {NEVER_ASKED: never_asked, CLOSED_UNASKED: closed_unasked}[int(why)]
            raise BrokenEnvironment(message(self.description.name, int(copy), state))


class CompiledLoop(CompiledCopies):
    """A run in progress on compiled copies, of a class that `lanes.compiled.compilability.find` found to compile."""

    def __init__(self, environment: Environment, agent: Agent, seed: int, copies: int, planned: Planned) -> None:
        agent_noise = Noise(seed, 1, Domain.TRAINING)
        super().__init__(environment, agent, Noise(seed, copies, Domain.TRAINING), agent_noise, len(agent.record_names))
        self.planned = planned
        self.turns_per_update = agent.decisions_per_update(copies)
        self.decisions = self.episodes = 0
        self._coefficients = agent.schedules()
        self._columns = columns(list(self._coefficients.values()))
        config = agent.config(self.description.spec, copies)
        hyperparameters = hyperparameters_at(self._coefficients)
        learner = agent.fresh_learner(config, hyperparameters, PlainDraw(agent_noise, Stream.FRESH).for_step(0, 0))
        learner, memory = _placed((learner, agent.fresh_memory(config, hyperparameters)))
        self._program = program_for(self._compiled, agent, config, learner, memory, planned.steps)
        ages = first_ages(agent, self.description, seed, copies)
        carry = self._begin(learner, memory, len(agent.reading_names))
        self._carry = carry._replace(first_ages=() if ages is None else _placed(ages))
        self._updates = 0
        self._assembler: EpisodeAssembler | None = None
        self._frame: Any = None
        self._next_noise: tuple[int, int, dict[str, Any]] | None = None

    @property
    def most_turns(self) -> int:
        return self._program.room

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
            "episodes": np.int32(planned.last_episode or NEVER),
            "level": self._level,
        }
        done, self._carry = program.chunk(
            self._numbers, self._columns, plan, self._carry, noise, np.int32(updates), np.float32(1.0)
        )
        # The program runs beside Python: its next stretch is most likely as long, and its noise is made meanwhile.
        self._next_noise = (self.turn + turns, turns, self._noise_from(self.turn + turns, turns))
        done = int(done) * per_update
        self._raise_failure()
        batch = self._row.episodes(self._carry.rows, done, self.turn)
        if self._assembler is not None and done:
            numbers = (self.episodes + np.flatnonzero(batch.copy == COPY)).tolist()
            recorded_steps = unpacked(
                self._frame, jax.tree.map(lambda leaf: leaf[:done], jax.device_get(self._carry.recorded_steps))
            )
            satisfied = self._row.satisfied(self._carry.rows[:done], COPY)
            self._assembler.take(recorded_steps, satisfied, self.turn, self.copies, numbers)
        self.turn += done
        self.decisions += done * self.copies
        self.episodes += len(batch)
        self._updates += done // per_update
        return batch, done

    def _noise_from(self, start: int, turns: int) -> dict[str, Any]:
        """The base noise of a stretch of turns, for every stream."""
        if self._next_noise is not None and self._next_noise[:2] == (start, turns):
            return self._next_noise[2]
        program, per_update = self._program, self.turns_per_update
        updates, most_updates = -(-turns // per_update), max(1, program.room // per_update)
        learn = stacked_rows(
            self._agent_noise, Stream.LEARN, program.learn_requests, start // per_update, updates, most_updates
        )
        return {**self._noise_of_turns(start, turns), "LEARN": [rows[:, 0] for rows in learn]}

    def follow_first(self, every: int) -> None:
        """Record episodes of the first copy: one in so many, and those that are better or worse than all before."""
        carry, room = self._carry, self._program.room
        description = self.description
        zeros = jnp.zeros(self.copies, jnp.float32)
        decided = DecisionOutcome(
            carry.states,
            tuple(zeros for _ in description.terms),
            tuple(zeros for _ in description.measures),
            (),
            (),
            (),
        )
        actions = jax.tree.map(
            lambda leaf: jnp.zeros((self.copies, *leaf.shape), leaf.dtype), action_like(description.action)
        )
        frame = frame_of(carry.observed, carry.states, actions, decided, carry.observed)
        recorded_steps = jax.tree.map(lambda leaf: jnp.zeros((room, *leaf.shape), leaf.dtype), packed(frame))
        self._carry = carry._replace(recorded_steps=recorded_steps)
        self._frame = jax.device_get(frame)
        self._assembler = EpisodeAssembler(description, every, from_begin=self.turn == 0)

    def followed(self) -> list[Recorded]:
        """The episodes of the first copy that closed since the last call."""
        return [] if self._assembler is None else self._assembler.pop_recorded()

    def saved(self) -> dict[str, Any]:
        """All that the loop is between two updates, as NumPy arrays by path."""
        arrays = {
            name: np.asarray(leaf) for name, leaf in _named_leaves(self._carry._replace(rows=(), recorded_steps=()))
        }
        if self._assembler is not None:
            piece, arrays["followed"] = self._assembler.saved()
            arrays.update({f"followed/{name}": np.asarray(leaf) for name, leaf in _named_leaves(piece)})
        arrays["counters"] = np.array([self.decisions, self.episodes, self.turn, self._updates], np.int64)
        return arrays

    def start_from(self, arrays: dict[str, Any]) -> None:
        """Begin with these arrays of a learner, by path as in `saved`."""
        learner = self._carry.learner
        leaves = [jnp.asarray(arrays.get(f"learner/{name}", leaf)) for name, leaf in _named_leaves(learner)]
        self._carry = self._carry._replace(learner=jax.tree.unflatten(jax.tree.structure(learner), leaves))
        self._next_noise = None

    def restore(self, arrays: dict[str, Any]) -> None:
        """Be the loop that `saved` told of."""
        self.decisions, self.episodes, self.turn, self._updates = map(int, arrays["counters"])
        model = self._carry._replace(rows=(), recorded_steps=())
        leaves = []
        for name, leaf in _named_leaves(model):
            array = arrays.get(name)
            if array is None or array.shape != leaf.shape or array.dtype != leaf.dtype:
                got = "nothing" if array is None else f"{array.dtype} of shape {array.shape}"
                raise RecordError(
                    f"the checkpoint has {got} for `{name}`, and this program needs {leaf.dtype} of shape "
                    f"{leaf.shape}: the "
                    f"environment or the agent has changed since. Go on with the code that the run keeps in source/."
                )
            leaves.append(jnp.asarray(array))
        restored: Carry = jax.tree.unflatten(jax.tree.structure(model), leaves)
        self._carry = restored._replace(rows=self._carry.rows, recorded_steps=self._carry.recorded_steps)
        if self._assembler is not None:
            self._restore_followed(self._assembler, arrays)
        self._next_noise = None

    def _restore_followed(self, assembler: EpisodeAssembler, arrays: dict[str, Any]) -> None:
        """The episode at hand of the first copy, as far as it was recorded."""
        if "followed" not in arrays:
            assembler.from_begin = self.turn == 0
            return
        model = unpacked(self._frame, jax.device_get(jax.tree.map(lambda leaf: leaf[:1], self._carry.recorded_steps)))
        names = [f"followed/{name}" for name, _ in _named_leaves(model)]
        is_complete = all(name in arrays for name in names)
        piece = jax.tree.unflatten(jax.tree.structure(model), [arrays[name] for name in names]) if is_complete else None
        assembler.restore(piece, arrays["followed"])

    def count_episodes(self, episodes: int) -> None:
        """So many episodes have closed; those of the last turn or batch beyond that are not counted."""
        self.episodes = episodes
        self._carry = self._carry._replace(episodes=jnp.int32(episodes))

    def set_level(self, value: float) -> None:
        """The level of the curriculum for episodes that begin from now on."""
        self._level = np.float32(value)

    def readings(self) -> dict[str, float]:
        """Means of the readings since the last call, and the settings that move."""
        count = max(self._updates, 1)
        names = self._agent.reading_names
        means = {name: float(total) / count for name, total in zip(names, self._carry.sums, strict=True)}
        progress = Progress(self.decisions, self.episodes, self.planned.share(self.decisions, self.episodes))
        for name, c in self._coefficients.items():
            if c.moves:
                means[name] = number_at(c, progress)
        self._carry = self._carry._replace(sums=tuple(np.float32(0) for _ in names))
        self._updates = 0
        return means

    def learner(self) -> Any:
        """What a policy needs of what was learned so far, as NumPy arrays; a copy."""
        return jax.tree.map(np.array, self._agent.policy_state(self._carry.learner))


class CompiledEvaluation(CompiledCopies):
    """Evaluation episodes on compiled copies, `SIDE_BY_SIDE` at a time: the first episode of each copy is its owner's.

    A copy whose episode has closed begins another, which is not looked at; the episodes and their draws are those of
    the plain lane.
    """

    def __init__(self, environment: Environment, policy: Policy, first: int, seed: int, explore: bool) -> None:
        owners = tuple(range(first, first + SIDE_BY_SIDE))
        agent, agent_noise = policy.agent, Noise((seed + first) % SEED_LIMIT, 1, Domain.EVALUATION)
        super().__init__(environment, agent, Noise(seed, SIDE_BY_SIDE, Domain.EVALUATION, owners), agent_noise)
        config = agent.config(policy.spec, self.copies)
        hyperparameters = hyperparameters_at(agent.schedules(), Progress(policy.decisions, 0, 1.0))
        self._values = np.array(list(vars(hyperparameters).values()), np.float32)
        memory = agent.fresh_memory(config, hyperparameters) if explore or agent.remembers() else ()
        learner, memory = _placed((policy.learner, memory))
        self._program = evaluation_program(self._compiled, agent, config, learner, memory, explore)
        self._carry = self._begin(learner, memory, 0)

    def play(self, episodes: int) -> Episodes:
        """The first episodes of so many copies, in the order of their owners.

        Raises
        ------
        SettingError
            When one does not close within `MOST_ADVANCES` advances.
        """
        parts, missing = [], np.arange(episodes)
        while len(missing):
            room = self._program.room
            plan = {"level": self._level}
            noise = self._noise_of_turns(self.turn, room)
            done, self._carry = self._program.chunk(
                self._numbers, self._values, plan, self._carry, noise, np.int32(room), np.float32(1.0)
            )
            self._raise_failure()
            batch = self._row.episodes(self._carry.rows, int(done), self.turn)
            copies, places = np.unique(batch.copy, return_index=True)  # the first of each copy
            parts.append(batch.rows(places[np.isin(copies, missing)]))
            missing = np.setdiff1d(missing, copies)
            self.turn += room
            if len(missing) and self.turn * self.description.decide_every > MOST_ADVANCES:
                raise SettingError(never_closed(self.description.name))
        played = Episodes.joined(parts)
        return played.rows(np.argsort(played.copy))


def _placed(tree: Any) -> Any:
    """The arrays of a tree where programs find them, each its own, so that a program may use it up; nothing is compiled
    for it."""
    return jax.device_put(tree, may_alias=False)


def _named_leaves(tree: Any) -> list[tuple[str, Any]]:
    """The arrays of a tree with their paths."""
    leaves = jax.tree_util.tree_flatten_with_path(tree)[0]
    return [("/".join(key_name(key) for key in path), leaf) for path, leaf in leaves]
