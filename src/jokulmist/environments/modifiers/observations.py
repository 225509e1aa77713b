"""Modifiers of the observation: what is seen later, less sharply, smaller, or with something beside it."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace
from types import ModuleType
from typing import Any

import numpy as np

from jokulmist.arrays import Array
from jokulmist.environments.modifiers.base import (
    ChannelValues,
    ObservationModifier,
    Surroundings,
    encoded,
    joined,
    known_channel,
    parted,
)
from jokulmist.environments.spaces.channels import Channel, Spec
from jokulmist.errors import SettingError

# Of one channel that is shown one-hot.
MOST_VALUES = 1_000


def _require_whole(modifier: str, name: str, value: Any, least: int) -> None:
    if isinstance(value, bool) or not isinstance(value, int) or value < least:
        raise SettingError(f"`{name}` of `{modifier}` must be a whole number of at least {least}; got {value!r}.")


def _replaced(spec: Spec, channel: Channel) -> Spec:
    return replace(spec, channels=tuple(channel if c.name == channel.name else c for c in spec.channels))


class _OneChannel(ObservationModifier):
    """A modifier that remembers nothing and changes one channel."""

    channel: str

    def changed(self, spec: Spec, xp: ModuleType, value: Any, surroundings: Surroundings) -> Any:
        """The channel's value as it is seen."""
        raise NotImplementedError

    def update(
        self, spec: Spec, xp: ModuleType, memory: Any, values: ChannelValues, surroundings: Surroundings
    ) -> tuple[Any, ChannelValues]:
        parts = parted(spec, values)
        parts[self.channel] = self.changed(spec, xp, parts[self.channel], surroundings)
        return (), joined(xp, self.spec(spec), parts)


@dataclass(frozen=True, repr=False)
class ObservationDelay(ObservationModifier):
    """Show a channel as it was some decisions ago; before that, as it was at the episode's beginning.

    Parameters
    ----------
    channel : str
    decisions : int
        At least 1.

    Examples
    --------
    >>> import jokulmist as jm
    >>> episode = jm.gallery.Ferry().modified(jm.modifiers.ObservationDelay("position", 2)).episode(seed=1)
    >>> for _ in range(3):
    ...     episode.act("ahead")
    >>> episode.observation.position < episode.state.position
    True
    """

    channel: str
    decisions: int

    def __post_init__(self) -> None:
        _require_whole("ObservationDelay", "decisions", self.decisions, 1)

    def spec(self, spec: Spec) -> Spec:
        known_channel("ObservationDelay", spec, self.channel)
        return spec

    def start(
        self, spec: Spec, xp: ModuleType, first: ChannelValues, surroundings: Surroundings
    ) -> tuple[Array, ChannelValues]:
        value = parted(spec, first)[self.channel]
        return xp.stack([value] * self.decisions), first

    def update(
        self, spec: Spec, xp: ModuleType, memory: Array, values: ChannelValues, surroundings: Surroundings
    ) -> tuple[Array, ChannelValues]:
        parts = parted(spec, values)
        newest = xp.asarray(parts[self.channel])[None]
        parts[self.channel] = memory[0]
        return xp.concatenate([memory[1:], newest]), joined(xp, spec, parts)


@dataclass(frozen=True, repr=False)
class ObservationNoise(_OneChannel):
    """Add normal noise to a channel; what leaves its bounds is clipped to them.

    Parameters
    ----------
    channel : str
        Of numbers that are no whole numbers.
    sd : float
        Spread of the noise, in the channel's unit.

    Examples
    --------
    >>> import jokulmist as jm
    >>> env = jm.gallery.Tarn().modified(jm.modifiers.ObservationNoise("level", sd=0.5))
    >>> env.episode(seed=1).observation
    Observation(level=15.76, hour=0)
    """

    channel: str
    sd: float

    def __post_init__(self) -> None:
        if isinstance(self.sd, bool) or not isinstance(self.sd, (int, float)) or not 0.0 < self.sd < math.inf:
            raise SettingError(f"`sd` of `ObservationNoise` must be a number above 0; got {self.sd!r}.")

    def spec(self, spec: Spec) -> Spec:
        if known_channel("ObservationNoise", spec, self.channel, image=False).whole:
            raise SettingError(
                f"`ObservationNoise` adds fractions, and `{self.channel}` holds whole numbers. Choose another channel."
            )
        return spec

    def changed(self, spec: Spec, xp: ModuleType, value: Any, surroundings: Surroundings) -> Any:
        channel = known_channel("ObservationNoise", spec, self.channel)
        return xp.clip(value + surroundings.draw.normal(0.0, self.sd, shape=channel.shape), channel.low, channel.high)


