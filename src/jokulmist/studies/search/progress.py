"""The live view of a search: candidates, the best so far with its interval, time left."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Any, Protocol

from jokulmist.plans.progress import RunProgress, duration, never_ends_a_training
from jokulmist.plans.setting_differences import short_names
from jokulmist.studies.search.candidates import Candidate, ShownScore
from jokulmist.studies.search.space import Settings

LINE_SECONDS = 10.0
BAR = 28


@dataclass(frozen=True)
class Row:
    """A run that is being trained; nothing is known of one that just begins."""

    candidate: str
    seed: int
    progress: RunProgress | None
    settings: Settings


@dataclass(frozen=True)
class SearchView:
    """How far a search is."""

    name: str
    method: str
    score: str
    tried: int
    finished: int
    failed: int
    share: float
    seconds: float
    seconds_left: float
    best: tuple[Candidate, ShownScore] | None
    rows: list[Row]
    ranked: list[tuple[Candidate, ShownScore]]
    workers: int


class SearchDisplay(Protocol):
    """Whoever shows a search."""

    def begin(self, name: str) -> None: ...

    def update(self, view: SearchView) -> None: ...

    def message(self, text: str) -> None: ...

    def end(self) -> None: ...


class SilentSearchDisplay:
    """Shows nothing."""

    def begin(self, name: str) -> None: ...

    def update(self, view: SearchView) -> None: ...

    def message(self, text: str) -> None: ...

    def end(self) -> None: ...


def format_settings(settings: Settings) -> str:
    """Settings in a line: ``learning_rate 0.003, clip 0.2``."""
    short = short_names(list(settings))
    return ", ".join(f"{short[n]} {v:g}" if isinstance(v, float) else f"{short[n]} {v}" for n, v in settings.items())


def line_of(view: SearchView) -> str:
    """A search in one line."""
    best = "no score yet" if view.best is None else f"best {view.best[1]} (candidate {view.best[0].number})"
    failed = f", {view.failed} failed" if view.failed else ""
    return (
        f"{view.name}  {view.share:4.0%}  {view.finished} candidates scored{failed}  {best}  "
        f"{duration(view.seconds_left)} left"
    )


@never_ends_a_training
class LiveSearchDisplay:
    """A board on a terminal that is drawn over, by rich; elsewhere a line every ten seconds."""

    def __init__(self, console: Any = None) -> None:
        from rich.console import Console

        self._console = console or Console(stderr=True, highlight=False)
        self._live: Any = None
        self._last_shown = -math.inf
        self._view: SearchView | None = None

    def begin(self, name: str) -> None:
        from rich.live import Live

        self._last_shown = -math.inf
        if self._console.is_terminal:
            self._live = Live(console=self._console, refresh_per_second=4, transient=True)
            self._live.start()

    def update(self, view: SearchView) -> None:
        self._view = view
        if self._live is not None:
            self._live.update(board_of(view))
        elif view.seconds - self._last_shown >= LINE_SECONDS:
            self._last_shown = view.seconds
            self._console.print(line_of(view), soft_wrap=True, markup=False)

    def message(self, text: str) -> None:
        self._console.print(text, soft_wrap=True, markup=False)

    def end(self) -> None:
        if self._live is not None:
            self._live.stop()
            self._live = None
        if self._view is not None:
            self._console.print(line_of(self._view), soft_wrap=True, markup=False)


def board_of(view: SearchView) -> Any:
    """The board that a terminal shows."""
    from rich.console import Group
    from rich.table import Table
    from rich.text import Text

    full = round(BAR * view.share)
    head = Text.assemble(
        (f"{view.name}", "bold"),
        f"  {view.method}, scored by {view.score}\n",
        ("█" * full, "cyan"),
        ("░" * (BAR - full), "dim"),
        f" {view.share:4.0%}   {duration(view.seconds)} so far, {duration(view.seconds_left)} left\n",
        f"{view.tried} candidates begun, {view.finished} scored, {view.failed} failed",
    )
    parts: list[Any] = [head]
    if view.best is not None:
        candidate, score = view.best
        parts.append(
            Text.assemble(
                "\n",
                ("best so far  ", "bold"),
                (str(score), "bold green"),
                f"  candidate {candidate.number}: {format_settings(candidate.settings)}",
            )
        )
    table = Table(box=None, pad_edge=False, header_style="dim", padding=(0, 2, 0, 0))
    for title, justify in (
        ("at work", "right"),
        ("seed", "right"),
        ("done", "right"),
        ("decisions", "right"),
        ("mean return", "right"),
        ("settings", "left"),
    ):
        table.add_column(title, justify=justify, no_wrap=True, overflow="ellipsis")  # type: ignore[arg-type]
    for row in view.rows:
        progress = row.progress
        mean = "-" if progress is None or math.isnan(progress.mean_return) else f"{progress.mean_return:.4g}"
        done, decisions = ("begins", "-") if progress is None else (f"{progress.share:.0%}", f"{progress.decisions:,}")
        table.add_row(row.candidate, str(row.seed), done, decisions, mean, format_settings(row.settings))
    parts += [Text(""), table]
    if view.ranked:
        ranked = Table(box=None, pad_edge=False, header_style="dim", padding=(0, 2, 0, 0))
        for title, justify in (("the first", "right"), ("score", "left"), ("decisions", "right"), ("settings", "left")):
            ranked.add_column(title, justify=justify, no_wrap=True, overflow="ellipsis")  # type: ignore[arg-type]
        for candidate, score in view.ranked:
            ranked.add_row(
                str(candidate.number), str(score), f"{candidate.decisions:,}", format_settings(candidate.settings)
            )
        parts += [Text(""), ranked]
    return Group(*parts)
