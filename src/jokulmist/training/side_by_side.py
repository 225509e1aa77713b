"""Several seeds side by side in warm worker processes, one a core.

A worker runs the same single-seed program as this process would, with one thread, and keeps its compiled code for the next
seed; so a seed gives the same bytes alone and among others. Batching seeds in one program was tried and is no faster.

What travels is text: the plan as it stands in plan.toml, and lines of JSON. Nothing is pickled.
"""

from __future__ import annotations

import contextlib
import json
import os
import queue
import signal
import subprocess
import sys
import threading
import time
from collections import deque
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from jokulmist import errors
from jokulmist.errors import JokulmistError
from jokulmist.loading import can_be_named
from jokulmist.training.plans import Plan
from jokulmist.training.run import Run, Runs
from jokulmist.training.session import run_folder
from jokulmist.training.showing import Show, Standing
from jokulmist.training.signals import interrupted_by_ctrl_c

POLL_SECONDS = 0.2


class CannotTravel(Exception):
    """A plan that a worker cannot read: why."""


def usual_workers() -> int:
    """One a core that this process may use; in a worker one."""
    if IN_WORKER:
        return 1
    return len(os.sched_getaffinity(0)) if hasattr(os, "sched_getaffinity") else os.cpu_count() or 1


# Set in a worker, which starts none of its own; and while it reads the plan: a script that trains when it is read would
# train in every worker.
IN_WORKER = False
READING = False


def can_travel(plan: Plan) -> bool:
    """Whether a worker can find the plan's classes again by name."""
    if IN_WORKER:
        return False
    return all(map(can_be_named, (type(plan.environment), type(plan.agent), *plan.functions())))


@dataclass
class Worker:
    """One process, and the seed that it is at work on."""

    process: subprocess.Popen[str]
    seed: int | None = None
    path: Path | None = None
    standing: Standing | None = None
    answers: int = 0


@dataclass
class Crew:
    """The workers, and what is known of each seed."""

    show: Show
    seeds: deque[int]
    total: int
    workers: list[Worker] = field(default_factory=list)
    finished: dict[int, Path] = field(default_factory=dict)
    failures: dict[int, JokulmistError] = field(default_factory=dict)
    told: set[str] = field(default_factory=set)
    messages: queue.Queue[tuple[Worker, dict[str, Any] | None]] = field(default_factory=queue.Queue)
    stopping: bool = False
    decisions: int = 0
    episodes: int = 0


def train_seeds(
    plan: Plan, folder: Path, names: dict[int, str | None], show: Show, command: list[str], count: int
) -> Runs:
    """Train the seeds of a plan, so many side by side.

    Raises
    ------
    CannotTravel
        When a worker could not read the plan; nothing was made then.
    JokulmistError
        The first failure of a seed, after all others are done.
    """
    crew = Crew(show, deque(plan.training.seeds), len(plan.training.seeds))
    began = time.perf_counter()
    try:
        for k in range(count):
            crew.workers.append(_started(crew, k, plan))
        _greeted(crew)
        show.begin(f"{crew.total} seeds, {count} side by side")
        with interrupted_by_ctrl_c(lambda: _stop(crew)):
            for worker in crew.workers:
                _assign(crew, worker, plan, folder, names, command)
            while any(worker.seed is not None for worker in crew.workers):
                try:
                    worker, message = crew.messages.get(timeout=POLL_SECONDS)
                except queue.Empty:
                    continue
                if _heard(crew, worker, message):
                    _assign(crew, worker, plan, folder, names, command)
                _showed(crew, time.perf_counter() - began)
        show.end(f"{len(crew.finished)} of {crew.total} seeds done")
    finally:
        for worker in crew.workers:
            _ended(worker)
    if crew.failures:
        raise next(iter(crew.failures.values()))
    return Runs([Run.open(crew.finished[seed]) for seed in plan.training.seeds if seed in crew.finished])


