"""The work of a search: who does it, and that it comes to an end."""

from __future__ import annotations

import importlib
import os
import platform
import sys
import threading
from collections.abc import Mapping
from pathlib import Path
from typing import Any

from jokulmist.plans.plan import Plan
from jokulmist.plans.progress import in_notebook
from jokulmist.running.train import checked_workers
from jokulmist.running.workers.in_process import InProcess
from jokulmist.running.workers.jobs import Executor, Plans
from jokulmist.running.workers.pool import CannotTravel, WorkerPool, can_travel, usual_workers
from jokulmist.studies.search.candidates import FAILED, Board
from jokulmist.studies.search.engine import Engine
from jokulmist.studies.search.progress import LiveSearchDisplay, SearchDisplay, SilentSearchDisplay
from jokulmist.studies.search.settings import SearchSettings
from jokulmist.studies.search.space import with_settings

TRIES = 2


def work_through(
    path: Path,
    question: SearchSettings,
    board: Board,
    workers: int | None,
    cluster: str | None,
    display: SearchDisplay | None,
    command: list[str],
) -> None:
    """Search from where the board stands to the end, or until it is stopped; the board says which."""
    if display is None:
        display = LiveSearchDisplay() if sys.stderr.isatty() or in_notebook() else SilentSearchDisplay()
    board.status, board.process, board.host = "running", os.getpid(), platform.node()
    board.save(path)
    engines: list[Engine] = []
    executor: Executor | None = None
    finished = False
    try:
        executor = _executor(path, question, board, workers, cluster, display, engines)
        engines.append(Engine(question, path, board, executor, display, command))
        finished = engines[0].run()
    finally:
        if executor is not None:
            executor.close()
        board.status = "done" if finished else "stopped"
        board.save(path)


def _read_ahead() -> None:
    """Load what will judge and draw while the workers train, not when they have done."""
    for module in ("scipy.special", "pandas", "matplotlib.figure", "matplotlib.backends.backend_agg"):
        importlib.import_module(module)


def _executor(
    path: Path,
    question: SearchSettings,
    board: Board,
    workers: int | None,
    cluster: str | None,
    display: SearchDisplay,
    engines: list[Engine],
) -> Executor:
    """Who does the work: a cluster, worker processes, or this process where its classes cannot be found by name."""
    plan = question.plan
    if cluster is not None:
        from jokulmist.running.workers.dask_cluster import Cluster

        return Cluster(cluster, plan.written())
    count = usual_workers() if workers is None else checked_workers(workers)
    if count > 1 and can_travel(plan):
        try:
            worker_pool = WorkerPool(count, plan.written(), tries=TRIES, base=str(path.resolve()))
            threading.Thread(target=_read_ahead, name="reading ahead").start()
            return worker_pool
        except CannotTravel as reason:
            display.message(f"one run after another, because {reason}")

    def watch(tag: Any, progress: Any) -> None:
        engines[0].running[tag] = progress
        display.update(engines[0].view())

    return InProcess(_KnownPlans(question, board), watch)


class _KnownPlans(Plans):
    """The plans of a search's candidates, made from the objects at hand."""

    def __init__(self, question: SearchSettings, board: Board) -> None:
        super().__init__()
        self._question, self._board = question, board

    def plan(self, written: Mapping[str, Any], base: str | None = None) -> Plan:
        for candidate in self._board.candidates[::-1]:
            if candidate.status == FAILED:  # its settings may not even make a plan
                continue
            plan = with_settings(self._question.plan, candidate.settings)
            same = {**plan.written(), "training": {**plan.written()["training"], "seeds": written["training"]["seeds"]}}
            if same == written:
                return plan
        return super().plan(written, base)
