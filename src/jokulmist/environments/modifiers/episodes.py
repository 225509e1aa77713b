"""Modifiers of the episode: how it opens, and what is an end for learning alone."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from types import ModuleType
from typing import Any

from jokulmist.environments.modifiers.base import Modifier, idle_of, modifier_setting
from jokulmist.environments.spaces.actions import Action
from jokulmist.errors import SettingError, listed, nearest

MOST_OPENING = 1_000


@dataclass(frozen=True, init=False, repr=False)
class Opening(Modifier):
    """Let an episode begin with some advances that nobody decides on; they count for nothing, and no limit counts them.

    Parameters
    ----------
    at_most : int, optional
        A number of advances, drawn for each episode from 0 to this, in which `idle` is done.
    idle : label, number or dict, optional
        By default the first alternative of a choice and the middle of a range.
    actions : sequence, optional
        Instead of these two: what is done, one after another, in every episode.

    Notes
    -----
    Where an ending or a cut would close the episode in its opening, the opening stops before it.

    Examples
    --------
    >>> import jokulmist as jm
    >>> env = jm.gallery.Ferry().modified(jm.modifiers.Opening(actions=["ahead", "ahead"]))
    >>> env.episode(seed=1).state.speed > 0.3
    True
    """

    at_most: int
    idle: Any
    actions: tuple[Any, ...]

    def __init__(self, at_most: int | None = None, idle: Any = None, actions: Sequence[Any] = ()) -> None:
        actions = tuple(actions)
        if (at_most is None) == (not actions) or (actions and idle is not None):
            raise SettingError(
                "`Opening` takes `at_most`, with `idle` if wanted, or `actions`. Write `jm.modifiers.Opening(10)`."
            )
        count = len(actions) if at_most is None else at_most
        if isinstance(count, bool) or not isinstance(count, int) or not 1 <= count <= MOST_OPENING:
            raise SettingError(f"`Opening` has from 1 to {MOST_OPENING} advances; got {count!r}.")
        settings = (
            ("at_most", count),
            ("idle", modifier_setting(idle)),
            ("actions", tuple(map(modifier_setting, actions))),
        )
        for name, value in settings:
            object.__setattr__(self, name, value)

    def written(self) -> dict[str, Any]:
        if self.actions:
            return {"use": "Opening", "actions": list(self.actions)}
        return {"use": "Opening", "at_most": self.at_most, **({} if self.idle is None else {"idle": self.idle})}

    def refuse(self, action: Action) -> None:
        """Raise `ActionError` where there is no such action."""
        for action_value in self.actions or (() if self.idle is None else (self.idle,)):
            action.native(action_value)

    def count(self, draw: Any) -> Any:
        """How many advances the opening of this episode has."""
        return self.at_most if self.actions else draw.integers(0, self.at_most + 1)

    def done(self, xp: ModuleType, action: Action, j: int) -> Any:
        """What is done in its j-th advance, as arrays in own form."""
        return idle_of(xp, action, self.actions[j] if self.actions else self.idle)

    def __repr__(self) -> str:
        arguments = f"actions={list(self.actions)!r}" if self.actions else str(self.at_most)
        return f"Opening({arguments}{'' if self.idle is None else f', idle={self.idle!r}'})"


@dataclass(frozen=True, repr=False)
class LearningEnd(Modifier):
    """Let something be a true end for what is learned, while the episode and its score go on.

    Parameters
    ----------
    name : str
        Of a measure, which ends what is learned in a decision where it is not 0; or of a cut or limit, which then has
        no future for the agent.

    Examples
    --------
    >>> import jokulmist as jm
    >>> tarn = jm.gallery.Tarn().modified(jm.modifiers.LearningEnd("washed_out"))
    >>> tarn
    Tarn().modified(LearningEnd('washed_out'))
    """

    name: str

    def refuse(self, closings: Sequence[str], measures: Sequence[str]) -> None:
        """Raise `SettingError` where nothing has that name."""
        names = [*closings, *measures]
        if self.name not in names:
            raise SettingError(
                f"`LearningEnd` names `{self.name}`; there are {listed(names)}.{nearest(self.name, names)}"
            )