def _started(crew: Crew, number: int, plan: Plan) -> Worker:
    """A new process on a core of its own, with the plan to read."""
    cores = sorted(os.sched_getaffinity(0)) if hasattr(os, "sched_getaffinity") else []
    environment = {**os.environ, "OMP_NUM_THREADS": "1", "OPENBLAS_NUM_THREADS": "1"}
    process = subprocess.Popen(
        [sys.executable, "-m", "jokulmist.training.worker"],
        stdin=subprocess.PIPE,
        stdout=subprocess.PIPE,
        text=True,
        env=environment,
        start_new_session=True,  # Ctrl-C reaches this process, which passes it on
    )
    worker = Worker(process)
    threading.Thread(target=_listen, args=(crew, worker), daemon=True).start()
    _send(
        worker,
        {
            "modules": [place for place in sys.path if place],
            "folder": str(Path.cwd()),
            "core": cores[number % len(cores)] if cores else None,
            "plan": plan.written(),
        },
    )
    return worker


def _listen(crew: Crew, worker: Worker) -> None:
    assert worker.process.stdout is not None
    for line in worker.process.stdout:
        crew.messages.put((worker, json.loads(line)))
    crew.messages.put((worker, None))


def _send(worker: Worker, message: dict[str, Any]) -> None:
    assert worker.process.stdin is not None
    try:
        worker.process.stdin.write(json.dumps(message) + "\n")
        worker.process.stdin.flush()
    except BrokenPipeError:  # it has gone, and the end of its output says so
        pass


def _greeted(crew: Crew) -> None:
    """Wait until each worker has read the plan."""
    for _ in crew.workers:
        _, message = crew.messages.get()
        if message is None or message["kind"] != "ready":
            reason = "a worker process ended at once" if message is None else message["text"]
            raise CannotTravel(reason)


def _assign(
    crew: Crew, worker: Worker, plan: Plan, folder: Path, names: dict[int, str | None], command: list[str]
) -> None:
    worker.seed = worker.path = worker.standing = None
    if crew.seeds and not crew.stopping:
        worker.seed = crew.seeds.popleft()
        worker.path = run_folder(plan, folder, names[worker.seed]).resolve()
        _send(worker, {"seed": worker.seed, "path": str(worker.path), "command": command})


def _heard(crew: Crew, worker: Worker, message: dict[str, Any] | None) -> bool:
    """Take one message; whether the worker is free again."""
    seed = worker.seed
    if seed is None:
        return False
    assert worker.path is not None
    if message is None:
        crew.failures[seed] = errors.RecordError(
            f"the worker process of seed {seed} died. What was recorded is in {worker.path}."
        )
        worker.seed = None
        return False
    if message["kind"] == "update":
        worker.standing = Standing(**message["standing"])
    elif message["kind"] == "say":
        if message["text"] not in crew.told:
            crew.told.add(message["text"])
            crew.show.say(message["text"])
    elif message["kind"] == "end":
        crew.show.say(f"seed {seed}  {message['text']}")
    elif message["kind"] == "failed":
        kind = getattr(errors, message["error"], JokulmistError)
        crew.failures[seed] = kind(f"seed {seed}: {message['text']}")
        return True
    elif message["kind"] == "done":
        crew.finished[seed] = worker.path
        if worker.standing is not None:
            crew.decisions += worker.standing.decisions
            crew.episodes += worker.standing.episodes
        return True
    return False


def _showed(crew: Crew, seconds: float) -> None:
    """One line for all that is going on."""
    now = [worker.standing for worker in crew.workers if worker.standing is not None]
    if not now:
        return
    done = len(crew.finished) + len(crew.failures)
    crew.show.update(
        Standing(
            decisions=crew.decisions + sum(standing.decisions for standing in now),
            episodes=crew.episodes + sum(standing.episodes for standing in now),
            share=(done + sum(standing.share for standing in now)) / crew.total,
            mean_return=sum(standing.mean_return for standing in now) / len(now),
            per_second=sum(standing.per_second for standing in now),
            seconds=seconds,
        )
    )


def _stop(crew: Crew) -> None:
    crew.stopping = True
    crew.show.say("stopping: every seed saves what it has (Ctrl-C again ends at once)")
    for worker in crew.workers:
        if worker.seed is not None:
            worker.process.send_signal(signal.SIGINT)


def _ended(worker: Worker) -> None:
    """Let a process end; the end of its input tells it to."""
    if worker.process.stdin is not None:
        with contextlib.suppress(BrokenPipeError):
            worker.process.stdin.close()
    if worker.seed is not None:
        worker.process.kill()
    try:
        worker.process.wait(timeout=10)
    except subprocess.TimeoutExpired:
        worker.process.kill()
        worker.process.wait()