@dataclass(frozen=True, repr=False)
class OneHot(_OneChannel):
    """Show a whole number as a row of noughts with a one in its place.

    For numbers that are names rather than amounts, such as a room or a square: a network learns each by itself, where
    of one number it would have to learn a curve.

    Parameters
    ----------
    channel : str
        Of whole numbers, with bounds that hold at most 1,000.

    Examples
    --------
    >>> import jokulmist as jm
    >>> env = jm.gallery.Tarn().modified(jm.modifiers.OneHot("hour"))
    >>> env.episode(seed=1).observation.hour[:3]
    array([1., 0., 0.], dtype=float32)
    """

    channel: str

    def spec(self, spec: Spec) -> Spec:
        channel = known_channel("OneHot", spec, self.channel, image=False)
        if not channel.whole or not channel.bounded or channel.high - channel.low >= MOST_VALUES:
            raise SettingError(
                f"`OneHot` shows whole numbers between bounds, at most {MOST_VALUES:,} of them; `{self.channel}` "
                f"holds {'whole numbers' if channel.whole else 'numbers'} from {channel.low:g} to {channel.high:g}."
            )
        shape = (*channel.shape, round(channel.high - channel.low) + 1)
        return _replaced(spec, replace(channel, low=0.0, high=1.0, unit="", shape=shape))

    def changed(self, spec: Spec, xp: ModuleType, value: Any, surroundings: Surroundings) -> Any:
        channel = known_channel("OneHot", spec, self.channel)
        values = xp.arange(round(channel.low), round(channel.high) + 1)
        return xp.asarray(xp.asarray(value)[..., None] == values, dtype=xp.float32)


@dataclass(frozen=True, init=False, repr=False)
class Hide(ObservationModifier):
    """Leave channels out.

    Parameters
    ----------
    *channels : str

    Examples
    --------
    >>> import jokulmist as jm
    >>> env = jm.gallery.Tarn().modified(jm.modifiers.Hide("hour"))
    >>> env.episode(seed=1).observation
    Observation(level=15.78)
    """

    channels: tuple[str, ...]

    def __init__(self, *channels: str) -> None:
        if not channels:
            raise SettingError('`Hide` needs at least one channel, e.g. `jm.modifiers.Hide("speed")`.')
        object.__setattr__(self, "channels", tuple(channels))

    @classmethod
    def made_from(cls, settings: dict[str, Any]) -> Hide:
        if set(settings) != {"channels"} or not isinstance(settings["channels"], (list, tuple)):
            raise SettingError(f"`Hide` has the setting `channels`, a list of names; got {settings!r}.")
        return cls(*settings["channels"])

    def spec(self, spec: Spec) -> Spec:
        for name in self.channels:
            known_channel("Hide", spec, name)
        left = tuple(c for c in spec.channels if c.name not in self.channels)
        if not left:
            raise SettingError("`Hide` leaves nothing to be seen; keep at least one channel.")
        return replace(spec, channels=left)

    def update(
        self, spec: Spec, xp: ModuleType, memory: Any, values: ChannelValues, surroundings: Surroundings
    ) -> tuple[Any, ChannelValues]:
        return (), joined(xp, self.spec(spec), parted(spec, values))

    def __repr__(self) -> str:
        return f"Hide({', '.join(map(repr, self.channels))})"


class _Added(ObservationModifier):
    """A modifier that shows one channel more."""

    def added(self, spec: Spec) -> Channel:
        """The channel."""
        raise NotImplementedError

    def value(self, spec: Spec, xp: ModuleType, surroundings: Surroundings) -> Any:
        """What it shows."""
        raise NotImplementedError

    def spec(self, spec: Spec) -> Spec:
        channel = self.added(spec)
        if channel.name in [c.name for c in spec.channels]:
            raise SettingError(f"`{type(self).__name__}` adds the channel `{channel.name}`, which is there already.")
        return replace(spec, channels=(*spec.channels, channel))

    def update(
        self, spec: Spec, xp: ModuleType, memory: Any, values: ChannelValues, surroundings: Surroundings
    ) -> tuple[Any, ChannelValues]:
        parts = {**parted(spec, values), self.added(spec).name: self.value(spec, xp, surroundings)}
        return (), joined(xp, self.spec(spec), parts)


