"""Jobs that wait, in an SQLite file of a folder of runs.

The file is in WAL mode with full synchronisation: a job that was added is there after a power cut, and one that was
being added is there whole or not at all. A job is a verb about a run of the folder, e.g. ``resume tarn-qlearning-001``;
a run that was never begun is begun by it. The folder may come from elsewhere: workers take no job that this user
neither added nor accepted.
"""

from __future__ import annotations

import json
import os
import platform
import sqlite3
import time
from collections.abc import Iterator
from contextlib import closing, contextmanager
from pathlib import Path
from typing import Any

from jokulmist.errors import LookupFailed, RecordError, SettingError, listed
from jokulmist.plain_files import plain_file
from jokulmist.records.run_folder import is_name, stop_waiting
from jokulmist.work.jobs import (
    DAMAGED,
    FAILED,
    PAUSED,
    STOPPED,
    WAITING,
    WORKING,
    Job,
    checked_options,
    job_of,
    signature_of,
)

FILE = "queue.sqlite"
PATIENCE_SECONDS, ANSWER_SECONDS = 30.0, 10.0
MOST_TEXT = 1 << 20
# Rows that were not damaged, or not so that others would be.
PLACED = "WHERE typeof(place) = 'real' AND place BETWEEN -1e15 AND 1e15"
MOST_TRIES = 3
TABLE = """
CREATE TABLE IF NOT EXISTS jobs (
    id INTEGER PRIMARY KEY AUTOINCREMENT,
    verb TEXT NOT NULL, options TEXT NOT NULL, run TEXT NOT NULL, place REAL NOT NULL, status TEXT NOT NULL,
    requested TEXT NOT NULL DEFAULT '', host TEXT NOT NULL DEFAULT '', process INTEGER NOT NULL DEFAULT 0,
    since REAL NOT NULL DEFAULT 0, tries INTEGER NOT NULL DEFAULT 0, added REAL NOT NULL,
    began REAL, ended REAL, message TEXT NOT NULL DEFAULT '', signed TEXT NOT NULL
)
"""


COLUMNS = tuple(Job.model_fields)


