"""A pool of warm worker processes, one a core, that do jobs, each keeping its compiled code for the next one.

A worker runs the same single-seed program as this process would, with one thread; so a run gives the same bytes alone
and among others. Batching seeds in one program was tried and is no faster. What travels is text: a plan as it is in
plan.toml, and lines of JSON. Nothing is pickled. A worker that dies is replaced.
"""

from __future__ import annotations

import contextlib
import json
import queue
import signal
import subprocess
import sys
import threading
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from jokulmist.agents.players import classes_of
from jokulmist.child_processes import own_cores, start_child
from jokulmist.errors import RecordError
from jokulmist.loading import can_be_named
from jokulmist.plans.plan import Plan
from jokulmist.plans.progress import RunProgress
from jokulmist.running.workers.jobs import WorkerJob, WorkerMessage
from jokulmist.sources.snapshot import is_from_notebook


class CannotTravel(Exception):
    """A plan that a worker cannot read: why."""


# Set in a worker, which starts none of its own; and while it reads a plan: a script that trains when it is read would
# train in every worker.
IN_WORKER = False
READING = False


def usual_workers() -> int:
    """One a core that this process may use; in a worker one."""
    return 1 if IN_WORKER else max(len(own_cores()), 1)


def can_travel(plan: Plan) -> bool:
    """Whether a worker can find the plan's classes again by name."""
    if IN_WORKER:
        return False
    objects = (type(plan.environment), *classes_of(plan.agent), *plan.functions())
    return all(can_be_named(obj) or is_from_notebook(obj) for obj in objects)


@dataclass
class Worker:
    """One process, and the job that it is at work on."""

    number: int
    process: subprocess.Popen[str]
    ready: bool = False
    tag: Any = None
    job: WorkerJob | None = None
    tries: int = 0


class WorkerPool:
    """Worker processes on this machine."""

    def __init__(
        self, count: int, plan: dict[str, Any], tries: int = 1, pinned: bool = True, base: str | None = None
    ) -> None:
        self.count = count
        self._pinned = pinned
        self._plan, self._base = plan, base
        self._tries = tries
        self._messages: queue.Queue[tuple[Worker, dict[str, Any] | None]] = queue.Queue()
        self._stopping = False
        self._workers = [self._started(k) for k in range(count)]
        try:
            while not all(worker.ready for worker in self._workers):
                worker, message = self._messages.get()
                if message is None or message["kind"] != "ready":
                    raise CannotTravel("a worker process ended at once" if message is None else message["text"])
                worker.ready = True
        except BaseException:
            self.close()
            raise

    def free(self) -> bool:
        """Whether a worker has nothing to do."""
        return any(worker.job is None for worker in self._workers)

    def give(self, tag: Any, job: WorkerJob) -> None:
        """Let a free worker do a job; its messages carry the tag."""
        self._stopping = False
        self._give(tag, job, 1)

    def _give(self, tag: Any, job: WorkerJob, tries: int) -> None:
        worker = next(worker for worker in self._workers if worker.job is None)
        worker.tag, worker.job, worker.tries = tag, job, tries
        _send(worker, {"kind": "job", "job": job.written()})

    def receive(self, timeout: float) -> WorkerMessage | None:
        """The next word of a worker that is about a job, or None after so many seconds."""
        try:
            worker, message = self._messages.get(timeout=timeout)
        except queue.Empty:
            return None
        if worker not in self._workers:  # it died, and was replaced
            return None
        tag, job = worker.tag, worker.job
        if message is None:
            return self._replaced(worker)
        kind = message["kind"]
        if kind == "ready" or job is None:
            worker.ready |= kind == "ready"
            return None
        if kind == "progress":
            return WorkerMessage("progress", tag, progress=RunProgress(**message["progress"]))
        if kind == "say":
            return WorkerMessage("say", tag, text=message["text"])
        worker.tag = worker.job = None
        if kind == "failed":
            return WorkerMessage("failed", tag, text=message["text"], error=message["error"])
        return WorkerMessage("done", tag, text=message.get("text", ""), result=message["result"])

    def _replaced(self, worker: Worker) -> WorkerMessage | None:
        """Another process in the place of one that died; its job is tried again, or has failed."""
        code = worker.process.wait()
        if not worker.ready:
            raise RecordError(
                "a worker process died, and another in its place did not start. Begin again with `workers=1`."
            )
        reason = f"signal {-code}, {signal.Signals(-code).name}" if code < 0 else f"status {code}"
        if code == -signal.SIGKILL:
            reason += "; the system does that where memory runs out"
        tag, job, tries = worker.tag, worker.job, worker.tries
        self._workers[self._workers.index(worker)] = self._started(worker.number)
        if job is None:
            return None
        if self._stopping:  # its job is resumed another time
            return WorkerMessage("done", tag, result={})
        if tries < self._tries:
            self._give(tag, job, tries + 1)
            return WorkerMessage(
                "say", tag, text=f"a worker process died ({reason}); {Path(job.path).name} is tried again"
            )
        return WorkerMessage(
            "failed", tag, text=f"the worker process of seed {job.seed} died ({reason})", error="RecordError"
        )

    def stop(self) -> None:
        """Ask all that is at work to save what it has and end."""
        self._stopping = True
        for worker in self._workers:
            if worker.job is not None:
                _send(worker, {"kind": "stop"})

    def close(self) -> None:
        """Let the processes end; the end of their input tells them to."""
        for worker in self._workers:
            if worker.process.stdin is not None:
                with contextlib.suppress(BrokenPipeError):
                    worker.process.stdin.close()
            if worker.job is not None or not worker.ready:
                worker.process.kill()
        for worker in self._workers:
            try:
                worker.process.wait(timeout=10)
            except subprocess.TimeoutExpired:
                worker.process.kill()
                worker.process.wait()

    @property
    def processes(self) -> list[int]:
        """The process numbers, in order."""
        return [worker.process.pid for worker in self._workers]

    def _started(self, number: int) -> Worker:
        """A new process on a core of its own."""
        cores = own_cores()
        process = start_child(
            "jokulmist.running.workers.worker",
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
            stderr=None,
            one_thread=True,
            text=True,
        )
        worker = Worker(number, process)
        threading.Thread(target=self._listen, args=(worker,), daemon=True).start()
        _send(
            worker,
            {
                "modules": [place for place in sys.path if place],
                "folder": str(Path.cwd()),
                "core": cores[number % len(cores)] if cores and self._pinned else None,
                "plan": self._plan,
                "base": self._base,
            },
        )
        return worker

    def _listen(self, worker: Worker) -> None:
        assert worker.process.stdout is not None
        for line in worker.process.stdout:
            # A line may be torn by the process's death, which the end of the output tells.
            with contextlib.suppress(json.JSONDecodeError):
                self._messages.put((worker, json.loads(line)))
        self._messages.put((worker, None))


def _send(worker: Worker, message: dict[str, Any]) -> None:
    assert worker.process.stdin is not None
    try:
        worker.process.stdin.write(json.dumps(message) + "\n")
        worker.process.stdin.flush()
    except BrokenPipeError:  # it has gone, and the end of its output says so
        pass
