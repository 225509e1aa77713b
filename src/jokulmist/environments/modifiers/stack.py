"""The last moments of channels side by side."""

from __future__ import annotations

from dataclasses import dataclass, replace
from types import ModuleType
from typing import Any

from jokulmist.environments.modifiers.base import ChannelValues, ObservationModifier, Surroundings, known_channel
from jokulmist.environments.spaces.channels import Channel, Spec
from jokulmist.errors import SettingError, listed

DEEPEST = 1_000


@dataclass(frozen=True, init=False, repr=False)
class Stack(ObservationModifier):
    """Show the last moments of channels side by side, the oldest first.

    Images are stacked along their last axis, numbers along a new first one. Before an episode is `count` decisions
    old, its first moment stands in for those that were not; replay memory keeps each moment once.

    Parameters
    ----------
    count : int
        How many moments, at least 2.
    *channels : str
        Which channels; all where none is named.

    Examples
    --------
    >>> import jokulmist as jm
    >>> jm.gallery.Ferry().modified(jm.modifiers.Stack(3, "speed")).episode(seed=1).observation.speed.shape
    (3,)
    """

    count: int
    channels: tuple[str, ...]

    def __init__(self, count: int, *channels: str) -> None:
        if isinstance(count, bool) or not isinstance(count, int) or not 2 <= count <= DEEPEST:
            raise SettingError(f"`count` of `Stack` must be a whole number from 2 to {DEEPEST:,}; got {count!r}.")
        object.__setattr__(self, "count", count)
        object.__setattr__(self, "channels", tuple(channels))

    def _names(self, spec: Spec) -> tuple[str, ...]:
        return self.channels or tuple(c.name for c in spec.channels)

    def spec(self, spec: Spec) -> Spec:
        """The spec that is seen through it."""
        for name in self.channels:
            known_channel("Stack", spec, name)
        names = self._names(spec)
        for channel in spec.channels:
            if channel.name in names and channel.stacked > 1:
                raise SettingError(f"channel `{channel.name}` is stacked twice; keep one `Stack` for it.")
        return replace(spec, channels=tuple(self._stacked(c) if c.name in names else c for c in spec.channels))

    def _stacked(self, channel: Channel) -> Channel:
        if channel.image:
            shape = (*channel.shape[:-1], channel.shape[-1] * self.count)
        else:
            shape = (self.count, *channel.shape)
        return replace(channel, shape=shape, stacked=self.count)

    def start(
        self, spec: Spec, xp: ModuleType, first: ChannelValues, surroundings: Surroundings
    ) -> tuple[ChannelValues, ChannelValues]:
        """Memory and what is seen at an episode's first moment; `spec` is the one below."""
        names = self._names(spec)
        parts = []
        for name, columns in spec.slices.items():
            part = first.numbers[..., columns]
            parts.append(xp.concatenate([part] * self.count, axis=-1) if name in names else part)
        numbers = xp.concatenate(parts, axis=-1) if parts else first.numbers
        images = {
            name: xp.concatenate([image] * self.count, axis=-1) if name in names else image
            for name, image in first.images.items()
        }
        seen = ChannelValues(numbers, images)
        return seen, seen

    def update(
        self, spec: Spec, xp: ModuleType, memory: ChannelValues, values: ChannelValues, surroundings: Surroundings
    ) -> tuple[ChannelValues, ChannelValues]:
        """The same, one decision later."""
        names = self._names(spec)
        parts, start = [], 0
        for name, columns in spec.slices.items():
            part, size = values.numbers[..., columns], columns.stop - columns.start
            if name in names:
                older = memory.numbers[..., start + size : start + size * self.count]
                part = xp.concatenate([older, part], axis=-1)
                size *= self.count
            parts.append(part)
            start += size
        numbers = xp.concatenate(parts, axis=-1) if parts else values.numbers
        images = {}
        for name, image in values.images.items():
            if name in names:
                image = xp.concatenate([memory.images[name][..., image.shape[-1] :], image], axis=-1)
            images[name] = image
        seen = ChannelValues(numbers, images)
        return seen, seen

    @classmethod
    def made_from(cls, settings: dict[str, Any]) -> Stack:
        if "count" not in settings or set(settings) - {"count", "channels"}:
            raise SettingError(f"`Stack` has the settings count and channels; got {listed(settings)}.")
        channels = settings.get("channels", [])
        if not isinstance(channels, (list, tuple)) or not all(isinstance(name, str) for name in channels):
            raise SettingError(f"`channels` of `Stack` must be a list of names; got {channels!r}.")
        return cls(settings["count"], *channels)

    def __repr__(self) -> str:
        return f"Stack({', '.join(map(repr, (self.count, *self.channels)))})"
