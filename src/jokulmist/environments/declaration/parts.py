"""The parts that a researcher's class is made of, as the class body writes them.

A part is a small record of what was declared; nothing here looks at a whole class. `description.py` reads the parts
of a class once, and everything else works from that description.
"""

from __future__ import annotations

import csv
import inspect
import math
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any, Literal, TypeVar, cast, overload

import numpy as np

from jokulmist.arrays import NumpyArray
from jokulmist.environments.spaces.texts import checked_text
from jokulmist.errors import DeclarationError, SettingError, listed

Bound = float | int | str
Shape = int | str | Sequence[int | str]
Method = TypeVar("Method", bound=Callable[..., Any])
Aggregation = Literal["sum", "mean", "last", "max", "min"]
OVERS: tuple[str, ...] = ("sum", "mean", "last", "max", "min")


class Part:
    """Anything declared in an environment's body. `name` is filled in when the class is made."""

    name: str = ""
    owner: type | None = None

    def __set_name__(self, owner: type, name: str) -> None:
        self.name = name
        self.owner = owner


class Parameter(Part):
    """A constant of the environment, read on an instance as a plain attribute."""

    def __init__(self, default: Any, low: float | None, high: float | None, unit: str, help: str, fixed: bool) -> None:
        self.default = default
        self.low = low
        self.high = high
        self.unit = checked_text(unit, "the unit of a parameter")
        self.help = help
        self.fixed = fixed

    @overload
    def __get__(self, instance: None, owner: type) -> Parameter: ...
    @overload
    def __get__(self, instance: object, owner: type) -> Parameter: ...
    def __get__(self, instance: object | None, owner: type) -> Parameter:
        # Not a data descriptor: the instance's own value is in its __dict__ and is found first.
        return self if instance is None else self.default

    def checked(self, value: Any, context: str) -> Any:
        """The value as the parameter's own type, or a `SettingError` that says what is allowed."""
        kind = type(self.default)
        unit = f" {self.unit}" if self.unit else ""
        if isinstance(value, np.generic):
            value = value.item()
        if kind is bool:
            if not isinstance(value, bool):
                raise SettingError(f"`{context}` is a flag; got {value!r}. Use True or False.")
            return value
        if kind in (int, float):
            if isinstance(value, bool) or not isinstance(value, (int, float)):
                raise SettingError(f"`{context}` is a number; got {value!r}. Use for instance {self.default!r}.")
            if kind is int and value != int(value):
                raise SettingError(f"`{context}` is a whole number; got {value!r}. Use for instance {self.default!r}.")
            if not math.isfinite(value):
                raise SettingError(f"`{context}` must be finite; got {value!r}. Use for instance {self.default!r}.")
            low = -math.inf if self.low is None else self.low
            high = math.inf if self.high is None else self.high
            if not low <= value <= high:
                raise SettingError(
                    f"`{context}` must lie in [{low:g}, {high:g}]{unit}; got {value!r}. Its default is "
                    f"{self.default!r}."
                )
            return kind(value)
        if not isinstance(value, kind):
            raise SettingError(
                f"`{context}` must be a {kind.__name__}; got {value!r}. Its default is {self.default!r}."
            )
        return value


def parameter(
    default: Any,
    *,
    low: float | None = None,
    high: float | None = None,
    unit: str = "",
    help: str = "",
    fixed: bool = False,
) -> Any:
    """Declare a constant of the environment that can be set from outside.

    Parameters
    ----------
    default : float, int, bool or str
        Its value when nothing is said; its type is the parameter's type. A `str` needs ``fixed=True``.
    low, high : float, optional
        Inclusive bounds, in `unit`.
    unit : str
        Shown in tables, e.g. ``"hm3/day"``.
    help : str
        One sentence for tables.
    fixed : bool
        The value may give shapes or steer Python control flow; it is never varied within a run.

    Raises
    ------
    SettingError
        When the default lies outside its own bounds.

    Examples
    --------
    >>> melt = parameter(3.0, low=0.0, high=8.0, unit="hm3/day")
    >>> melt.checked(4, "melt")
    4.0
    """
    part = Parameter(default, low, high, unit, help, fixed)
    if isinstance(default, str) and not fixed:
        raise DeclarationError(
            f"a text parameter cannot vary; got {default!r}. Use `jm.parameter({default!r}, fixed=True)`."
        )
    if not isinstance(default, (bool, int, float, str)):
        raise DeclarationError(
            f"a parameter is a number, a flag or a text; got {default!r}. For an array use `jm.series([...])`."
        )
    part.default = part.checked(default, "default")
    return part


