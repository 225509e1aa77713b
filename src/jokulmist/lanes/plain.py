"""Copies stepped one after another in plain Python, so that breakpoints and prints work."""

from __future__ import annotations

from typing import Any

import numpy as np

from jokulmist.environments.chance.draws import Draw, PlainDraw
from jokulmist.environments.chance.noise import Noise, Stream
from jokulmist.environments.declaration.environment import Environment, revalued
from jokulmist.environments.declaration.simulator import Simulator
from jokulmist.environments.declaration.state import State
from jokulmist.environments.modifiers import ChannelValues, Surroundings
from jokulmist.environments.spaces.actions import plain_form
from jokulmist.environments.spaces.channels import Spec
from jokulmist.environments.spaces.legal import Mask
from jokulmist.environments.transition.simulator_stepping import stepper_for
from jokulmist.environments.transition.stepping import Stepper, closed_unasked, combined, finished, never_asked
from jokulmist.environments.transition.waiting import MOST_WAITING, WaitDraw
from jokulmist.errors import BrokenEnvironment
from jokulmist.lanes.protocol import Finished, Observed, Outcome
from jokulmist.trees import filled

NEVER_CUT = np.iinfo(np.int32).max


def _frozen(array: Any) -> Any:
    """A copy that cannot be written to, as states hold them."""
    found = np.array(array)
    found.flags.writeable = False
    return found


