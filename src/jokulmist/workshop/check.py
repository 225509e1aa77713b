"""Looks for the mistakes that people make in an environment, and says how to mend each.

Random play on a plain lane finds them: ranges against declared bounds, rewards that are not finite, the same step taken
twice with the same draws, endings that never come. What cannot be found by playing (whether the class compiles, and how
fast it runs each way) is asked of the lanes.
"""

from __future__ import annotations

import inspect
import math
import time
from dataclasses import asdict, dataclass, field
from typing import Any, Literal

import numpy as np

from jokulmist.agents.random_play import RandomPlay
from jokulmist.environments.draws import PlainDraw
from jokulmist.environments.environment import Environment, describe
from jokulmist.environments.noise import Domain, Noise, Stream
from jokulmist.environments.state import State
from jokulmist.environments.stepping import Stepper
from jokulmist.errors import BrokenEnvironment, SettingError
from jokulmist.lanes.finding import find
from jokulmist.training.evaluation import RANDOM, Evaluation, evaluate, sees_more
from jokulmist.training.loop import Planned
from jokulmist.training.plain_loop import PlainLoop

Level = Literal["wrong", "doubtful"]
STEPS = 3000
LEVEL_EPISODES = 50
SPEED_SECONDS = 0.3
LONGEST = 20_000


@dataclass(frozen=True)
class Finding:
    """One mistake: how bad, what, where, why it hurts and how to mend it."""

    level: Level
    what: str
    where: str
    why: str
    mend: str


@dataclass
class Reach:
    """What a channel or a reward term was seen to do under random play."""

    name: str
    declared: str
    least: float = math.inf
    most: float = -math.inf
    mean: float = 0.0
    outside: int = 0


@dataclass
class Report:
    """What `check` found.

    Attributes
    ----------
    findings : list of Finding
    channels, terms : list of Reach
    closed_by : dict of str to int
        How the episodes of random play closed.
    levels : dict of str to Evaluation
        Random play and the references.
    compiles : bool
    why_plain : str
    speeds : dict of str to float
        Steps per second under random play, by lane.
    """

    name: str
    findings: list[Finding] = field(default_factory=list)
    steps: int = 0
    channels: list[Reach] = field(default_factory=list)
    terms: list[Reach] = field(default_factory=list)
    closed_by: dict[str, int] = field(default_factory=dict)
    levels: dict[str, Evaluation] = field(default_factory=dict)
    sees_more: dict[str, bool] = field(default_factory=dict)
    compiles: bool = False
    why_plain: str = ""
    speeds: dict[str, float] = field(default_factory=dict)

    @property
    def ok(self) -> bool:
        """Whether nothing is wrong; doubtful findings are allowed."""
        return not any(f.level == "wrong" for f in self.findings)

    def as_json(self) -> dict[str, Any]:
        return {
            "environment": self.name,
            "ok": self.ok,
            "findings": [asdict(f) for f in self.findings],
            "steps": self.steps,
            "channels": [asdict(c) for c in self.channels],
            "terms": [asdict(t) for t in self.terms],
            "closed_by": self.closed_by,
            "levels": {
                name: {
                    "mean": e.mean,
                    "sd": e.sd,
                    "interval": list(e.interval),
                    "sees_more": self.sees_more.get(name, False),
                }
                for name, e in self.levels.items()
            },
            "compiles": self.compiles,
            "why_plain": self.why_plain,
            "steps_per_second": self.speeds,
        }

    def __str__(self) -> str:
        from jokulmist.workshop.shown import text_of

        return text_of(self)

    __repr__ = __str__


def check(environment: Environment, *, steps: int = STEPS, speed: bool = True) -> Report:
    """Look for mistakes in an environment under random play.

    Parameters
    ----------
    environment : Environment
    steps : int
        Advances of random play.
    speed : bool
        Whether to measure how fast it runs each way.

    Returns
    -------
    Report
        Printing it shows the findings and a table of what was seen.

    Examples
    --------
    >>> import jokulmist as jm
    >>> jm.check(jm.gallery.Ferry(), steps=300, speed=False).ok
    True
    """
    if not isinstance(environment, Environment):
        raise SettingError(f"`check` takes an environment, e.g. `jm.check(Tarn())`; got {environment!r}.")
    if isinstance(steps, bool) or not isinstance(steps, int) or steps < 10:
        raise SettingError(f"`steps` must be a whole number of at least 10; got {steps!r}.")
    report = Report(describe(environment).name)
    try:
        _Play(environment, report).play(steps)
        if report.closed_by:
            names = [RANDOM, *describe(environment).outline.references]
            report.levels = {n: evaluate(n, environment, episodes=LEVEL_EPISODES) for n in names}
            report.sees_more = {n: sees_more(environment, n) for n in names[1:]}
    except BrokenEnvironment as failure:
        report.findings.append(
            Finding("wrong", str(failure), "", "Nothing can be trained until it runs.", "Mend the line that is named.")
        )
        return report
    finding = find(environment)
    report.compiles, report.why_plain = finding.compiles, finding.why
    if speed and report.ok:
        report.speeds = _speeds(environment, report.compiles)
    return report