@dataclass(frozen=True, repr=False)
class LastAction(_Added):
    """Show what was decided last as the channel ``last_action``: 1 at the alternative of a choice, ranges in [-1, 1];
    all 0 at an episode's beginning.

    Examples
    --------
    >>> import jokulmist as jm
    >>> env = jm.gallery.Tarn().modified(jm.modifiers.LastAction())
    >>> env.episode(seed=1).observation
    Observation(level=15.78, hour=0, last_action=array([0., 0., 0.], dtype=float32))
    """

    def added(self, spec: Spec) -> Channel:
        return Channel("last_action", -1.0, 1.0, shape=(spec.action.size,))

    def value(self, spec: Spec, xp: ModuleType, surroundings: Surroundings) -> Any:
        if surroundings.action is None:
            return xp.zeros(spec.action.size, xp.float32)
        return encoded(xp, spec.action, surroundings.action)


@dataclass(frozen=True, repr=False)
class TimeLeft(_Added):
    """Show the share of the deadline or time limit that is left, from 1 to 0, as the channel ``time_left``.

    Examples
    --------
    >>> import jokulmist as jm
    >>> env = jm.gallery.Tarn().modified(jm.modifiers.TimeLeft())
    >>> env.episode(seed=1).observation
    Observation(level=15.78, hour=0, time_left=1)
    """

    needs_limit = True

    def added(self, spec: Spec) -> Channel:
        return Channel("time_left", 0.0, 1.0)

    def value(self, spec: Spec, xp: ModuleType, surroundings: Surroundings) -> Any:
        return xp.asarray(surroundings.left, dtype=xp.float32)


@dataclass(frozen=True, repr=False)
class Crop(_OneChannel):
    """Show a part of an image.

    Parameters
    ----------
    channel : str
    rows, columns : (int, int)
        From and up to, the second left out.

    Examples
    --------
    >>> import jokulmist as jm
    >>> jm.gallery.Aurora().modified(jm.modifiers.Crop("frame", rows=(0, 16), columns=(4, 28))).episode(seed=1).observation.frame.shape
    (16, 24, 1)
    """

    channel: str
    rows: tuple[int, int]
    columns: tuple[int, int]

    def __post_init__(self) -> None:
        for name in ("rows", "columns"):
            ends = tuple(getattr(self, name))
            if len(ends) != 2 or not all(isinstance(v, int) and v >= 0 for v in ends) or ends[0] >= ends[1]:
                raise SettingError(f"`{name}` of `Crop` must be (from, up to); got {getattr(self, name)!r}.")
            object.__setattr__(self, name, ends)

    def spec(self, spec: Spec) -> Spec:
        channel = known_channel("Crop", spec, self.channel, image=True)
        if self.rows[1] > channel.shape[0] or self.columns[1] > channel.shape[1]:
            raise SettingError(
                f"`Crop` reaches to row {self.rows[1]} and column {self.columns[1]} of `{channel.name}`, which has "
                f"{channel.shape[0]} x {channel.shape[1]}."
            )
        shape = (self.rows[1] - self.rows[0], self.columns[1] - self.columns[0], channel.shape[2])
        return _replaced(spec, replace(channel, shape=shape))

    def changed(self, spec: Spec, xp: ModuleType, value: Any, surroundings: Surroundings) -> Any:
        return value[..., self.rows[0] : self.rows[1], self.columns[0] : self.columns[1], :]


