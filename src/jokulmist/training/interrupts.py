"""Ctrl-C while something is at work: once ends it cleanly, twice at once."""

from __future__ import annotations

import signal
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from types import FrameType


class StopRequest:
    """Whether an end was asked for. The code that works looks at it between two steps."""

    def __init__(self) -> None:
        self.now = False

    def __bool__(self) -> bool:
        return self.now


_OUTERMOST: StopRequest | None = None


@contextmanager
def heeding_ctrl_c() -> Iterator[StopRequest]:
    """The first Ctrl-C is only noted, the second interrupts; the handler found before is put back.

    Noted and no more, because it may come in the middle of a write. A block within another is the same one.
    """
    global _OUTERMOST
    asked = StopRequest() if _OUTERMOST is None else _OUTERMOST
    if _OUTERMOST is not None or threading.current_thread() is not threading.main_thread():
        yield asked
        return

    def handle(number: int, frame: FrameType | None) -> None:
        if asked:
            raise KeyboardInterrupt
        asked.now = True

    _OUTERMOST = asked
    before = signal.signal(signal.SIGINT, handle)
    try:
        yield asked
    finally:
        signal.signal(signal.SIGINT, before)
        _OUTERMOST = None
