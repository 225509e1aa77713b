"""Modifiers of the action: what is decided is done again, later, or with a trembling hand."""

from __future__ import annotations

import math
from dataclasses import dataclass
from types import ModuleType
from typing import Any

from jokulmist.arrays import Array
from jokulmist.environments.chance.draws import Draw
from jokulmist.environments.modifiers.base import ActionModifier, by_part, idle_of, modifier_setting
from jokulmist.environments.spaces.actions import Action, Actions, Choice, Range
from jokulmist.errors import SettingError


@dataclass(frozen=True, repr=False)
class StickyAction(ActionModifier):
    """Do the action before once more instead of the new one, by chance; never at an episode's first decision.

    Parameters
    ----------
    chance : float, above 0 and below 1

    Examples
    --------
    >>> import jokulmist as jm
    >>> env = jm.gallery.Tarn().modified(jm.modifiers.StickyAction(0.25))
    >>> env
    Tarn().modified(StickyAction(0.25))
    """

    chance: float

    def __post_init__(self) -> None:
        if isinstance(self.chance, bool) or not isinstance(self.chance, (int, float)) or not 0.0 < self.chance < 1.0:
            raise SettingError(f"`chance` of `StickyAction` must lie between 0 and 1; got {self.chance!r}.")

    def start(self, xp: ModuleType, action: Action) -> Any:
        return (xp.asarray(False), idle_of(xp, action))

    def modify(self, xp: ModuleType, action: Action, memory: Any, native: Any, draw: Draw) -> tuple[Any, Array]:
        has_before, before = memory
        repeats = has_before & (draw.uniform() < self.chance)
        done = by_part(
            lambda part, old, new: xp.where(repeats, old, xp.asarray(new, dtype=old.dtype)), action, before, native
        )
        return (xp.asarray(True), done), done


@dataclass(frozen=True, repr=False)
class ActionDelay(ActionModifier):
    """Do what was decided some decisions ago.

    Parameters
    ----------
    decisions : int
        At least 1.
    idle : label, number or dict, optional
        What is done until the first decision arrives; by default the first alternative of a choice and the middle of a
        range.

    Examples
    --------
    >>> import jokulmist as jm
    >>> env = jm.gallery.Ferry().modified(jm.modifiers.ActionDelay(2, idle="drift"))
    >>> env
    Ferry().modified(ActionDelay(2, 'drift'))
    """

    decisions: int
    idle: Any = None

    def __post_init__(self) -> None:
        if isinstance(self.decisions, bool) or not isinstance(self.decisions, int) or self.decisions < 1:
            raise SettingError(
                f"`decisions` of `ActionDelay` must be a whole number of at least 1; got {self.decisions!r}."
            )
        object.__setattr__(self, "idle", modifier_setting(self.idle))

    def refuse(self, action: Action) -> None:
        if self.idle is not None:
            action.native(self.idle)

    def written(self) -> dict[str, Any]:
        return {name: value for name, value in super().written().items() if value is not None}

    def start(self, xp: ModuleType, action: Action) -> Any:
        return tuple(idle_of(xp, action, self.idle) for _ in range(self.decisions))

    def modify(self, xp: ModuleType, action: Action, memory: Any, native: Any, draw: Draw) -> tuple[Any, Any]:
        newest = by_part(lambda part, like, new: xp.asarray(new, dtype=like.dtype), action, memory[0], native)
        return (*memory[1:], newest), memory[0]


@dataclass(frozen=True, repr=False)
class ActionNoise(ActionModifier):
    """Add normal noise to the numbers that are decided; what leaves their bounds is clipped to them.

    Parameters
    ----------
    sd : float
        Spread of the noise, as a share of half the range.

    Examples
    --------
    >>> import jokulmist as jm
    >>> env = jm.gallery.Winch().modified(jm.modifiers.ActionNoise(sd=0.1))
    >>> env
    Winch().modified(ActionNoise(0.1))
    """

    sd: float

    def __post_init__(self) -> None:
        if isinstance(self.sd, bool) or not isinstance(self.sd, (int, float)) or not 0.0 < self.sd < math.inf:
            raise SettingError(f"`sd` of `ActionNoise` must be a number above 0; got {self.sd!r}.")

    def refuse(self, action: Action) -> None:
        parts = action.parts.values() if isinstance(action, Actions) else [action]
        if not any(isinstance(part, Range) for part in parts):
            raise SettingError(
                f"`ActionNoise` moves numbers, and the action has no range: {action!r}. Use "
                "`jm.modifiers.StickyAction(0.1)`."
            )

    def modify(self, xp: ModuleType, action: Action, memory: Any, native: Any, draw: Draw) -> tuple[Any, Any]:
        def moved(part: Any, value: Any) -> Any:
            if isinstance(part, Choice):
                return value
            off = draw.normal(0.0, self.sd, shape=part.shape) * 0.5 * (part.high - part.low)
            return xp.clip(value + off, part.low, part.high)

        return (), by_part(moved, action, native)
