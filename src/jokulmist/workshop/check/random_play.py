"""Random play with every look that a step allows: what can be found wrong by playing."""

from __future__ import annotations

import ast
import inspect
import math
import textwrap
from typing import Any, NamedTuple

import numpy as np

from jokulmist.environments.chance.draws import PlainDraw
from jokulmist.environments.chance.noise import Domain, Noise, Stream
from jokulmist.environments.declaration.instance import describe
from jokulmist.environments.declaration.state import State
from jokulmist.environments.environment import Environment
from jokulmist.environments.transition.stepping import Stepper
from jokulmist.errors import BrokenEnvironment
from jokulmist.workshop.check.report import CheckReport, Finding, Level, Reach

LONGEST = 20_000
MOST_TRANSITIONS = 200
COMPARED_BEGINS = 10
# Beyond a bound: a share of its width that is little, a share of the steps that is seldom; and what bounds may leave
# out at each end.
A_LITTLE, SELDOM, RARE = 0.15, 0.05, 0.005


class PlayedTransition(NamedTuple):
    """One advance: `advances` counts from the episode's beginning, `turn` is where its draws stand."""

    before: State
    action: Any
    after: State
    advances: int
    turn: int


class RandomPlayTrial:
    """Random play with every look that a step allows."""

    def __init__(self, environment: Environment, report: CheckReport) -> None:
        self.environment, self.report = environment, report
        self.description = describe(environment)
        self.step = Stepper(environment)
        noise = Noise(1, 1, Domain.CHECK)
        self.draws = {stream: PlainDraw(noise, stream) for stream in Stream}
        self.reported: set[str] = set()
        self.looks: dict[str, Any] = {}
        self.moved: set[str] = set()
        self.initial_attributes = self._snapshot()
        self.episodes_begun = 0
        self.satisfied = 0  # every closing that held, also beside another
        # What random play leaves behind: transitions, and the rows, terms and advances of every step, episode by
        # episode.
        self.transitions: list[PlayedTransition] = []
        self.rows: list[list[float]] = []
        self.amounts: list[list[float]] = []
        self.advances: list[int] = []
        self.episodes: list[tuple[int, str]] = []
        spec = self.description.bare
        for c in spec.numbers:
            bounds = f"{c.low:g} to {c.high:g}" if c.bounded else "no bounds"
            report.channels.append(Reach(c.name, f"{bounds} {c.unit}".strip()))
        for term, weight in zip(self.description.terms, self.description.own_weights, strict=True):
            report.terms.append(Reach(term.name, f"weight {weight:g}"))

    def find(self, level: Level, key: str, text: str, method: str, why: str, fix: str) -> None:
        """Add a finding, once a key."""
        if key not in self.reported:
            self.reported.add(key)
            self.report.findings.append(Finding(level, text, self.place(method), why, fix))

    def place(self, method: str) -> str:
        """File and line of a method of the class."""
        part = inspect.getattr_static(type(self.environment), method, None)
        function = inspect.unwrap(getattr(part, "function", part))
        try:
            lines = inspect.getsourcelines(function)[1]
            file = inspect.getsourcefile(function) or ""
        except (OSError, TypeError):
            return method
        return f"{method} ({file.rpartition('/')[2]}:{lines})"

    def line_of_invert(self, method: str) -> int | None:
        """The first line of a method, or of any other of the class, that has a `~`."""
        for name in (method, *vars(type(self.environment))):
            part = inspect.getattr_static(type(self.environment), name, None)
            function = inspect.unwrap(getattr(part, "function", part)) if part is not None else None
            try:
                lines, first = inspect.getsourcelines(function)  # type: ignore[arg-type]
                tree = ast.parse(textwrap.dedent("".join(lines)))
            except (OSError, TypeError, SyntaxError):
                continue
            inverts = [n.lineno for n in ast.walk(tree) if isinstance(n, ast.UnaryOp) and isinstance(n.op, ast.Invert)]
            if inverts:
                return first + min(inverts) - 1
        return None

    def play(self, steps: int) -> None:
        action_of = self.description.action
        state = self._begin(0)
        advances = longest = 0
        for turn in range(steps):
            action = action_of.random(self.draws[Stream.PLAY].for_step(turn, 0), self.step.decidable(state) or None)
            advances += 1
            longest = max(longest, advances)
            before = self.step.cleared(state)
            after = self.step.advance(before, action, self.draws[Stream.ADVANCE].for_step(turn, 0))
            self._same_again(before, action, after, turn)
            self._rewards(before, action, after)
            satisfied = self._closings(before, action, after, advances)
            self.satisfied |= satisfied
            self.step.measured(before, action, after)
            self._observe(after, turn)
            self._unchanged()
            if len(self.transitions) < MOST_TRANSITIONS:
                self.transitions.append(PlayedTransition(before, action, after, advances, turn))
            self.rows.append(self.row)
            self.advances.append(advances)
            state = after
            if satisfied:
                name = self.description.held_names(satisfied)[0]
                self.episodes.append((advances, name))
                self.report.closed_by[name] = self.report.closed_by.get(name, 0) + 1
                state, advances = self._begin(turn + 1), 0
        self.report.steps = steps
        self._after_all(steps, state, advances)

    def _snapshot(self) -> dict[str, str]:
        """What can be changed behind the state's back: lists, dicts, sets and arrays on the instance and its class.

        A series cannot be written to, and printing one at every step would cost more than the step.
        """
        attributes = {**vars(type(self.environment)), **vars(self.environment)}
        return {name: repr(value) for name, value in attributes.items() if name[:1] != "_" and _changeable(value)}

    def _unchanged(self) -> None:
        for name, value in self._snapshot().items():
            if value != self.initial_attributes.get(name, value):
                self.find(
                    "error",
                    f"changed:{name}",
                    f"`self.{name}` was changed while the environment ran: {self.initial_attributes[name][:60]} "
                    f"became {value[:60]}.",
                    "advance",
                    "Copies share the instance, and an episode that is rewound or resumed would not find it as it was.",
                    f"Make it a field of `State`, and return `state.replace({name}=...)`.",
                )
                self.initial_attributes[name] = value

    def _begin(self, turn: int) -> State:
        state = self.step.begin(self.draws[Stream.BEGIN].for_step(turn, 0))
        self.episodes_begun += 1
        if self.episodes_begun <= COMPARED_BEGINS:
            repeated = self.step.begin(self.draws[Stream.BEGIN].for_step(turn, 0))
            self._compare(state, repeated, "begin")
        self._observe(state, turn, stream=Stream.BEGIN_SENSE)
        return state

    def _same_again(self, before: State, action: Any, after: State, turn: int) -> None:
        if turn < 50:
            repeated = self.step.advance(before, action, self.draws[Stream.ADVANCE].for_step(turn, 0))
            self._compare(after, repeated, "advance")

    def _compare(self, first: State, second: State, method: str) -> None:
        for name, value in first.__dict__.items():
            if not np.array_equal(value, second.__dict__[name], equal_nan=True):
                self.find(
                    "error",
                    f"chance:{method}",
                    f"`{method}` gave `{name}` two values, {value!r} and {second.__dict__[name]!r}, from the same "
                    "state, action and draws.",
                    method,
                    "A run could not be repeated, resumed or compiled.",
                    "Take all chance from `draw` (e.g. `draw.normal(0, 1)`), none from `random` or `numpy.random`, and "
                    "change nothing outside the state.",
                )
                return

    def _rewards(self, before: State, action: Any, after: State) -> None:
        amounts = self.step.reward_terms(before, action, after)
        self.amounts.append(amounts)
        for reach, term in zip(self.report.terms, amounts, strict=True):
            if not math.isfinite(term):
                self.find(
                    "error",
                    f"finite:{reach.name}",
                    f"reward term `{reach.name}` was {term} in the step from {before} to {after}.",
                    reach.name,
                    "One such reward destroys everything that was learned.",
                    "Guard the division or the logarithm, e.g. `xp.maximum(value, 1e-6)`.",
                )
                continue
            reach.least, reach.most = min(reach.least, term), max(reach.most, term)
            reach.total, reach.count = reach.total + term, reach.count + 1

    def _closings(self, before: State, action: Any, after: State, advances: int) -> int:
        outline = self.description.outline
        for method in (*outline.endings, *outline.cuts):
            arguments = {"before": before, "action": action, "after": after}
            try:
                flag = getattr(self.environment, method.name)(*[arguments[n] for n in method.takes])
            except Exception as failure:
                self.step.failed(method.name, failure)
            if not isinstance(flag, (bool, np.bool_)):
                self.find(
                    "error",
                    f"flag:{method.name}",
                    f"`{method.name}` gave {flag!r} ({type(flag).__name__}), which is no truth value.",
                    method.name,
                    "Any number but 0 would count as an end.",
                    "Return a comparison, e.g. `after.level > 3.0`.",
                )
        return self.step.satisfied(before, action, after, advances)

    def _observe(self, state: State, turn: int, stream: Stream = Stream.SENSE) -> None:
        row = self.row = self._numbers(self.step.observe(state, self.draws[stream].for_step(turn, 0)))
        look = Stream.LOOK if stream is Stream.SENSE else Stream.BEGIN_LOOK
        for name, image in self.step.look(state, self.draws[look].for_step(turn, 0)).items():
            first = self.looks.setdefault(name, image)
            if not np.array_equal(first, image):
                self.moved.add(name)
        spec = self.description.bare
        for reach, channel in zip(self.report.channels, spec.numbers, strict=True):
            values = np.asarray(row[spec.slices[channel.name]], float)
            method = channel.name if channel.computed else "advance"
            if not np.isfinite(values).all():
                self.find(
                    "error",
                    f"nan:{channel.name}",
                    f"channel `{channel.name}` was {values} in {state}.",
                    method,
                    "What is not a number cannot be learned from.",
                    "Guard the division or the logarithm that made it.",
                )
                continue
            reach.least = min(reach.least, float(values.min()))
            reach.most = max(reach.most, float(values.max()))
            slack = 1e-5 * (channel.high - channel.low) if channel.bounded else 0.0
            if values.min() < channel.low - slack or values.max() > channel.high + slack:
                reach.outside += 1

    def _numbers(self, row: list[Any]) -> list[float]:
        """A row, if each of its entries is a number; a sensor of one number may give an array of one, too."""
        spec = self.description.bare
        for name, columns in spec.slices.items():
            for k in range(columns.start, columns.stop):
                try:
                    row[k] = float(row[k])
                except (TypeError, ValueError):
                    raise BrokenEnvironment(
                        f"`{self.description.name}.{self.place(name)}` gave {row[k]!r:.80}; it must give one number."
                    ) from None
        return row

    def _after_all(self, steps: int, state: State, advances: int) -> None:
        report, description = self.report, self.description
        for reach, channel in zip(report.channels, description.bare.numbers, strict=True):
            if reach.outside:
                self._outside(reach, channel)
            elif reach.least == reach.most:
                self.find(
                    "warning",
                    f"still:{reach.name}",
                    f"channel `{reach.name}` was {reach.least:.4g} in every one of {steps} steps.",
                    reach.name if channel.computed else "advance",
                    "The agent cannot learn anything from it.",
                    "Check that `advance` changes what it is made of, or leave it out.",
                )
        for name in self.looks.keys() - self.moved:
            self.find(
                "warning",
                f"still:{name}",
                f"image `{name}` was the same in every one of {steps} steps.",
                name,
                "The agent cannot learn anything from it.",
                "Check what it is drawn from, or leave it out.",
            )
        if not report.closed_by:
            self._never_closed(state, advances)

    def _outside(self, reach: Reach, channel: Any) -> None:
        """A channel left its bounds: far or often is an error; now and then a little, as in a fall that ends an
        episode, is a warning."""
        columns = self.description.bare.slices[channel.name]
        values = np.asarray(self.rows, float)[:, columns]
        beyond = max(channel.low - reach.least, reach.most - channel.high) / (channel.high - channel.low)
        little = beyond <= A_LITTLE and reach.outside <= SELDOM * len(values)
        low, high = (
            _outward(q, up) for q, up in zip(np.quantile(values, (RARE, 1.0 - RARE)), (False, True), strict=True)
        )
        low, high = min(channel.low, low), max(channel.high, high)
        advice = f"keep the value inside, e.g. `xp.clip(value, {channel.low:g}, {channel.high:g})`"
        wider = f"declare `low={low:g}, high={high:g}`, where {1.0 - 2.0 * RARE:.0%} of what was met lies"
        fix = f"{wider}, or {advice}" if (low, high) != (channel.low, channel.high) else advice
        if little:
            fix = f"Leave it, if nothing is to be told apart beyond the bounds; or {fix}"
        self.find(
            "warning" if little else "error",
            f"bounds:{reach.name}",
            f"channel `{reach.name}` ranged from {reach.least:.4g} to {reach.most:.4g}, outside its bounds "
            f"{channel.low:g} to {channel.high:g}, in {reach.outside} of {self.report.steps} steps.",
            reach.name if channel.computed else "advance",
            "Tables clip it into the last bin, and networks meet inputs beyond their scale.",
            f"{fix[0].upper()}{fix[1:]}.",
        )

    def _never_closed(self, state: State, advances: int) -> None:
        """No episode closed: play on for a while, and say so if none does."""
        turn, action_of = self.report.steps, self.description.action
        while advances < LONGEST:
            action = action_of.random(self.draws[Stream.PLAY].for_step(turn, 0), self.step.decidable(state) or None)
            advances += 1
            before = self.step.cleared(state)
            state = self.step.advance(before, action, self.draws[Stream.ADVANCE].for_step(turn, 0))
            satisfied = self.step.satisfied(before, action, state, advances)
            turn += 1
            if satisfied:
                self.report.closed_by[self.description.held_names(satisfied)[0]] = 1
                return
        closings = self.description.closings
        reason = f"none of `{'`, `'.join(closings)}` was reached" if closings else "it declares no ending, cut or limit"
        self.find(
            "error",
            "endless",
            f"no episode closed in {advances:,} steps of random play: {reason}.",
            "advance",
            "An episode that never closes is never recorded, and an ending that cannot be reached teaches nothing.",
            "Declare `time_limit = 1000` (a cut) or `deadline = 1000` (a true end), and look at the comparison in "
            "the ending.",
        )


def _outward(value: float, up: bool) -> float:
    """A number rounded away from the others, to two figures."""
    if value == 0.0:
        return 0.0
    unit = 10.0 ** (math.floor(math.log10(abs(value))) - 1)
    return float(f"{(math.ceil if up else math.floor)(value / unit) * unit:.6g}")


def _changeable(value: Any) -> bool:
    return isinstance(value, (list, dict, set)) or (isinstance(value, np.ndarray) and value.flags.writeable)
