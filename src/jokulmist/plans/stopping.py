"""When a run has done enough: a mean return, a plateau, a time, or a function of one's own, asked at each report.

Reports stand at decisions that the plan fixes, so a run that stops by what it earned stops at the same decision again;
only `minutes` follows the clock.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping
from typing import Annotated, Any

from pydantic import Field

from jokulmist.errors import SettingError
from jokulmist.loading import name_of
from jokulmist.plans.progress import RunProgress
from jokulmist.settings import Settings

Judge = Callable[[RunProgress], Any]
FULL = 100


class StopWhen(Settings):
    """What ends a run before its planned length. Any of them does."""

    name_in_messages = "stop_when"

    mean_return: float | None = None
    plateau: Annotated[int, Field(gt=0, strict=True)] | None = None
    minutes: Annotated[float, Field(gt=0.0)] | None = None

    def __init__(self, **settings: Any) -> None:
        super().__init__(**settings)
        if self.mean_return is None and self.plateau is None and self.minutes is None:
            raise SettingError("`stop_when` says nothing. Use for instance `stop_when={'mean_return': 120.0}`.")


class Stopping:
    """Asks at each report whether a run has done enough.

    Attributes
    ----------
    best : float
        The highest mean return so far.
    since : int
        The decisions at which it was reached.
    """

    def __init__(self, rule: StopWhen | Judge | None) -> None:
        self.rule = rule
        self.best, self.since = -math.inf, 0

    def why(self, progress: RunProgress) -> str | None:
        """Why the run ends here, or None."""
        mean = progress.mean_return
        full = progress.episodes >= FULL and math.isfinite(mean)
        if full and mean > self.best:
            self.best, self.since = mean, progress.decisions
        if self.rule is None:
            return None
        if not isinstance(self.rule, StopWhen):
            return f"`{getattr(self.rule, '__name__', 'stop_when')}` said so" if bool(self.rule(progress)) else None
        wanted = self.rule
        if wanted.mean_return is not None and full and mean >= wanted.mean_return:
            return f"the mean return {mean:.6g} reached {wanted.mean_return:g}"
        if wanted.plateau is not None and full and progress.decisions - self.since >= wanted.plateau:
            return f"the mean return reached no new height for {wanted.plateau:,} decisions"
        if wanted.minutes is not None and progress.seconds >= 60.0 * wanted.minutes:
            return f"{wanted.minutes:g} minutes have passed"
        return None

    def saved(self) -> dict[str, Any]:
        return {"best": self.best if math.isfinite(self.best) else None, "since": self.since}

    def restore(self, saved: Mapping[str, Any]) -> None:
        self.best = -math.inf if saved["best"] is None else saved["best"]
        self.since = saved["since"]


def stop_when_from(value: Any) -> StopWhen | Judge | None:
    """What a researcher gave as `stop_when`, checked."""
    if value is None or isinstance(value, StopWhen) or callable(value):
        return value  # type: ignore[no-any-return]
    if isinstance(value, Mapping):
        return StopWhen(**value)
    raise SettingError(
        f"`stop_when` takes a dict such as `{{'mean_return': 120.0}}`, or a function of the progress; got {value!r}."
    )


def written(rule: StopWhen | Judge | None) -> Any:
    """As a plan holds it."""
    if rule is None or isinstance(rule, StopWhen):
        return None if rule is None else {k: v for k, v in rule.model_dump().items() if v is not None}
    return {"use": name_of(rule)}
