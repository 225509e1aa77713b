"""Recording while a run trains: the episodes of the first copy, of which every n-th, the best, the worst and the last
are kept.

The first copy alone is followed, because on a compiled lane a whole turn of it is one more row to write, and of all
copies it would be most of the work.
"""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from jokulmist.environments.declaration.instance import describe
from jokulmist.environments.environment import Environment
from jokulmist.lanes.plain import PlainLane
from jokulmist.lanes.protocol import LaneOutcome, Observed
from jokulmist.loops.rollouts import Draws, save_recorded, state_values
from jokulmist.records.rollouts import ROLLOUTS, EpisodeWriter, RecordedEpisode

COPY = 0


@dataclass(frozen=True)
class Recorded:
    """An episode of the first copy that closed.

    Attributes
    ----------
    decisions : int
        Of all copies, at the end of the turn in which it closed.
    recorded_episode : RecordedEpisode
    number : int, optional
        Among all episodes, where the loop knows it.
    """

    decisions: int
    recorded_episode: RecordedEpisode
    number: int | None = None


class Follower:
    """Follows one copy of a plain lane, by default the first."""

    def __init__(self, lane: PlainLane, copy: int = COPY) -> None:
        self._lane, self._copy = lane, copy
        lane.watched = copy
        self._writer: EpisodeWriter | None = None
        self._totals: list[float] = []
        self.recorded: list[Recorded] = []

    def begin(self, row: Any, images: dict[str, Any]) -> None:
        """An episode begins."""
        self._writer = EpisodeWriter()
        self._writer.saw(row, images, state_values(self._lane.each[self._copy].state))
        self._totals = list(self._lane.each[self._copy].totals)

    def drop(self) -> None:
        """The episode at hand is not known from its begin."""
        self._writer = None

    def took(self, action: Any, satisfied: int, row: Any, images: dict[str, Any], decisions: int) -> None:
        """A decision was taken, and this is the moment after it; the lane has not started again."""
        if self._writer is None:
            return
        copy = self._lane.each[self._copy]
        totals = copy.totals
        self._writer.did(action, [b - a for a, b in zip(self._totals, totals, strict=True)], copy.measures)
        self._writer.saw(row, images, state_values(copy.state))
        self._totals = list(totals)
        if satisfied:
            self.recorded.append(Recorded(decisions, self._writer.closed(satisfied)))
            self._writer = None

    def saved(self) -> dict[str, Any] | None:
        """The episode at hand; None where it is not known from its begin."""
        return None if self._writer is None else self._writer.saved()

    def restore(self, saved: dict[str, Any]) -> None:
        """Go on with the episode that `saved` gave, where the lane stands."""
        self._writer = EpisodeWriter()
        self._writer.restore(saved)
        self._totals = list(self._lane.each[self._copy].totals)

    def turned(self, action: Any, outcome: LaneOutcome, decisions: int) -> None:
        """A turn of all copies is over, and the lane has started again where an episode closed."""
        last, observed = outcome.last, outcome.observed
        closed = [f for f in outcome.finished if f.copy == self._copy]
        if not closed:
            if self._writer is not None:
                self.took(action, 0, last.rows[self._copy], _images(last, self._copy), decisions)
            return
        if self._writer is not None and self._copy not in outcome.lost:
            before = closed[-1]
            terms = [b - a for a, b in zip(self._totals, before.totals, strict=True)]
            self._writer.did(action, terms, before.measures)
            self._writer.saw(
                last.rows[self._copy], _images(last, self._copy), state_values(self._lane.each[self._copy].last_state)
            )
            self.recorded.append(Recorded(decisions, self._writer.closed(before.satisfied)))
        self.begin(observed.rows[self._copy], _images(observed, self._copy))

    def pop_recorded(self) -> list[Recorded]:
        recorded, self.recorded = self.recorded, []
        return recorded


def _images(observed: Observed, copy: int) -> dict[str, Any]:
    return observed.images[copy] if observed.images else {}


class RolloutRecorder:
    """Which of the recorded episodes a run keeps, and writing them."""

    def __init__(self, path: Path, environment: Environment, every: int, seed: int, copies: int) -> None:
        self._seed, self._copies = seed, copies
        self._path, self._environment, self._every = path, environment, every
        self._weights = np.asarray(describe(environment).weights, np.float64)
        self._next = 0
        self._most: dict[str, tuple[float, int, Recorded | None]] = {}
        self._changed: set[str] = set()

    def take(self, recorded: list[Recorded], numbers: list[int]) -> None:
        """Take episodes of the first copy with their numbers among all."""
        for episode, number in zip(recorded, numbers, strict=True):
            total = float((episode.recorded_episode.terms.astype(np.float64) @ self._weights).sum())
            if number >= self._next:
                self._next = (number // self._every + 1) * self._every
                self._write(f"every-{number:09d}", number, episode)
            for name, better in (("best", 1.0), ("worst", -1.0)):
                if name not in self._most or better * total > better * self._most[name][0]:
                    self._most[name] = (total, number, episode)
                    self._changed.add(name)
            self._most["last"] = (total, number, episode)
            self._changed.add("last")

    def write(self) -> None:
        """Write the best, the worst and the last where they have changed."""
        for name in sorted(self._changed):
            _, number, recorded = self._most[name]
            if recorded is not None:
                self._write(name, number, recorded)
        self._changed.clear()

    def _write(self, name: str, number: int, recorded: Recorded) -> None:
        first = recorded.decisions // self._copies - recorded.recorded_episode.steps
        draws = Draws(self._seed, self._copies, "TRAINING", first)
        path = self._path / ROLLOUTS / f"{name}.parquet"
        save_recorded(path, self._environment, [(number, recorded.recorded_episode)], self._path.name, [draws])

    def saved(self) -> dict[str, Any]:
        return {"next": self._next, **{n: self._most[n][0] for n in ("best", "worst") if n in self._most}}

    def restore(self, saved: dict[str, Any], episodes: int) -> None:
        """Go on after so many episodes; what was kept of later ones goes."""
        self._next = saved["next"]
        for file in (self._path / ROLLOUTS).glob("every-*.parquet"):
            digits = file.stem.partition("-")[2]
            if digits.isdigit() and int(digits) >= episodes:
                file.unlink(missing_ok=True)
        for name in ("best", "worst"):
            if name in saved:
                self._most[name] = (saved[name], -1, None)
