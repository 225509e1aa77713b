"""Several seeds of a plan side by side, in worker processes."""

from __future__ import annotations

import tempfile
import time
from collections import deque
from dataclasses import dataclass, field
from pathlib import Path

from jokulmist import errors
from jokulmist.agents.players import classes_of
from jokulmist.errors import JokulmistError
from jokulmist.plans.plan import Plan
from jokulmist.plans.progress import ProgressDisplay, RunProgress
from jokulmist.plans.sources import plan_code
from jokulmist.records.run_folder import is_run, keep_source
from jokulmist.running.interrupts import handling_stops
from jokulmist.running.runs.run import Run, Runs
from jokulmist.running.session.choices import run_folder
from jokulmist.running.workers.jobs import WorkerJob, WorkerMessage
from jokulmist.running.workers.pool import WorkerPool

POLL_SECONDS = 0.2


@dataclass
class SeedBoard:
    """What is known of each seed."""

    display: ProgressDisplay
    total: int
    paths: dict[int, Path] = field(default_factory=dict)
    running: dict[int, RunProgress] = field(default_factory=dict)
    finished: list[int] = field(default_factory=list)
    failures: dict[int, JokulmistError] = field(default_factory=dict)
    messages_shown: set[str] = field(default_factory=set)
    stopping: bool = False

    @property
    def finished_count(self) -> int:
        return len(self.finished) + len(self.failures)


def train_side_by_side(
    plan: Plan, folder: Path, names: dict[int, str | None], display: ProgressDisplay, command: list[str], count: int
) -> Runs:
    """Train the seeds of a plan, so many side by side."""
    written = plan.written()
    seeds = deque(plan.training.seeds)
    board = SeedBoard(display, len(seeds))
    code = plan_code(plan.environment, *classes_of(plan.agent), *plan.functions())
    first = tempfile.TemporaryDirectory(prefix="jokulmist-")
    keep_source(Path(first.name), code.parts)
    try:
        worker_pool = WorkerPool(count, written, base=first.name)
    except BaseException:
        first.cleanup()
        raise
    began = time.perf_counter()
    handed_out = 0
    try:
        display.begin(f"{board.total} seeds, {count} side by side")
        with handling_stops() as stop_request:
            while board.finished_count < handed_out or (seeds and not board.stopping):
                if stop_request and not board.stopping:
                    _stop(board, worker_pool)
                while seeds and worker_pool.free() and not board.stopping:
                    seed = seeds.popleft()
                    board.paths[seed] = run_folder(plan, folder, names[seed]).resolve()
                    path = str(board.paths[seed])
                    keep_source(board.paths[seed], code.parts)
                    worker_pool.give(seed, WorkerJob(written, seed, path, command, base=path))
                    handed_out += 1
                worker_message = worker_pool.receive(POLL_SECONDS)
                if worker_message is not None:
                    _take(board, worker_message)
                    _showed(board, time.perf_counter() - began)
        display.end(f"{len(board.finished)} of {board.total} seeds done")
    finally:
        worker_pool.close()
        first.cleanup()
    if board.failures:
        raise next(iter(board.failures.values()))
    finished_seeds = [seed for seed in plan.training.seeds if seed in board.finished and is_run(board.paths[seed])]
    return Runs([Run.open(board.paths[seed]) for seed in finished_seeds])


def _take(board: SeedBoard, worker_message: WorkerMessage) -> None:
    """Note the message of a seed."""
    seed = worker_message.tag
    if worker_message.progress is not None:
        board.running[seed] = worker_message.progress
    elif worker_message.kind == "say":
        if worker_message.text not in board.messages_shown:
            board.messages_shown.add(worker_message.text)
            board.display.message(worker_message.text)
    elif worker_message.kind == "failed":
        kind = getattr(errors, worker_message.error, JokulmistError)
        note = "" if str(board.paths[seed]) in worker_message.text else f" What was recorded is in {board.paths[seed]}."
        board.failures[seed] = kind(f"seed {seed}: {worker_message.text.rstrip('.')}.{note}")
    else:
        board.finished.append(seed)
        board.display.message(f"seed {seed}  {worker_message.text}")


def _showed(board: SeedBoard, seconds: float) -> None:
    """One line for all that is going on."""
    running = board.running
    if not running:
        return
    going = [
        progress for seed, progress in running.items() if seed not in board.finished and seed not in board.failures
    ]
    latest = going or list(running.values())
    board.display.update(
        RunProgress(
            decisions=sum(progress.decisions for progress in running.values()),
            episodes=sum(progress.episodes for progress in running.values()),
            share=(board.finished_count + sum(progress.share for progress in going)) / board.total,
            mean_return=sum(progress.mean_return for progress in latest) / len(latest),
            per_second=sum(progress.per_second for progress in going),
            seconds=seconds,
        )
    )


def _stop(board: SeedBoard, worker_pool: WorkerPool) -> None:
    board.stopping = True
    board.display.message("stopping: every seed saves what it has (Ctrl-C again ends at once)")
    worker_pool.stop()