class Queue:
    """The jobs of a folder.

    Examples
    --------
    >>> import tempfile
    >>> queue = Queue(tempfile.mkdtemp())
    >>> queue.add("resume", "tarn-qlearning-001", steps=1000)
    1
    >>> [(job.id, job.status, job.command) for job in queue.jobs()]
    [(1, 'waiting', 'resume tarn-qlearning-001 --steps 1000')]
    """

    def __init__(self, folder: str | Path) -> None:
        self.folder = Path(folder)
        self.file = self.folder / FILE

    @property
    def exists(self) -> bool:
        return self.file.exists()

    @contextmanager
    def _opened(self, write: bool = False) -> Iterator[sqlite3.Connection]:
        plain_file(self.file)
        until = time.monotonic() + PATIENCE_SECONDS + ANSWER_SECONDS
        try:
            self.folder.mkdir(parents=True, exist_ok=True)
            with closing(sqlite3.connect(self.file, timeout=PATIENCE_SECONDS, isolation_level=None)) as result:
                result.setlimit(sqlite3.SQLITE_LIMIT_LENGTH, MOST_TEXT)
                # What a file from elsewhere declares beside its table may take for ever.
                result.set_progress_handler(lambda: time.monotonic() > until, 100_000)
                result.row_factory = sqlite3.Row
                result.execute("PRAGMA trusted_schema = OFF")
                result.execute("PRAGMA journal_mode = WAL")
                result.execute("PRAGMA synchronous = FULL")
                result.execute(TABLE)
                if not write:
                    yield result
                    return
                result.execute("BEGIN IMMEDIATE")
                try:
                    yield result
                except BaseException:
                    result.execute("ROLLBACK")
                    raise
                result.execute("COMMIT")
        except (sqlite3.Error, OSError, UnicodeError, OverflowError) as failure:
            raise RecordError(
                f"the queue {self.file} cannot be used: {failure}. If it was damaged, move it away: runs that waited "
                "in it can be resumed by `jokulmist resume`."
            ) from None

    def add(self, verb: str, run: str, /, **options: Any) -> int:
        """Put a job at the end; its number."""
        if not is_name(run):
            raise SettingError(f"a job is about a run of {self.folder}, by its folder's name; got {run!r:.80}.")
        value = checked_options(verb, options).model_dump(exclude_unset=True)
        time_now = time.time()
        with self._opened(write=True) as db:
            (last,) = db.execute(f"SELECT COALESCE(MAX(place), 0) FROM jobs {PLACED}").fetchone()
            job = db.execute(
                "INSERT INTO jobs (verb, options, run, place, status, added, signed) VALUES (?, ?, ?, ?, ?, ?, ?)",
                (verb, json.dumps(value), run, last + 1.0, WAITING, time_now, signature_of(verb, value, run, time_now)),
            )
            return int(job.lastrowid or 0)

    def _rows(self, db: sqlite3.Connection, condition: str = "", *values: Any) -> list[Job]:
        return [job_of(dict(row)) for row in db.execute(f"SELECT {', '.join(COLUMNS)} FROM jobs {condition}", values)]

    def jobs(self) -> list[Job]:
        """All jobs: those that are worked on, then those that wait in their order, then all others, the newest
        first."""
        if not self.exists:
            return []
        with self._opened() as db:
            result = self._rows(db)
        order = {WORKING: 0, WAITING: 1, PAUSED: 2}
        return sorted(
            result, key=lambda j: (order.get(j.status, 3), j.place if j.status in order else -(j.ended or 0.0))
        )

    def jobs_now(self) -> list[Job]:
        """The same for who looks: a job whose worker on this machine is gone is not worked on; the next worker takes it
        again."""
        lost = "its worker is gone; the next takes it again"
        result = [
            job.model_copy(update={"status": WAITING, "message": lost}) if _is_abandoned(job) else job
            for job in self.jobs()
        ]
        elsewhere = (
            "somebody else added it, or it was added on another machine: `jokulmist queue accept {}` lets it be done"
        )
        return [
            job.model_copy(update={"message": elsewhere.format(job.id)})
            if job.status == WAITING and not job.is_own
            else job
            for job in result
        ]

    def job(self, number: int) -> Job:
        """One job."""
        if self.exists:
            with self._opened() as db:
                result = self._rows(db, "WHERE id = ?", number)
            if result:
                return result[0]
        numbers = ", ".join(str(job.id) for job in self.jobs()[:20])
        raise LookupFailed(f"there is no job {number}; {f'there are {numbers}' if numbers else 'the queue is empty'}.")

    def _change(self, number: int, allowed: dict[str, dict[str, Any]], verb: str) -> Job:
        """Change a job, by the status that it has."""
        with self._opened(write=True) as db:
            job = next(iter(self._rows(db, "WHERE id = ?", number)), None)
            if job is not None and job.status in allowed:
                _set(db, number, allowed[job.status])
        if job is None:
            return self.job(number)  # which says what there is
        if job.status == DAMAGED:
            raise RecordError(f"job {number} of the queue was damaged. Drop it: `jokulmist queue drop {number}`.")
        if job.status not in allowed:
            raise SettingError(
                f"job {number} is {job.status}, so it cannot be {verb}; jobs that are {listed(allowed)} can."
            )
        return self.job(number)

    def accept(self, number: int) -> Job:
        """Let a job be done that somebody else added, or that was added on another machine."""
        job = self.job(number)
        if job.is_own:
            raise SettingError(f"job {number} is your own; there is nothing to accept.")
        signed = {"signed": signature_of(job.verb, job.options, job.run, job.added)}
        return self._change(number, dict.fromkeys((WAITING, PAUSED, STOPPED, FAILED), signed), "accepted")

    def pause(self, number: int) -> Job:
        """Let a job wait until it is told to go on; one that is worked on stops cleanly first."""
        return self._change(number, {WAITING: {"status": PAUSED}, WORKING: {"requested": "pause"}}, "paused")

    def resume(self, number: int) -> Job:
        """Let a job wait for a worker again."""
        job_again = {"status": WAITING, "requested": "", "tries": 0, "message": "", "ended": None}
        return self._change(number, {PAUSED: job_again, STOPPED: job_again, FAILED: job_again}, "resumed")

    def stop(self, number: int) -> Job:
        """End a job; one that is worked on stops cleanly, with everything saved."""
        time_now = {"status": STOPPED, "ended": time.time()}
        return self._change(number, {WAITING: time_now, PAUSED: time_now, WORKING: {"requested": "stop"}}, "stopped")

    def first(self, number: int) -> Job:
        """Let a job be the next."""
        with self._opened() as db:
            (least,) = db.execute(f"SELECT COALESCE(MIN(place), 0) FROM jobs {PLACED}").fetchone()
        return self._change(number, {WAITING: {"place": least - 1.0}, PAUSED: {"place": least - 1.0}}, "put first")

    def move_up(self, number: int) -> Job:
        """Let a job that waits change places with the one before it."""
        return self._move(number, -1)

    def move_down(self, number: int) -> Job:
        """Let a job that waits change places with the one after it."""
        return self._move(number, 1)

    def _move(self, number: int, by: int) -> Job:
        with self._opened(write=True) as db:
            waiting = self._rows(db, "WHERE status IN (?, ?) ORDER BY place, id", WAITING, PAUSED)
            numbers = [job.id for job in waiting]
            if number in numbers:
                index = numbers.index(number)
                numbers.insert(min(max(index + by, 0), len(numbers) - 1), numbers.pop(index))
                places = sorted(job.place for job in waiting)
                for place, job_number in zip(places, numbers, strict=True):
                    _set(db, job_number, {"place": place})
        job = self.job(number)
        if number not in numbers:
            raise SettingError(
                f"job {number} is {job.status}, so it cannot be moved; jobs that wait or are paused can."
            )
        return job

    def drop(self, number: int) -> Job:
        """Take a job out of the queue; what its run recorded stays."""
        job = self.job(number)
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
            waiting = self._rows(db, "WHERE status = ? ORDER BY place, id", WAITING)
            job = next((job for job in waiting if job.ready), None)
            if job is None:
                return None
            host, process, since = worker()
            time_now = {
                "status": WORKING,
                "requested": "",
                "host": host,
                "process": process,
                "since": since,
                "began": time.time(),
                "ended": None,
                "message": "",
            }
            _set(db, job.id, time_now)
        return job.model_copy(update=time_now)  # what was checked, and not what the file may have made of it

    def give_back(self, job: Job, tried: bool = False) -> None:
        """Let a job wait again, e.g. because its worker ends; with `tried` it counts as a try."""
        tries = job.tries + tried
        if tries >= MOST_TRIES:
            self.finish(job, FAILED, f"it was killed {tries} times, perhaps for want of memory")
            return
        with self._opened(write=True) as db:
            db.execute(
                "UPDATE jobs SET status = ?, requested = '', tries = ? WHERE id = ? AND status = ?",
                (WAITING, tries, job.id, WORKING),
            )

    def finish(self, job: Job, status: str, message: str = "") -> None:
        with self._opened(write=True) as db:
            db.execute(
                "UPDATE jobs SET status = ?, requested = '', ended = ?, message = ? WHERE id = ? AND status = ?",
                (status, time.time(), message, job.id, WORKING),
            )

    def take_back(self) -> list[Job]:
        """Let jobs wait again whose worker was on this machine and is gone."""
        result = [job for job in self.jobs() if _is_abandoned(job)]
        for job in result:
            self.give_back(job, tried=True)
        return result


