"""What can be done: a choice among labels, a range of numbers, or several named parts at once.

An action has three forms. The *given* form is what a person writes (a label, an index, an array, a dict of parts). The
*own* form is what `advance` gets (an index, a float or float array, a record with one attribute a part). The *encoded*
form is a flat float array for networks: one-hot for a choice, scaled to [-1, 1] for a range.
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING, Any

import numpy as np

from jokulmist.arrays import NumpyArray
from jokulmist.environments.spaces.texts import checked_name, checked_shape, checked_text
from jokulmist.errors import ActionError, DeclarationError, listed, nearest

if TYPE_CHECKING:
    from jokulmist.environments.chance.draws import Draw

MOST_ALTERNATIVES = 100_000


class Choice:
    """One of several alternatives.

    Parameters
    ----------
    *labels : str, or a single int
        The names of the alternatives, in order; or their number, when they have no names.

    Examples
    --------
    >>> gate = Choice("hold", "half", "full")
    >>> gate.full, gate.count, gate.native("half")
    (2, 3, 1)
    """

    def __init__(self, *labels: str | int) -> None:
        if len(labels) == 1 and isinstance(labels[0], int) and not isinstance(labels[0], bool):
            count = labels[0]
            if count < 1:
                raise DeclarationError(
                    f"a choice needs at least one alternative; got {count}. Use `jm.Choice(2)` or more."
                )
            if count > MOST_ALTERNATIVES:
                raise DeclarationError(
                    f"a choice has at most {MOST_ALTERNATIVES:,} alternatives; got {count:.3g}. Use several parts, "
                    "`jm.Actions(...)`, or a `jm.Range`."
                )
            names = tuple(str(i) for i in range(count))
            self.labelled = False
        else:
            if not labels or not all(isinstance(label, str) and label for label in labels):
                raise DeclarationError(
                    f'a choice takes labels or one number; got {labels!r}. Use `jm.Choice("hold", "full")` or '
                    "`jm.Choice(4)`; for values such "
                    f"as these name them, `jm.Choice({', '.join(repr(str(label)) for label in labels)})`, and look "
                    "them up by index in `advance`."
                )
            names = tuple(checked_text(label, "a label of a choice") for label in labels)
            self.labelled = True
            if len(set(names)) != len(names):
                raise DeclarationError(
                    f"a choice names an alternative twice: {listed(names)}. Give each its own label."
                )
        self.labels = names
        self.count = len(names)
        self._index = {name: i for i, name in enumerate(names)}

    def __getattr__(self, name: str) -> int:
        index = self.__dict__.get("_index", {})
        if name in index:
            return int(index[name])
        raise AttributeError(f"the action has no alternative `{name}`; it has {listed(index)}.{nearest(name, index)}")

    def native(self, value: Any) -> int:
        """The index of a label or an index."""
        if isinstance(value, str):
            if value not in self._index:
                raise ActionError(
                    f"no action `{value}`; the actions are {listed(self.labels)}.{nearest(value, self.labels)}"
                )
            return self._index[value]
        if isinstance(value, (int, np.integer)) and not isinstance(value, bool):
            if 0 <= value < self.count:
                return int(value)
        elif isinstance(value, np.ndarray) and value.shape == () and value.dtype.kind in "iu":
            return self.native(int(value))
        raise ActionError(
            f"an action is one of {listed(self.labels)} or a whole number from 0 to {self.count - 1}; got {value!r}."
        )

    def label(self, action: Any) -> str:
        """The name of an index, for tables."""
        return self.labels[int(action)]

    def random(self, draw: Draw, mask: Any = None) -> Any:
        """A uniformly drawn action, among those that the mask allows (`legal.py`) where one is given."""
        if mask is None:
            return draw.integers(0, self.count)
        allowed = [index for index, able in enumerate(mask[0]) if able]
        return allowed[draw.integers(0, len(allowed))]

    def encoded(self, action: Any) -> NumpyArray:
        """One-hot, float32, shape ``(count,)``."""
        encoded: NumpyArray = np.eye(self.count, dtype=np.float32)[action]
        return encoded

    @property
    def size(self) -> int:
        """Length of the encoded form."""
        return self.count

    def __repr__(self) -> str:
        return f"Choice({', '.join(map(repr, self.labels))})" if self.labelled else f"Choice({self.count})"

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Choice) and other.labels == self.labels

    def __hash__(self) -> int:
        return hash(self.labels)

    def described(self) -> dict[str, Any]:
        """For records: what `from_described` reads back."""
        return {"kind": "choice", "labels": list(self.labels) if self.labelled else self.count}


class Range:
    """A number, or an array of numbers, between bounds.

    Parameters
    ----------
    low, high : float or array_like
        Inclusive bounds, broadcast to `shape`.
    shape : int or tuple
        ``()`` is a single number.
    unit : str
        Shown in tables.

    Examples
    --------
    >>> valve = Range(0.0, 10.0, unit="kW")
    >>> valve.native(2.5), valve.encoded(2.5), valve.decoded([0.0])
    (2.5, array([-0.5], dtype=float32), 5.0)
    """

    def __init__(self, low: Any, high: Any, *, shape: int | Sequence[int] = (), unit: str = "") -> None:
        self.shape = checked_shape(shape)
        try:
            self.low = np.broadcast_to(np.asarray(low, np.float32), self.shape).copy()
            self.high = np.broadcast_to(np.asarray(high, np.float32), self.shape).copy()
        except (TypeError, ValueError):
            raise DeclarationError(
                f"the bounds {low!r:.80} and {high!r:.80} do not fit the shape {self.shape}; give one number or one "
                "an entry."
            ) from None
        if not np.all(self.low < self.high):
            raise DeclarationError(f"a range needs low < high; got low={low!r}, high={high!r}.")
        self.unit = checked_text(unit, "the unit of a range")

    def native(self, amount: Any) -> Any:
        """The value as a float or float32 array; outside its bounds is an error, never a silent clip."""
        try:
            value = np.asarray(amount, np.float32)
        except (TypeError, ValueError):
            raise ActionError(f"an action is a number{self._allowed()}; got {amount!r}.") from None
        if value.shape != self.shape:
            raise ActionError(f"an action has the shape {self.shape}; got {amount!r}, of shape {value.shape}.")
        if not (np.all(value >= self.low) and np.all(value <= self.high)):
            raise ActionError(
                f"an action must lie{self._allowed()}; got {amount!r}. Clip it with `np.clip` if that is meant."
            )
        return float(amount) if self.shape == () else value

    def _allowed(self) -> str:
        unit = f" {self.unit}" if self.unit else ""
        if self.shape == ():
            return f" in [{float(self.low):g}, {float(self.high):g}]{unit}"
        return f" between {self.low.tolist()} and {self.high.tolist()}{unit}"

    def label(self, action: Any) -> str:
        return np.array2string(np.asarray(action), precision=3)

    def random(self, draw: Draw, mask: Any = None) -> Any:
        """A uniformly drawn action; bounds must be finite."""
        if not (np.all(np.isfinite(self.low)) and np.all(np.isfinite(self.high))):
            raise ActionError(f"random play needs finite bounds; got {self!r}. Give the range finite bounds.")
        low, high = (self.low, self.high) if self.shape else (float(self.low), float(self.high))
        return draw.uniform(low, high, shape=self.shape)

    @property
    def size(self) -> int:
        """Length of the encoded form."""
        return math.prod(self.shape)

    def encoded(self, action: Any) -> NumpyArray:
        """Scaled to [-1, 1], float32, shape ``(size,)``."""
        unit = 2.0 * (np.asarray(action, np.float32) - self.low) / (self.high - self.low) - 1.0
        return np.asarray(unit, np.float32).reshape(self.size)

    def decoded(self, encoded: Any) -> Any:
        """The own form of an array in [-1, 1] of shape ``(size,)``."""
        unit = np.asarray(encoded, np.float32).reshape(self.shape)
        value = np.clip(self.low + (unit + 1.0) * 0.5 * (self.high - self.low), self.low, self.high)
        return float(value) if self.shape == () else value

    def __repr__(self) -> str:
        shape = f", shape={self.shape}" if self.shape else ""
        unit = f", unit={self.unit!r}" if self.unit else ""
        return f"Range({self.low.tolist()}, {self.high.tolist()}{shape}{unit})"

    def __eq__(self, other: object) -> bool:
        return (
            isinstance(other, Range)
            and other.shape == self.shape
            and bool(np.all(other.low == self.low) and np.all(other.high == self.high))
        )

    def __hash__(self) -> int:
        return hash((self.shape, self.low.tobytes(), self.high.tobytes()))

    def described(self) -> dict[str, Any]:
        return {
            "kind": "range",
            "low": self.low.tolist(),
            "high": self.high.tolist(),
            "shape": list(self.shape),
            "unit": self.unit,
        }


class Record:
    """An action of several parts: one attribute a part."""

    def __init__(self, **parts: Any) -> None:
        self.__dict__.update(parts)

    def __repr__(self) -> str:
        return f"Record({', '.join(f'{k}={v!r}' for k, v in self.__dict__.items())})"

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Record) and all(
            name in vars(other) and np.array_equal(value, vars(other)[name]) for name, value in self.__dict__.items()
        )

    __hash__ = None  # type: ignore[assignment]


class Actions:
    """Several named parts that are decided at once.

    Examples
    --------
    >>> both = Actions(move=Choice("left", "right"), throttle=Range(0.0, 1.0))
    >>> both.native({"move": "right", "throttle": 0.25})
    Record(move=1, throttle=0.25)
    """

    def __init__(self, **parts: Choice | Range) -> None:
        if not parts:
            raise DeclarationError("`jm.Actions` needs at least one part, e.g. `jm.Actions(move=jm.Choice(3))`.")
        for name, part in parts.items():
            checked_name(name, "a part of an action")
            if not isinstance(part, (Choice, Range)):
                raise DeclarationError(
                    f"part `{name}` of the action is {part!r}; it must be a `jm.Choice` or a `jm.Range`."
                )
        self.parts = dict(parts)

    def __getattr__(self, name: str) -> Choice | Range:
        parts: dict[str, Choice | Range] = self.__dict__.get("parts", {})
        if name in parts:
            return parts[name]
        raise AttributeError(f"the action has no part `{name}`; it has {listed(parts)}.{nearest(name, parts)}")

    def native(self, value: Any) -> Record:
        """A record with one attribute a part, from a mapping or a record."""
        values = value.__dict__ if isinstance(value, Record) else value
        if not isinstance(values, Mapping) or values.keys() != self.parts.keys():
            raise ActionError(f"an action is a dict with {listed(self.parts)}; got {value!r}.")
        return Record(**{name: part.native(values[name]) for name, part in self.parts.items()})

    def label(self, action: Any) -> str:
        return " ".join(f"{name}={part.label(getattr(action, name))}" for name, part in self.parts.items())

    def random(self, draw: Draw, mask: Any = None) -> Record:
        masks = iter(mask or ())
        return Record(
            **{
                name: part.random(draw, (next(masks),) if mask is not None and isinstance(part, Choice) else None)
                for name, part in self.parts.items()
            }
        )

    @property
    def size(self) -> int:
        """Length of the encoded form."""
        return sum(part.size for part in self.parts.values())

    def encoded(self, action: Any) -> NumpyArray:
        """The encodings of the parts, one after another."""
        return np.concatenate([part.encoded(getattr(action, name)) for name, part in self.parts.items()])

    def __repr__(self) -> str:
        return f"Actions({', '.join(f'{k}={v!r}' for k, v in self.parts.items())})"

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Actions) and tuple(other.parts.items()) == tuple(self.parts.items())

    def __hash__(self) -> int:
        return hash(tuple(self.parts.items()))

    def described(self) -> dict[str, Any]:
        return {"kind": "actions", "parts": {name: part.described() for name, part in self.parts.items()}}


Action = Choice | Range | Actions


def parts_of(action: Action) -> dict[str, Choice | Range]:
    """The parts of an action by name; one that has none stands under the empty name."""
    return dict(action.parts) if isinstance(action, Actions) else {"": action}


def split(actions: Any, copies: int) -> list[Any]:
    """One action a copy, in own form, from actions with a leading axis of copies."""
    if isinstance(actions, Record):
        parts = {name: split(part, copies) for name, part in vars(actions).items()}
        return [Record(**{name: part[i] for name, part in parts.items()}) for i in range(copies)]
    array = np.asarray(actions)
    items: list[Any] = array.tolist() if array.ndim == 1 else list(array)
    return items


def plain_form(action: Any) -> Any:
    """An action of NumPy arrays in the form that `advance` gets: Python numbers where it is a single one."""
    if isinstance(action, Record):
        return Record(**{name: plain_form(part) for name, part in vars(action).items()})
    array = np.asarray(action)
    return array.item() if array.shape == () else array
