"""What all modifiers share: small immutable objects around an environment, told apart by what they touch.

Their functions are for one copy and written against ``xp``, so that both lanes use them; what a modifier remembers is a
memory of each copy's own. Modifiers of the observation see the moments in the order in which they are named, the first
nearest the environment; those of the action are asked in the opposite order, from the agent inwards.
"""

from __future__ import annotations

from types import ModuleType
from typing import Any, ClassVar, NamedTuple

import numpy as np

from jokulmist.environments.spaces.actions import Action, Actions, Choice, Record
from jokulmist.environments.spaces.channels import Channel, Spec
from jokulmist.errors import SettingError, listed, nearest
from jokulmist.loading import Plugin


class ChannelValues(NamedTuple):
    """One moment's channels: the flat numbers, shape ``(..., width)``, and the images by name."""

    numbers: Any
    images: dict[str, Any]


class Surroundings(NamedTuple):
    """What a modifier of the observation may ask for besides the channels.

    Attributes
    ----------
    action : in own form, optional
        What the agent decided before this moment; None at an episode's first.
    left : float
        The share of the deadline or time limit that is left; 1 where there is none.
    draw : Draw
        Its chance.
    """

    action: Any
    left: Any
    draw: Any


class KeptAction(dict[str, Any]):
    """An action by part, as a modifier keeps it: hashable, because modifiers decide which compiled program is used."""

    def __hash__(self) -> int:  # type: ignore[override]
        return hash(repr(sorted(self.items())))


def modifier_setting(value: Any) -> Any:
    """An action in given form that a modifier may keep."""
    return KeptAction(value) if isinstance(value, dict) else tuple(value) if isinstance(value, list) else value


class Modifier(Plugin):
    """Base of all modifiers of an environment; see `jm.modifiers.Stack` for one."""


class ObservationModifier(Modifier):
    """Base of modifiers of the observation.

    Examples
    --------
    >>> import jokulmist as jm
    >>> from dataclasses import dataclass
    >>> @dataclass(frozen=True)
    ... class Rounded(jm.modifiers.ObservationModifier):
    ...     # Shows numbers with fewer digits.
    ...     digits: int = 0
    ...     def spec(self, spec):
    ...         return spec
    ...     def update(self, spec, xp, memory, values, surroundings):
    ...         return memory, values._replace(numbers=xp.round(values.numbers, self.digits))
    >>> jm.gallery.Tarn().modified(Rounded()).episode(seed=1).observation
    Observation(level=16, hour=0)
    """

    needs_limit: ClassVar[bool] = False

    def spec(self, spec: Spec) -> Spec:
        """The spec that is seen through it; `SettingError` where it does not fit what is below."""
        raise NotImplementedError

    def start(
        self, spec: Spec, xp: ModuleType, first: ChannelValues, surroundings: Surroundings
    ) -> tuple[Any, ChannelValues]:
        """Memory and what is seen at an episode's first moment; `spec` is the one below. As `update` of no memory."""
        return self.update(spec, xp, (), first, surroundings)

    def update(
        self, spec: Spec, xp: ModuleType, memory: Any, values: ChannelValues, surroundings: Surroundings
    ) -> tuple[Any, ChannelValues]:
        """The same, one decision later."""
        raise NotImplementedError


class ActionModifier(Modifier):
    """Base of modifiers of the action.

    Examples
    --------
    >>> import jokulmist as jm
    >>> from dataclasses import dataclass
    >>> @dataclass(frozen=True)
    ... class Mirrored(jm.modifiers.ActionModifier):
    ...     # The first choice becomes the last, and so on.
    ...     def modify(self, xp, action, memory, native, draw):
    ...         return memory, action.count - 1 - native
    >>> mirrored, plain = jm.gallery.Tarn().modified(Mirrored()).episode(seed=1), jm.gallery.Tarn().episode(seed=1)
    >>> _ = mirrored.act(0), plain.act(2)
    >>> mirrored.total == plain.total
    True
    """

    def refuse(self, action: Action) -> None:
        """Raise `SettingError` where it does not fit the action."""

    def start(self, xp: ModuleType, action: Action) -> Any:
        """The memory at an episode's first decision."""
        return ()

    def modify(self, xp: ModuleType, action: Action, memory: Any, native: Any, draw: Any) -> tuple[Any, Any]:
        """Memory, and what is done instead of the action in own form."""
        raise NotImplementedError