class PlainLane:
    """N copies of an environment, stepped in Python.

    Parameters
    ----------
    environment : Environment
    noise : Noise
        Its `copies` is how many there are.
    once : bool
        Copies whose episode closed stand still instead of beginning anew; used in evaluation.
    """

    def __init__(self, environment: Environment, noise: Noise, once: bool = False) -> None:
        self.environment = environment
        self.copies = noise.copies
        self.once = once
        self.turn = 0
        self.step = stepper_for(environment)
        self.description = self.step.description
        self.varying = self.description.varying
        self.level: Any = self.varying.levels.values[0] if self.varying is not None and self.varying.levels else None
        # With parameters that differ each copy has an instance of its own.
        self.steppers = self._made_steppers()
        self._varied: list[tuple[float, ...]] = [()] * self.copies
        self._draws = {stream: PlainDraw(noise, stream) for stream in Stream}
        self._advance_draw = self._draws[Stream.ADVANCE]
        self._sense = self._draws[Stream.SENSE]
        self._terms = len(self.description.terms)
        self._overs = tuple(m.over for m in self.description.measures)
        self.end_bits = self.description.ending_bits
        self.lost_bit = self.description.lost_bit or -1
        self._marks = self.description.ending_measures
        self._marked = [False] * self.copies
        self._observation_pipeline = self.description.observation_pipeline
        self._action_pipeline = self.description.action_pipeline
        self._reward_pipeline = self.description.reward_pipeline
        self.bare = not self.description.modifiers and not self.description.bare.masked
        self._shows_more = bool(self.description.bare.images or self._observation_pipeline.modifiers)
        self._masked = self.description.bare.masked
        self.states: list[State] = []
        self.still: list[bool] = [False] * self.copies
        self._totals: list[list[float]] = []
        self._measures: list[list[float]] = []
        self._steps: list[int] = []
        self._ages: list[int] = []
        self._every = self.description.decide_every
        self._holds, self._gated = self.description.holds, self.description.gated
        self.within = 1.0  # what a reward one advance later counts within a decision
        self._lasted = [1] * self.copies
        self._memories: list[Any] = [None] * self.copies
        self._action_memories: list[Any] = [()] * self.copies
        self._reward_memories: list[Any] = [()] * self.copies
        self._learned = [0.0] * self.copies
        self.last_states: dict[int, State] = {}
        self.first_ages: list[int] | None = None  # the decision at which a copy's first episode is cut and not recorded
        self._rows: list[list[float]] = []
        self._shown: list[dict[str, Any]] = []

    def _made_steppers(self) -> list[Stepper]:
        """One a copy, where copies differ."""
        if isinstance(self.environment, Simulator):
            return [stepper_for(self.environment) for _ in range(self.copies)]
        if self.varying is not None:
            return [Stepper(revalued(self.environment)) for _ in range(self.copies)]
        return [self.step] * self.copies

    def saved(self) -> dict[str, Any]:
        """All that the copies are between two turns, as a tree of arrays and numbers."""
        fields = {
            f.name: np.stack([np.asarray(state.__dict__[f.name]) for state in self.states])
            for f in self.description.fields
        }
        return {
            "fields": fields,
            "totals": np.array(self._totals, np.float64),
            "measures": np.array(self._measures, np.float64),
            "steps": np.array(self._steps, np.int64),
            "ages": np.array(self._ages, np.int64),
            "learned": np.array(self._learned, np.float64),
            "varied": np.array(self._varied, np.float64),
            "memories": list(self._memories),
            "action_memories": list(self._action_memories),
            "reward_memories": list(self._reward_memories),
            "first_ages": np.array(self.first_ages or (), np.int64),
        }

    def restore(self, arrays: dict[str, Any], turn: int) -> None:
        """Be what `saved` told, under its paths; the lane must have begun, and its level be set."""
        self.turn = turn
        for i in range(self.copies):
            self.states[i] = self._state_from(arrays, i)
        for name in ("totals", "measures"):
            getattr(self, f"_{name}")[:] = arrays[name].tolist()
        self._steps[:], self._ages[:] = arrays["steps"].tolist(), arrays["ages"].tolist()
        self._learned[:] = arrays["learned"].tolist()
        if self.varying is not None:
            for i, values in enumerate(arrays["varied"].tolist()):
                self._varied[i] = tuple(values)
                kinds = [type(getattr(self.environment, name)) for name in self.varying.names]
                named = zip(self.varying.names, kinds, values, strict=True)
                self.steppers[i].revalue({name: kind(value) for name, kind, value in named})
        self._memories = filled(self._memories, arrays, "memories")
        self._action_memories = filled(self._action_memories, arrays, "action_memories")
        self._reward_memories = filled(self._reward_memories, arrays, "reward_memories")
        self.first_ages = arrays["first_ages"].tolist() or None

    def _state_from(self, arrays: dict[str, Any], i: int) -> State:
        values = {}
        for field in self.description.fields:
            value = arrays[f"fields/{field.name}"][i]
            values[field.name] = value.item() if field.scalar else _frozen(value)
        state = object.__new__(self.step.state_class)
        state.__dict__.update(values)
        return state

    def close(self) -> None:
        """Let go of whatever the copies hold."""
        if isinstance(self.environment, Simulator):
            for step in self.steppers:
                step.environment.close()  # type: ignore[attr-defined]

    @property
    def spec(self) -> Spec:
        return self.description.spec

    def begin(self) -> Observed:
        """Begin an episode in every copy."""
        begin, sense = self._draws[Stream.FIRST_BEGIN], self._draws[Stream.FIRST_SENSE]
        if self.varying is not None:
            for i in range(self.copies):
                self._vary(i, self._draws[Stream.FIRST_VARY].at(0, i))
        self.states = [self.steppers[i].begin(begin.at(0, i)) for i in range(self.copies)]
        self._totals = [[0.0] * self._terms for _ in range(self.copies)]
        self._measures = [[0.0] * len(self._overs) for _ in range(self.copies)]
        self._steps = [0] * self.copies
        self._ages = [0] * self.copies
        if self._gated:
            for i in range(self.copies):
                self._wait_first(i, self._draws[Stream.FIRST_WAIT].at(0, i))
        rows = [self.steppers[i].observe(state, sense.at(0, i)) for i, state in enumerate(self.states)]
        self._action_memories = [self._action_pipeline.begun(np) for _ in range(self.copies)]
        self._reward_memories = [self._reward_pipeline.begun(np) for _ in range(self.copies)]
        observed = Observed(rows, masks=self._masks())
        if self._shows_more:
            look, modifying = self._draws[Stream.FIRST_LOOK], self._draws[Stream.FIRST_OBSERVATION]
            seen = [self._first_channel_values(i, row, look.at(0, i), modifying.at(0, i)) for i, row in enumerate(rows)]
            observed.rows, observed.images = [row for row, _ in seen], [images for _, images in seen]
        return observed

    def begin_again(self) -> Observed:
        """Begin an episode in every copy in the middle of a run, with the draws of its turn."""
        observed = self.begin()
        self.turn -= 1  # the begins that ended the turn before
        observed = self._begin_anew(observed, list(range(self.copies)))
        self.turn += 1
        return observed

    def _vary(self, i: int, draw: PlainDraw) -> None:
        """Other parameters for a copy's next episode."""
        assert self.varying is not None
        values = self.varying.values(draw, self.level)
        self.steppers[i].revalue(values)
        self._varied[i] = tuple(float(values[name]) for name in self.varying.names)

    def _masks(self) -> list[Mask]:
        """What each copy may do next; checked where a choice is made of it."""
        if not self._masked:
            return []
        return [self.steppers[i].decidable(state, i) for i, state in enumerate(self.states)]

    def _first_channel_values(
        self, i: int, row: list[float], look: PlainDraw, draw: PlainDraw
    ) -> tuple[list[float], dict[str, Any]]:
        """What one copy shows through the modifiers at an episode's first moment, and the images."""
        images = self.steppers[i].look(self.states[i], look)
        if not self._observation_pipeline.modifiers:
            return row, images
        now = ChannelValues(np.array(row, np.float32), images)
        self._memories[i], seen = self._observation_pipeline.begun(np, now, Surroundings(None, 1.0, draw))
        return seen.numbers.tolist(), seen.images

    def _channel_values(self, i: int, row: list[float], action: Any) -> tuple[list[float], dict[str, Any]]:
        """The same, after an action."""
        images = self.steppers[i].look(self.states[i], self._draws[Stream.LOOK].at(self.turn, i))
        if not self._observation_pipeline.modifiers:
            return row, images
        now = ChannelValues(np.array(row, np.float32), images)
        around = Surroundings(
            action, self.description.left(self._steps[i]), self._draws[Stream.OBSERVATION].at(self.turn, i)
        )
        self._memories[i], seen = self._observation_pipeline.onward(np, self._memories[i], now, around)
        return seen.numbers.tolist(), seen.images

    def _handled(self, i: int, action: Any) -> Any:
        """What is done in a copy instead of the action that was decided."""
        draw = self._draws[Stream.ACTION].at(self.turn, i)
        self._action_memories[i], done = self._action_pipeline.acted(np, self._action_memories[i], action, draw)
        return plain_form(done)

    def _valued(self, i: int, reward: float, before: State, ended: bool) -> float:
        """The reward that is learned from."""
        memories, given = self._reward_pipeline.given(
            np, self._reward_memories[i], reward, before, self.states[i], ended
        )
        self._reward_memories[i], reward = memories, float(given)
        self._learned[i] += reward
        return reward

    def advance(self, actions: list[Any]) -> Outcome:
        """Advance every copy by its action, in own form."""
        rewards: list[float] = []
        ended: list[bool] = []
        closed: list[bool] = []
        rows: list[list[float]] = []
        done: list[Finished] = []
        if self._action_pipeline.modifiers:
            given = [a if self.still[i] else self._handled(i, a) for i, a in enumerate(actions)]
        else:
            given = actions
        self._prepare(given)
        for i, action in enumerate(given):
            if self.still[i]:
                self._stand_still(rewards, ended, closed, rows)
                continue
            before = self.states[i]
            self._marked[i] = False
            reward, held, row = self.advance_one(i, action)
            if self._reward_pipeline.modifiers and held != self.lost_bit:
                over = (held & self.end_bits) != 0 or self._marked[i]
                reward = self._valued(i, reward, before, over)
            rewards.append(reward)
            marked = bool(self._marks) and self._marked[i]
            ended.append(marked or (held & self.end_bits) != 0)
            closed.append(marked or held != 0)
            rows.append(row)
            if held:
                done.append(self.finish(i, held))
        last = Observed(rows, ages=list(self._ages if self._holds else self._steps))
        if self._shows_more:
            seen = [
                (self._rows[i], self._shown[i]) if self.still[i] else self._channel_values(i, row, actions[i])
                for i, row in enumerate(rows)
            ]
            last.rows, last.images = [row for row, _ in seen], [images for _, images in seen]
            self._rows, self._shown = last.rows, last.images
        anew = [f.copy for f in done]
        if self.first_ages is not None:
            anew = self._cut_first(self.first_ages, last.ages, closed, anew)
        if self._masked:
            last.masks = self._last_masks(anew)
        observed = self._begin_anew(last, anew) if anew else last
        self.turn += 1
        return Outcome(rewards, ended, closed, last, observed, done, advances=list(self._lasted) if self._holds else ())

    def _cut_first(self, first_ages: list[int], ages: list[int], closed: list[bool], done: list[int]) -> list[int]:
        """Cut first episodes that have reached their age; all copies that begin anew."""
        for i in done:
            first_ages[i] = NEVER_CUT
        cut = [i for i in range(self.copies) if ages[i] >= first_ages[i] and not self.still[i]]
        for i in cut:
            closed[i], first_ages[i] = True, NEVER_CUT
        if all(age == NEVER_CUT for age in first_ages):
            self.first_ages = None
        return sorted([*done, *cut])

    def _prepare(self, given: list[Any]) -> None:
        """A lane whose copies work side by side asks them all before it waits for the first."""

    def advance_one(self, i: int, action: Any) -> tuple[float, int, list[float]]:
        """One copy's decision: its reward, the closings that hold, its row. The caller counts the turn."""
        if not self._holds:
            return self._advance_once(i, action, self._advance_draw.at(self.turn, i), looks=True)
        reward, held, weight, lasted = 0.0, 0, 1.0, 0
        self._ages[i] += 1
        for j in range(self._every):
            draw = self._advance_draw.at(self.turn * self._every + j, i)
            more, held, _ = self._advance_once(i, action, draw, looks=False)
            reward += weight * more
            weight, lasted = weight * self.within, lasted + 1
            if held:
                break
        if self._gated and not held:
            more, held, waited = self._waited(i, self._draws[Stream.WAIT].at(self.turn, i))
            reward, lasted = reward + weight * more, lasted + waited
        self._lasted[i] = lasted
        return reward, held, self.steppers[i].observe(self.states[i], self._sense.at(self.turn, i))

    def _waited(self, i: int, key: PlainDraw) -> tuple[float, int, int]:
        """Advance a copy until it is asked or its episode closes: the reward, what held, and how many advances it took."""
        step, draw = self.steppers[i], None
        reward, weight = 0.0, 1.0
        for j in range(MOST_WAITING):
            if step.asks(self.states[i]):
                return reward, 0, j
            if draw is None:
                draw = WaitDraw(np, key.uniform(), key.uniform())
            more, held, _ = self._advance_once(i, self.description.meanwhile, draw.at(j), looks=False)
            reward, weight = reward + weight * more, weight * self.within
            if held:
                return reward, held, j + 1
        raise BrokenEnvironment(never_asked(self.description.name, i, self.states[i]))

    def _wait_first(self, i: int, key: PlainDraw) -> None:
        """Advance a new episode to its first decision: what that brings counts in the episode, and for no decision."""
        if self._waited(i, key)[1]:
            raise BrokenEnvironment(closed_unasked(self.description.name, i, self.states[i]))

    def _advance_once(self, i: int, action: Any, draw: Draw, looks: bool) -> tuple[float, int, list[float]]:
        """One advance, with draws that stand at it; the row is left empty where nobody looks.

        These are `Stepper`'s parts spelt out, because what is called here is called at every step.
        """
        try:
            step, before = self.steppers[i], self.states[i]
            if step.flows:
                before = before.replace(**step.flows)
            after = step.environment.advance(before, action, draw)
            self.states[i] = step.cast(after, "advance")
            steps = self._steps[i] = self._steps[i] + 1
            totals = self._totals[i]
            reward = 0.0
            k = 0
            for method, judge, weight in step.direct_terms:
                term = float(method(after) if judge is None else judge(before, action, after))
                totals[k] += term
                reward += weight * term
                k += 1
            if reward - reward != 0.0:  # infinite or not a number
                self._refuse(step.reward_terms(before, action, after), before)
            k = 0
            running = self._measures[i]
            for method, judge, over in step.direct_measures:
                value = float(method(after) if judge is None else judge(before, action, after))
                running[k] = running[k] + value if over == "sum" else combined(over, running[k], value, steps)
                if value and k in self._marks:
                    self._marked[i] = True
                k += 1
            held = 0
            for method, judge, bit in step.direct_closers:
                if method(after) if judge is None else judge(before, action, after):
                    held |= bit
            if step.deadline and steps >= step.deadline:
                held |= step.deadline_bit
            if step.time_limit and steps >= step.time_limit:
                held |= step.time_limit_bit
            if not looks:
                return reward, held, []
            return reward, held, step.observe(after, self._sense.at(self.turn, i) if step.noisy else None)
        except Exception as failure:
            self.step.failed_among(self.step.step_methods, failure)

    def finish(self, i: int, held: int) -> Finished:
        """The record of a copy's episode that closed."""
        self.last_states[i] = self.states[i]
        advances = self._steps[i]
        steps = self._ages[i] if self._holds else advances
        parts = zip(self._overs, self._measures[i], strict=True)
        measured = tuple(finished(over, value, advances) for over, value in parts)
        return Finished(i, steps, held, tuple(self._totals[i]), measured, self._varied[i], self._learned[i], advances)

    def _stand_still(
        self, rewards: list[float], ended: list[bool], closed: list[bool], rows: list[list[float]]
    ) -> None:
        rewards.append(0.0)
        ended.append(True)
        closed.append(True)
        rows.append([0.0] * self.spec.width)  # nobody looks at it any more

    def _begin_anew(self, last: Observed, copies: list[int]) -> Observed:
        if self.once:
            for i in copies:
                self.still[i] = True
            return last
        observed = Observed(list(last.rows), list(last.images), list(last.masks), list(last.ages))
        for i in copies:
            observed.rows[i] = self.begin_one(i)
            observed.ages[i] = 0
            if self._shows_more:
                look, modifying = self._draws[Stream.BEGIN_LOOK], self._draws[Stream.BEGIN_OBSERVATION]
                observed.rows[i], images = self._first_channel_values(
                    i, observed.rows[i], look.at(self.turn, i), modifying.at(self.turn, i)
                )
                observed.images[i] = images
            if self._masked:
                observed.masks[i] = self.steppers[i].decidable(self.states[i], i)
        return observed

    def _last_masks(self, closed: list[int]) -> list[Mask]:
        """What is allowed after the advance; where an episode closed nothing is decided, and nothing need be allowed."""
        masks = []
        for i, state in enumerate(self.states):
            over = i in closed or self.still[i]
            mask = self.steppers[i].legal(state) if over else self.steppers[i].decidable(state, i)
            masks.append(tuple(np.ones_like(allowed) if not allowed.any() else allowed for allowed in mask))
        return masks

    def begin_one(self, i: int) -> list[float]:
        """Begin anew in one copy; its row."""
        if self.varying is not None:
            self._vary(i, self._draws[Stream.VARY].at(self.turn, i))
        step = self.steppers[i]
        state = self.states[i] = step.begin(self._draws[Stream.BEGIN].at(self.turn, i))
        self._totals[i] = [0.0] * self._terms
        self._measures[i] = [0.0] * len(self._overs)
        self._steps[i] = self._ages[i] = 0
        self._learned[i] = 0.0
        if self._gated:
            self._wait_first(i, self._draws[Stream.BEGIN_WAIT].at(self.turn, i))
            state = self.states[i]
        if self._action_pipeline.modifiers:
            self._action_memories[i] = self._action_pipeline.begun(np)
        if self._reward_pipeline.modifiers:
            self._reward_memories[i] = self._reward_pipeline.begun(np)
        return step.observe(state, self._draws[Stream.BEGIN_SENSE].at(self.turn, i))

    def _refuse(self, terms: list[float], before: State) -> None:
        for method, term in zip(self.description.terms, terms, strict=True):
            if term - term != 0.0:
                raise BrokenEnvironment(
                    f"`{self.description.name}.{method.name}` gave {term} in the step from {before}; a reward must be "
                    f"finite. Guard the division or the logarithm that made it."
                )
