"""One copy of an environment, and the order in which everything happens in it.

An episode begins: parameters that vary, `begin` and its opening, advances until the agent is asked, sensors, images,
observation modifiers, what is legal.

A decision: action modifiers; then `advance`, terms, measures, endings and cuts, limits, as often as a decision is held
for; then advances until the agent is asked again; then sensors, reward modifiers, images, observation modifiers, what
is legal.

The plain lane, the lane of processes and `Episode` all step copies of this class. `lanes.compiled.transition` is the
same order as a traced function of all copies at once; `tests/lanes/test_agree.py` holds the two together.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np

from jokulmist.environments.chance.draws import Draw, PlainDraw
from jokulmist.environments.chance.noise import Noise, Stream
from jokulmist.environments.declaration.state import State
from jokulmist.environments.modifiers import ChannelValues, Surroundings
from jokulmist.environments.spaces.actions import plain_form
from jokulmist.environments.spaces.legal import Mask
from jokulmist.environments.transition.stepping import Stepper, closed_unasked, combined, finished, never_asked
from jokulmist.environments.transition.waiting import MOST_WAITING, WaitDraw
from jokulmist.errors import BrokenEnvironment


@dataclass(frozen=True)
class BeginStreams:
    """The streams of chance of an episode's begin: a run's first episodes have streams of their own."""

    vary: Stream
    begin: Stream
    wait: Stream
    sense: Stream
    look: Stream
    observation: Stream


FIRST = BeginStreams(
    Stream.FIRST_VARY,
    Stream.FIRST_BEGIN,
    Stream.FIRST_WAIT,
    Stream.FIRST_SENSE,
    Stream.FIRST_LOOK,
    Stream.FIRST_OBSERVATION,
)
LATER = BeginStreams(
    Stream.VARY, Stream.BEGIN, Stream.BEGIN_WAIT, Stream.BEGIN_SENSE, Stream.BEGIN_LOOK, Stream.BEGIN_OBSERVATION
)


def draws_of(noise: Noise) -> dict[Stream, PlainDraw]:
    """The draws of all streams, for the copies of a noise."""
    return {stream: PlainDraw(noise, stream) for stream in Stream}


class Copy:
    """One copy of an environment: its episode so far, and its next transition.

    Attributes
    ----------
    state : State
    totals : list of float
        Each term, without its weight, summed up since the episode began.
    measures : list of float
        Running, since the episode began.
    advances : int
        Since the episode began.
    decisions : int
        Since the episode began, where they are held for several advances; else `advances` counts them.
    lasted : int
        Advances of the last decision.
    marked : bool
        Whether a measure made an end for learning in the last decision.
    learned : float
        The return that is learned from, where rewards are modified.
    varied : tuple of float
        The parameters that are the episode's own.
    last_state : State
        The last of the episode that closed before this one.
    """

    __slots__ = (
        "_action_pipeline",
        "_advance",
        "_description",
        "_draws",
        "_every",
        "_gated",
        "_holds",
        "_marks",
        "_observation_pipeline",
        "_overs",
        "_reward_pipeline",
        "_sense",
        "action_memories",
        "advances",
        "decisions",
        "last_state",
        "lasted",
        "learned",
        "marked",
        "measures",
        "memories",
        "number",
        "reward_memories",
        "state",
        "step",
        "totals",
        "varied",
        "varying",
    )

    state: State
    last_state: State

    def __init__(
        self, stepper: Stepper, draws: Mapping[Stream, PlainDraw], number: int = 0, varies: bool = True
    ) -> None:
        self.step, self.number = stepper, number
        description = self._description = stepper.description
        self.varying = description.varying if varies else None
        self._every = description.decide_every
        self._holds, self._gated = description.holds, description.gated
        self._overs = tuple(m.over for m in description.measures)
        self._marks = description.ending_measures
        self._observation_pipeline = description.observation_pipeline
        self._action_pipeline = description.action_pipeline
        self._reward_pipeline = description.reward_pipeline
        self.reseed(draws)
        self.varied: tuple[float, ...] = ()
        self.memories: Any = None
        self.lasted = 1
        self.marked = False
        self._restart()

    def reseed(self, draws: Mapping[Stream, PlainDraw]) -> None:
        """Take other draws from here on."""
        self._draws, self._advance, self._sense = draws, draws[Stream.ADVANCE], draws[Stream.SENSE]

    def _restart(self) -> None:
        self.totals = [0.0] * len(self._description.terms)
        self.measures = [0.0] * len(self._overs)
        self.advances = self.decisions = 0
        self.learned = 0.0
        self.action_memories = self._action_pipeline.start(np)
        self.reward_memories = self._reward_pipeline.start(np)

    def begin(self, turn: int, streams: BeginStreams, level: Any = None) -> list[float]:
        """Begin an episode."""
        if self.varying is not None:
            values = self.varying.values(self._draws[streams.vary].for_step(turn, self.number), level)
            self.step.revalue(values)
            self.varied = tuple(float(values[name]) for name in self.varying.names)
        self.state = self.step.begin(self._draws[streams.begin].for_step(turn, self.number))
        self._restart()
        # What the advances before the first decision bring counts in the episode, and for no decision.
        if self._gated and self._waited(self._draws[streams.wait].for_step(turn, self.number), 1.0)[1]:
            raise BrokenEnvironment(closed_unasked(self._description.name, self.number, self.state))
        return self.step.observe(self.state, self._draws[streams.sense].for_step(turn, self.number))

    def first_shown(self, row: list[float], turn: int, streams: BeginStreams) -> tuple[list[float], dict[str, Any]]:
        """What an episode's first moment shows: the row through the modifiers, and the images."""
        images = self.step.look(self.state, self._draws[streams.look].for_step(turn, self.number))
        if not self._observation_pipeline.modifiers:
            return row, images
        surroundings = Surroundings(None, 1.0, self._draws[streams.observation].for_step(turn, self.number))
        channel_values = ChannelValues(np.array(row, np.float32), images)
        self.memories, seen = self._observation_pipeline.start(np, channel_values, surroundings)
        return seen.numbers.tolist(), seen.images

    def handled(self, action: Any, turn: int) -> Any:
        """What the action modifiers make of a decision."""
        draw = self._draws[Stream.ACTION].for_step(turn, self.number)
        self.action_memories, done = self._action_pipeline.modify(np, self.action_memories, action, draw)
        return plain_form(done)

    def decide(self, action: Any, turn: int, within: float = 1.0) -> tuple[float, int, list[float]]:
        """Do an action until the next decision."""
        step = self.step
        self.marked = False
        if not self._holds:
            reward, satisfied = self._advanced(action, self._advance.for_step(turn, self.number))
            return (
                reward,
                satisfied,
                step.observe(self.state, self._sense.for_step(turn, self.number) if step.noisy else None),
            )
        reward, satisfied, weight, lasted = 0.0, 0, 1.0, 0
        self.decisions += 1
        for j in range(self._every):
            more, satisfied = self._advanced(action, self._advance.for_step(turn * self._every + j, self.number))
            reward += weight * more
            weight, lasted = weight * within, lasted + 1
            if satisfied:
                break
        if self._gated and not satisfied:
            more, satisfied, waited = self._waited(self._draws[Stream.WAIT].for_step(turn, self.number), within)
            reward, lasted = reward + weight * more, lasted + waited
        self.lasted = lasted
        return reward, satisfied, step.observe(self.state, self._sense.for_step(turn, self.number))

    def _advanced(self, action: Any, draw: Draw) -> tuple[float, int]:
        """One advance: the reward, and the closings that hold.

        These are `Stepper`'s parts spelt out, because what is called here is called at every step.
        """
        step, before = self.step, self.state
        try:
            if step.flows:
                before = before.replace(**step.flows)
            after = step.environment.advance(before, action, draw)
            self.state = step.cast(after, "advance")
            self.advances = advances = self.advances + 1
            totals = self.totals
            reward = 0.0
            k = 0
            for method, judge, weight in step.direct_terms:
                term = float(method(after) if judge is None else judge(before, action, after))
                totals[k] += term
                reward += weight * term
                k += 1
            if reward - reward != 0.0 if not step.shared else not np.isfinite(reward).all():  # infinite or not a number
                self._refuse(step.reward_terms(before, action, after), before)
            k = 0
            running = self.measures
            for method, judge, aggregation in step.direct_measures:
                value = float(method(after) if judge is None else judge(before, action, after))
                running[k] = (
                    running[k] + value if aggregation == "sum" else combined(aggregation, running[k], value, advances)
                )
                if value and k in self._marks:
                    self.marked = True
                k += 1
            satisfied = 0
            for method, judge, bit in step.direct_closers:
                if method(after) if judge is None else judge(before, action, after):
                    satisfied |= bit
        except Exception as failure:
            step.failed_among(step.step_methods, failure)
        if step.deadline and advances >= step.deadline:
            satisfied |= step.deadline_bit
        if step.time_limit and advances >= step.time_limit:
            satisfied |= step.time_limit_bit
        return reward, satisfied

    def _waited(self, key: PlainDraw, within: float) -> tuple[float, int, int]:
        """Advance until the agent is asked or the episode closes: the reward, what held, and how many advances it
        took."""
        step, draw = self.step, None
        reward, weight = 0.0, 1.0
        for j in range(MOST_WAITING):
            if step.asks(self.state):
                return reward, 0, j
            if draw is None:
                draw = WaitDraw(np, key.uniform(), key.uniform())
            more, satisfied = self._advanced(self._description.meanwhile, draw.for_advance(j))
            reward, weight = reward + weight * more, weight * within
            if satisfied:
                return reward, satisfied, j + 1
        raise BrokenEnvironment(never_asked(self._description.name, self.number, self.state))

    def valued(self, reward: float, before: State, ended: bool) -> float:
        """What the reward modifiers make of a decision's reward: what is learned from."""
        memories, modified = self._reward_pipeline.modify(np, self.reward_memories, reward, before, self.state, ended)
        self.reward_memories = memories
        if self.step.shared:
            self.learned += float(np.mean(modified))
            return np.asarray(modified, np.float64)  # type: ignore[return-value]
        self.learned += float(modified)
        return float(modified)

    def observe_after(self, row: list[float], action: Any, turn: int) -> tuple[list[float], dict[str, Any]]:
        """What is shown after a decision: the row through the modifiers, and the images."""
        images = self.step.look(self.state, self._draws[Stream.LOOK].for_step(turn, self.number))
        if not self._observation_pipeline.modifiers:
            return row, images
        draw = self._draws[Stream.OBSERVATION].for_step(turn, self.number)
        surroundings = Surroundings(action, self._description.left(self.advances), draw)
        channel_values = ChannelValues(np.array(row, np.float32), images)
        self.memories, seen = self._observation_pipeline.update(np, self.memories, channel_values, surroundings)
        return seen.numbers.tolist(), seen.images

    def legal(self) -> Mask:
        """What may be decided now; empty where the class does not say."""
        return self.step.decidable(self.state, self.number)

    @property
    def age(self) -> int:
        """Decisions since the episode began."""
        return self.decisions if self._holds else self.advances

    def measured(self) -> tuple[float, ...]:
        """The measures of the episode so far."""
        parts = zip(self._overs, self.measures, strict=True)
        return tuple(finished(aggregation, value, self.advances) for aggregation, value in parts)

    def _refuse(self, terms: list[float], before: State) -> None:
        for method, term in zip(self._description.terms, terms, strict=True):
            if term - term != 0.0:
                raise BrokenEnvironment(
                    f"`{self._description.name}.{method.name}` gave {term} in the step from {before}; a reward must be "
                    f"finite. Guard the division or the logarithm that made it."
                )