@dataclass(frozen=True, repr=False)
class Shrink(_OneChannel):
    """Show an image with fewer pixels, each the mean of a square.

    Parameters
    ----------
    channel : str
    by : int
        Side of the squares; what is left over at the lower and right edges is cut off.

    Examples
    --------
    >>> import jokulmist as jm
    >>> jm.gallery.Aurora().modified(jm.modifiers.Shrink("frame", by=2)).episode(seed=1).observation.frame.shape
    (16, 16, 1)
    """

    channel: str
    by: int

    def __post_init__(self) -> None:
        _require_whole("Shrink", "by", self.by, 2)

    def spec(self, spec: Spec) -> Spec:
        channel = known_channel("Shrink", spec, self.channel, image=True)
        height, width, depth = channel.shape
        if min(height, width) < self.by:
            raise SettingError(f"`Shrink` by {self.by} leaves nothing of `{channel.name}`, {height} x {width}.")
        return _replaced(spec, replace(channel, shape=(height // self.by, width // self.by, depth)))

    def changed(self, spec: Spec, xp: ModuleType, value: Any, surroundings: Surroundings) -> Any:
        height, width, depth = value.shape[-3:]
        rows, columns = height // self.by, width // self.by
        squares = value[..., : rows * self.by, : columns * self.by, :]
        squares = squares.reshape(*value.shape[:-3], rows, self.by, columns, self.by, depth).astype(xp.float32)
        return xp.asarray(xp.round(squares.mean(axis=(-4, -2))), dtype=xp.uint8)


@dataclass(frozen=True, repr=False)
class Grey(_OneChannel):
    """Show a coloured image in shades of grey, by the weights of luminance (ITU-R BT.601).

    Parameters
    ----------
    channel : str
        Of an image with three channels.

    Examples
    --------
    >>> import jokulmist as jm
    >>> class Buoy(jm.Environment):
    ...     class State(jm.State):
    ...         at: int = jm.seen(low=0, high=7)
    ...     action = jm.Choice("stay", "drift")
    ...     def begin(self, draw):
    ...         return self.State(at=0)
    ...     def advance(self, state, action, draw):
    ...         return state.replace(at=self.xp.minimum(state.at + action, 7))
    ...     @jm.reward
    ...     def calm(self, after):
    ...         return 1.0
    ...     @jm.sensor(shape=(8, 8, 3), image=True)
    ...     def sight(self, state):
    ...         row = self.xp.where(self.xp.arange(8) == state.at, 255, 0)
    ...         return self.xp.broadcast_to(row[None, :, None], (8, 8, 3)).astype("uint8")
    ...     time_limit = 20
    >>> Buoy().modified(jm.modifiers.Grey("sight")).episode(seed=1).observation.sight.shape
    (8, 8, 1)
    """

    channel: str

    def spec(self, spec: Spec) -> Spec:
        channel = known_channel("Grey", spec, self.channel, image=True)
        if channel.newest[-1] != 3 or channel.stacked > 1:
            raise SettingError(
                f"`Grey` needs red, green and blue, and `{channel.name}` has the shape {channel.shape}. "
                f"Name it before `Stack`, or leave it out."
            )
        return _replaced(spec, replace(channel, shape=(*channel.shape[:2], 1)))

    def changed(self, spec: Spec, xp: ModuleType, value: Any, surroundings: Surroundings) -> Any:
        grey = value.astype(xp.float32) @ xp.asarray(np.array([0.299, 0.587, 0.114], np.float32))
        return xp.asarray(xp.round(grey), dtype=xp.uint8)[..., None]


@dataclass(frozen=True, repr=False)
class Brighter(ObservationModifier):
    """Show each pixel as the brighter one of the last two moments, for what flickers.

    Parameters
    ----------
    channel : str

    Examples
    --------
    >>> import jokulmist as jm
    >>> jm.gallery.Aurora().modified(jm.modifiers.Brighter("frame")).episode(seed=1).observation.frame.shape
    (32, 32, 1)
    """

    channel: str

    def spec(self, spec: Spec) -> Spec:
        channel = known_channel("Brighter", spec, self.channel, image=True)
        if channel.stacked > 1:
            raise SettingError(
                f"`Brighter` of `{channel.name}` must be named before `Stack`, which keeps moments apart."
            )
        return spec

    def start(
        self, spec: Spec, xp: ModuleType, first: ChannelValues, surroundings: Surroundings
    ) -> tuple[Array, ChannelValues]:
        return first.images[self.channel], first

    def update(
        self, spec: Spec, xp: ModuleType, memory: Array, values: ChannelValues, surroundings: Surroundings
    ) -> tuple[Array, ChannelValues]:
        image = values.images[self.channel]
        return image, values._replace(images={**values.images, self.channel: xp.maximum(memory, image)})
