"""A folder of runs as rows that are looked at again and again: only what has changed since is read."""

from __future__ import annotations

import math
import os
import threading
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np

from jokulmist.errors import LookupFailed, RecordError
from jokulmist.live.labels import LABELS, labels_of
from jokulmist.records import run_folder as files
from jokulmist.records.origin import ORIGIN, checked_origin
from jokulmist.records.run_index import DAMAGED, LAST, Row, damaged_row, row_of
from jokulmist.records.tables import Columns, read_columns
from jokulmist.studies.search.candidates import SEARCH
from jokulmist.work import jobs
from jokulmist.work.jobs import Job
from jokulmist.work.queue import Queue

MOST_SPARKS = 32
Stamp = tuple[Any, ...]


@dataclass
class RunEntry:
    """What is known of a run, and the stamp of its files when it was read."""

    stamp: Stamp
    row: Row


@dataclass
class RunFolder:
    """The runs, searches and jobs of a folder.

    Attributes
    ----------
    path : Path
    queue : Queue
    """

    path: Path
    queue: Queue = field(init=False)
    _entries: dict[str, RunEntry] = field(default_factory=dict)
    _guard: threading.Lock = field(default_factory=threading.Lock)

    def __post_init__(self) -> None:
        self.queue = Queue(self.path)

    def run(self, name: str) -> Path:
        """The folder of a run, by its name alone: nothing outside of the folder can be named."""
        if not files.is_name(name):
            raise LookupFailed(f"a run is named by its folder's name; got {name!r:.80}.")
        path = self.path / name
        if path.is_symlink() or not files.is_run(path):
            raise LookupFailed(f"there is no run {name!r:.80} in {self.path}.")
        return path

    def look(self) -> dict[str, Row]:
        """A row a run, by name."""
        return self._read(_stamps(self.path))

    def look_at_newest(self, most: int) -> tuple[dict[str, Row], int]:
        """The rows of the runs whose records changed last, and how many runs there are: what a page shows first, before
        the others are read."""
        stamps = _stamps(self.path)
        newest = sorted(stamps, key=lambda name: stamps[name][0], reverse=True)[:most]
        return self._read({name: stamps[name] for name in newest}, partial=True), len(stamps)

    def _read(self, stamps: dict[str, Stamp], partial: bool = False) -> dict[str, Row]:
        """The rows of these runs, read where their stamp has changed; with `partial` all others stay known."""
        with self._guard:
            by_name: dict[str, RunEntry] = {}
            for name, stamp in stamps.items():
                before = self._entries.get(name)
                if before is not None and before.stamp == stamp and not _may_die(before.row):
                    by_name[name] = before
                    continue
                row = _row(self.path / name)
                if row is not None:
                    by_name[name] = RunEntry(stamp, row)
            self._entries = {**self._entries, **by_name} if partial else by_name
            return {name: entry.row for name, entry in by_name.items()}

    def searches(self) -> list[str]:
        """The names of the searches."""
        if not self.path.exists():
            return []
        return sorted(path.parent.name for path in self.path.glob(f"*/{SEARCH}"))

    def jobs(self) -> list[dict[str, Any]]:
        return [job_as_json(job) for job in self.queue.jobs_now()]


def job_as_json(job: Job) -> dict[str, Any]:
    return {
        "id": job.id,
        "run": job.run,
        "command": job.command,
        "status": job.status,
        "asked": job.requested,
        "added": job.added,
        "began": job.began,
        "ended": job.ended,
        "told": job.message,
        "accepted": job.status == jobs.DAMAGED or job.is_own,
    }


def _may_die(row: Row) -> bool:
    """Whether a row can change although no file does: a process may be gone."""
    return str(row["status"]).startswith("running")


def _stamps(folder: Path) -> dict[str, Stamp]:
    """What tells whether a run's row has changed, by name."""
    stamps: dict[str, Stamp] = {}
    try:
        entries = list(os.scandir(folder))
    except OSError:
        return stamps
    for entry in entries:
        if entry.name.startswith(".") or not entry.is_dir(follow_symlinks=False):
            continue
        try:
            origin = os.stat(f"{entry.path}/{ORIGIN}")
        except OSError:
            continue
        try:
            size = os.stat(f"{entry.path}/{files.EPISODES}").st_size
        except OSError:
            size = 0
        try:
            labels = os.stat(f"{entry.path}/{LABELS}").st_mtime_ns
        except OSError:
            labels = 0
        stamps[entry.name] = (origin.st_mtime_ns, origin.st_size, size, labels)
    return stamps


def _row(path: Path) -> Row | None:
    """A run as a row of the page; None where it is gone."""
    if not (path / ORIGIN).exists():
        return None
    planned: Any = None
    try:
        origin = checked_origin(path)
        row, planned = row_of(path, origin), (origin.get("planned") or {}).get("steps")
    except Exception:  # whatever somebody wrote there: it stops no other row
        row = damaged_row(path.name)
    status, _, progress = str(row["status"]).partition(" ")
    columns = {} if status == DAMAGED else _readings(path)
    seconds = float(columns.get("seconds", (math.nan,))[-1])
    score = row[f"return_last_{LAST}"]
    return {
        **{name: value for name, value in row.items() if name != f"return_last_{LAST}"},
        "status": status,
        "progress": int(progress[:-1]) / 100 if progress else None,
        "score": None if math.isnan(score) else score,
        "left": _left(seconds, progress) if status == "running" else None,
        "steps": planned if isinstance(planned, int) else None,
        "rate": row["decisions"] / seconds if seconds > 0.0 else None,
        "spark": sparks(columns),
        **labels_of(path).model_dump(mode="json"),
    }


def _left(seconds: float, progress: str) -> float | None:
    """Seconds that a run still takes, if it goes on as it went."""
    share = int(progress[:-1]) / 100 if progress else 0.0
    return None if share <= 0.0 or math.isnan(seconds) else seconds * (1.0 - share) / share


def sparks(columns: Columns) -> list[float]:
    """The mean return of the last 100 episodes over training, in some points."""
    values = columns.get(f"return_last_{LAST}", np.zeros(0))
    finite = values[np.isfinite(values)]
    step = max(1, -(-len(finite) // MOST_SPARKS))
    return [float(f"{value:.4g}") for value in finite[::step]]


def _readings(path: Path) -> Columns:
    """Two columns of readings.csv; none where it is damaged, which stops no other row."""
    try:
        columns = read_columns(path / files.READINGS, ("seconds", f"return_last_{LAST}"))
    except RecordError:
        return {}
    return {name: column for name, column in columns.items() if len(column)}