class Derived(Part):
    """A value computed once from the parameters, then read as an attribute."""

    def __init__(self, function: Callable[..., Any]) -> None:
        self.function = function
        self.__doc__ = function.__doc__

    def __get__(self, instance: Any, owner: type) -> Any:
        if instance is None:
            return self
        value = self.function(instance)
        # Kept in the instance itself: the next read does not come here. A traced copy has a __dict__ of its own.
        instance.__dict__[self.name] = value
        return value


def derived(function: Callable[..., Any]) -> Any:
    """Mark a method whose value follows from the parameters: computed once, read as an attribute.

    Examples
    --------
    >>> import numpy as np
    >>> import jokulmist as jm
    >>> class Slope(jm.Environment):
    ...     angle: float = jm.parameter(10.0, low=0.0, high=45.0)
    ...     class State(jm.State):
    ...         at: float = jm.seen(low=0.0, high=10.0)
    ...     action = jm.Choice("brake", "glide")
    ...     @jm.derived
    ...     def pull(self):
    ...         return 9.81 * np.sin(np.radians(self.angle))
    ...     def begin(self, draw):
    ...         return self.State(at=0.0)
    ...     def advance(self, state, action, draw):
    ...         return state.replace(at=state.at + self.pull * action)
    ...     @jm.reward
    ...     def far(self, after):
    ...         return after.at
    >>> print(round(Slope(angle=30.0).pull, 3))
    4.905
    """
    return Derived(function)


class Series(Part):
    """A constant array that belongs to the class: given, or a column of a CSV file beside the class."""

    def __init__(self, values: Any, file: str | Path | None, column: str | None, folder: Path) -> None:
        self.values = values
        self.file = None if file is None else (folder / file)
        self.column = column
        self._array: NumpyArray | None = None

    @property
    def array(self) -> NumpyArray:
        """The numbers, read from the file on first use; float64, int64 or bool."""
        if self._array is None:
            numbers = self.values if self.file is None else read_column(self.file, self.column)
            array = np.asarray(numbers)
            if array.dtype.kind not in "biuf" or array.size == 0:
                raise DeclarationError(f"series `{self.name}` must hold numbers; got {numbers!r}.")
            array.setflags(write=False)
            self._array = array
        return self._array

    def __get__(self, instance: Any, owner: type) -> Any:
        if instance is None:
            return self
        if instance.xp is np:
            instance.__dict__[self.name] = self.array
            return self.array
        # A copy: JAX remembers an array that it was given by its identity, and would hand out its single precision
        # where double is wanted.
        return instance.xp.asarray(self.array.copy())


def series(values: Any = None, *, file: str | Path | None = None, column: str | None = None) -> Any:
    """Declare a constant array, or a column of a CSV file that lies beside the class.

    Parameters
    ----------
    values : array_like of numbers, optional
        The array itself.
    file : str or Path, optional
        A CSV file with a header, relative to the Python file in which this is called.
    column : str, optional
        The column of `file` to read.

    Returns
    -------
    Inside an environment ``self.name[index]`` works in both ways of running.

    Examples
    --------
    >>> series([0.0, 3.0, 6.0]).array
    array([0., 3., 6.])
    """
    if (values is None) == (file is None) or (file is None) != (column is None):
        raise DeclarationError(
            "a series is either an array or a column of a file. "
            'Use `jm.series([1.0, 2.0])` or `jm.series(file="season.csv", column="price")`.'
        )
    frame = inspect.currentframe()
    caller = frame.f_back if frame is not None else None
    folder = Path(caller.f_code.co_filename).parent if caller is not None else Path()
    return Series(values, file, column, folder)


