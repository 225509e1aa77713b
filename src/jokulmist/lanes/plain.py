"""Copies stepped one after another in plain Python, so that breakpoints and prints work."""

from __future__ import annotations

from typing import Any

from jokulmist.environments.channels import Spec
from jokulmist.environments.draws import PlainDraw
from jokulmist.environments.environment import Environment
from jokulmist.environments.noise import Noise, Stream
from jokulmist.environments.state import State
from jokulmist.environments.stepping import Stepper, combined, finished
from jokulmist.errors import BrokenEnvironment
from jokulmist.lanes.protocol import Finished, Observed, Outcome


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
        self.step = Stepper(environment)
        self.description = self.step.description
        self._draws = {stream: PlainDraw(noise, stream) for stream in Stream}
        self._terms = len(self.description.terms)
        self._overs = tuple(m.over for m in self.description.measures)
        self._end_bits = (1 << self.description.true_ends) - 1
        self._has_images = bool(self.description.spec.images)
        self.states: list[State] = []
        self.still: list[bool] = [False] * self.copies
        self._totals: list[list[float]] = []
        self._measures: list[list[float]] = []
        self._steps: list[int] = []

    @property
    def spec(self) -> Spec:
        return self.description.spec

    def begin(self) -> Observed:
        """Begin an episode in every copy."""
        begin, sense = self._draws[Stream.FIRST_BEGIN], self._draws[Stream.FIRST_SENSE]
        self.states = [self.step.begin(begin.at(0, i)) for i in range(self.copies)]
        self._totals = [[0.0] * self._terms for _ in range(self.copies)]
        self._measures = [[0.0] * len(self._overs) for _ in range(self.copies)]
        self._steps = [0] * self.copies
        rows = [self.step.observe(state, sense.at(0, i)) for i, state in enumerate(self.states)]
        return Observed(rows, self._images(sense))

    def _images(self, sense: PlainDraw) -> list[dict[str, Any]]:
        # Images draw after the numbers of the same copy, so the draw is not moved back to its beginning.
        if not self._has_images:
            return []
        return [self.step.look(state, sense) for state in self.states]

    def advance(self, actions: list[Any]) -> Outcome:
        """Advance every copy by its action, in own form."""
        step, turn, states = self.step, self.turn, self.states
        flows, weights, end_bits = step.flows, step.weights, self._end_bits
        draw, sense = self._draws[Stream.ADVANCE], self._draws[Stream.SENSE]
        rewards: list[float] = []
        ended: list[bool] = []
        closed: list[bool] = []
        rows: list[list[float]] = []
        done: list[Finished] = []
        for i in range(self.copies):
            if self.still[i]:
                self._stand_still(rewards, ended, closed, rows)
                continue
            before = states[i]
            if flows:
                before = before.replace(**flows)
            action = actions[i]
            after = step.advance(before, action, draw.at(turn, i))
            terms = step.reward_terms(before, action, after)
            steps = self._steps[i] = self._steps[i] + 1
            totals = self._totals[i]
            reward = 0.0
            for k, term in enumerate(terms):
                totals[k] += term
                reward += weights[k] * term
            if reward - reward != 0.0:  # infinite or not a number
                self._refuse(terms, before)
            if self._overs:
                running = self._measures[i]
                for k, value in enumerate(step.measured(before, action, after)):
                    running[k] = combined(self._overs[k], running[k], value, steps)
            held = step.held(before, action, after, steps)
            states[i] = after
            rewards.append(reward)
            ended.append((held & end_bits) != 0)
            closed.append(held != 0)
            rows.append(step.observe(after, sense.at(turn, i)))
            if held:
                measured = tuple(
                    finished(over, value, steps) for over, value in zip(self._overs, self._measures[i], strict=True)
                )
                done.append(Finished(i, steps, held, tuple(totals), measured))
        last = Observed(rows, self._images(sense))
        observed = self._begin_anew(last, [f.copy for f in done]) if done else last
        self.turn = turn + 1
        return Outcome(rewards, ended, closed, last, observed, done)

    def _stand_still(
        self, rewards: list[float], ended: list[bool], closed: list[bool], rows: list[list[float]]
    ) -> None:
        rewards.append(0.0)
        ended.append(True)
        closed.append(True)
        rows.append([0.0] * self.spec.width)

    def _begin_anew(self, last: Observed, copies: list[int]) -> Observed:
        if self.once:
            for i in copies:
                self.still[i] = True
            return last
        begin, sense = self._draws[Stream.BEGIN], self._draws[Stream.BEGIN_SENSE]
        rows, images = list(last.rows), list(last.images)
        for i in copies:
            state = self.states[i] = self.step.begin(begin.at(self.turn, i))
            rows[i] = self.step.observe(state, sense.at(self.turn, i))
            if self._has_images:
                images[i] = self.step.look(state, sense)
            self._totals[i] = [0.0] * self._terms
            self._measures[i] = [0.0] * len(self._overs)
            self._steps[i] = 0
        return Observed(rows, images)

    def _refuse(self, terms: list[float], before: State) -> None:
        for method, term in zip(self.description.terms, terms, strict=True):
            if term - term != 0.0:
                raise BrokenEnvironment(
                    f"`{self.description.name}.{method.name}` gave {term} in the step from {before}; a reward must be "
                    f"finite. Guard the division or the logarithm that made it."
                )
