"""Jobs done in this process, one after another: for classes that no other process can find, and for `workers=1`."""

from __future__ import annotations

from collections import deque
from collections.abc import Callable
from typing import Any

from jokulmist.errors import JokulmistError
from jokulmist.plans.progress import RunProgress
from jokulmist.running.workers.jobs import Plans, WorkerJob, WorkerMessage, work
from jokulmist.running.workers.worker import told_of


class InProcess:
    """This process as a worker. A job is done while its end is waited for."""

    count = 1

    def __init__(self, plans: Plans, watch: Callable[[Any, RunProgress], Any]) -> None:
        self._plans, self._watch = plans, watch
        self._job: tuple[Any, WorkerJob] | None = None
        self._messages: deque[WorkerMessage] = deque()

    def free(self) -> bool:
        return self._job is None

    def give(self, tag: Any, job: WorkerJob) -> None:
        self._job = (tag, job)

    def receive(self, timeout: float) -> WorkerMessage | None:
        if self._messages:
            return self._messages.popleft()
        if self._job is None:
            return None
        tag, job = self._job
        display = RelayedProgress(tag, self._watch, self._messages)
        try:
            result = work(job, display, self._plans.plan)
            self._messages.append(WorkerMessage("done", tag, text=display.ending, result=result))
        except JokulmistError as failure:
            self._messages.append(WorkerMessage("failed", tag, text=str(failure), error=type(failure).__name__))
        except Exception as failure:
            self._messages.append(WorkerMessage("failed", tag, text=told_of(failure), error="JokulmistError"))
        self._job = None
        return self._messages.popleft()

    def stop(self) -> None:
        """Nothing to do: a run in this process hears of Ctrl-C itself."""

    def close(self) -> None: ...


class RelayedProgress:
    """Passes a run's progress on to the caller."""

    def __init__(self, tag: Any, watch: Callable[[Any, RunProgress], Any], messages: deque[WorkerMessage]) -> None:
        self._tag, self._watch, self._messages = tag, watch, messages
        self.ending = ""

    def begin(self, title: str) -> None: ...

    def update(self, progress: RunProgress) -> None:
        self._watch(self._tag, progress)

    def message(self, text: str) -> None:
        self._messages.append(WorkerMessage("say", self._tag, text=text))

    def end(self, text: str) -> None:
        self.ending = text
