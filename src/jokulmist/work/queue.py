"""Jobs that wait, in an SQLite file of a folder of runs.

The file is in WAL mode with full synchronisation: a job that was added is there after a power cut, and one that was being added is there whole or not at all. A job is a
command about a run of the folder, e.g. ``resume tarn-qlearning-001``; a run that was never begun is begun by it.
"""

from __future__ import annotations

import json
import os
import platform
import sqlite3
import time
from collections.abc import Iterator, Sequence
from contextlib import closing, contextmanager
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

from jokulmist.errors import LookupFailed, RecordError, SettingError, listed
from jokulmist.records.run_folder import stop_waiting

FILE = "queue.sqlite"
WAITING, WORKING, PAUSED, STOPPED, DONE, FAILED = "waiting", "working", "paused", "stopped", "done", "failed"
PATIENCE_SECONDS = 30.0
MOST_TRIES = 3
TABLE = """
CREATE TABLE IF NOT EXISTS jobs (
    id INTEGER PRIMARY KEY AUTOINCREMENT, words TEXT NOT NULL, run TEXT NOT NULL, place REAL NOT NULL, status TEXT NOT NULL, asked TEXT NOT NULL DEFAULT '',
    host TEXT NOT NULL DEFAULT '', process INTEGER NOT NULL DEFAULT 0, since REAL NOT NULL DEFAULT 0, tries INTEGER NOT NULL DEFAULT 0, added REAL NOT NULL,
    began REAL, ended REAL, told TEXT NOT NULL DEFAULT ''
)
"""


@dataclass(frozen=True)
class Job:
    """A job as it stands in the queue.

    Attributes
    ----------
    id : int
    words : tuple of str
        The command, without the program's name, with the run's folder as ``{run}``.
    run : str
        The name of the run that it is about.
    status : str
        ``waiting``, ``working``, ``paused``, ``stopped``, ``done`` or ``failed``.
    asked : str
        What a worker is asked to do with it: ``pause``, ``stop``, or nothing.
    host, process, since
        Of the worker: its machine, its process, and when that process began.
    tries : int
        How often a worker took it and was gone.
    added, began, ended : float or None
        Seconds since 1970.
    told : str
        Why it failed.
    """

    id: int
    words: tuple[str, ...]
    run: str
    place: float
    status: str
    asked: str
    host: str
    process: int
    since: float
    tries: int
    added: float
    began: float | None
    ended: float | None
    told: str

    @property
    def command(self) -> str:
        return " ".join(word.replace("{run}", self.run) for word in self.words)


COLUMNS = ", ".join(Job.__dataclass_fields__)


