"""Ctrl-C while a run trains: once ends it cleanly, twice at once."""

from __future__ import annotations

import signal
import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from types import FrameType


@contextmanager
def interrupted_by_ctrl_c(ask: Callable[[], None]) -> Iterator[None]:
    """The first Ctrl-C asks, the second interrupts; the handler found before is put back."""
    if threading.current_thread() is not threading.main_thread():
        yield
        return
    asked = False

    def handle(number: int, frame: FrameType | None) -> None:
        nonlocal asked
        if asked:
            raise KeyboardInterrupt
        asked = True
        ask()

    before = signal.signal(signal.SIGINT, handle)
    try:
        yield
    finally:
        signal.signal(signal.SIGINT, before)
