"""The training loop over plain copies: the same functions that the compiled loop joins, called one by one."""

from __future__ import annotations

from typing import Any

import numpy as np

from jokulmist.agents.contract import Agent, Experience, ScalarAgent, counts_advances, hyperparameters_at
from jokulmist.agents.foreign import twin_holds
from jokulmist.environments.chance.draws import Draw, PlainDraw
from jokulmist.environments.chance.noise import Domain, Noise, Stream
from jokulmist.environments.declaration.description import Description
from jokulmist.environments.environment import Environment
from jokulmist.environments.simulator import Simulator
from jokulmist.environments.spaces.channels import ObservationBatch
from jokulmist.errors import BrokenEnvironment
from jokulmist.lanes.plain import PlainLane
from jokulmist.lanes.processes.lane import ProcessLane
from jokulmist.lanes.protocol import Finished, LaneOutcome, Observed, no_number
from jokulmist.learning.schedules import mover
from jokulmist.loops.agent_calls import Calls, calls_for
from jokulmist.loops.contract import Planned, first_ages
from jokulmist.loops.rollout_recorder import COPY, Follower, Recorded
from jokulmist.records.episodes import Episodes
from jokulmist.remote.environment import RemoteLane, RemoteSimulator
from jokulmist.trees import below, flattened, replaced

MOST_TOLD = 256


