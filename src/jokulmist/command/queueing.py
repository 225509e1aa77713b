"""Commands for work in the background: train --queue, queue, work."""

from __future__ import annotations

import sys
import threading
import time
from datetime import datetime
from pathlib import Path
from typing import Any

import typer

from jokulmist.command.printing import print_json, print_table
from jokulmist.errors import SettingError, listed, nearest

VERBS = ("list", "work", "pause", "resume", "stop", "drop", "first", "move-up", "move-down", "accept")


def train_later(plan_file: Path, changes: list[str], folder: Path, name: str | None, json: bool) -> None:
    """Put the runs of a plan into the queue, one job a seed."""
    from jokulmist.plans.plan import read_plan
    from jokulmist.running.session.queued_runs import queue_runs

    print_waiting(folder, queue_runs(read_plan(plan_file, changes), folder, name, ["jokulmist", *sys.argv[1:]]), json)


def print_waiting(folder: Path, paths: list[Path], json: bool) -> None:
    """Put runs or searches that were made into the queue, and say so."""
    from jokulmist.work.queue import Queue

    queue = Queue(folder)
    rows = [{"job": queue.add("resume", path.name), "run": path.name} for path in paths]
    if json:
        print_json(rows)
        return
    print_table(rows)
    folder_option = "" if folder == Path("runs") else f" --folder {folder}"
    typer.echo(
        f"Waiting, with the plan and the code as they are now. A worker takes them: "
        f"jokulmist queue work{folder_option}",
        err=True,
    )


def queue(verb: str, number: int | None, folder: Path, json: bool) -> None:
    from jokulmist.work.queue import Queue

    if verb not in VERBS:
        raise SettingError(f"`queue` can {listed(VERBS)}; got `{verb}`.{nearest(verb, VERBS)}")
    jobs = Queue(folder)
    if verb == "list":
        if number is not None:
            raise SettingError(f"`queue list` takes no job; got {number}.")
        _print_jobs(jobs, json)
        return
    if number is None:
        raise SettingError(f"say which job: `jokulmist queue {verb} 3`. `jokulmist queue` lists them.")
    job = getattr(jobs, verb.replace("-", "_"))(number)
    if json:
        print_json(row_of(job))
        return
    messages = {"drop": f"job {number} is out of the queue; {folder / job.run} stays as it is"}
    typer.echo(
        messages.get(verb)
        or f"job {number} ({job.run}) is {job.status}{f', and is asked to {job.requested}' if job.requested else ''}"
    )


def _print_jobs(jobs: Any, json: bool) -> None:
    rows = [row_of(job) for job in jobs.jobs_now()]
    if json:
        print_json(rows)
        return
    if not rows:
        typer.echo(f"no jobs in {jobs.folder}. Add some: jokulmist train PLAN.toml --queue", err=True)
        return
    print_table(rows)
    if any(row["status"] == "waiting" for row in rows) and not any(row["status"] == "working" for row in rows):
        typer.echo("Nobody is at work. Start a worker: jokulmist queue work", err=True)


def row_of(job: Any) -> dict[str, Any]:
    """A job as a row of a table."""
    ended = job.ended if job.ended is not None else time.time()
    took = "" if job.began is None else f"{max(ended - job.began, 0.0):.0f} s"
    return {
        "job": job.id,
        "status": f"{job.status}{f' (to {job.requested})' if job.requested else ''}",
        "command": job.command,
        "added": _clock(job.added) if job.added else "",
        "took": took,
        "told": job.message,
    }


def _clock(seconds: float) -> str:
    return datetime.fromtimestamp(seconds).astimezone().isoformat(timespec="seconds")


def work(folder: Path, number: int | None, workers: int, until_empty: bool, alone: bool = False) -> None:
    import signal
    from contextlib import nullcontext

    from jokulmist.work.queue import Queue
    from jokulmist.work.worker import work as take

    if number is not None:
        raise SettingError(f"`queue work` takes every job that waits; got {number}. `jokulmist queue first {number}`.")
    if workers < 1:
        raise SettingError(f"`--workers` must be a whole number above 0; got {workers}.")
    ends = threading.Event()
    signal.signal(signal.SIGTERM, lambda *_: ends.set())  # as Ctrl-C: jobs stop cleanly and wait again
    typer.echo(
        f"{workers} at a time from the queue of {folder}. Ctrl-C ends it: what is at work stops cleanly and waits "
        "again.",
        err=True,
    )
    with _alone_in(folder) if alone else nullcontext():
        take(
            Queue(folder),
            workers,
            until_empty=until_empty,
            ends=ends,
            on_message=lambda message: typer.echo(message, err=True),
        )


def _alone_in(folder: Path) -> Any:
    """The only worker of its kind in a folder."""
    from jokulmist.records.lock import writing

    place = folder / ".worker"
    place.mkdir(parents=True, exist_ok=True)
    return writing(place)