class Queue:
    """The jobs of a folder.

    Examples
    --------
    >>> import tempfile
    >>> queue = Queue(tempfile.mkdtemp())
    >>> queue.add(["resume", "{run}"], "tarn-qlearning-001")
    1
    >>> [(job.id, job.status, job.command) for job in queue.jobs()]
    [(1, 'waiting', 'resume tarn-qlearning-001')]
    """

    def __init__(self, folder: str | Path) -> None:
        self.folder = Path(folder)
        self.file = self.folder / FILE

    @property
    def exists(self) -> bool:
        return self.file.exists()

    @contextmanager
    def _opened(self, write: bool = False) -> Iterator[sqlite3.Connection]:
        try:
            self.folder.mkdir(parents=True, exist_ok=True)
            with closing(sqlite3.connect(self.file, timeout=PATIENCE_SECONDS, isolation_level=None)) as found:
                found.execute("PRAGMA journal_mode = WAL")
                found.execute("PRAGMA synchronous = FULL")
                found.execute(TABLE)
                if not write:
                    yield found
                    return
                found.execute("BEGIN IMMEDIATE")
                try:
                    yield found
                except BaseException:
                    found.execute("ROLLBACK")
                    raise
                found.execute("COMMIT")
        except (sqlite3.Error, OSError) as failure:
            raise RecordError(
                f"the queue {self.file} cannot be used: {failure}. If it was damaged, move it away: runs that waited in it can be gone on with by `jokulmist resume`."
            ) from None

    def add(self, words: Sequence[str], run: str) -> int:
        """Put a job at the end; its number."""
        with self._opened(write=True) as db:
            (last,) = db.execute("SELECT COALESCE(MAX(place), 0) FROM jobs").fetchone()
            made = db.execute(
                "INSERT INTO jobs (words, run, place, status, added) VALUES (?, ?, ?, ?, ?)",
                (json.dumps(list(words)), run, last + 1.0, WAITING, time.time()),
            )
            return int(made.lastrowid or 0)

    def jobs(self) -> list[Job]:
        """All jobs: those that are worked on, then those that wait in their order, then all others, the newest first."""
        if not self.exists:
            return []
        with self._opened() as db:
            found = [_job(row) for row in db.execute(f"SELECT {COLUMNS} FROM jobs")]
        order = {WORKING: 0, WAITING: 1, PAUSED: 2}
        return sorted(
            found, key=lambda j: (order.get(j.status, 3), j.place if j.status in order else -(j.ended or 0.0))
        )

    def jobs_now(self) -> list[Job]:
        """The same for who looks: a job whose worker on this machine is gone is not worked on; the next worker takes it again."""
        gone = {job.id for job in self._abandoned()}
        lost = "its worker is gone; the next takes it again"
        return [replace(job, status=WAITING, told=lost) if job.id in gone else job for job in self.jobs()]

    def job(self, number: int, damaged: bool = False) -> Job:
        """One job; with `damaged` also one whose words cannot be read, without them."""
        if self.exists:
            with self._opened() as db:
                row = db.execute(f"SELECT {COLUMNS} FROM jobs WHERE id = ?", (number,)).fetchone()
            if row is not None:
                return _job(row, damaged)
        known = ", ".join(str(job.id) for job in self.jobs()[:20])
        raise LookupFailed(f"there is no job {number}; {f'there are {known}' if known else 'the queue is empty'}.")

    def _change(self, number: int, allowed: dict[str, dict[str, Any]], verb: str) -> Job:
        """Change a job, by the status that it has."""
        with self._opened(write=True) as db:
            row = db.execute(f"SELECT {COLUMNS} FROM jobs WHERE id = ?", (number,)).fetchone()
            job = None if row is None else _job(row)
            if job is not None and job.status in allowed:
                values = allowed[job.status]
                db.execute(
                    f"UPDATE jobs SET {', '.join(f'{name} = ?' for name in values)} WHERE id = ?",
                    (*values.values(), number),
                )
        if job is None:
            return self.job(number)  # which says what there is
        if job.status not in allowed:
            raise SettingError(
                f"job {number} is {job.status}, so it cannot be {verb}; jobs that are {listed(allowed)} can."
            )
        return self.job(number)

    def pause(self, number: int) -> Job:
        """Let a job wait until it is told to go on; one that is worked on stops cleanly first."""
        return self._change(number, {WAITING: {"status": PAUSED}, WORKING: {"asked": "pause"}}, "paused")

    def go_on(self, number: int) -> Job:
        """Let a job wait for a worker again."""
        again = {"status": WAITING, "asked": "", "tries": 0, "told": "", "ended": None}
        return self._change(number, {PAUSED: again, STOPPED: again, FAILED: again}, "gone on with")

    def stop(self, number: int) -> Job:
        """End a job; one that is worked on stops cleanly, with everything saved."""
        now = {"status": STOPPED, "ended": time.time()}
        return self._change(number, {WAITING: now, PAUSED: now, WORKING: {"asked": "stop"}}, "stopped")

    def first(self, number: int) -> Job:
        """Let a job be the next."""
        with self._opened() as db:
            (least,) = db.execute("SELECT COALESCE(MIN(place), 0) FROM jobs").fetchone()
        return self._change(number, {WAITING: {"place": least - 1.0}, PAUSED: {"place": least - 1.0}}, "put first")

    def drop(self, number: int) -> Job:
        """Take a job out of the queue; what its run recorded stays."""
        job = self.job(number, damaged=True)
        if job.status == WORKING:
            raise SettingError(f"job {number} is working. Stop it first: `jokulmist queue stop {number}`.")
        with self._opened(write=True) as db:
            db.execute("DELETE FROM jobs WHERE id = ? AND status != ?", (number, WORKING))
            (left,) = db.execute("SELECT COUNT(*) FROM jobs WHERE run = ?", (job.run,)).fetchone()
        if not left:
            stop_waiting(self.folder, job.run)
        return job

    # What workers do.

    def take(self) -> Job | None:
        """Take the next job that waits; None where none does. No two workers take the same one."""
        if not self.exists:
            return None
        with self._opened(write=True) as db:
            row = db.execute(
                f"SELECT {COLUMNS} FROM jobs WHERE status = ? ORDER BY place, id LIMIT 1", (WAITING,)
            ).fetchone()
            if row is None:
                return None
            job = _job(row)
            host, process, since = worker()
            db.execute(
                "UPDATE jobs SET status = ?, asked = '', host = ?, process = ?, since = ?, began = ?, ended = NULL, told = '' WHERE id = ?",
                (WORKING, host, process, since, time.time(), job.id),
            )
        return self.job(job.id)

    def give_back(self, job: Job, tried: bool = False) -> None:
        """Let a job wait again, e.g. because its worker ends; with `tried` it counts as a try."""
        tries = job.tries + tried
        if tries >= MOST_TRIES:
            self.finish(job, FAILED, f"it was killed {tries} times, perhaps for want of memory")
            return
        with self._opened(write=True) as db:
            db.execute(
                "UPDATE jobs SET status = ?, asked = '', tries = ? WHERE id = ? AND status = ?",
                (WAITING, tries, job.id, WORKING),
            )

    def finish(self, job: Job, status: str, told: str = "") -> None:
        with self._opened(write=True) as db:
            db.execute(
                "UPDATE jobs SET status = ?, asked = '', ended = ?, told = ? WHERE id = ? AND status = ?",
                (status, time.time(), told, job.id, WORKING),
            )

    def take_back(self) -> list[Job]:
        """Let jobs wait again whose worker was on this machine and is gone."""
        found = self._abandoned()
        for job in found:
            self.give_back(job, tried=True)
        return found

    def _abandoned(self) -> list[Job]:
        """Jobs that are working, as the queue has it, whose worker was on this machine and is gone."""
        return [
            job for job in self.jobs() if job.status == WORKING and job.host == platform.node() and not is_at_work(job)
        ]


def _job(row: Sequence[Any], damaged: bool = False) -> Job:
    values = dict(zip(Job.__dataclass_fields__, row, strict=True))
    try:
        words = json.loads(values["words"])
        if not isinstance(words, list) or not all(isinstance(word, str) for word in words):
            raise ValueError
    except ValueError:
        if damaged:
            return Job(**{**values, "words": ()})
        raise RecordError(
            f"job {values['id']} of the queue was damaged. Drop it: `jokulmist queue drop {values['id']}`."
        ) from None
    return Job(**{**values, "words": tuple(words)})


def worker() -> tuple[str, int, float]:
    """This process, as a worker: machine, number, and when it began."""
    import psutil

    return platform.node(), os.getpid(), psutil.Process().create_time()


def is_at_work(job: Job) -> bool:
    """Whether the process that took a job is still there; a number may have got to another process since."""
    import psutil

    try:
        found = psutil.Process(job.process)
        return found.status() != psutil.STATUS_ZOMBIE and abs(found.create_time() - job.since) < 1.0
    except psutil.Error:
        return False
