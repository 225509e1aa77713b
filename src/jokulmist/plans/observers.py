"""Observers: code of a user's own that looks at a run while it trains."""

from __future__ import annotations

import json
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, is_dataclass
from pathlib import Path
from typing import Any

from jokulmist.errors import BrokenEnvironment, JokulmistError, SettingError
from jokulmist.loading import Plugin, plugin_from
from jokulmist.plans.progress import RunProgress


@dataclass(frozen=True)
class LiveRun:
    """A run while it trains, as an observer is shown it.

    Attributes
    ----------
    path : Path or None
        The run's folder; None for a run in memory.
    seed : int
    progress : RunProgress
        ``decisions``, ``episodes``, ``share``, ``mean_return`` (of the last 100 episodes), ``per_second``, ``seconds``.
    readings : dict of str to float
        Those of the last report; empty before the first.
    policy : function
        Called without arguments: what was learned so far, as a `Policy`.
    log : function of str
        Writes a line to the run's log.txt.
    """

    path: Path | None
    seed: int
    progress: RunProgress
    readings: Mapping[str, float]
    policy: Callable[[], Any]
    log: Callable[[str], None]


class Observer(Plugin):
    """Base of code of your own that looks at a run while it trains: to log, to draw, or to end it.

    An observer is a dataclass in a file. In a plan it is named by ``use = "file.py:Name"`` under ``[[observers]]``.
    Each seed has its own copy of it.

    Attributes
    ----------
    every : int, optional
        Decisions between two looks, rounded up to whole updates; by default it looks at each report.

    Examples
    --------
    >>> from dataclasses import dataclass, is_dataclass
    >>> import jokulmist as jm
    >>> @dataclass
    ... class Counting(jm.Observer):
    ...     every: int | None = 500
    ...     looks: int = 0
    ...
    ...     def look(self, run):
    ...         self.looks += 1
    ...         return "it has looked twice" if self.looks == 2 else None
    >>> run = jm.train(jm.gallery.Ferry(), jm.QLearning(), steps=5_000, copies=1, folder=None, observers=[Counting()])
    >>> run.origin["decisions"], run.origin["ended_by"]
    (1000, 'it has looked twice')
    """

    every: int | None = None

    def begin(self, run: LiveRun) -> None:
        """Before the first decision, and where a run is resumed."""

    def look(self, run: LiveRun) -> str | None:
        """Look at the run; a text ends it, and is kept as the reason."""
        return None

    def end(self, run: LiveRun) -> None:
        """After the last decision, when the run is done or stopped."""

    def saved(self) -> dict[str, Any]:
        """What it must know to go on with a run, as JSON holds it; kept in each checkpoint."""
        return {}

    def restore(self, saved: Mapping[str, Any]) -> None:
        """Be what `saved` told."""


class Observers:
    """The observers of one seed: called in their order, and what they do wrong is told by name."""

    def __init__(self, observers: Sequence[Observer]) -> None:
        self._observers = list(observers)

    def __len__(self) -> int:
        return len(self._observers)

    @property
    def cadences(self) -> list[int | None]:
        """Decisions between two looks of each; None at each report."""
        return [observer.every for observer in self._observers]

    def look(self, due: Sequence[bool], run: LiveRun) -> str | None:
        """Let those look that are due; the first reason to end the run."""
        reasons = [self._call(k, "look", run) for k, is_due in enumerate(due) if is_due]
        for k, reason in enumerate(reasons):
            if reason is not None and not isinstance(reason, str):
                name = type(self._observers[k]).__name__
                raise SettingError(f"`{name}.look` gives a text that ends the run, or None; got {reason!r}.")
        return next((reason for reason in reasons if reason), None)

    def begin(self, run: LiveRun) -> None:
        for k in range(len(self._observers)):
            self._call(k, "begin", run)

    def end(self, run: LiveRun) -> None:
        for k in range(len(self._observers)):
            self._call(k, "end", run)

    def saved(self) -> list[dict[str, Any]]:
        states = []
        for k, observer in enumerate(self._observers):
            state = self._call(k, "saved")
            try:
                json.dumps(state)
            except (TypeError, ValueError) as wrong:
                raise SettingError(f"`{type(observer).__name__}.saved` must give what JSON holds: {wrong}.") from None
            states.append(state)
        return states

    def restore(self, saved: Sequence[Mapping[str, Any]]) -> None:
        for k, state in enumerate(saved):
            self._call(k, "restore", state)

    def _call(self, k: int, method: str, *arguments: Any) -> Any:
        observer = self._observers[k]
        try:
            return getattr(observer, method)(*arguments)
        except JokulmistError:
            raise
        except Exception as failure:
            raise BrokenEnvironment(
                f"`{type(observer).__name__}.{method}` failed: {type(failure).__name__}: {failure}"
            ) from failure


def observer_from(written: Any, base: Path | None = None) -> Observer:
    """The observer that an entry of a plan's ``[[observers]]`` names."""
    use = written.get("use") if isinstance(written, Mapping) else None
    if not isinstance(use, str) or ":" not in use:
        raise SettingError(f'an entry of `[[observers]]` has `use = "file.py:Name"`; got {written!r}.')
    return plugin_from(written, Observer, "observer", "`jm.Observer`", base)


def checked_observers(value: Any) -> tuple[Observer, ...]:
    """Observers as `train` was given them."""
    observers = tuple(value)
    for observer in observers:
        if not isinstance(observer, Observer):
            raise SettingError(f"`observers` takes observers, which derive from `jm.Observer`; got {observer!r}.")
        if not is_dataclass(observer):
            raise SettingError(
                f"`{type(observer).__name__}` must be a dataclass, so that a plan can hold it. Write `@dataclass` "
                "above it."
            )
        every = observer.every
        if every is not None and (isinstance(every, bool) or not isinstance(every, int) or every < 1):
            raise SettingError(f"`every` of `{type(observer).__name__}` counts decisions, from 1; got {every!r}.")
    return observers
