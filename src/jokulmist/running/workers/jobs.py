"""A job: one run to train on from where it stands, up to some decisions, and to score then.

It holds nothing but text and numbers, so that it can travel to another process or machine. Doing it twice, or after it
was broken off, gives the same: a run's folder says how far it is.
"""

from __future__ import annotations

import json
import time
from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager
from dataclasses import asdict, dataclass, replace
from pathlib import Path
from typing import Any, Protocol

from jokulmist.errors import RecordError
from jokulmist.plans.plan import Plan, plan_of
from jokulmist.plans.progress import ProgressDisplay, RunProgress
from jokulmist.records import run_folder as files
from jokulmist.records.files import read_json
from jokulmist.records.lock import holder, writing
from jokulmist.records.origin import ORIGIN
from jokulmist.running.runs.run import Run
from jokulmist.running.runs.scores import Score, values_of
from jokulmist.running.session.choices import chosen_lane
from jokulmist.running.session.resume import resume_run
from jokulmist.running.session.session import Session
from jokulmist.sources.snapshot import source_snapshot

FREE_SECONDS, POLL_SECONDS = 60.0, 0.2


@dataclass(frozen=True)
class WorkerJob:
    """One run's work."""

    plan: Mapping[str, Any]
    seed: int
    path: str
    command: list[str]
    until: int | None = None
    score: Mapping[str, Any] | None = None
    base: str | None = None

    def written(self) -> dict[str, Any]:
        """As JSON holds it."""
        return asdict(self)


@dataclass(frozen=True)
class WorkerMessage:
    """What a worker said: ``kind`` is ``progress``, ``say``, ``done`` or ``failed``."""

    kind: str
    tag: Any
    progress: RunProgress | None = None
    text: str = ""
    error: str = ""
    result: Mapping[str, Any] | None = None


class Executor(Protocol):
    """Whoever does jobs: worker processes here, a cluster, or this process."""

    @property
    def count(self) -> int:
        """How many jobs can be done at once."""
        ...

    def free(self) -> bool:
        """Whether another job can be given now."""
        ...

    def give(self, tag: Any, job: WorkerJob) -> None: ...

    def receive(self, timeout: float) -> WorkerMessage | None:
        """The next word of a worker, or None after so many seconds."""
        ...

    def stop(self) -> None:
        """Ask all that is at work to save what it has and end."""
        ...

    def close(self) -> None: ...


class Plans:
    """Plans that were read; the last few are kept, so that what depends on their objects is made once."""

    def __init__(self, most: int = 8) -> None:
        self._plans: dict[tuple[str, str], Plan] = {}
        self._most = most

    def add(self, plan: Plan) -> None:
        """Keep a plan that is at hand: its classes need not be found by name."""
        self._plans[json.dumps(plan.written(), sort_keys=True), ""] = plan

    def plan(self, written: Mapping[str, Any], base: str | None = None) -> Plan:
        text, folder = json.dumps(written, sort_keys=True), None if base is None else Path(base)
        if (text, "") in self._plans:
            return self._plans[text, ""]
        snapshot = source_snapshot(folder)
        key = (text, "none" if snapshot is None else str(snapshot.index["fingerprint"]))
        if key not in self._plans:
            self._plans[key] = plan_of(written, folder)
            if len(self._plans) > self._most:
                del self._plans[next(iter(self._plans))]
        return self._plans[key]


def work(
    job: WorkerJob, display: ProgressDisplay, plans: Callable[[Mapping[str, Any], str | None], Plan]
) -> dict[str, Any]:
    """Do a job."""
    began = time.perf_counter()
    path = Path(job.path)
    plan = plans(job.plan, job.base).for_seed(job.seed)
    path.mkdir(parents=True, exist_ok=True)
    with _once_free(path):
        run = _trained(path, job, plan, display)
    facts = {name: run.origin.get(name) for name in ("decisions", "episodes", "seconds", "status")}
    stopped = run.status == "stopped" and not _came_far_enough(run.origin, job.until)
    if job.score is not None and not stopped:
        values = values_of(run, replace(Score(), **job.score))
        facts["score"] = float(values.mean()) if len(values) else None
        facts["sd"] = float(values.std(ddof=1)) if len(values) > 1 else None
        facts["judged"] = len(values)
    facts["took"] = round(time.perf_counter() - began, 3)
    return facts


def _trained(path: Path, job: WorkerJob, plan: Plan, display: ProgressDisplay) -> Run:
    """The run of a job, trained on from where it stands."""
    origin: dict[str, Any] | None = read_json(path / ORIGIN) if files.is_run(path) else None
    if origin is None:
        lane, why = chosen_lane(plan)
        if why:
            display.message(why)
        return Session(plan, job.seed, lane, why, path, display, job.command, until=job.until).run()
    if _came_far_enough(origin, job.until):
        return Run.open(path)
    return resume_run(path, origin, plan, display, job.command, job.until, start_over=True)


@contextmanager
def _once_free(path: Path) -> Iterator[None]:
    """The only writer of a run's folder; a process that was told to end may still be saving what it has."""
    until = time.monotonic() + FREE_SECONDS
    while lock_holder := holder(path):
        if time.monotonic() > until:
            raise RecordError(f"{path} is being trained by {lock_holder}. Wait for it, or end it.")
        time.sleep(POLL_SECONDS)
    with writing(path):
        yield


def _came_far_enough(origin: Mapping[str, Any], until: int | None) -> bool:
    if origin["status"] == "done":
        return True
    return until is not None and origin["status"] == "stopped" and int(origin.get("decisions", 0)) >= until
