"""A worker process of `pool.py`: does the jobs that it is given, one after another, and keeps what it compiled."""

from __future__ import annotations

import contextlib
import json
import os
import sys
import threading
import traceback
from collections.abc import Iterator
from dataclasses import asdict
from typing import Any, TextIO

from jokulmist.errors import JokulmistError
from jokulmist.running.interrupts import StopRequest, handling_stops
from jokulmist.running.workers import pool
from jokulmist.sources.trust import trust_everything


class WorkerOutput:
    """Shows progress by telling the process that asked."""

    def __init__(self, out: TextIO, stop_request: StopRequest) -> None:
        self._out, self._stop_request = out, stop_request
        self.ending = ""

    def send(self, kind: str, **more: Any) -> None:
        with contextlib.suppress(BrokenPipeError):  # the process that asked has gone; the end of the input says so, too
            self._out.write(json.dumps({"kind": kind, **more}) + "\n")
            self._out.flush()

    def begin(self, title: str) -> None:
        self.ending = ""

    def update(self, progress: Any) -> None:
        self.send("progress", progress=asdict(progress))

    def message(self, text: str) -> None:
        if not self._stop_request:  # the process that asked for the end has said so
            self.send("say", text=text)

    def end(self, text: str) -> None:
        self.ending = text


def main() -> None:
    """Work until the input ends."""
    # What a researcher's code prints belongs beside the talk, not into the answers.
    out = os.fdopen(os.dup(1), "w", encoding="utf-8")
    os.dup2(2, 1)
    pool.IN_WORKER = True
    trust_everything()
    with handling_stops() as stop_request:  # only noted: the process that gives the jobs says when to stop
        _serve(WorkerOutput(out, stop_request), stop_request)


def _serve(output: WorkerOutput, stop_request: StopRequest) -> None:
    """Read the first plan, then do the jobs."""
    line = sys.stdin.readline()
    if not line:  # gone before anything was asked
        return
    first = json.loads(line)
    sys.path[:] = [*first["modules"], *[place for place in sys.path if place not in first["modules"]]]
    os.chdir(first["folder"])
    if first["core"] is not None and hasattr(os, "sched_setaffinity"):
        os.sched_setaffinity(0, {first["core"]})
    try:
        from jokulmist.running.workers.jobs import Plans

        plans = Plans()
        pool.READING = True
        plans.plan(first["plan"], first["base"])
        pool.READING = False
    except BaseException as failure:
        output.send("failed", error=type(failure).__name__, text=str(failure) or type(failure).__name__)
        return
    output.send("ready")
    for message in _messages(stop_request):
        _work(plans, message["job"], output)
    sys.stderr.flush()
    os._exit(0)  # every run is written; taking compiled programs apart would make the caller wait for most of a second


def _messages(stop_request: StopRequest) -> Iterator[dict[str, Any]]:
    """The jobs, as they come. A word to stop, and the end of the input, end the one that is done: cleanly, with all
    saved."""
    waiting: list[dict[str, Any]] = []
    ready = threading.Condition()
    ended = False

    def listen() -> None:
        nonlocal ended
        for line in sys.stdin:
            message = json.loads(line)
            stop_request.immediately = (
                message["kind"] == "stop"
            )  # what was asked before does not concern a job that comes after
            if stop_request:
                continue
            with ready:
                waiting.append(message)
                ready.notify()
        with ready:
            ended = True
            ready.notify()
        stop_request.immediately = True

    threading.Thread(target=listen, daemon=True).start()
    while True:
        with ready:
            while not waiting and not ended:
                ready.wait()
            if not waiting:
                return
            message = waiting.pop(0)
        yield message


def _work(plans: Any, message: dict[str, Any], output: WorkerOutput) -> None:
    from jokulmist.running.workers.jobs import WorkerJob, work

    job = WorkerJob(**message)
    output.ending = ""
    answer: dict[str, Any] = {"kind": "done", "result": {}}
    try:
        answer["result"] = work(job, output, plans.plan)
        answer["text"] = output.ending
    except JokulmistError as failure:
        answer = {"kind": "failed", "error": type(failure).__name__, "text": str(failure)}
    except KeyboardInterrupt:
        pass
    except Exception as failure:
        answer = {"kind": "failed", "error": "JokulmistError", "text": told_of(failure)}
        traceback.print_exc()
    output.send(**answer)


def told_of(failure: BaseException) -> str:
    """A failure in words."""
    return f"{type(failure).__name__}: {failure}".rstrip(": ")


if __name__ == "__main__":
    main()