class RewardModifier(Modifier):
    """Base of modifiers of the reward that is learned from; what is recorded stays as it was.

    A modifier of your own is a frozen dataclass in a file. In a plan it is named by ``use = "file.py:Name"``.

    Examples
    --------
    >>> from dataclasses import dataclass
    >>> @dataclass(frozen=True, repr=False)
    ... class Fading(RewardModifier):
    ...     by: float
    ...
    ...     def start(self, xp):
    ...         return xp.ones((), xp.float32)
    ...
    ...     def modify(self, xp, memory, reward, before, after, ended):
    ...         return memory * self.by, memory * reward
    >>> Fading(by=0.9)
    Fading(0.9)
    """

    def reads_state(self) -> bool:
        """Whether it looks into the states, which a simulator does not show."""
        return False

    def start(self, xp: ModuleType) -> Any:
        """The memory at an episode's first decision: arrays in a tuple, or one array."""
        return ()

    def modify(self, xp: ModuleType, memory: Any, reward: Any, before: Any, after: Any, ended: Any) -> tuple[Any, Any]:
        """Memory, and the reward that is learned from; `before` and `after` are states, `ended` is whether a true end
        came."""
        raise NotImplementedError


def known_channel(modifier: str, spec: Spec, name: str, image: bool | None = None) -> Channel:
    """A channel by name, or an error that lists them."""
    channels = {c.name: c for c in spec.channels}
    if not isinstance(name, str):
        raise SettingError(f"`{modifier}` names a channel; got {name!r:.80}. There are {listed(channels)}.")
    if name not in channels:
        raise SettingError(
            f"`{modifier}` names the channel `{name}`; the environment shows "
            f"{listed(channels)}.{nearest(name, channels)}"
        )
    if image is not None and channels[name].image is not image:
        kind = "an image" if image else "numbers"
        raise SettingError(
            f"`{modifier}` works on {kind}, and `{name}` is {'numbers' if image else 'an image'}. "
            f"Channels are {listed(c.name for c in spec.channels if c.image is image) or 'none'}."
        )
    return channels[name]


def parted(spec: Spec, channel_values: ChannelValues) -> dict[str, Any]:
    """The values of all channels by name, each of its shape."""
    lead = channel_values.numbers.shape[:-1]
    parts = {c.name: channel_values.numbers[..., spec.slices[c.name]].reshape((*lead, *c.shape)) for c in spec.numbers}
    return {**parts, **channel_values.images}


def joined(xp: ModuleType, spec: Spec, parts: dict[str, Any]) -> ChannelValues:
    """The channels of a spec from their values."""
    rows = [xp.asarray(parts[c.name], dtype=xp.float32) for c in spec.numbers]
    flat = [
        row.reshape(*row.shape[: row.ndim - len(c.shape)], c.size) for row, c in zip(rows, spec.numbers, strict=True)
    ]
    numbers = xp.concatenate(flat, axis=-1) if flat else xp.zeros((0,), xp.float32)
    return ChannelValues(numbers, {c.name: parts[c.name] for c in spec.images})


def encoded(xp: ModuleType, action: Action, native: Any) -> Any:
    """An action as numbers: one-hot for a choice, in [-1, 1] for a range; shape ``(size,)``."""
    if isinstance(action, Actions):
        return xp.concatenate([encoded(xp, part, getattr(native, name)) for name, part in action.parts.items()])
    if isinstance(action, Choice):
        return xp.asarray(xp.arange(action.count) == native, dtype=xp.float32)
    unit = 2.0 * (xp.asarray(native, dtype=xp.float32) - action.low) / (action.high - action.low) - 1.0
    return unit.reshape(action.size)


def by_part(function: Any, action: Action, *owns: Any) -> Any:
    """A function of each part and its values in own form; the result has the form of an action."""
    if isinstance(action, Actions):
        return Record(
            **{n: function(part, *(getattr(native, n) for native in owns)) for n, part in action.parts.items()}
        )
    return function(action, *owns)


def idle_of(xp: ModuleType, action: Action, value: Any = None) -> Any:
    """An action to begin with, in own form as arrays: the one given, else first alternatives and middles."""
    if value is not None:
        return by_part(lambda part, native: _array(xp, part, native), action, action.native(value))

    def plainest(part: Any) -> Any:
        if isinstance(part, Choice):
            return _array(xp, part, 0)
        low, high = np.nan_to_num(part.low, neginf=0.0), np.nan_to_num(part.high, posinf=0.0)
        return _array(xp, part, np.clip(0.5 * (low + high), part.low, part.high))

    return by_part(plainest, action)


def _array(xp: ModuleType, part: Any, action: Any) -> Any:
    return xp.asarray(action, dtype=xp.int32 if isinstance(part, Choice) else xp.float32)