class _Play:
    """Random play with every look that a step allows."""

    def __init__(self, environment: Environment, report: Report) -> None:
        self.environment, self.report = environment, report
        self.description = describe(environment)
        self.step = Stepper(environment)
        noise = Noise(1, 1, Domain.CHECK)
        self.draws = {stream: PlainDraw(noise, stream) for stream in Stream}
        self.told: set[str] = set()
        self.looks: dict[str, Any] = {}
        self.moved: set[str] = set()
        spec = self.description.bare
        for c in spec.numbers:
            bounds = f"{c.low:g} to {c.high:g}" if c.bounded else "no bounds"
            report.channels.append(Reach(c.name, f"{bounds} {c.unit}".strip()))
        for term, weight in zip(self.description.terms, self.description.weights, strict=True):
            report.terms.append(Reach(term.name, f"weight {weight:g}"))

    def find(self, level: Level, key: str, what: str, method: str, why: str, mend: str) -> None:
        """Add a finding, once a key."""
        if key not in self.told:
            self.told.add(key)
            self.report.findings.append(Finding(level, what, self.place(method), why, mend))

    def place(self, method: str) -> str:
        """File and line of a method of the class."""
        part = inspect.getattr_static(type(self.environment), method, None)
        function = getattr(part, "function", part)
        try:
            lines = inspect.getsourcelines(function)[1]
            file = inspect.getsourcefile(function) or ""
        except (OSError, TypeError):
            return method
        return f"{method} ({file.rpartition('/')[2]}:{lines})"

    def play(self, steps: int) -> None:
        action_of = self.description.action
        state = self._begin(0)
        advances = longest = 0
        for turn in range(steps):
            action = action_of.random(self.draws[Stream.PLAY].at(turn, 0), self.step.decidable(state) or None)
            advances += 1
            longest = max(longest, advances)
            before = self.step.cleared(state)
            after = self.step.advance(before, action, self.draws[Stream.ADVANCE].at(turn, 0))
            self._same_again(before, action, after, turn)
            self._rewards(before, action, after)
            held = self._closings(before, action, after, advances)
            self.step.measured(before, action, after)
            self._observe(after, turn)
            state = after
            if held:
                name = self.description.held_names(held)[0]
                self.report.closed_by[name] = self.report.closed_by.get(name, 0) + 1
                state, advances = self._begin(turn + 1), 0
        self.report.steps = steps
        self._after_all(steps, state, advances)

    def _begin(self, turn: int) -> State:
        state = self.step.begin(self.draws[Stream.BEGIN].at(turn, 0))
        if turn < 5:
            again = self.step.begin(self.draws[Stream.BEGIN].at(turn, 0))
            self._compare(state, again, "begin")
        self._observe(state, turn, stream=Stream.BEGIN_SENSE)
        return state

    def _same_again(self, before: State, action: Any, after: State, turn: int) -> None:
        if turn < 50:
            again = self.step.advance(before, action, self.draws[Stream.ADVANCE].at(turn, 0))
            self._compare(after, again, "advance")

    def _compare(self, first: State, second: State, method: str) -> None:
        for name, value in first.__dict__.items():
            if not np.array_equal(value, second.__dict__[name], equal_nan=True):
                self.find(
                    "wrong",
                    f"chance:{method}",
                    f"`{method}` gave `{name}` two values, {value!r} and {second.__dict__[name]!r}, from the same state, "
                    f"action and draws.",
                    method,
                    "A run could not be repeated, resumed or compiled.",
                    "Take all chance from `draw` (e.g. `draw.normal(0, 1)`), none from `random` or `numpy.random`, and "
                    "change nothing outside the state.",
                )
                return

    def _rewards(self, before: State, action: Any, after: State) -> None:
        for reach, term in zip(self.report.terms, self.step.reward_terms(before, action, after), strict=True):
            if not math.isfinite(term):
                self.find(
                    "wrong",
                    f"finite:{reach.name}",
                    f"reward term `{reach.name}` was {term} in the step from {before} to {after}.",
                    reach.name,
                    "One such reward destroys everything that was learned.",
                    "Guard the division or the logarithm, e.g. `xp.maximum(value, 1e-6)`.",
                )
                continue
            reach.least, reach.most = min(reach.least, term), max(reach.most, term)
            reach.mean += term

    def _closings(self, before: State, action: Any, after: State, advances: int) -> int:
        outline = self.description.outline
        for method in (*outline.endings, *outline.cuts):
            given = {"before": before, "action": action, "after": after}
            flag = getattr(self.environment, method.name)(*[given[n] for n in method.takes])
            if not isinstance(flag, (bool, np.bool_)):
                self.find(
                    "wrong",
                    f"flag:{method.name}",
                    f"`{method.name}` gave {flag!r} ({type(flag).__name__}), which is no truth value.",
                    method.name,
                    "Any number but 0 would count as an end.",
                    "Return a comparison, e.g. `after.level > 3.0`.",
                )
        return self.step.held(before, action, after, advances)

    def _observe(self, state: State, turn: int, stream: Stream = Stream.SENSE) -> None:
        row = self.step.observe(state, self.draws[stream].at(turn, 0))
        look = Stream.LOOK if stream is Stream.SENSE else Stream.BEGIN_LOOK
        for name, image in self.step.look(state, self.draws[look].at(turn, 0)).items():
            first = self.looks.setdefault(name, image)
            if not np.array_equal(first, image):
                self.moved.add(name)
        spec = self.description.bare
        for reach, channel in zip(self.report.channels, spec.numbers, strict=True):
            values = np.asarray(row[spec.slices[channel.name]], float)
            method = channel.name if channel.computed else "advance"
            if not np.isfinite(values).all():
                self.find(
                    "wrong", f"nan:{channel.name}", f"channel `{channel.name}` was {values} in {state}.", method,
                    "What is not a number cannot be learned from.", "Guard the division or the logarithm that made it.",
                )  # fmt: skip
                continue
            reach.least = min(reach.least, float(values.min()))
            reach.most = max(reach.most, float(values.max()))
            slack = 1e-5 * (channel.high - channel.low) if channel.bounded else 0.0
            if values.min() < channel.low - slack or values.max() > channel.high + slack:
                reach.outside += 1

    def _after_all(self, steps: int, state: State, advances: int) -> None:
        report, description = self.report, self.description
        for reach in report.terms:
            reach.mean /= steps
        for reach, channel in zip(report.channels, description.bare.numbers, strict=True):
            if reach.outside:
                self.find(
                    "wrong",
                    f"bounds:{reach.name}",
                    f"channel `{reach.name}` ranged from {reach.least:.4g} to {reach.most:.4g}, outside its bounds "
                    f"{channel.low:g} to {channel.high:g}, in {reach.outside} of {steps} steps.",
                    reach.name if channel.computed else "advance",
                    "Tables clip it into the last bin, and networks meet inputs beyond their scale.",
                    f"Declare `low={math.floor(reach.least)}, high={math.ceil(reach.most)}`, or keep the value inside, "
                    f"e.g. `xp.clip(value, {channel.low:g}, {channel.high:g})`.",
                )
            elif reach.least == reach.most:
                self.find(
                    "doubtful",
                    f"still:{reach.name}",
                    f"channel `{reach.name}` was {reach.least:.4g} in every one of {steps} steps.",
                    reach.name if channel.computed else "advance",
                    "The agent cannot learn anything from it.",
                    "Check that `advance` changes what it is made of, or leave it out.",
                )
        for name in self.looks.keys() - self.moved:
            self.find(
                "doubtful", f"still:{name}", f"image `{name}` was the same in every one of {steps} steps.", name,
                "The agent cannot learn anything from it.", "Check what it is drawn from, or leave it out.",
            )  # fmt: skip
        if not report.closed_by:
            self._never_closed(state, advances)

    def _never_closed(self, state: State, advances: int) -> None:
        """No episode closed: play on for a while, and say so if none does."""
        turn, action_of = self.report.steps, self.description.action
        while advances < LONGEST:
            action = action_of.random(self.draws[Stream.PLAY].at(turn, 0), self.step.decidable(state) or None)
            advances += 1
            before = self.step.cleared(state)
            state = self.step.advance(before, action, self.draws[Stream.ADVANCE].at(turn, 0))
            held = self.step.held(before, action, state, advances)
            turn += 1
            if held:
                self.report.closed_by[self.description.held_names(held)[0]] = 1
                return
        closings = self.description.closings
        told = f"none of `{'`, `'.join(closings)}` was reached" if closings else "it declares no ending, cut or limit"
        self.find(
            "wrong",
            "endless",
            f"no episode closed in {advances:,} steps of random play: {told}.",
            "advance",
            "An episode that never closes is never recorded, and an ending that cannot be reached teaches nothing.",
            "Declare `time_limit = 1000` (a cut) or `deadline = 1000` (a true end), and look at the comparison in the ending.",
        )


def _speeds(environment: Environment, compiles: bool) -> dict[str, float]:
    """Steps per second of random play on each lane, without what starting costs."""
    planned = Planned(steps=1 << 40)
    loop: Any = PlainLoop(environment, RandomPlay(), 0, 1, planned)
    found = {"plain, 1 copy": _speed(loop, 100)}
    if compiles:
        from jokulmist.training.compiled_loop import CompiledLoop

        for copies in (1, 64):
            loop = CompiledLoop(environment, RandomPlay(), 0, copies, planned)
            word = "copy" if copies == 1 else "copies"
            found[f"compiled, {copies} {word}"] = _speed(loop, 512)
    return found


def _speed(loop: Any, turns: int) -> float:
    loop.advance(turns)
    began, first = time.perf_counter(), loop.decisions
    while True:
        loop.advance(turns)
        taken = time.perf_counter() - began
        if taken > SPEED_SECONDS:
            return float((loop.decisions - first) / taken)
        turns = min(2 * turns, loop.most_turns)
