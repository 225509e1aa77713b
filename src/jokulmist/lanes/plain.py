"""Copies stepped one after another in plain Python, so that breakpoints and prints work."""

from __future__ import annotations

from typing import Any

import numpy as np

from jokulmist.environments.chance.noise import Noise
from jokulmist.environments.declaration.instance import revalued
from jokulmist.environments.declaration.state import State
from jokulmist.environments.environment import Environment
from jokulmist.environments.simulator import Simulator
from jokulmist.environments.spaces.channels import Spec
from jokulmist.environments.spaces.legal import Mask
from jokulmist.environments.transition.copy import FIRST, LATER, Copy, draws_of
from jokulmist.environments.transition.simulator_stepping import stepper_for
from jokulmist.environments.transition.stepping import SAFE, Stepper
from jokulmist.lanes.protocol import Finished, LaneOutcome, Observed
from jokulmist.trees import filled

NEVER_CUT = np.iinfo(np.int32).max


def _frozen(array: Any) -> Any:
    """A copy that cannot be written to, as states hold them."""
    frozen = np.array(array)
    frozen.flags.writeable = False
    return frozen


class PlainLane:
    """N copies of an environment, stepped in Python.

    Attributes
    ----------
    each : list of Copy
    turn : int
    within : float
        What a reward one advance later counts within a decision.
    first_ages : list of int, optional
        The decision at which a copy's first episode is cut and not recorded.
    watched : int, optional
        The copy whose state is looked at after every turn.
    """

    def __init__(self, environment: Environment, noise: Noise, once: bool = False) -> None:
        self.environment = environment
        self.copies = noise.copies
        self.once = once
        self.turn = 0
        self.within: Any = 1.0
        self.step = stepper_for(environment)
        self.description = description = self.step.description
        self.varying = description.varying
        self.level: Any = self.varying.levels.values[0] if self.varying is not None and self.varying.levels else None
        self._draws = draws_of(noise)
        self.each = [Copy(step, self._draws, i) for i, step in enumerate(self._made_steppers())]
        self.has_begun = False
        self.still: list[bool] = [False] * self.copies
        self.end_bits = description.ending_bits
        self.lost_bit = description.lost_bit or -1
        self._holds = description.holds
        self._masked = description.bare.masked
        self._modifies_actions = bool(description.action_pipeline.modifiers)
        self._modifies_rewards = bool(description.reward_pipeline.modifiers)
        self._marks = bool(description.ending_measures)
        self.bare = not description.modifiers and not self._masked
        self._shows_more = bool(description.bare.images or description.observation_pipeline.modifiers)
        self.first_ages: list[int] | None = None
        self.watched: int | None = None
        self._rows: list[list[float]] = []
        self._images: list[dict[str, Any]] = []

    def _made_steppers(self) -> list[Stepper]:
        """One a copy, where copies differ."""
        if isinstance(self.environment, Simulator):
            return [stepper_for(self.environment) for _ in range(self.copies)]
        if self.varying is not None:
            return [Stepper(revalued(self.environment)) for _ in range(self.copies)]
        return [self.step] * self.copies

    def saved(self) -> dict[str, Any]:
        """All that the copies are between two turns, as a tree of arrays and numbers."""
        each = self.each
        fields = {
            f.name: np.stack([np.asarray(copy.state.__dict__[f.name]) for copy in each])
            for f in self.description.fields
        }
        return {
            "fields": fields,
            "totals": np.array([copy.totals for copy in each], np.float64),
            "measures": np.array([copy.measures for copy in each], np.float64),
            "steps": np.array([copy.advances for copy in each], np.int64),
            "ages": np.array([copy.decisions for copy in each], np.int64),
            "learned": np.array([copy.learned for copy in each], np.float64),
            "varied": np.array([copy.varied for copy in each], np.float64),
            "memories": [copy.memories for copy in each],
            "action_memories": [copy.action_memories for copy in each],
            "reward_memories": [copy.reward_memories for copy in each],
            "first_ages": np.array(self.first_ages or (), np.int64),
        }

    def restore(self, arrays: dict[str, Any], turn: int) -> None:
        """Be what `saved` told, under its paths; the lane must have begun, and its level be set."""
        self.turn = turn
        memories = {
            name: filled([getattr(copy, name) for copy in self.each], arrays, name)
            for name in ("memories", "action_memories", "reward_memories")
        }
        for i, copy in enumerate(self.each):
            copy.state = self._state_from(arrays, i)
            copy.totals, copy.measures = arrays["totals"][i].tolist(), arrays["measures"][i].tolist()
            copy.advances, copy.decisions = int(arrays["steps"][i]), int(arrays["ages"][i])
            copy.learned = float(arrays["learned"][i])
            for name, memory in memories.items():
                setattr(copy, name, memory[i])
            if self.varying is not None:
                copy.varied = tuple(arrays["varied"][i].tolist())
                kinds = [type(getattr(self.environment, name)) for name in self.varying.names]
                named = zip(self.varying.names, kinds, copy.varied, strict=True)
                copy.step.revalue({name: kind(value) for name, kind, value in named})
        self.first_ages = arrays["first_ages"].tolist() or None

    def _state_from(self, arrays: dict[str, Any], i: int) -> State:
        values = {}
        for field in self.description.fields:
            value = arrays[f"fields/{field.name}"][i]
            values[field.name] = SAFE[field.kind][0](value) if field.scalar else _frozen(value)
        state = object.__new__(self.step.state_class)
        state.__dict__.update(values)
        return state

    def close(self) -> None:
        """Let go of whatever the copies hold."""
        if isinstance(self.environment, Simulator):
            for copy in self.each:
                copy.step.environment.close()  # type: ignore[attr-defined]

    @property
    def spec(self) -> Spec:
        return self.description.spec

    def begin(self) -> Observed:
        """Begin an episode in every copy."""
        self.has_begun = True
        observed = Observed([copy.begin(0, FIRST, self.level) for copy in self.each])
        if self._masked:
            observed.masks = [copy.legal() for copy in self.each]
        if self._shows_more:
            seen = [copy.first_shown(row, 0, FIRST) for copy, row in zip(self.each, observed.rows, strict=True)]
            observed.rows, observed.images = [row for row, _ in seen], [images for _, images in seen]
        return observed

    def begin_again(self) -> Observed:
        """Begin an episode in every copy in the middle of a run, with the draws of its turn."""
        observed = self.begin()
        self.turn -= 1  # the begins that ended the turn before
        observed = self._begin_again(observed, list(range(self.copies)))
        self.turn += 1
        return observed

    def advance(self, actions: list[Any]) -> LaneOutcome:
        """Advance every copy by its action, in own form."""
        rewards: list[float] = []
        ended: list[bool] = []
        closed: list[bool] = []
        rows: list[list[float]] = []
        done: list[Finished] = []
        if self._modifies_actions:
            inputs = [
                a if still else copy.handled(a, self.turn)
                for a, still, copy in zip(actions, self.still, self.each, strict=True)
            ]
        else:
            inputs = actions
        self._prepare(inputs)
        for i, action in enumerate(inputs):
            if self.still[i]:
                self._stand_still(rewards, ended, closed, rows)
                continue
            copy = self.each[i]
            before = copy.state
            reward, satisfied, row = self.advance_one(i, action)
            end = (satisfied & self.end_bits) != 0 or (self._marks and copy.marked)
            if self._modifies_rewards and satisfied != self.lost_bit:
                reward = copy.valued(reward, before, end)
            rewards.append(reward)
            ended.append(end)
            closed.append(end or satisfied != 0)
            rows.append(row)
            if satisfied:
                done.append(self.finish(i, satisfied))
        last = Observed(rows, ages=[copy.age for copy in self.each])
        if self._shows_more:
            seen = [
                (self._rows[i], self._images[i])
                if self.still[i]
                else self.each[i].observe_after(row, actions[i], self.turn)
                for i, row in enumerate(rows)
            ]
            last.rows, last.images = [row for row, _ in seen], [images for _, images in seen]
            self._rows, self._images = last.rows, last.images
        to_begin = [f.copy for f in done]
        if self.first_ages is not None:
            to_begin = self._cut_first(self.first_ages, last.ages, closed, to_begin)
        if self._masked:
            last.masks = self._last_masks(to_begin)
        observed = self._begin_again(last, to_begin) if to_begin else last
        self.turn += 1
        advances = [copy.lasted for copy in self.each] if self._holds else ()
        return LaneOutcome(rewards, ended, closed, last, observed, done, advances=advances)

    def _cut_first(self, first_ages: list[int], ages: list[int], closed: list[bool], done: list[int]) -> list[int]:
        """Cut first episodes that have reached their age; all copies that start again."""
        for i in done:
            first_ages[i] = NEVER_CUT
        cut = [i for i in range(self.copies) if ages[i] >= first_ages[i] and not self.still[i]]
        for i in cut:
            closed[i], first_ages[i] = True, NEVER_CUT
        if all(age == NEVER_CUT for age in first_ages):
            self.first_ages = None
        return sorted([*done, *cut])

    def _prepare(self, actions: list[Any]) -> None:
        """A lane whose copies work side by side asks them all before it waits for the first."""

    def advance_one(self, i: int, action: Any) -> tuple[float, int, list[float]]:
        """One copy's decision: its reward, the closings that hold, its row. The caller counts the turn."""
        return self.each[i].decide(action, self.turn, self.within)

    def begin_one(self, i: int) -> list[float]:
        """Start again in one copy; its row."""
        return self.each[i].begin(self.turn, LATER, self.level)

    def finish(self, i: int, satisfied: int) -> Finished:
        """The record of a copy's episode that closed."""
        copy = self.each[i]
        copy.last_state = copy.state
        return Finished(
            i, copy.age, satisfied, tuple(copy.totals), copy.measured(), copy.varied, copy.learned, copy.advances
        )

    def _stand_still(
        self, rewards: list[float], ended: list[bool], closed: list[bool], rows: list[list[float]]
    ) -> None:
        rewards.append(0.0)
        ended.append(True)
        closed.append(True)
        rows.append([0.0] * self.spec.width)  # nobody looks at it any more

    def _begin_again(self, last: Observed, copies: list[int]) -> Observed:
        if self.once:
            for i in copies:
                self.still[i] = True
            return last
        observed = Observed(list(last.rows), list(last.images), list(last.masks), list(last.ages))
        for i in copies:
            copy = self.each[i]
            observed.rows[i] = self.begin_one(i)
            observed.ages[i] = 0
            if self._shows_more:
                observed.rows[i], observed.images[i] = copy.first_shown(observed.rows[i], self.turn, LATER)
            if self._masked:
                observed.masks[i] = copy.legal()
        return observed

    def _last_masks(self, closed: list[int]) -> list[Mask]:
        """What is allowed after the advance; where an episode closed nothing is decided, and nothing need be
        allowed."""
        masks = []
        for i, copy in enumerate(self.each):
            is_closed = i in closed or self.still[i]
            mask = copy.step.legal(copy.state) if is_closed else copy.legal()
            masks.append(tuple(np.ones_like(allowed) if not allowed.any() else allowed for allowed in mask))
        return masks
