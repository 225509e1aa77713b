"""An end that is asked for while something is at work, by Ctrl-C or by the system: once ends it cleanly, twice at
once."""

from __future__ import annotations

import signal
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from types import FrameType
from typing import Any

# Ctrl-C; what `kill` and a batch system send; a terminal that is gone.
ASKING = ("SIGINT", "SIGTERM", "SIGHUP")


class StopRequest:
    """Whether an end was asked for. The code that works looks at it between two steps."""

    def __init__(self) -> None:
        self.immediately = False

    def __bool__(self) -> bool:
        return self.immediately


_OUTERMOST: StopRequest | None = None


@contextmanager
def handling_stops() -> Iterator[StopRequest]:
    """The first signal that asks for an end is only noted, the second interrupts; the handlers found before are put
    back.

    Noted and no more, because it may come in the middle of a write. A block within another is the same one. SIGHUP and
    SIGTERM that are ignored stay so: `nohup` means that a terminal which is gone ends nothing.
    """
    global _OUTERMOST
    request = StopRequest() if _OUTERMOST is None else _OUTERMOST
    if _OUTERMOST is not None or threading.current_thread() is not threading.main_thread():
        yield request
        return

    def handle(number: int, frame: FrameType | None) -> None:
        if request:
            raise KeyboardInterrupt
        request.immediately = True

    _OUTERMOST = request
    before: dict[int, Any] = {}
    for name in ASKING:
        number = getattr(signal, name, None)
        # A shell that starts a program in the background has it ignore SIGINT, and whoever sends one to that program
        # means it.
        if number is not None and (name == "SIGINT" or signal.getsignal(number) != signal.SIG_IGN):
            before[number] = signal.signal(number, handle)
    try:
        yield request
    finally:
        for number, handler in before.items():
            signal.signal(number, signal.SIG_DFL if handler is None else handler)
        _OUTERMOST = None
