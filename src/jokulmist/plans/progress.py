"""The live line: where a run is, shown while it works. The library is silent unless one is passed in."""

from __future__ import annotations

import math
import os
import sys
from collections.abc import Callable
from contextlib import suppress
from dataclasses import dataclass
from functools import wraps
from html import escape
from typing import Any, Protocol, TypeVar

from jokulmist.errors import RunNotice, printable, warn


@dataclass(frozen=True)
class RunProgress:
    """How far a run is."""

    decisions: int
    episodes: int
    share: float
    mean_return: float
    per_second: float
    seconds: float

    @property
    def seconds_left(self) -> float:
        return self.seconds * (1.0 - self.share) / self.share if self.share > 0 else math.nan


class ProgressDisplay(Protocol):
    """Whoever shows a run's progress."""

    def begin(self, title: str) -> None: ...

    def update(self, progress: RunProgress) -> None: ...

    def message(self, text: str) -> None:
        """One line that stays."""
        ...

    def end(self, text: str) -> None: ...


class SilentDisplay:
    """Shows nothing."""

    def begin(self, title: str) -> None: ...

    def update(self, progress: RunProgress) -> None: ...

    def message(self, text: str) -> None: ...

    def end(self, text: str) -> None: ...


def record_or_warn(display: ProgressDisplay, text: str) -> None:
    """Say something that matters before a training; where nothing is shown, by a warning."""
    if type(display) is SilentDisplay:
        warn(text, RunNotice)
    else:
        display.message(text)


def duration(seconds: float) -> str:
    """Seconds as a person says them: ``8 s``, ``3 min 20 s``, ``2 h 05 min``."""
    if not math.isfinite(seconds):
        return "?"
    rounded = round(seconds)
    if rounded < 60:
        return f"{rounded} s"
    if rounded < 3600:
        return f"{rounded // 60} min {rounded % 60:02d} s"
    return f"{rounded // 3600} h {rounded % 3600 // 60:02d} min"


def line_of(progress: RunProgress) -> str:
    """The live line's text."""
    mean = "no episode yet" if math.isnan(progress.mean_return) else f"mean return {progress.mean_return:.4g}"
    left = duration(progress.seconds_left)
    return (
        f"{progress.share:4.0%}  {progress.decisions:,} decisions  {progress.episodes:,} episodes  {mean}  "
        f"{progress.per_second:,.0f} steps/s  {left} left"
    )


def mute(stream: Any) -> None:
    """Send to nowhere what is still on its way to a reader that has gone: it would fail again when the program ends."""
    with suppress(OSError, ValueError, AttributeError):
        os.dup2(os.open(os.devnull, os.O_WRONLY), stream.fileno())


Display = TypeVar("Display", bound=type)


def never_ends_a_training(kind: Display) -> Display:
    """A display whose output has gone, a closed pipe or a terminal that hung up, shows nothing more; whoever works goes
    on."""

    def guarded(write: Callable[..., None]) -> Callable[..., None]:
        @wraps(write)
        def safe(self: Any, *arguments: Any) -> None:
            if getattr(self, "_gone", False):
                return
            try:
                write(self, *arguments)
            except (OSError, ValueError, SystemExit):  # rich ends a program whose pipe is closed
                self._gone = True
                mute(self._console.file)
                with suppress(Exception, SystemExit):
                    if self._live is not None:
                        self._live.stop()

        return safe

    for name in ("begin", "update", "message", "end"):
        setattr(kind, name, guarded(getattr(kind, name)))
    return kind


@never_ends_a_training
class LiveLine:
    """One line on a terminal that is written over, by rich; elsewhere a line every ten seconds."""

    def __init__(self, console: Any = None) -> None:
        from rich.console import Console
        from rich.live import Live
        from rich.text import Text

        self._console = console or Console(stderr=True, highlight=False)
        self._live_type, self._text = Live, Text
        self._live: Any = None
        self._title = ""
        self._last_shown = 0.0

    def begin(self, title: str) -> None:
        self._title = printable(title)
        self._last_shown = 0.0
        if self._console.is_terminal:
            self._live = self._live_type(self._text(title), console=self._console, refresh_per_second=8, transient=True)
            self._live.start()

    def update(self, progress: RunProgress) -> None:
        text = f"{self._title}  {line_of(progress)}"
        if self._live is not None:
            self._live.update(self._text(text, overflow="ellipsis", no_wrap=True))
        elif progress.seconds - self._last_shown >= 10.0:
            self._last_shown = progress.seconds
            self._console.print(text, soft_wrap=True)

    def message(self, text: str) -> None:
        # A terminal breaks lines between words; elsewhere a line stays one, so that it can be searched for.
        self._console.print(printable(text), soft_wrap=not self._console.is_terminal, markup=False)

    def end(self, text: str) -> None:
        if self._live is not None:
            self._live.stop()
            self._live = None
        self._console.print(f"{self._title}  {text}", soft_wrap=True, markup=False)


class NotebookLine:
    """The same line in the cell of a notebook, which is written over in place."""

    every_seconds = 0.5

    def __init__(self) -> None:
        from IPython.display import HTML, display

        self._html, self._display = HTML, display
        self._handle: Any = None
        self._title, self._last_shown = "", 0.0

    def begin(self, title: str) -> None:
        self._title, self._last_shown = title, 0.0
        self._handle = self._display(self._line("begins"), display_id=True)  # type: ignore[no-untyped-call]

    def update(self, progress: RunProgress) -> None:
        if self._handle is not None and progress.seconds - self._last_shown >= self.every_seconds:
            self._last_shown = progress.seconds
            self._handle.update(self._line(line_of(progress), progress.share))

    def message(self, text: str) -> None:
        print(printable(text))

    def end(self, text: str) -> None:
        if self._handle is not None:
            self._handle.update(self._line(text))
            self._handle = None

    def _line(self, text: str, share: float | None = None) -> Any:
        bar = (
            "" if share is None else f'<progress max="1" value="{share:.3f}" style="vertical-align:middle"></progress> '
        )
        return self._html(f"<div>{bar}{escape(self._title)}&nbsp; {escape(printable(text))}</div>")  # type: ignore[no-untyped-call]


def in_notebook() -> bool:
    """Whether this runs in the kernel of a notebook."""
    ipython = sys.modules.get("IPython")
    shell = None if ipython is None else ipython.get_ipython()
    return getattr(shell, "kernel", None) is not None


def usual_display() -> ProgressDisplay:
    """What shows progress where nobody says: a line in a notebook or a terminal, and nothing elsewhere."""
    if in_notebook():
        return NotebookLine()
    return LiveLine() if sys.stderr.isatty() else SilentDisplay()
