"""Ctrl-C while something is at work: once ends it cleanly, twice at once."""

from __future__ import annotations

import signal
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from types import FrameType


class Asked:
    """Whether an end was asked for; whoever is at work looks at it between two steps."""

    def __init__(self, now: bool = False) -> None:
        self.now = now

    def __bool__(self) -> bool:
        return self.now


_HEEDING: list[Asked] = []


@contextmanager
def heeding_ctrl_c() -> Iterator[Asked]:
    """The first Ctrl-C is only noted, the second interrupts; the handler found before is put back.

    Noted and no more, because it may come in the middle of a write. Within another such block both hear of it, and what was
    asked before the inner one began counts there, too.
    """
    asked = Asked(any(_HEEDING))
    if threading.current_thread() is not threading.main_thread():
        yield asked
        return

    def handle(number: int, frame: FrameType | None) -> None:
        if asked:
            raise KeyboardInterrupt
        ask()

    _HEEDING.append(asked)
    before = signal.signal(signal.SIGINT, handle)
    try:
        yield asked
    finally:
        signal.signal(signal.SIGINT, before)
        _HEEDING.remove(asked)


def ask() -> None:
    """Ask all that is at work in this process to end."""
    for asked in _HEEDING:
        asked.now = True