def _set(db: sqlite3.Connection, number: int, values: dict[str, Any]) -> None:
    """Write columns of a job."""
    named = ", ".join(f"{name} = ?" for name in values)
    db.execute(f"UPDATE jobs SET {named} WHERE id = ?", (*values.values(), number))


def _is_abandoned(job: Job) -> bool:
    """Whether a job is working, as the queue has it, and its worker was on this machine and is gone."""
    return job.status == WORKING and job.host == platform.node() and not is_at_work(job)


def worker() -> tuple[str, int, float]:
    """This process, as a worker: machine, number, and when it began."""
    return platform.node(), os.getpid(), _began(os.getpid())


def _began(process: int) -> float:
    """When a process began; where the system tells, by a clock that nobody sets."""
    try:
        stat = Path(f"/proc/{process}/stat").read_text(encoding="utf-8", errors="replace")
        return float(stat.rpartition(")")[2].split()[19])
    except (OSError, IndexError, ValueError):
        import psutil

        return psutil.Process(process).create_time()


def is_at_work(job: Job) -> bool:
    """Whether the process that took a job is still there; a number may have got to another process since."""
    import psutil

    try:
        result = psutil.Process(job.process)
        return result.status() != psutil.STATUS_ZOMBIE and abs(_began(job.process) - job.since) < 1.0
    except (psutil.Error, ValueError):
        return False
