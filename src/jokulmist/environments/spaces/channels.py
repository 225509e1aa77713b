"""What is observed: named channels with bounds, and their flat form.

Numbers of all channels are in one float32 row, in the order of declaration, in the units of the environment; images
stand apart, as uint8. Scaling and binning are done from the declared bounds by the methods.
"""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import asdict, dataclass
from functools import cached_property
from typing import Any, NamedTuple

import numpy as np

from jokulmist.arrays import Array, NumpyArray
from jokulmist.environments.spaces.actions import Action
from jokulmist.environments.spaces.player_actions import from_described
from jokulmist.environments.spaces.texts import checked_name, checked_text
from jokulmist.errors import SettingError

# Of a channel that a file describes, or of all that a program does: more were not meant.
MOST_VALUES = 1 << 24


@dataclass(frozen=True)
class Channel:
    """One named part of the observation.

    Attributes
    ----------
    name, unit : str
    low, high : float
        Inclusive bounds, the same for all entries; infinite where none were declared.
    shape : tuple of int
        ``()`` for a single number.
    whole : bool
        Whole numbers or a flag: one bin a value.
    image : bool
        uint8, height x width x channels.
    computed : bool
        Given by a sensor rather than by a field of the state.
    stacked : int
        How many moments it shows, the oldest first: along the last axis of an image, a new first axis of numbers.
    """

    name: str
    low: float
    high: float
    unit: str = ""
    shape: tuple[int, ...] = ()
    whole: bool = False
    image: bool = False
    computed: bool = False
    stacked: int = 1

    @property
    def newest(self) -> tuple[int, ...]:
        """The shape of the newest moment alone."""
        if self.image:
            return (*self.shape[:-1], self.shape[-1] // self.stacked)
        return self.shape[1:] if self.stacked > 1 else self.shape

    @property
    def size(self) -> int:
        """How many numbers it has."""
        return math.prod(self.shape)

    @property
    def bounded(self) -> bool:
        return math.isfinite(self.low) and math.isfinite(self.high)

    def bins(self, wanted: int) -> int:
        """Number of bins an entry gets: one a value for whole numbers, else `wanted` equal ones."""
        return round(self.high - self.low) + 1 if self.whole else wanted


class ObservationBatch(NamedTuple):
    """What an agent is given to decide on: one row a copy, in the units of the environment.

    Attributes
    ----------
    numbers : float32 array, shape ``(copies, width)``
        The number channels side by side, in the order of ``spec.slices``.
    images : dict of str to uint8 array, shape ``(copies, height, width, channels)``
    legal : tuple of bool array, shape ``(copies, count)``
        One a Choice of the action; empty where every choice is always allowed.
    age : int32 array, shape ``(copies,)``
        Decisions since the episode began.

    Examples
    --------
    >>> import jokulmist as jm
    >>> age = np.zeros(4, np.int32)
    >>> jm.parts.ObservationBatch(np.zeros((4, 3), np.float32), images={}, legal=(), age=age).numbers.shape
    (4, 3)
    """

    numbers: Any
    images: dict[str, Any]
    legal: tuple[Any, ...]
    age: Any


@dataclass(frozen=True)
class Spec:
    """What an agent knows of an environment: its channels, its action, and whether choices can be forbidden.

    Examples
    --------
    >>> import jokulmist as jm
    >>> [channel.name for channel in jm.parts.spec_of(jm.gallery.Tarn()).channels]
    ['level', 'hour']
    """

    channels: tuple[Channel, ...]
    action: Action
    masked: bool = False

    @cached_property
    def numbers(self) -> tuple[Channel, ...]:
        """The channels that are in the flat row."""
        return tuple(c for c in self.channels if not c.image)

    @cached_property
    def images(self) -> tuple[Channel, ...]:
        return tuple(c for c in self.channels if c.image)

    @cached_property
    def width(self) -> int:
        """Length of the flat row."""
        return sum(c.size for c in self.numbers)

    @cached_property
    def slices(self) -> dict[str, slice]:
        """Where each channel is in the flat row."""
        slices, start = {}, 0
        for channel in self.numbers:
            slices[channel.name] = slice(start, start + channel.size)
            start += channel.size
        return slices

    @cached_property
    def low(self) -> NumpyArray:
        """Lower bounds of the flat row, float32, shape ``(width,)``."""
        return np.array([c.low for c in self.numbers for _ in range(c.size)], np.float32)

    @cached_property
    def high(self) -> NumpyArray:
        """Upper bounds of the flat row, float32, shape ``(width,)``."""
        return np.array([c.high for c in self.numbers for _ in range(c.size)], np.float32)

    def flat(self, values: Mapping[str, Any]) -> NumpyArray:
        """One row from a value a channel; float32, shape ``(width,)``."""
        row = np.empty(self.width, np.float32)
        for channel in self.numbers:
            if channel.name not in values:
                raise SettingError(
                    f"the observation lacks `{channel.name}`; it needs {', '.join(c.name for c in self.channels)}."
                )
            value = np.asarray(values[channel.name], np.float32)
            if value.shape != channel.shape:
                raise SettingError(f"`{channel.name}` has the shape {channel.shape}; got {value.shape}.")
            row[self.slices[channel.name]] = value.reshape(-1)
        return row

    def scaled(self, rows: Array) -> Array:
        """Rows with each bounded channel brought to [-1, 1]; unbounded channels stay as they are."""
        scale, shift = self._scaling
        return rows * scale + shift

    @cached_property
    def _scaling(self) -> tuple[NumpyArray, NumpyArray]:
        bounded = np.isfinite(self.low) & np.isfinite(self.high) & (self.high > self.low)
        scale = np.where(bounded, 2.0 / np.where(bounded, self.high - self.low, 1.0), 1.0).astype(np.float32)
        shift = np.where(bounded, -1.0 - np.where(bounded, self.low, 0.0) * scale, 0.0).astype(np.float32)
        return scale, shift

    def described(self) -> dict[str, Any]:
        """For records, as JSON; infinite bounds are null."""
        channels = [
            {k: (None if isinstance(v, float) and not math.isfinite(v) else v) for k, v in asdict(c).items()}
            for c in self.channels
        ]
        return {"channels": channels, "action": self.action.described(), "masked": self.masked}

    @classmethod
    def from_described(cls, described: Mapping[str, Any]) -> Spec:
        """The spec that `described()` wrote down."""
        channels = []
        for record in described["channels"]:
            fixed = dict(record, shape=tuple(record["shape"]))
            fixed["low"] = -math.inf if fixed["low"] is None else fixed["low"]
            fixed["high"] = math.inf if fixed["high"] is None else fixed["high"]
            channels.append(_checked(Channel(**fixed)))
        return cls(tuple(channels), from_described(described["action"]), bool(described.get("masked", False)))


def refuse_mismatch(learned: Spec, observed: Spec, subject: str, context: str) -> None:
    """Raise `SettingError` where what was learned does not fit an environment: other channels, or in another order,
    other bounds, players or actions."""
    need, have = [c.name for c in learned.channels], [c.name for c in observed.channels]
    if need != have:
        order = " The order counts: it is that of the network's inputs." if sorted(need) == sorted(have) else ""
        raise SettingError(
            f"{subject} observes {need}, and {context} shows {have}.{order} Use the environment it learned on."
        )
    for learned_channel, shown_channel in zip(learned.channels, observed.channels, strict=True):
        if learned_channel != shown_channel:
            raise SettingError(
                f"channel `{learned_channel.name}` of {context} differs from the one that {subject} learned on: "
                f"{_in_words(shown_channel)} "
                f"against {_in_words(learned_channel)}. Use the environment it learned on."
            )
    if learned.action != observed.action:
        raise SettingError(
            f"{subject} acts by {learned.action!r}, and {context} takes {observed.action!r}. Use the environment it "
            "learned on."
        )
    if learned.masked != observed.masked:
        raise SettingError(
            f"{subject} learned {'with' if learned.masked else 'without'} `legal`, and {context} differs. Use the "
            "environment it learned on."
        )


def _in_words(channel: Channel) -> str:
    kind = "image" if channel.image else "whole numbers" if channel.whole else "numbers"
    stacked = f", {channel.stacked} moments" if channel.stacked > 1 else ""
    return f"{kind} of shape {channel.shape}{stacked} in [{channel.low:g}, {channel.high:g}] {channel.unit}".strip()


def _checked(channel: Channel) -> Channel:
    """A channel of a record, if it is one: `ValueError` says that no environment has it."""
    numbers = all(
        isinstance(bound, float) or (type(bound) is int and abs(bound) < 1 << 63)
        for bound in (channel.low, channel.high)
    )
    sizes = all(isinstance(n, int) and not isinstance(n, bool) and n > 0 for n in (*channel.shape, channel.stacked))
    flags = all(isinstance(flag, bool) for flag in (channel.whole, channel.image, channel.computed))
    is_valid = numbers and sizes and flags
    if not is_valid or not channel.low <= channel.high or math.prod(channel.shape) > MOST_VALUES:
        raise ValueError(f"no channel: {channel!r:.80}")
    checked_name(channel.name, "a channel")
    checked_text(channel.unit, "the unit of a channel")
    return channel


class Observation:
    """What the agent sees at one decision: a value a channel, by name.

    Examples
    --------
    >>> seen = Observation({"level": 12.5, "day": 3})
    >>> seen.level, seen["day"], seen
    (12.5, 3, Observation(level=12.5, day=3))
    """

    def __init__(self, values: Mapping[str, Any]) -> None:
        self.__dict__.update(values)

    def __getitem__(self, name: str) -> Any:
        return self.__dict__[name]

    def keys(self) -> Any:
        return self.__dict__.keys()

    def __repr__(self) -> str:
        plain = {k: v.item() if isinstance(v, np.generic) else v for k, v in self.__dict__.items()}
        inside = ", ".join(f"{k}={v:.4g}" if isinstance(v, float) else f"{k}={v!r}" for k, v in plain.items())
        return f"Observation({inside})"
