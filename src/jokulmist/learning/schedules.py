"""Settings that move while a run goes on.

Every schedule is the same formula with other numbers,

    value = max(floor, (start + slope x) exp(log_rate x)),    x = min(count, over),

where `count` is what the schedule runs over: decisions, episodes, or the share of the run. So a schedule is eight
numbers, traced like any other, and a search over schedules compiles once. Schedules in pieces, and functions of a
user's own, are points beside these numbers, with straight lines between them.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from itertools import pairwise
from types import ModuleType
from typing import Any, Literal, NamedTuple

import numpy as np

from jokulmist.errors import SettingError
from jokulmist.loading import name_of

Counted = Literal["decisions", "episodes"]
Form = Literal["linear", "geometric", "piecewise", "function"]
FUNCTION_POINTS = 257  # at which a function of one's own is asked, evenly over the run


class Progress(NamedTuple):
    """How far a run is. `share` is of the planned decisions or episodes, whichever the plan counts."""

    decisions: Any
    episodes: Any
    share: Any


class Coefficients(NamedTuple):
    """A schedule as numbers."""

    start: Any
    slope: Any
    log_rate: Any
    over: Any
    by_decisions: Any
    by_episodes: Any
    by_share: Any
    floor: Any
    points: Any = ()  # two tuples, counts and values, where straight lines between points take the formula's place

    @property
    def moves(self) -> bool:
        """Whether the value changes while a run goes on."""
        return bool(self.slope != 0.0 or self.log_rate != 0.0 or self.points)


NUMBERS = len(Coefficients._fields) - 1


@dataclass(frozen=True)
class Schedule:
    """A setting that moves while a run goes on. Made by `linear`, `geometric` and `piecewise`, or from a function.

    Examples
    --------
    >>> import jokulmist as jm
    >>> schedule = jm.linear(0.5, 0.1, over=1.0)
    >>> isinstance(schedule, jm.parts.Schedule), schedule.least, schedule.greatest
    (True, 0.1, 0.5)
    """

    form: Form
    start: float
    end: float | None = None
    over: float | int | None = None
    rate: float | None = None
    of: Counted = "decisions"
    floor: float | None = None
    points: tuple[tuple[float | int, float], ...] = ()
    function: Callable[[float], float] | None = None

    @property
    def by_share(self) -> bool:
        return isinstance(self.points[0][0] if self.points else self.over, float)

    @property
    def least(self) -> float:
        """The smallest value it takes."""
        if self.points:
            return min(value for _, value in self.points)
        ends = [self.start, self.end if self.end is not None else (0.0 if (self.rate or 1.0) < 1.0 else self.start)]
        return max(min(ends), -math.inf if self.floor is None else self.floor)

    @property
    def greatest(self) -> float:
        """The largest value it takes."""
        if self.points:
            return max(value for _, value in self.points)
        if self.end is None:
            return self.start if (self.rate or 1.0) <= 1.0 else math.inf
        return max(self.start, self.end, -math.inf if self.floor is None else self.floor)

    def coefficients(self) -> Coefficients:
        length = math.inf if self.over is None else float(self.over)
        slope = log_rate = 0.0
        if self.rate is not None:
            log_rate = math.log(self.rate)
        elif self.points:
            length = float(self.points[-1][0])
        elif self.form == "linear":
            slope = (_checked_number(self.end) - self.start) / length
        else:
            log_rate = math.log(_checked_number(self.end) / self.start) / length
        return Coefficients(
            start=self.start,
            slope=slope,
            log_rate=log_rate,
            over=min(length, 3e38),
            by_decisions=float(not self.by_share and self.of == "decisions"),
            by_episodes=float(not self.by_share and self.of == "episodes"),
            by_share=float(self.by_share),
            floor=-3e38 if self.floor is None else self.floor,
            points=tuple(tuple(map(float, axis)) for axis in zip(*self.points, strict=True)),
        )

    def __repr__(self) -> str:
        if self.function is not None:
            return f"following({getattr(self.function, '__name__', self.function)})"
        if self.points:
            return (
                f"piecewise({', '.join(map(str, self.points))}{'' if self.of == 'decisions' else f', of={self.of!r}'})"
            )
        parts = [f"{self.start:g}"]
        if self.end is not None:
            parts.append(f"{self.end:g}")
        for name in ("over", "rate", "floor"):
            if getattr(self, name) is not None:
                parts.append(f"{name}={getattr(self, name)!r}")
        if self.of != "decisions":
            parts.append(f"of={self.of!r}")
        return f"{self.form}({', '.join(parts)})"


def _checked_number(value: float | None) -> float:
    assert value is not None
    return value


def linear(
    start: float, end: float, *, over: float | int | None = None, of: Counted = "decisions", floor: float | None = None
) -> Schedule:
    """A straight line from `start` to `end`, then `end`.

    Parameters
    ----------
    start, end : float
    over : float or int
        A float up to 1.0 is a share of the run; a whole number above 1 is a count of decisions (or episodes).
    of : {"decisions", "episodes"}
        What a whole number counts.
    floor : float, optional
        The value never falls below it.

    Examples
    --------
    >>> linear(1.0, 0.0, over=0.5)
    linear(1, 0, over=0.5)
    """
    _check(of, floor, start=start, end=end)
    if over is None:
        raise SettingError(
            f"say within what `linear` goes from {start!r} to {end!r}: `over=1.0` is the whole run, `over=20_000` so "
            "many decisions."
        )
    return Schedule("linear", float(start), float(end), over=_check_length(over), of=of, floor=floor)


def geometric(
    start: float,
    end: float | None = None,
    *,
    over: float | int | None = None,
    rate: float | None = None,
    of: Counted = "decisions",
    floor: float | None = None,
) -> Schedule:
    """A constant ratio a count: from `start` to `end` within `over`, or times `rate` at each count.

    Parameters
    ----------
    start : float
        Above 0.
    end : float, optional
        Above 0; goes with `over`.
    over : float or int, optional
        A float up to 1.0 is a share of the run; a whole number above 1 a count.
    rate : float, optional
        Factor at each decision (or episode), above 0; without `end` and `over`.
    of : {"decisions", "episodes"}
    floor : float, optional

    Examples
    --------
    >>> geometric(1.0, rate=0.995, of="episodes", floor=0.02)
    geometric(1, rate=0.995, floor=0.02, of='episodes')
    """
    _check(of, floor, start=start)
    if start <= 0 or (end is not None and end <= 0) or (rate is not None and rate <= 0):
        raise SettingError(
            f"a geometric schedule needs values above 0; got start={start!r}, end={end!r}, rate={rate!r}. "
            f"For a line down to 0 use `jm.linear`."
        )
    if (rate is None) == (end is None and over is None) or (rate is None and (end is None or over is None)):
        raise SettingError(
            f"a geometric schedule takes `end` with `over`, or `rate` alone; got end={end!r}, over={over!r}, "
            f"rate={rate!r}. Use `jm.geometric(1.0, 0.05, over=0.5)` or "
            f'`jm.geometric(1.0, rate=0.995, of="episodes", floor=0.05)`.'
        )
    ending = None if end is None else float(end)
    return Schedule("geometric", float(start), ending, None if over is None else _check_length(over), rate, of, floor)


def piecewise(*points: tuple[float | int, float], of: Counted = "decisions") -> Schedule:
    """Straight lines between points, then the value of the last.

    Parameters
    ----------
    *points : (float or int, float)
        Two or more pairs of a place and a value, the places rising from 0. Floats up to 1.0 are shares of the run;
        whole numbers count decisions (or episodes).
    of : {"decisions", "episodes"}
        What whole numbers count.

    Examples
    --------
    >>> piecewise((0.0, 1.0), (0.2, 0.1), (1.0, 0.02))
    piecewise((0.0, 1.0), (0.2, 0.1), (1.0, 0.02))
    >>> piecewise((0, 1.0), (5_000, 0.1)).by_share
    False
    """
    _check(of, None)
    example = "Use for instance `jm.piecewise((0.0, 1.0), (0.2, 0.1), (1.0, 0.02))`, or whole numbers for counts."
    for point in points:
        if not (isinstance(point, (tuple, list)) and len(point) == 2):
            raise SettingError(f"a point of a schedule is a place and a value; got {point!r}. {example}")
        _check(of, None, place=point[0], value=point[1])
    places = [place for place, _ in points]
    rising = all(a < b for a, b in pairwise(places))
    if len(points) < 2 or places[0] != 0 or not rising:
        raise SettingError(
            f"a piecewise schedule needs two points or more whose places rise from 0; got {places}. {example}"
        )
    if any(isinstance(place, float) is not isinstance(places[-1], float) for place in places[1:]):
        raise SettingError(f"the places are shares of the run, or counts, but not both; got {places}. {example}")
    if isinstance(places[-1], float) and places[-1] > 1.0:
        raise SettingError(f"a place as a float is a share of the run, up to 1.0; got {places[-1]!r}. {example}")
    kind = type(places[-1])
    return Schedule("piecewise", float(points[0][1]), of=of, points=tuple((kind(p), float(v)) for p, v in points))


def following(function: Callable[[float], float]) -> Schedule:
    """The schedule of a function of one's own, which is given the share of the run that is done, and gives the value.

    It is asked at 257 places before the run begins, with straight lines between them, so it may be any Python.

    Parameters
    ----------
    function : callable
        From a share, 0.0 to 1.0, to a finite number. Written into a file it can be named in a plan: ``{ function =
        "file.py:name" }``.

    Raises
    ------
    SettingError
        When it fails, or gives something else than a finite number.

    Examples
    --------
    >>> import math
    >>> def cosine(share):
    ...     return 1e-3 * 0.5 * (1 + math.cos(math.pi * share))
    >>> following(cosine)
    following(cosine)
    """
    if not callable(function):
        raise SettingError(f"`following` takes a function of the share of the run; got {function!r}.")
    name = getattr(function, "__name__", repr(function))
    points = []
    for k in range(FUNCTION_POINTS):
        share = k / (FUNCTION_POINTS - 1)
        try:
            value = float(function(share))
        except Exception as failure:
            raise SettingError(
                f"the schedule `{name}` failed at the share {share:g}: {type(failure).__name__}: {failure}. It is "
                "called with one number from 0.0 to 1.0, and must give one number."
            ) from None
        if not math.isfinite(value):
            raise SettingError(
                f"the schedule `{name}` gave {value!r} at the share {share:g}; it must give a finite number."
            )
        points.append((share, value))
    return Schedule("function", points[0][1], points=tuple(points), function=function)


def _check_length(over: Any) -> float | int:
    if isinstance(over, bool) or not isinstance(over, (int, float)):
        raise SettingError(f"`over` is a number; got {over!r}. Use `over=0.5` for half of the run, or `over=20_000`.")
    if isinstance(over, int):
        if over == 1:
            raise SettingError("`over=1` is unclear. Use `over=1.0` for the whole run; a count must be above 1.")
        if over < 1:
            raise SettingError(f"`over` as a count must be above 1; got {over}. Use for instance `over=20_000`.")
        return over
    if not 0.0 < over <= 1.0:
        raise SettingError(
            f"`over` as a float is a share of the run, above 0.0 and up to 1.0; got {over!r}. "
            f"For a count write a whole number, e.g. `over={max(2, round(over)) if math.isfinite(over) else 20000}`."
        )
    return over


def _check(of: str, floor: float | None, **values: Any) -> None:
    if of not in ("decisions", "episodes"):
        raise SettingError(f"a schedule runs over `decisions` or `episodes`; got of={of!r}.")
    for name, value in {**values, **({} if floor is None else {"floor": floor})}.items():
        if isinstance(value, bool) or not isinstance(value, (int, float)) or not math.isfinite(value):
            raise SettingError(f"`{name}` of a schedule must be a finite number; got {value!r}.")


def coefficients(setting: float | Schedule) -> Coefficients:
    """A plain number or a schedule as the numbers of the formula."""
    if isinstance(setting, Schedule):
        return setting.coefficients()
    return Coefficients(float(setting), 0.0, 0.0, 1.0, 0.0, 0.0, 0.0, -3e38)


def value_at(c: Coefficients, progress: Progress, xp: ModuleType) -> Any:
    """The values now, of one schedule or of a column of them; `xp` is NumPy or traced, and the counts are numbers or
    traced scalars.

    Of a column `points` are three arrays: which of the schedules, and their places and values, shape ``(schedules,
    points)``.
    """
    count = c.by_decisions * progress.decisions + c.by_episodes * progress.episodes + c.by_share * progress.share
    x = xp.minimum(count, c.over)
    values = xp.maximum((c.start + c.slope * x) * xp.exp(c.log_rate * x), c.floor)
    if len(c.points):
        schedule_index, places, amounts = c.points
        for k in range(len(schedule_index)):
            at_index = xp.arange(len(values)) == schedule_index[k]
            values = xp.where(at_index, xp.interp(x[schedule_index[k]], places[k], amounts[k]), values)
    return values


def columns(each: Sequence[Coefficients]) -> Coefficients:
    """Several schedules as columns of 32-bit numbers, for `value_at`."""
    table = np.array([c[:NUMBERS] for c in each], np.float32).reshape(-1, NUMBERS)
    coefficients = Coefficients(*table.T.copy())
    indices = [k for k, c in enumerate(each) if c.points]
    if not indices:
        return coefficients
    most = max(len(each[k].points[0]) for k in indices)
    # Lines of fewer points go on behind their last one, where nobody looks.
    places = [[*each[k].points[0], *[each[k].points[0][-1]] * most][:most] for k in indices]
    amounts = [[*each[k].points[1], *[each[k].points[1][-1]] * most][:most] for k in indices]
    return coefficients._replace(
        points=(np.array(indices, np.int32), np.array(places, np.float32), np.array(amounts, np.float32))
    )


def number_at(c: Coefficients, progress: Progress) -> float:
    """`value_at` for plain numbers, without the cost of array functions."""
    if not c.moves:
        return max(float(c.start), float(c.floor))
    count = c.by_decisions * progress.decisions + c.by_episodes * progress.episodes + c.by_share * progress.share
    x = min(count, c.over)
    if c.points:
        return float(np.interp(x, *c.points))
    value = c.start + c.slope * x
    if c.log_rate != 0.0:
        value *= math.exp(c.log_rate * x)
    return max(float(value), float(c.floor))


def mover(c: Coefficients, per_decision: float, per_episode: float) -> Callable[[int, int], float]:
    """`number_at` as a function of the two counts, for a loop that asks at every turn.

    `per_decision` and `per_episode` turn a count into the share of the run; one of them is 0.
    """
    by_decision = float(c.by_decisions + c.by_share * per_decision)
    by_episode = float(c.by_episodes + c.by_share * per_episode)
    start, slope, log_rate, length, floor = map(float, (c.start, c.slope, c.log_rate, c.over, c.floor))
    if c.points:
        places, values = np.array(c.points)
        return lambda decisions, episodes: float(
            np.interp(by_decision * decisions + by_episode * episodes, places, values)
        )

    def value_then(decisions: int, episodes: int) -> float:
        x = by_decision * decisions + by_episode * episodes
        if x > length:
            x = length
        value = start + slope * x
        if log_rate != 0.0:
            value *= math.exp(log_rate * x)
        return value if value > floor else floor

    return value_then


def written(setting: float | Schedule) -> Any:
    """A setting as it is in a plan."""
    if not isinstance(setting, Schedule):
        return setting
    if setting.function is not None:
        return {"function": name_of(setting.function)}
    if setting.points:
        pieces = {"piecewise": [list(point) for point in setting.points]}
        return pieces if setting.of == "decisions" else {**pieces, "of": setting.of}
    record: dict[str, Any] = {setting.form: [setting.start] if setting.end is None else [setting.start, setting.end]}
    for name in ("over", "rate", "floor"):
        if getattr(setting, name) is not None:
            record[name] = getattr(setting, name)
    if setting.of != "decisions":
        record["of"] = setting.of
    return record


def read(value: Any) -> float | Schedule:
    """A setting from a plan: a number, a schedule, or ``{ linear = [1.0, 0.05], over = 0.5 }``."""
    if isinstance(value, Schedule):
        return value
    if isinstance(value, (int, float)) and not isinstance(value, bool):
        return float(value)
    if callable(value):
        return following(value)
    if isinstance(value, dict):
        forms = [form for form in FORMS if form in value]
        rest = {k: v for k, v in value.items() if k not in forms}
        ends = value[forms[0]] if len(forms) == 1 else None
        if isinstance(ends, list) and rest.keys() <= {"over", "rate", "of", "floor"}:
            try:
                return FORMS[forms[0]](*ends, **rest)
            except TypeError:
                pass
    raise SettingError(
        f"a setting that moves is a number or a schedule; got {value!r}. "
        f"In Python use `jm.linear(1.0, 0.05, over=0.5)`, in a plan `{{ linear = [1.0, 0.05], over = 0.5 }}`."
    )


FORMS: dict[str, Callable[..., Schedule]] = {"linear": linear, "geometric": geometric, "piecewise": piecewise}
