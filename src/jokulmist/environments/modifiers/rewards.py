"""Modifiers of the reward that is learned from. Returns are recorded as they were, with ``learned_return`` beside
them."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass
from types import ModuleType
from typing import Any

from jokulmist.environments.modifiers.base import RewardModifier
from jokulmist.errors import JokulmistError, SettingError, listed
from jokulmist.loading import function_named, name_of


@dataclass(frozen=True, repr=False)
class Scaled(RewardModifier):
    """Multiply the reward.

    Parameters
    ----------
    by : float

    Examples
    --------
    >>> import jokulmist as jm
    >>> env = jm.gallery.Tarn().modified(jm.modifiers.Scaled(0.1))
    >>> env
    Tarn().modified(Scaled(0.1))
    """

    by: float

    def __post_init__(self) -> None:
        if (
            isinstance(self.by, bool)
            or not isinstance(self.by, (int, float))
            or not math.isfinite(self.by)
            or not self.by
        ):
            raise SettingError(f"`by` of `Scaled` must be a number other than 0; got {self.by!r}.")

    def modify(self, xp: ModuleType, memory: Any, reward: Any, before: Any, after: Any, ended: Any) -> tuple[Any, Any]:
        return memory, self.by * reward


@dataclass(frozen=True, repr=False)
class Clipped(RewardModifier):
    """Keep the reward between two bounds.

    Parameters
    ----------
    low, high : float

    Examples
    --------
    >>> import jokulmist as jm
    >>> env = jm.gallery.Tarn().modified(jm.modifiers.Clipped(-1.0, 1.0))
    >>> env
    Tarn().modified(Clipped(-1.0, 1.0))
    """

    low: float
    high: float

    def __post_init__(self) -> None:
        if not (isinstance(self.low, (int, float)) and isinstance(self.high, (int, float)) and self.low < self.high):
            raise SettingError(f"`Clipped` needs low < high; got {self.low!r} and {self.high!r}.")

    def modify(self, xp: ModuleType, memory: Any, reward: Any, before: Any, after: Any, ended: Any) -> tuple[Any, Any]:
        return memory, xp.clip(reward, self.low, self.high)


@dataclass(frozen=True, repr=False)
class Signed(RewardModifier):
    """Keep the reward's sign alone: -1, 0 or 1.

    Examples
    --------
    >>> import jokulmist as jm
    >>> env = jm.gallery.Tarn().modified(jm.modifiers.Signed())
    >>> env
    Tarn().modified(Signed())
    """

    def modify(self, xp: ModuleType, memory: Any, reward: Any, before: Any, after: Any, ended: Any) -> tuple[Any, Any]:
        return memory, xp.sign(reward)


@dataclass(frozen=True, repr=False)
class Potential(RewardModifier):
    """Add the gain of a potential, which makes good states easier to find and leaves the best policy as it is.

    added = discount Phi(s') - Phi(s), with Phi = 0 after a true end

    Ng, Harada and Russell (1999), "Policy invariance under reward transformations", theorem 1.

    Parameters
    ----------
    of : function of the state
        Phi; written with operators and ``abs`` alone, so that it takes numbers and traced ones. In a plan
        ``"mine.py:height"``.
    discount : float, in [0, 1]
        The same as the agent's.

    Examples
    --------
    >>> import jokulmist as jm
    >>> def nearness(state):
    ...     return -abs(state.position - 100.0) / 100.0
    >>> ferry = jm.gallery.Ferry().modified(jm.modifiers.Potential(nearness, discount=0.99))
    >>> run = jm.train(ferry, jm.RandomPlay(), episodes=2, lane="plain", folder=None)
    >>> bool((run.episodes["learned_return"] != run.episodes["return"]).any())  # scores are of the rewards as declared
    True
    """

    of: Callable[[Any], Any]
    discount: float = 0.99

    def __post_init__(self) -> None:
        if isinstance(self.of, str):
            try:
                object.__setattr__(self, "of", function_named(self.of))
            except JokulmistError as wrong:
                raise SettingError(f"`of` of `Potential`: {wrong}") from None
        if not callable(self.of):
            raise SettingError(f"`of` of `Potential` must be a function of the state; got {self.of!r}.")
        if not (isinstance(self.discount, (int, float)) and 0.0 <= self.discount <= 1.0):
            raise SettingError(f"`discount` of `Potential` must lie in [0, 1]; got {self.discount!r}.")

    def written(self) -> dict[str, Any]:
        return {"use": "Potential", "of": name_of(self.of), "discount": self.discount}

    def functions(self) -> list[Any]:
        return [self.of]

    def reads_state(self) -> bool:
        return True

    def modify(self, xp: ModuleType, memory: Any, reward: Any, before: Any, after: Any, ended: Any) -> tuple[Any, Any]:
        return memory, reward + self.discount * xp.where(ended, 0.0, self.of(after)) - self.of(before)


@dataclass(frozen=True, repr=False)
class ForPlayer(RewardModifier):
    """Change the reward of one of several players alone; by itself a modifier changes that of each.

    Parameters
    ----------
    player : str
    modifier : RewardModifier

    Examples
    --------
    >>> import jokulmist as jm
    >>> jm.gallery.Haul().modified(jm.modifiers.ForPlayer("north", jm.modifiers.Scaled(2.0)))
    Haul().modified(ForPlayer('north', Scaled(2.0)))
    """

    player: str
    modifier: RewardModifier

    def __post_init__(self) -> None:
        if not isinstance(self.modifier, RewardModifier):
            raise SettingError(
                "`modifier` of `ForPlayer` must be a modifier of the reward, e.g. `jm.modifiers.Scaled(2.0)`; got "
                f"{self.modifier!r:.80}."
            )

    def written(self) -> dict[str, Any]:
        return {"use": "ForPlayer", "player": self.player, "modifier": self.modifier.written()}

    @classmethod
    def made_from(cls, settings: dict[str, Any]) -> ForPlayer:
        from jokulmist.environments.modifiers import modifier_from

        if set(settings) != {"player", "modifier"}:
            raise SettingError(f"`ForPlayer` has the settings player and modifier; got {listed(settings)}.")
        return cls(settings["player"], modifier_from(settings["modifier"]))  # type: ignore[arg-type]

    def functions(self) -> list[Any]:
        return self.modifier.functions()

    def reads_state(self) -> bool:
        return self.modifier.reads_state()

    def start(self, xp: ModuleType) -> Any:
        return self.modifier.start(xp)

    def modify(self, xp: ModuleType, memory: Any, reward: Any, before: Any, after: Any, ended: Any) -> tuple[Any, Any]:
        return self.modifier.modify(xp, memory, reward, before, after, ended)
