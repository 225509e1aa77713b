"""What a search has tried: its candidates, how far each is, what it scored. One JSON file holds it all."""

from __future__ import annotations

import math
from dataclasses import asdict, dataclass, field
from pathlib import Path
from typing import Any

import numpy as np
from pydantic import TypeAdapter, ValidationError

from jokulmist.errors import RecordError
from jokulmist.judging.evaluate import interval_of
from jokulmist.records.files import read_json, write_json
from jokulmist.studies.search.space import Settings

SEARCH = "search.json"
OPEN, FAILED = "open", "failed"


def is_search(path: Path) -> bool:
    """Whether a folder is a search's."""
    return (path / SEARCH).is_file()


@dataclass(frozen=True)
class Instalment:
    """So far a candidate is to be trained next: all its seeds, up to some decisions (0 for the whole plan)."""

    candidate: int
    until: int = 0


@dataclass(frozen=True)
class ShownScore:
    """A score as it is shown, with its interval: over seeds, or with one seed over its episodes."""

    score: float
    low: float
    high: float
    seeds: int

    def __str__(self) -> str:
        basis = f"{self.seeds} seeds" if self.seeds > 1 else "episodes of one seed"
        return f"{self.score:.4g}" + (
            f" [{self.low:.4g}, {self.high:.4g}] over {basis}" if math.isfinite(self.low) else ""
        )


@dataclass
class Candidate:
    """One set of settings that is tried.

    Attributes
    ----------
    number : int
    settings : dict
        The settings searched over that matter here.
    scores : dict of str to dict of str to float
        By the decisions at which it halted (0: the whole plan), the score of each seed.
    until : int or None
        Where the leg that it is on ends; None while it waits.
    status : str
        ``open``, or ``failed`` with a `message`.
    history : list of dict
        What it trained with before, where a population changed it: ``until``, ``settings``, ``from``.
    runs : dict of str to str
        The folder of each seed's run, below the search's own.
    copies : int or None
        The candidate whose run it is to go on from, until that is done.
    spans : dict of str to list
        The 95 % interval of each seed's last score, over its episodes.
    decisions : int
        Of each run, so far.
    seconds : float
        Of work on all of them.
    """

    number: int
    settings: Settings
    scores: dict[str, dict[str, float]] = field(default_factory=dict)
    until: int | None = None
    status: str = OPEN
    message: str = ""
    history: list[dict[str, Any]] = field(default_factory=list)
    runs: dict[str, str] = field(default_factory=dict)
    copies: int | None = None
    spans: dict[str, list[float]] = field(default_factory=dict)
    decisions: int = 0
    seconds: float = 0.0

    def score(self, until: int, seeds: int) -> float | None:
        """The mean score of the seeds at the end of a leg; None where one of them is missing."""
        by_seed = self.scores.get(str(until), {})
        return float(np.mean(list(by_seed.values()))) if len(by_seed) == seeds else None

    def values(self, until: int) -> list[float]:
        return list(self.scores.get(str(until), {}).values())


@dataclass
class Board:
    """All that a search knows, as a method looks at it."""

    seeds: tuple[int, ...]
    higher: bool = True
    candidates: list[Candidate] = field(default_factory=list)
    seconds: float = 0.0
    again: dict[str, float] = field(default_factory=dict)
    winner: int | None = None
    status: str = "waiting"
    process: int = 0
    host: str = ""

    def add(self, settings: Settings) -> Candidate:
        self.candidates.append(Candidate(len(self.candidates), settings))
        return self.candidates[-1]

    def merit(self, candidate: Candidate, until: int) -> float | None:
        """How good a candidate was at the end of a leg, more being better; None before it is known. A failed one is the
        worst."""
        if candidate.status == FAILED:
            return -math.inf
        result = candidate.score(until, len(self.seeds))
        return None if result is None else result if self.higher else -result

    def ranked(self, until: int) -> list[tuple[float, Candidate]]:
        """The candidates whose merit at the end of a leg is known, the best first."""
        scored = [(merit, c) for c in self.candidates if (merit := self.merit(c, until)) is not None]
        return sorted(scored, key=lambda item: (-item[0], item[1].number))

    def best(self, untils: list[int]) -> tuple[Candidate, int] | None:
        """The best candidate of those that came furthest; `untils` from the end of the plan downwards."""
        for until in untils:
            for merit, candidate in self.ranked(until):
                if math.isfinite(merit):
                    return candidate, until
        return None

    def shown_score(self, candidate: Candidate, until: int) -> ShownScore:
        """A candidate's score at the end of a leg, with its interval."""
        values = np.array(candidate.values(until))
        low, high = math.nan, math.nan
        if len(values) > 1:
            low, high = interval_of(float(values.mean()), float(values.std(ddof=1)), len(values))
        elif len(candidate.spans) == 1:
            span = next(iter(candidate.spans.values()))
            low, high = span if len(span) == 2 else (low, high)
        return ShownScore(float(values.mean()), low, high, len(values))

    @property
    def running(self) -> list[Candidate]:
        return [c for c in self.candidates if c.until is not None and c.status == OPEN]

    def written(self) -> dict[str, Any]:
        return asdict(self)

    def save(self, folder: Path) -> None:
        write_json(folder / SEARCH, self.written())

    @classmethod
    def open(cls, folder: Path) -> Board:
        """What was saved."""
        content = read_json(folder / SEARCH)
        try:
            board = TypeAdapter(cls).validate_python(content)
        except ValidationError as wrong:
            first = wrong.errors()[0]
            field = ".".join(str(part) for part in first["loc"]) or "the whole"
            raise RecordError(
                f"{folder / SEARCH}: `{field}` is {first['input']!r:.80}, which no search writes. It was damaged."
            ) from None
        board.refuse_strange(folder / SEARCH)
        return board

    def refuse_strange(self, file: Path) -> None:
        """Raise `RecordError` where numbers or folders are those of no candidate: a name must not lead out of the
        search's folder."""
        count = len(self.candidates)
        are_valid = all(0 <= k < count for k in [self.winner, *(c.copies for c in self.candidates)] if k is not None)
        if [c.number for c in self.candidates] != list(range(count)) or not are_valid:
            raise RecordError(f"{file}: a candidate is named that it does not hold. It was damaged.")
        for candidate in self.candidates:
            for name in candidate.runs.values():
                if not name or name in (".", "..") or Path(name).name != name or "\0" in name:
                    raise RecordError(f"{file}: {name!r:.80} is no folder of a run of this search. It was damaged.")
