"""The workers of a Dask cluster do a search's jobs: on this machine, on others, wherever the search's folder is seen.

A Dask worker hands each job to a warm worker process of its own, one a thread, so that its event loop stays free and
compiled code is kept. A job whose Dask worker dies is given to another, which goes on from the run's last checkpoint.
"""

from __future__ import annotations

import contextlib
import logging
import queue
import threading
import time
from pathlib import Path
from typing import Any

from jokulmist.errors import LookupFailed, SettingError
from jokulmist.plans.progress import RunProgress
from jokulmist.records.run_index import tail_of
from jokulmist.running.workers.jobs import WorkerJob, WorkerMessage
from jokulmist.running.workers.pool import WorkerPool

SECONDS_TO_CONNECT = 10
LOOK_SECONDS = 1.0
SECONDS_TO_CLOSE = 5
_CREWS: dict[int, WorkerPool] = {}
_LOCK = threading.Lock()


def do(written: dict[str, Any], plan: dict[str, Any]) -> dict[str, Any]:
    """Do a job in a Dask worker, by the warm process of this thread."""
    thread = threading.get_ident()
    with _LOCK:
        if thread not in _CREWS:
            _CREWS[thread] = WorkerPool(1, plan, pinned=False, base=written["base"])
        worker_pool = _CREWS[thread]
    worker_pool.give(None, WorkerJob(**written))
    messages: list[str] = []
    while True:
        worker_message = worker_pool.receive(1.0)
        if worker_message is None or worker_message.kind == "progress":
            continue
        if worker_message.kind == "say":
            messages.append(worker_message.text)
            continue
        return {
            "kind": worker_message.kind,
            "text": worker_message.text,
            "error": worker_message.error,
            "result": worker_message.result,
            "said": messages,
        }


def stop_all() -> None:
    """Ask what is at work in a Dask worker to save what it has and end."""
    with _LOCK:
        for worker_pool in _CREWS.values():
            worker_pool.stop()


def close_all() -> None:
    """End the warm processes of a Dask worker."""
    with _LOCK:
        for worker_pool in _CREWS.values():
            worker_pool.close()
        _CREWS.clear()