def arguments_of(function: Callable[..., Any]) -> tuple[str, ...]:
    """The names of what a method takes, but for `self`."""
    names = tuple(inspect.signature(function).parameters)
    return names[1:] if names and names[0] == "self" else names


def read_column(path: Path, column: str | None) -> list[float]:
    """The numbers of one column of a CSV file with a header."""
    if not path.exists():
        raise DeclarationError(f"series file {path} is not there. Put the CSV beside the class, or give its full path.")
    with path.open(newline="", encoding="utf-8") as stream:
        rows = csv.DictReader(stream)
        names = rows.fieldnames or []
        if column not in names:
            raise DeclarationError(f"{path.name} has no column `{column}`; its columns are {listed(names)}.")
        numbers = []
        for line, row in enumerate(rows, start=2):
            try:
                numbers.append(float(row[column]))
            except (TypeError, ValueError):
                raise DeclarationError(
                    f"{path.name} line {line}: column `{column}` holds {row[column]!r}; write a number there."
                ) from None
    return numbers


class MethodPart(Part):
    """A part that is a method of the class: on an instance it is called like any other method."""

    def __init__(self, function: Callable[..., Any]) -> None:
        self.function = function
        self.__doc__ = function.__doc__

    def __get__(self, instance: Any, owner: type) -> Any:
        return self if instance is None else self.function.__get__(instance, owner)


class Sensor(MethodPart):
    """A computed channel of the observation."""

    def __init__(self, function: Callable[..., Any], **bounds: Any) -> None:
        super().__init__(function)
        self.bounds = bounds


class Term(MethodPart):
    """One named term of the reward."""

    def __init__(self, function: Callable[..., Any], weight: float) -> None:
        super().__init__(function)
        self.weight = weight


class Closing(MethodPart):
    """A named true end (`ending`) or a named cut (`cut`) of an episode."""

    def __init__(self, function: Callable[..., Any], final: bool) -> None:
        super().__init__(function)
        self.final = final


class Measure(MethodPart):
    """A quantity recorded for the researcher and never seen by the agent."""

    def __init__(self, function: Callable[..., Any], over: Aggregation) -> None:
        super().__init__(function)
        self.over = over


class Reference(MethodPart):
    """A policy written by hand or known to be best, as a function of the state."""


@overload
def sensor(function: Method) -> Method: ...
@overload
def sensor(
    *,
    low: Bound = ...,
    high: Bound = ...,
    unit: str = ...,
    shape: Shape = ...,
    values: int | str | None = ...,
    image: bool = ...,
    of: str | int | None = ...,
) -> Callable[[Method], Method]: ...
def sensor(
    function: Callable[..., Any] | None = None,
    *,
    low: Bound = -math.inf,
    high: Bound = math.inf,
    unit: str = "",
    shape: Shape = (),
    values: int | str | None = None,
    image: bool = False,
    of: str | int | None = None,
) -> Any:
    """Mark a method as a computed channel of the observation; it takes `state`, and `draw` last for noise.

    In an environment of several players it may take `player` after `state`, an index: then it is asked once a player.

    Parameters
    ----------
    low, high : float or str
        Bounds of the value, or the name of a parameter that holds one.
    unit : str
        Shown in tables and plots.
    shape : int or tuple
        Shape of the value; ``()`` is a single number.
    values : int, optional
        The value is a whole number from 0 to ``values - 1``.
    image : bool
        The value is uint8, height x width x channels.
    of : str or int, optional
        The only player who sees it.

    Examples
    --------
    >>> import jokulmist as jm
    >>> class Sounded(jm.gallery.Ferry):
    ...     @jm.sensor(low=-30.0, high=130.0, unit="m")
    ...     def by_lead(self, state, draw):
    ...         return state.position + draw.normal(0.0, 1.0)
    >>> Sounded().episode(seed=1).observation
    Observation(position=0, speed=0, current=-0.07974, turning=0.006425, by_lead=-0.8639)
    """

    def mark(method: Callable[..., Any]) -> Sensor:
        return Sensor(method, low=low, high=high, unit=unit, shape=shape, values=values, image=image, of=of)

    return mark if function is None else mark(function)


