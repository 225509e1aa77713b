"""What stands around an environment: small immutable objects that change what is seen, the first named nearest to it.

A modifier of the observation has a memory of its own for each copy. Its functions take and give `Glimpse`s, whose
arrays may have any leading axes, and are written against ``xp``, so that both lanes use them.
"""

from __future__ import annotations

from dataclasses import asdict, dataclass, replace
from types import ModuleType
from typing import Any, NamedTuple

from jokulmist.environments.channels import Channel, Spec
from jokulmist.errors import SettingError, listed, nearest


class Glimpse(NamedTuple):
    """One moment's channels: the flat numbers, shape ``(..., width)``, and the images by name."""

    numbers: Any
    images: dict[str, Any]


@dataclass(frozen=True, init=False)
class Stack:
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
    >>> jm.gallery.Ferry().modified(jm.Stack(3, "speed")).episode(seed=1).observation.speed.shape
    (3,)
    """

    count: int
    channels: tuple[str, ...]

    def __init__(self, count: int, *channels: str) -> None:
        if isinstance(count, bool) or not isinstance(count, int) or count < 2:
            raise SettingError(f"`count` of `Stack` must be a whole number of at least 2; got {count!r}.")
        object.__setattr__(self, "count", count)
        object.__setattr__(self, "channels", tuple(channels))

    def _names(self, spec: Spec) -> tuple[str, ...]:
        return self.channels or tuple(c.name for c in spec.channels)

    def spec(self, spec: Spec) -> Spec:
        """The spec that is seen through it."""
        known = {c.name: c for c in spec.channels}
        for name in self.channels:
            if name not in known:
                raise SettingError(
                    f"`Stack` names the channel `{name}`; the environment shows {listed(known)}.{nearest(name, known)}"
                )
            if known[name].stacked > 1:
                raise SettingError(f"channel `{name}` is stacked twice; keep one `Stack` for it.")
        names = self._names(spec)
        return replace(spec, channels=tuple(self._stacked(c) if c.name in names else c for c in spec.channels))

    def _stacked(self, channel: Channel) -> Channel:
        if channel.image:
            shape = (*channel.shape[:-1], channel.shape[-1] * self.count)
        else:
            shape = (self.count, *channel.shape)
        return replace(channel, shape=shape, stacked=self.count)

    def begun(self, spec: Spec, xp: ModuleType, first: Glimpse) -> tuple[Glimpse, Glimpse]:
        """Memory and what is seen at an episode's first moment; `spec` is the one below."""
        names = self._names(spec)
        parts = []
        for name, where in spec.slices.items():
            part = first.numbers[..., where]
            parts.append(xp.concatenate([part] * self.count, axis=-1) if name in names else part)
        numbers = xp.concatenate(parts, axis=-1) if parts else first.numbers
        images = {
            name: xp.concatenate([image] * self.count, axis=-1) if name in names else image
            for name, image in first.images.items()
        }
        seen = Glimpse(numbers, images)
        return seen, seen

    def onward(self, spec: Spec, xp: ModuleType, memory: Glimpse, now: Glimpse) -> tuple[Glimpse, Glimpse]:
        """The same, one decision later."""
        names = self._names(spec)
        parts, at = [], 0
        for name, where in spec.slices.items():
            part, size = now.numbers[..., where], where.stop - where.start
            if name in names:
                older = memory.numbers[..., at + size : at + size * self.count]
                part = xp.concatenate([older, part], axis=-1)
                size *= self.count
            parts.append(part)
            at += size
        numbers = xp.concatenate(parts, axis=-1) if parts else now.numbers
        images = {}
        for name, image in now.images.items():
            if name in names:
                image = xp.concatenate([memory.images[name][..., image.shape[-1] :], image], axis=-1)
            images[name] = image
        seen = Glimpse(numbers, images)
        return seen, seen

    def written(self) -> dict[str, Any]:
        """As it stands in a plan."""
        found = {"use": "Stack", **asdict(self)}
        found["channels"] = list(self.channels)
        return found

    def __repr__(self) -> str:
        return f"Stack({', '.join(map(repr, (self.count, *self.channels)))})"


Modifier = Stack


def modifier_from(written: Any) -> Modifier:
    """The modifier that an entry of a plan's ``modify`` names."""
    known = ("Stack",)
    use = written.get("use") if isinstance(written, dict) else None
    if use not in known:
        raise SettingError(
            f"an entry of `modify` is a table with `use`, one of {listed(known)}; got {written!r}. "
            f'Write for instance `modify = [{{ use = "Stack", count = 4 }}]`.'
        )
    settings = {name: value for name, value in written.items() if name != "use"}
    unknown = [name for name in settings if name not in ("count", "channels")]
    if unknown or "count" not in settings:
        raise SettingError(f"`Stack` has the settings count and channels; got {listed(settings)}.")
    channels = settings.get("channels", [])
    if not isinstance(channels, (list, tuple)) or not all(isinstance(name, str) for name in channels):
        raise SettingError(f"`channels` of `Stack` must be a list of names; got {channels!r}.")
    return Stack(settings["count"], *channels)


class Glass:
    """The modifiers around an environment, applied one after another."""

    def __init__(self, bare: Spec, modifiers: tuple[Modifier, ...]) -> None:
        self.modifiers = modifiers
        self.specs = [bare]
        for modifier in modifiers:
            self.specs.append(modifier.spec(self.specs[-1]))

    @property
    def spec(self) -> Spec:
        """What is seen through all of them."""
        return self.specs[-1]

    def begun(self, xp: ModuleType, seen: Glimpse) -> tuple[tuple[Any, ...], Glimpse]:
        """Memories and what is seen at an episode's first moment."""
        memories = []
        for modifier, spec in zip(self.modifiers, self.specs, strict=False):
            memory, seen = modifier.begun(spec, xp, seen)
            memories.append(memory)
        return tuple(memories), seen

    def onward(self, xp: ModuleType, memories: tuple[Any, ...], seen: Glimpse) -> tuple[tuple[Any, ...], Glimpse]:
        """The same, one decision later."""
        kept = []
        for modifier, spec, memory in zip(self.modifiers, self.specs, memories, strict=False):
            memory, seen = modifier.onward(spec, xp, memory, seen)
            kept.append(memory)
        return tuple(kept), seen
