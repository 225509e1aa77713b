"""Handing finished episodes to a recorder, seldom and in bulk, so that it costs little; where very many close, on a
second thread.

What was not handed over when a run is killed is trained again when it goes on: a checkpoint waits for it.
"""

from __future__ import annotations

import time
from concurrent.futures import Future, ThreadPoolExecutor
from typing import Any

from jokulmist.environments.declaration.description import Description
from jokulmist.records.episodes import Episodes, columns_of

SECONDS = 0.5
MANY_A_SECOND = 10_000
MOST_WAITING = 200_000


class Recording:
    """Gathers episodes and hands them over.

    Attributes
    ----------
    seconds : float
        What recording took the training so far.
    beside : float
        What it took on the second thread.
    """

    def __init__(self, recorder: Any, description: Description, record_names: tuple[str, ...] = ()) -> None:
        self._recorder, self._description, self._record_names = recorder, description, record_names
        self._parts: list[Episodes] = []
        self._waiting = 0
        self._first = 0
        self._started = self._handed = time.perf_counter()
        self._episodes = 0
        self._thread: ThreadPoolExecutor | None = None
        self._busy: Future[float] | None = None
        self.seconds = self.beside = 0.0

    def begin(self, first: int) -> None:
        """The number of the next episode."""
        self._first = first

    def take(self, batch: Episodes) -> None:
        """Take episodes; they are handed over when it is time."""
        self._parts.append(batch)
        self._waiting += len(batch)
        self._episodes += len(batch)
        seconds = time.perf_counter()
        if seconds - self._handed > SECONDS or self._waiting > MOST_WAITING:
            self._hand_over(seconds)

    def settle(self) -> None:
        """Hand over everything, and wait until it is written."""
        if self._parts:
            self._hand_over(time.perf_counter())
        self._wait()

    def close(self) -> None:
        self.settle()
        if self._thread is not None:
            self._thread.shutdown()

    def _hand_over(self, seconds: float) -> None:
        parts, first = self._parts, self._first
        self._first += self._waiting
        self._parts, self._waiting, self._handed = [], 0, seconds
        if self._episodes / max(seconds - self._started, 0.1) > MANY_A_SECOND:
            self._wait()
            self._thread = self._thread or ThreadPoolExecutor(1, "recording")
            self._busy = self._thread.submit(self._write, parts, first)
            self.seconds += time.perf_counter() - seconds
        else:
            self.seconds += self._write(parts, first)

    def _wait(self) -> None:
        if self._busy is not None:
            began = time.perf_counter()
            self.beside += self._busy.result()
            self._busy = None
            self.seconds += time.perf_counter() - began

    def _write(self, parts: list[Episodes], first: int) -> float:
        began = time.perf_counter()
        batch = parts[0] if len(parts) == 1 else Episodes.joined(parts)
        self._recorder.episodes(columns_of(batch, self._description, first, self._record_names))
        return time.perf_counter() - began
