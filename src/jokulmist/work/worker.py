"""A worker takes jobs from a queue, each in a process of its own, which ends with the worker."""

from __future__ import annotations

import os
import signal
import tempfile
import threading
import time
from collections.abc import Callable
from pathlib import Path

from jokulmist.child_processes import start_child
from jokulmist.errors import LookupFailed, RecordError
from jokulmist.records.lock import holder
from jokulmist.records.origin import checked_origin
from jokulmist.records.run_folder import is_run
from jokulmist.work.jobs import DONE, FAILED, PAUSED, STOPPED, Job
from jokulmist.work.queue import Queue

LOOK_SECONDS = 0.5
AGAIN_SECONDS = 30.0
LAST_WORDS = 2_000
Message = Callable[[str], None]


def work(
    queue: Queue,
    workers: int = 1,
    *,
    until_empty: bool = False,
    ends: threading.Event | None = None,
    on_message: Message | None = None,
) -> None:
    """Take jobs until told to end; so many at a time."""
    ends, on_message = ends or threading.Event(), on_message or (lambda _: None)
    threads = [
        threading.Thread(target=_taking, args=(queue, until_empty, ends, on_message), daemon=True)
        for _ in range(workers)
    ]
    for thread in threads:
        thread.start()
    try:
        while any(thread.is_alive() for thread in threads):
            time.sleep(0.1)
    except KeyboardInterrupt:
        ends.set()
        for thread in threads:
            thread.join()
        raise


def _taking(queue: Queue, until_empty: bool, ends: threading.Event, on_message: Message) -> None:
    while not ends.is_set():
        try:
            for job in queue.take_back():
                on_message(f"job {job.id} ({job.run}) waits again: its worker was gone")
            job_now = queue.take()
            if job_now is not None:
                _worked(queue, job_now, ends, on_message)
                continue
            if until_empty and not any(job.ready for job in queue.jobs()):
                return
        except (RecordError, OSError) as trouble:
            on_message(str(trouble))
            if until_empty:
                return
        ends.wait(LOOK_SECONDS)


def _worked(queue: Queue, job: Job, ends: threading.Event, on_message: Message) -> None:
    """Do a job to its end, or until it is asked to stop."""
    path = queue.folder / job.run
    while holder(path) and not ends.is_set():  # a process that outlived its worker still writes
        ends.wait(LOOK_SECONDS)
    on_message(f"job {job.id}: {job.command}")
    with tempfile.TemporaryFile() as message:
        child = start_child("jokulmist.work.child", str(os.getpid()), *job.words(queue.folder), stderr=message)
        requests, sent = "", -AGAIN_SECONDS
        while child.poll() is None:
            wanted = "end" if ends.is_set() else _requested_state(queue, job, on_message)
            # An interrupt that lands where Python cannot raise it is lost, so it is sent again.
            if wanted and time.monotonic() - sent > AGAIN_SECONDS:
                requests, sent = wanted, time.monotonic()
                child.send_signal(signal.SIGINT)
            time.sleep(LOOK_SECONDS)
        message.seek(0)
        last = _last_line(message.read()[-LAST_WORDS:])
    _ended(queue, job, child.returncode, requests, last, on_message)


def _requested_state(queue: Queue, job: Job, on_message: Message) -> str:
    """What is to be done with a job at work; nothing, where the queue cannot be read just now."""
    try:
        return queue.job(job.id).requested or ""
    except (RecordError, LookupFailed, OSError) as trouble:
        on_message(str(trouble))
        return ""


def _ended(queue: Queue, job: Job, status: int, requests: str, last: str, on_message: Message) -> None:
    if status == 0 or (status == 130 and job.verb == "resume" and _is_done(queue.folder / job.run)):
        # What several runs reached together stands beside them: its last line says where.
        queue.finish(job, DONE, last if job.options.get("partners") else "")
        on_message(f"job {job.id} ({job.run}) is done")
    elif requests == "end":
        queue.give_back(job)
        on_message(f"job {job.id} ({job.run}) was stopped and waits again")
    elif status == 130 or requests:
        queue.finish(job, PAUSED if requests == "pause" else STOPPED)
        on_message(f"job {job.id} ({job.run}) was stopped")
    elif status < 0:
        queue.give_back(job, tried=True)
        on_message(f"job {job.id} ({job.run}) was killed by signal {-status} and waits again")
    else:
        queue.finish(job, FAILED, last)
        on_message(f"job {job.id} ({job.run}) failed: {last}")


def _is_done(path: Path) -> bool:
    try:
        return is_run(path) and checked_origin(path)["status"] == "done"
    except RecordError:
        return False


def _last_line(data: bytes) -> str:
    lines = [line.strip() for line in data.decode(errors="replace").splitlines() if line.strip()]
    return lines[-1] if lines else ""