@overload
def reward(function: Method) -> Method: ...
@overload
def reward(*, weight: float = ...) -> Callable[[Method], Method]: ...
def reward(function: Callable[..., Any] | None = None, *, weight: float = 1.0) -> Any:
    """Mark a method as one term of the reward; the reward of a step is the weighted sum of the terms.

    Examples
    --------
    >>> import jokulmist as jm
    >>> class Smooth(jm.gallery.Ferry):
    ...     @jm.reward(weight=-0.1)
    ...     def jerk(self, before, after):
    ...         return abs(after.speed - before.speed)
    >>> episode = Smooth().episode(seed=1)
    >>> _ = episode.act("ahead")
    >>> {name: round(value, 3) for name, value in episode.totals.items()}, round(episode.total, 3)
    ({'sailing': 0.054, 'waiting': -0.05, 'pulling': -0.02, 'landing': 0.0, 'jerk': -0.045}, -0.061)
    """
    if isinstance(weight, bool) or not isinstance(weight, (int, float)) or not math.isfinite(weight):
        raise DeclarationError(
            f"a reward's weight must be a finite number; got {weight!r}. Use for instance `weight=-2.0`."
        )

    def mark(method: Callable[..., Any]) -> Term:
        return Term(method, float(weight))

    return mark if function is None else mark(function)


def ending(function: Method) -> Method:
    """Mark a method as a true end: after it there is no future reward. Asked after every advance.

    Examples
    --------
    >>> import jokulmist as jm
    >>> class Short(jm.gallery.Ferry):
    ...     @jm.ending
    ...     def half_way(self, after):
    ...         return after.position > 60.0
    >>> episode = Short().episode(seed=1)
    >>> while not episode.over:
    ...     _ = episode.act("ahead")
    >>> episode.closed_by
    'half_way'
    """
    return cast(Method, Closing(function, final=True))


def cut(function: Method) -> Method:
    """Mark a method as a cut: the episode stops, but there would have been a future.

    Examples
    --------
    >>> import jokulmist as jm
    >>> class Watched(jm.gallery.Ferry):
    ...     @jm.cut
    ...     def out_of_sight(self, after):
    ...         return after.position > 60.0
    >>> episode = Watched().episode(seed=1)
    >>> while not episode.over:
    ...     _ = episode.act("ahead")
    >>> episode.closed_by
    'out_of_sight'
    """
    return cast(Method, Closing(function, final=False))


@overload
def measure(function: Method) -> Method: ...
@overload
def measure(*, over: Aggregation = ...) -> Callable[[Method], Method]: ...
def measure(function: Callable[..., Any] | None = None, *, over: Aggregation = "sum") -> Any:
    """Mark a method as a quantity that is recorded per episode: its sum, mean, last, max or min over the steps.

    Examples
    --------
    >>> import jokulmist as jm
    >>> class Timed(jm.gallery.Ferry):
    ...     @jm.measure(over="max")
    ...     def top_speed(self, after):
    ...         return after.speed
    >>> run = jm.train(Timed(), jm.RandomPlay(), episodes=3, lane="plain", folder=None)
    >>> "top_speed" in run.episodes.columns
    True
    """
    if over not in OVERS:
        raise DeclarationError(f"a measure's `over` must be one of {listed(OVERS)}; got {over!r}.")

    def mark(method: Callable[..., Any]) -> Measure:
        return Measure(method, over)

    return mark if function is None else mark(function)


def reference(function: Method) -> Method:
    """Mark a method as a policy known beforehand: a function of the state that gives an action.

    Examples
    --------
    >>> import jokulmist as jm
    >>> class Ruled(jm.gallery.Ferry):
    ...     @jm.reference
    ...     def always_ahead(self, state):
    ...         return 2
    >>> jm.evaluate("always_ahead", Ruled(), episodes=3).closings
    'crashed 100%'
    """
    return cast(Method, Reference(function))
