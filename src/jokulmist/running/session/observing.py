"""What happens while a session drives its loop: observers, each with turns of its own that the plan fixes, and a state
that is saved."""

from __future__ import annotations

import sys
import time
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from jokulmist.loops.contract import Loop, Planned
from jokulmist.plans.observers import LiveRun, Observers
from jokulmist.plans.progress import RunProgress
from jokulmist.records.episodes import Episodes
from jokulmist.running.session.curriculum_progress import CurriculumProgress
from jokulmist.running.session.machine import Machine
from jokulmist.running.session.progress import SessionProgress

REPORTS = 200
DECISIONS_A_LOOK = 1_000
FIRST_SECONDS, LEAST_PART = 5.0, 30.0


@dataclass(frozen=True)
class Cadence:
    """Turns of decisions: all copies decide once in a turn, and a session stops only where an update is whole."""

    copies: int
    turns_per_update: int

    def turns(self, decisions: int) -> int:
        """So many decisions as turns, rounded up to whole updates."""
        turns_needed = -(-decisions // self.copies)
        return -(-turns_needed // self.turns_per_update) * self.turns_per_update


@dataclass(frozen=True)
class Border:
    """Where a session stops to look.

    Attributes
    ----------
    loop : Loop
    progress : RunProgress
    seconds : float
        The clock, s.
    last : bool
        Whether the run ends here, as planned or by what an observer said.
    reported : bool
        Whether a report was made here.
    """

    loop: Loop
    progress: RunProgress
    seconds: float
    last: bool
    reported: bool = False


class SessionObserver:
    """Looks at a run at turns that its plan fixes."""

    every: int | None = None
    """Turns between two looks; None where it stops nothing, and looks whenever the session has stopped."""

    def next_turn(self, turn: int) -> int:
        """The next turn after `turn` at which the session must stop."""
        return sys.maxsize if self.every is None else (turn // self.every + 1) * self.every

    def is_due(self, border: Border) -> bool:
        """Whether it looks here."""
        return self.every is None or border.loop.turn % self.every == 0

    def take(self, batch: Episodes, columns: dict[str, Any]) -> None:
        """Take finished episodes: all of them, and as columns those that were not lost."""

    def look(self, border: Border) -> str | None:
        """Look; a text ends the run, and is kept as the reason."""
        return None

    def saved(self) -> Any:
        """What it must know to go on, as JSON holds it."""
        return None

    def restore(self, saved: Any) -> None:
        """Be what `saved` told."""


class LevelMoves(SessionObserver):
    """Moves the level of a curriculum."""

    def __init__(
        self, curriculum: CurriculumProgress, progress: SessionProgress, planned: Planned, cadence: Cadence
    ) -> None:
        self._curriculum, self._progress = curriculum, progress
        usual = max(1, planned.steps // REPORTS) if planned.steps is not None else DECISIONS_A_LOOK
        self.every = cadence.turns(curriculum.levels.every or usual)

    def take(self, batch: Episodes, columns: dict[str, Any]) -> None:
        self._curriculum.take(columns)

    def look(self, border: Border) -> str | None:
        if self.is_due(border) and self._curriculum.moved():
            border.loop.set_level(self._curriculum.value)
            self._progress.announce(f"after {border.loop.decisions:,} decisions {self._curriculum}")
        return None

    def saved(self) -> Any:
        return self._curriculum.saved()

    def restore(self, saved: Any) -> None:
        self._curriculum.restore(saved)


class Evaluations(SessionObserver):
    """Evaluates what was learned so far."""

    def __init__(self, every: int, evaluate: Callable[[Loop], None], cadence: Cadence) -> None:
        self.every = cadence.turns(every)
        self._evaluate = evaluate

    def look(self, border: Border) -> str | None:
        if self.is_due(border):
            self._evaluate(border.loop)
        return None


class UserObservers(SessionObserver):
    """The observers of a user's own."""

    def __init__(self, observers: Observers, live: Callable[[Loop], LiveRun], cadence: Cadence) -> None:
        self._observers, self._live = observers, live
        self._every = [None if every is None else cadence.turns(every) for every in observers.cadences]

    def next_turn(self, turn: int) -> int:
        return min((turn // every + 1) * every if every else sys.maxsize for every in self._every)

    def look(self, border: Border) -> str | None:
        turn = border.loop.turn
        due = [border.reported if every is None else turn % every == 0 for every in self._every]
        return self._observers.look(due, self._live(border.loop)) if any(due) else None

    def saved(self) -> Any:
        return self._observers.saved()

    def restore(self, saved: Any) -> None:
        self._observers.restore(saved)


class MachineRows(SessionObserver):
    """Writes down how much of the machine the run takes; by the clock, and nothing of the run follows it."""

    def __init__(self, progress: SessionProgress) -> None:
        self._machine, self._progress = Machine(), progress

    def look(self, border: Border) -> str | None:
        row = self._machine.row(border.progress.seconds, border.loop.decisions)
        if row is not None:
            self._progress.recorder.machine(row)
        return None


class Checkpoints(SessionObserver):
    """Keeps all that is needed to go on: after some seconds, then at growing intervals up to so many minutes, and at
    turns if the plan says so.

    An interval is never so short that keeping takes more than a few per cent of the time.
    """

    def __init__(self, every: int | None, minutes: float, save: Callable[[Loop], None], cadence: Cadence) -> None:
        self.every = None if every is None else cadence.turns(every)
        self._most, self._save = 60.0 * minutes, save
        self._wait = min(FIRST_SECONDS, self._most)
        self._saved_at = time.perf_counter()

    def look(self, border: Border) -> str | None:
        if border.last:  # the end is kept once, after it was evaluated
            return None
        if border.seconds - self._saved_at > self._wait or (self.every is not None and self.is_due(border)):
            began = time.perf_counter()
            self._save(border.loop)
            self._saved_at = time.perf_counter()
            self._wait = max(min(2.0 * self._wait, self._most), LEAST_PART * (self._saved_at - began))
        return None