class Cluster:
    """The workers of a Dask cluster."""

    def __init__(self, address: str, plan: dict[str, Any]) -> None:
        try:
            import distributed
        except ImportError:
            raise SettingError('a cluster needs Dask: `pip install "jokulmist[cluster]"`.') from None
        try:
            client: Any = distributed.Client
            self._client = client(address, timeout=SECONDS_TO_CONNECT, set_as_default=False)
        except (OSError, ValueError, TimeoutError) as failure:
            reason = str(failure).splitlines()[0] if str(failure) else type(failure).__name__
            raise LookupFailed(
                f"no Dask scheduler answers at {address}: {reason}. Start one by `dask scheduler`, and workers by "
                f"`dask worker ADDRESS`."
            ) from None
        # What it logs of a connection that is lost is a traceback; what it means is said by the search.
        logging.getLogger("distributed.client").setLevel(logging.CRITICAL)
        self._plan, self._address = plan, address
        self._stopping, self._alone_since = False, 0.0
        self._jobs: dict[Any, tuple[Any, WorkerJob]] = {}
        self._ended: queue.Queue[Any] = queue.Queue()
        self._messages: list[WorkerMessage] = []
        self._looked = time.monotonic()
        self._began: dict[Any, float] = {}
        if not self.count:
            self._client.close()
            raise LookupFailed(f"the Dask scheduler at {address} has no worker. Start some by `dask worker {address}`.")

    @property
    def count(self) -> int:
        """How many jobs can be done at once; workers come and go."""
        try:
            return int(sum(self._client.nthreads().values()))
        except (OSError, RuntimeError, TimeoutError):
            raise self._gone() from None

    def _gone(self) -> LookupFailed:
        return LookupFailed(
            f"the Dask scheduler at {self._address} is gone. What was trained is kept: `jokulmist resume` goes on with "
            "the search, here or with `--cluster` and a scheduler that is there."
        )

    def free(self) -> bool:
        return len(self._jobs) < self.count

    def give(self, tag: Any, job: WorkerJob) -> None:
        future = self._client.submit(do, job.written(), self._plan, pure=False)
        self._jobs[tag] = (future, job)
        self._began[tag] = time.monotonic()
        future.add_done_callback(lambda _: self._ended.put(tag))

    def receive(self, timeout: float) -> WorkerMessage | None:
        if self._messages:
            return self._messages.pop()
        try:
            tag = self._ended.get(timeout=timeout)
        except queue.Empty:
            if self._client.status not in ("running", "connecting"):
                raise self._gone() from None
            self._look()
            return None
        future, _ = self._jobs.pop(tag)
        if future.status in ("lost", "cancelled"):
            if self._stopping:  # it had not begun, or its worker had gone
                return WorkerMessage("done", tag)
            raise self._gone()
        if future.status != "finished":
            why = (
                f"{type(future.exception()).__name__}: {future.exception()}"
                if future.status == "error"
                else future.status
            )
            return WorkerMessage("failed", tag, text=f"its worker on the cluster was lost ({why})", error="RecordError")
        message = future.result()
        self._messages += [WorkerMessage("say", tag, text=text) for text in message["said"]]
        return WorkerMessage(
            message["kind"], tag, text=message["text"], error=message["error"], result=message["result"]
        )

    def _look(self) -> None:
        """How far runs are is in their folders, which this machine sees, too."""
        clock = time.monotonic()
        if clock - self._looked < LOOK_SECONDS:
            return
        self._looked = clock
        self._watch_workers(clock)
        for tag, (_, job) in self._jobs.items():
            tail = tail_of(Path(job.path))
            planned = job.until or job.plan["training"].get("steps") or 0
            if tail:
                seconds = clock - self._began[tag]
                share = min(tail["decisions"] / planned, 1.0) if planned else 0.0
                self._messages.append(
                    WorkerMessage(
                        "progress",
                        tag,
                        progress=RunProgress(
                            tail["decisions"],
                            tail["episodes"],
                            share,
                            tail["return_last_100"],
                            tail["decisions"] / max(seconds, 1e-9),
                            seconds,
                        ),
                    )
                )

    def _watch_workers(self, seconds: float) -> None:
        """Say it where no worker is left; once an end is asked for, what no worker does is given up."""
        if self.count:
            self._alone_since = 0.0
            return
        if not self._alone_since:
            self._alone_since = seconds
            self._messages.append(
                WorkerMessage(
                    "say",
                    None,
                    text=(
                        f"the Dask scheduler at {self._address} has no worker any more; the search waits for one "
                        "(Ctrl-C ends it, with all saved)"
                    ),
                )
            )
        if self._stopping:
            self._client.cancel([future for future, _ in self._jobs.values()], force=True)

    def stop(self) -> None:
        """What is at work saves what it has; what waits is not begun."""
        self._stopping = True
        self._tell_workers(stop_all)
        with contextlib.suppress(Exception):
            busy = {key for keys in self._client.processing().values() for key in keys}
            self._client.cancel([future for future, _ in self._jobs.values() if future.key not in busy], force=True)

    def _tell_workers(self, work: Any) -> None:
        """Have every worker do something; one that has gone unnoticed answers only when its connection times out, and
        is not waited for long."""

        def send() -> None:
            with contextlib.suppress(Exception):
                self._client.run(work, on_error="ignore")

        telling = threading.Thread(target=send, daemon=True)
        telling.start()
        telling.join(SECONDS_TO_CLOSE)

    def close(self) -> None:
        if self._client.status == "running":
            self._tell_workers(close_all)
        self._client.close(timeout=SECONDS_TO_CLOSE)
