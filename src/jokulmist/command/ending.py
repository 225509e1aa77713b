"""How a command ends where it is not done: what is said of a notice, of code from elsewhere, and to a reader that has
gone."""

from __future__ import annotations

import _thread
import atexit
import gc
import signal
import sys
import time
import warnings
from functools import cache
from threading import current_thread, main_thread
from typing import TYPE_CHECKING, TextIO

import typer

from jokulmist.errors import CodeNotice, RunNotice, UntrustedCode, printable
from jokulmist.sources.trust import remember

if TYPE_CHECKING:
    from sys import UnraisableHookArgs
    from types import FrameType

_SHOWN_NOTICES: set[str] = set()
_TRUSTING: list[bool] = []
_LOST: list[bool] = []
_PENDING: list[bool] = []


@cache
def _collect_rarely() -> None:
    """What is loaded and compiled stays until the end of the process: to look through it again and again, and once more
    at the end, took 0.7 s of a short training."""
    gc.set_threshold(100_000, 50, 100)
    atexit.register(gc.freeze)


def begin() -> None:
    """Forget what was said, and trusted, for the command before."""
    _collect_rarely()
    warnings.showwarning = tell_notice
    sys.unraisablehook = interrupt_again
    if signal.getsignal(signal.SIGINT) is signal.default_int_handler and current_thread() is main_thread():
        signal.signal(signal.SIGINT, _interrupt)
    _SHOWN_NOTICES.clear()
    _TRUSTING.clear()
    _LOST.clear()


def trusting(is_trusted: bool) -> bool:
    """Note that ``--trust`` was given."""
    if is_trusted:
        _TRUSTING.append(True)
    return is_trusted


def tell_notice(
    message: Warning | str,
    category: type[Warning],
    filename: str,
    lineno: int,
    file: TextIO | None = None,
    line: str | None = None,
) -> None:
    """A word on the user's code as a plain line; any other warning as Python has it."""
    if issubclass(category, (CodeNotice, RunNotice)):
        text = printable(str(message))
        start = text.partition(" since ")[0]  # of several runs from the same files, one line is enough
        if start not in _SHOWN_NOTICES:
            typer.echo(f"note: {text}", err=True)
        _SHOWN_NOTICES.add(start)
    else:
        typer.echo(warnings.formatwarning(message, category, filename, lineno), err=True, nl=False)


def interrupt_again(lost: UnraisableHookArgs) -> None:
    """An interrupt that came while Python destroyed an object is not lost, and no traceback of it is printed: it comes
    again a moment later."""
    if issubclass(lost.exc_type, KeyboardInterrupt):
        _LOST.append(True)
        _interrupt_soon()
    else:
        sys.__unraisablehook__(lost)


def was_interrupted() -> bool:
    """Whether an interrupt was lost in this command: it may end before that comes again."""
    return bool(_LOST)


def _interrupt(number: int, frame: FrameType | None) -> None:
    """An interrupt within the hook itself would be lost as well, with a traceback: it waits until the hook is done."""
    caller = frame
    while caller is not None and caller.f_code is not interrupt_again.__code__:
        caller = caller.f_back
    if caller is None:
        signal.default_int_handler(number, frame)
    else:
        _interrupt_soon()


def _interrupt_soon() -> None:
    if not _PENDING:
        _PENDING.append(True)
        _thread.start_new_thread(_interrupt_later, ())


def _interrupt_later() -> None:
    time.sleep(0.02)  # at once, it would land in the hook
    _PENDING.clear()
    _thread.interrupt_main()


def let_run(problem: UntrustedCode) -> bool:
    """Whether a person lets code from elsewhere run, by ``--trust`` or asked in a terminal; then it is remembered."""
    source = problem.source
    if source is None or not _TRUSTING:
        typer.echo(f"jokulmist: {problem}", err=True)
        if source is None or not (_is_terminal(sys.stdin) and _is_terminal(sys.stderr)):
            return False
        if not typer.confirm("Let this code run, now and later?", err=True):
            return False
    remember(source)
    return True


def _is_terminal(stream: TextIO | None) -> bool:
    try:
        return stream is not None and stream.isatty()
    except ValueError:  # closed
        return False