class PlainLoop:
    """A run in progress on a plain lane."""

    most_turns = 1 << 20

    def __init__(
        self,
        environment: Environment,
        agent: Agent,
        seed: int,
        copies: int,
        planned: Planned,
        processes: bool = False,
    ) -> None:
        noise = Noise(seed, copies, Domain.TRAINING)
        self.lane: PlainLane
        if isinstance(environment, RemoteSimulator):
            self.lane = RemoteLane(environment, noise)
        elif processes:
            assert isinstance(environment, Simulator)
            self.lane = ProcessLane(environment, noise)
        else:
            self.lane = PlainLane(environment, noise)
        ages = first_ages(agent, self.lane.description, seed, copies)
        self.lane.first_ages = None if ages is None else ages.tolist()
        agent_noise = Noise(seed, 1, Domain.TRAINING)
        self._explore, self._learn = PlainDraw(agent_noise, Stream.EXPLORE), PlainDraw(agent_noise, Stream.LEARN)
        self.planned = planned
        self.copies = copies
        self.turns_per_update = agent.decisions_per_update(copies)
        self.decisions = self.episodes = self.turn = 0
        config = agent.config(self.lane.spec, copies)
        self._calls: Calls = calls_for(agent, config)
        self._coefficients = agent.schedules()
        moving = {n: c for n, c in self._coefficients.items() if c.moves}
        per_decision = 1.0 / planned.steps if planned.steps is not None else 0.0
        per_episode = 1.0 / planned.episodes if planned.episodes is not None else 0.0
        self._moving = tuple((n, mover(c, per_decision, per_episode)) for n, c in moving.items())
        self._numbers = hyperparameters_at(self._coefficients)
        self._counted = self.lane.description.holds and counts_advances(config)
        self._learner = self._calls.fresh_learner(self._numbers, PlainDraw(agent_noise, Stream.FRESH).for_step(0, 0))
        self._memory = self._calls.fresh_memory(self._numbers)
        # A scalar agent reads the numbers of the class itself, so it is used only where there are no modifiers.
        self._scalar = None
        if self.lane.bare and not self._counted and twin_holds(type(agent), "scalar", "choose", "learn"):
            self._scalar = agent.scalar(config, self._numbers, self._learner, self._explore, self._learn)
        self._restarted = agent.restarted
        self._records = len(agent.record_names)
        self._recorded = agent.recorded if agent.record_names else None
        self._names = agent.reading_names
        self._policy_state = agent.policy_state
        self._sums = [0.0] * len(self._names)
        self._readings_due: list[Any] = []
        self._updates = 0
        self._observed: Observed | None = None
        self._begun_again = False
        self._follower: Follower | None = None

    def advance(self, turns: int) -> Episodes:
        """Go on for so many turns, or until the planned episodes are done."""
        if self._scalar is None:
            finished = self._gathered_turns(turns)
        else:
            try:
                finished = self._scalar_turns(self._scalar, turns)
            except (TypeError, ValueError) as failure:
                problem = no_number([self._row(copy) for copy in range(self.copies)])
                if problem:
                    raise BrokenEnvironment(problem) from failure
                raise
        return batch_of(finished, self.lane.description, self._records)

    def _row(self, copy: int) -> list[Any]:
        """What a copy shows now, to say what is wrong with it."""
        each = self.lane.each[copy]
        return each.step.observe(each.state, PlainDraw(Noise(0, 1, Domain.CHECK), Stream.SENSE).for_step(0, 0))

    def _scalar_turns(self, scalar: ScalarAgent, turns: int) -> list[tuple[int, Finished]]:
        """Copy by copy, in Python numbers."""
        lane, settings, moving, sums = self.lane, vars(self._numbers), self._moving, self._sums
        copies, end_bits, wanted = range(self.copies), lane.end_bits, self.planned.last_episode or 0
        advance, decide, judge = lane.advance_one, scalar.decide, scalar.judge
        finished: list[tuple[int, Finished]] = []
        follower = self._follower
        if not lane.has_begun:
            for i, row in enumerate((lane.begin_again() if self._begun_again else lane.begin()).rows):
                scalar.see(i, row)
                if follower is not None and i == COPY:
                    follower.begin(row, {})
        for _ in range(turns):
            for name, schedule in moving:
                settings[name] = schedule(self.decisions, self.episodes)
            scalar.turn(self.turn)
            self.decisions += self.copies
            for i in copies:
                action = decide(i)
                reward, satisfied, last = advance(i, action)
                if follower is not None and i == COPY:
                    follower.took(action, satisfied, last, {}, self.decisions)
                judge(i, reward, (satisfied & end_bits) != 0, satisfied != 0, last)
                if satisfied:
                    finished.append((self.decisions, lane.finish(i, satisfied)))
                    self.episodes += 1
                    row = lane.begin_one(i)
                    scalar.see(i, row)
                    if follower is not None and i == COPY:
                        follower.begin(row, {})
            k = 0
            for reading in scalar.write():
                sums[k] += reading
                k += 1
            self._updates += 1
            lane.turn = self.turn = self.turn + 1
            if wanted and self.episodes >= wanted:
                break
        return finished

    def _gathered_turns(self, turns: int) -> list[tuple[int, Finished]]:
        """All copies at once, in arrays, with an update for each so many turns."""
        lane, calls, numbers, settings = self.lane, self._calls, self._numbers, vars(self._numbers)
        wanted = self.planned.last_episode or 0
        observed = self._observed
        if observed is None:
            observed = lane.begin_again() if self._begun_again else lane.begin()
            if self._follower is not None:
                self._follower.begin(observed.rows[COPY], observed.images[COPY] if observed.images else {})
        finished: list[tuple[int, Finished]] = []
        gathered: list[Experience] = []
        for _ in range(turns):
            for name, schedule in self._moving:
                settings[name] = schedule(self.decisions, self.episodes)
            if self._counted:
                lane.within = numbers.discount
            seen = calls.seen(observed)
            draw = self._explore.for_step(self.turn, 0)
            actions, self._memory, policy_extras = calls.choose(numbers, self._learner, self._memory, seen, draw, True)
            inputs = calls.native_actions(actions)
            outcome = lane.advance(inputs)
            broken: Any = np.zeros(self.copies, bool) if lane.description.lost_bit else ()
            while outcome.lost:
                broken[outcome.lost] = True
                seen, actions, policy_extras, outcome = self._decide_again(seen, actions, policy_extras, draw, outcome)
                if self._follower is not None and broken[COPY]:
                    self._follower.drop()
            if gathered and len(broken):
                gathered[-1].closed[:] = np.asarray(gathered[-1].closed) | broken
            observed = outcome.observed
            gathered.append(_experience(calls, seen, actions, outcome, policy_extras, broken, self._counted))
            if len(gathered) == self.turns_per_update:
                self._update(calls.stacked(gathered))
                gathered = []
            self.turn += 1
            self.decisions += self.copies
            if self._follower is not None:
                self._follower.turned(inputs[COPY], outcome, self.decisions)
            ended = outcome.finished
            if ended and self._recorded is not None:
                record_columns = [np.asarray(column) for column in self._recorded(self._memory)]
                ended = [
                    f._replace(agent_records=tuple(float(column[f.copy]) for column in record_columns)) for f in ended
                ]
            finished.extend((self.decisions, episode) for episode in ended)
            self.episodes += len(outcome.finished)
            if wanted and self.episodes >= wanted and not gathered:
                break
        self._observed = observed
        return finished

    def _decide_again(
        self, seen: ObservationBatch, actions: Any, policy_extras: Any, draw: Draw, outcome: LaneOutcome
    ) -> tuple[Any, ...]:
        """Another decision for the copies whose process was lost: what was seen, done and noted, and what came of it.

        The draws of the turn are used again: what they gave was dropped.
        """
        assert isinstance(self.lane, ProcessLane)
        calls, mask = self._calls, np.zeros(self.copies, bool)
        mask[list(outcome.lost)] = True
        seen = replaced(mask, calls.seen(outcome.observed), seen)
        memory = self._restarted(self._memory, calls.fresh_memory(self._numbers), mask)
        new, after, new_extras = calls.choose(self._numbers, self._learner, memory, seen, draw, True)
        self._memory = self._restarted(self._memory, after, mask)
        actions, policy_extras = replaced(mask, new, actions), replaced(mask, new_extras, policy_extras)
        return seen, actions, policy_extras, self.lane.advance_replaced(outcome, calls.native_actions(actions))

    def follow_first(self, every: int) -> None:
        """Record the episodes of the first copy; all of them; the caller chooses."""
        self._follower = Follower(self.lane)

    def followed(self) -> list[Recorded]:
        """The episodes of the first copy that closed since the last call."""
        return [] if self._follower is None else self._follower.pop_recorded()

    def close(self) -> None:
        """Let go of whatever the copies hold."""
        self.lane.close()

    @property
    def losses(self) -> int:
        """Worker processes that were replaced so far."""
        return self.lane.losses if isinstance(self.lane, ProcessLane) else 0

    @property
    def why_lost(self) -> str:
        """Why the last one was replaced."""
        return self.lane.why_lost if isinstance(self.lane, ProcessLane) else ""

    def _update(self, experience: Experience) -> None:
        draw = self._learn.for_step(self.turn // self.turns_per_update, 0)
        self._learner, self._memory, readings = self._calls.learn(
            self._numbers, self._learner, self._memory, experience, draw
        )
        self._updates += 1
        self._readings_due.append(readings)
        if len(self._readings_due) >= MOST_TOLD:
            self._sum_up()

    def _sum_up(self) -> None:
        """Add the readings of the last updates to the sums; one at a time each would cost a call."""
        for k, total in enumerate(np.sum(np.array([np.asarray(r) for r in self._readings_due], np.float64), axis=0)):
            self._sums[k] += float(total)
        self._readings_due.clear()

    def saved(self) -> dict[str, Any]:
        """All that the loop is between two updates, as NumPy arrays by path."""
        if self._readings_due:
            self._sum_up()
        counters = [self.decisions, self.episodes, self.turn, self._updates]
        tree: dict[str, Any] = {
            "counters": np.array(counters, np.int64),
            "sums": np.array(self._sums, np.float64),
            "numbers": np.array(list(vars(self._numbers).values()), np.float64),
            "learner": self._learner,
            "memory": self._memory,
        }
        if self.turn and not isinstance(self.lane.environment, Simulator):  # before the first turn no episode has begun
            tree["lane"] = self.lane.saved()
            if self._scalar is not None:
                tree["scalar"] = self._scalar.saved()
            elif self._observed is not None:
                tree["observed"] = self._observed.saved()
        followed = None if self._follower is None else self._follower.saved()
        if followed is not None and "lane" in tree:
            tree["followed"] = followed
        return flattened(tree)

    def start_from(self, arrays: dict[str, Any]) -> None:
        """Begin with these arrays of a learner, by path as in `saved`."""
        complete = {**flattened(self._learner, "learner"), **arrays}
        self._learner = self._calls.restored(self._learner, complete, "learner")

    def restore(self, arrays: dict[str, Any]) -> None:
        """Be the loop that `saved` told of. The episodes of a simulator cannot be resumed: others begin."""
        self.decisions, self.episodes, self.turn, self._updates = map(int, arrays["counters"])
        self._sums[:] = arrays["sums"].tolist()
        for name, value in zip(vars(self._numbers), arrays["numbers"].tolist(), strict=True):
            setattr(self._numbers, name, value)
        self._learner = self._calls.restored(self._learner, arrays, "learner")
        self._memory = self._calls.restored(self._memory, arrays, "memory")
        self.lane.turn = self.turn
        if isinstance(self.lane.environment, Simulator):
            self._begun_again = self.turn > 0
            if self._begun_again:
                self.lane.first_ages = None
            return
        if not self.turn:
            return
        observed = self.lane.begin()
        self.lane.restore(below(arrays, "lane"), self.turn)
        if self._scalar is not None:
            self._scalar.restore(below(arrays, "scalar"))
        else:
            self._observed = observed.restored(below(arrays, "observed"))
        if self._follower is not None and "followed/numbers" in arrays:
            follower_arrays = below(arrays, "followed")
            parts = {name: below(follower_arrays, name) for name in ("images", "actions", "states")}
            self._follower.restore({**follower_arrays, **parts})

    def count_episodes(self, episodes: int) -> None:
        """So many episodes have closed; those of the last turn or batch beyond that are not counted."""
        self.episodes = episodes

    def set_level(self, value: float) -> None:
        """The level of the curriculum for episodes that begin from now on."""
        self.lane.level = value

    def readings(self) -> dict[str, float]:
        """Means of the readings since the last call, and the settings that move."""
        if self._readings_due:
            self._sum_up()
        count = max(self._updates, 1)
        means = {name: float(total) / count for name, total in zip(self._names, self._sums, strict=True)}
        means.update({name: float(self._numbers.__dict__[name]) for name, _ in self._moving})
        self._sums[:] = [0.0] * len(self._names)
        self._updates = 0
        return means

    def learner(self) -> Any:
        """What a policy needs of what was learned so far, as NumPy arrays; a copy."""
        return _copied(self._policy_state(self._learner))


def _experience(
    calls: Calls,
    seen: ObservationBatch,
    actions: Any,
    outcome: LaneOutcome,
    policy_extras: Any,
    broken: Any,
    counted: bool,
) -> Experience:
    last = calls.seen(outcome.last)
    following = last if outcome.observed is outcome.last else calls.seen(outcome.observed)
    advances = np.array(outcome.advances, np.int32) if counted else ()
    return Experience(
        seen, actions, outcome.rewards, outcome.ended, outcome.closed, last, following, policy_extras, broken, advances
    )


def _copied(tree: Any) -> Any:
    if isinstance(tree, dict):
        return {name: _copied(part) for name, part in tree.items()}
    if isinstance(tree, tuple) and hasattr(tree, "_fields"):
        return type(tree)(*[_copied(part) for part in tree])
    if hasattr(tree, "shape"):
        return np.array(tree)
    import jax

    return jax.tree.map(np.array, tree)


def batch_of(finished: list[tuple[int, Finished]], description: Description, records: int = 0) -> Episodes:
    """Finished episodes of a plain lane as columns; of so many things the agent tells."""
    count = len(finished)
    table = np.array([(d, f.copy, f.steps, f.satisfied) for d, f in finished], np.int64).reshape(count, 4)
    return Episodes(
        decisions=table[:, 0],
        copy=table[:, 1],
        steps=table[:, 2],
        satisfied=table[:, 3],
        totals=np.array([f.totals for _, f in finished], np.float32).reshape(count, len(description.terms)),
        measures=np.array([f.measures for _, f in finished], np.float32).reshape(count, len(description.measures)),
        varied=np.array([f.varied for _, f in finished], np.float32).reshape(count, len(description.varied)),
        learned=np.array([f.learned for _, f in finished], np.float32),
        advances=np.array([f.advances for _, f in finished], np.int64),
        agent_records=np.array([f.agent_records for _, f in finished], np.float32).reshape(count, records),
    )
