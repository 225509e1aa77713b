"""All modifiers around an environment, by what they change: the observation, the action and the reward."""

from __future__ import annotations

from collections.abc import Sequence
from types import ModuleType
from typing import Any

from jokulmist.environments.modifiers.base import (
    ActionModifier,
    ChannelValues,
    Modifier,
    ObservationModifier,
    RewardModifier,
    Surroundings,
)
from jokulmist.environments.spaces.actions import Action
from jokulmist.environments.spaces.channels import Spec
from jokulmist.errors import SettingError, listed


class ObservationPipeline:
    """The modifiers of the observation, applied one after another, the first named first."""

    def __init__(self, bare: Spec, modifiers: tuple[Modifier, ...], limited: bool = False) -> None:
        self.modifiers = tuple(m for m in modifiers if isinstance(m, ObservationModifier))
        self.specs = [bare]
        for modifier in self.modifiers:
            if modifier.needs_limit and not limited:
                raise SettingError(
                    f"`{modifier}` needs a limit, and the environment has neither `deadline` nor `time_limit`. "
                    f"Declare `time_limit = 1000`."
                )
            self.specs.append(modifier.spec(self.specs[-1]))

    @property
    def spec(self) -> Spec:
        """What is seen through all of them."""
        return self.specs[-1]

    def begun(self, xp: ModuleType, seen: ChannelValues, around: Surroundings) -> tuple[tuple[Any, ...], ChannelValues]:
        """Memories and what is seen at an episode's first moment."""
        memories = []
        for modifier, spec in zip(self.modifiers, self.specs, strict=False):
            memory, seen = modifier.begun(spec, xp, seen, around)
            memories.append(memory)
        return tuple(memories), seen

    def onward(
        self, xp: ModuleType, memories: tuple[Any, ...], seen: ChannelValues, around: Surroundings
    ) -> tuple[tuple[Any, ...], ChannelValues]:
        """The same, one decision later."""
        kept = []
        for modifier, spec, memory in zip(self.modifiers, self.specs, memories, strict=False):
            memory, seen = modifier.onward(spec, xp, memory, seen, around)
            kept.append(memory)
        return tuple(kept), seen


class ActionPipeline:
    """The modifiers of the action, from the agent inwards: the last named first."""

    def __init__(self, action: Action, modifiers: tuple[Modifier, ...], masked: bool = False) -> None:
        self.action = action
        self.modifiers = tuple(m for m in reversed(modifiers) if isinstance(m, ActionModifier))
        for modifier in self.modifiers:
            if masked:
                turns = getattr(action, "asks", False) and not getattr(action, "masked", False)
                what = "its players decide in turns" if turns else "the environment says what is legal"
                raise SettingError(f"`{modifier}` can do what is not allowed now, and {what}. Leave it out.")
            modifier.refuse(action)

    def begun(self, xp: ModuleType) -> tuple[Any, ...]:
        """The memories at an episode's first decision."""
        return tuple(modifier.begun(xp, self.action) for modifier in self.modifiers)

    def acted(self, xp: ModuleType, memories: tuple[Any, ...], own: Any, draw: Any) -> tuple[tuple[Any, ...], Any]:
        """Memories, and what is done instead of the action in own form."""
        kept = []
        for modifier, memory in zip(self.modifiers, memories, strict=True):
            memory, own = modifier.acted(xp, self.action, memory, own, draw)
            kept.append(memory)
        return tuple(kept), own


class RewardPipeline:
    """The modifiers of the reward, the first named first; of several players that of each by itself."""

    def __init__(self, modifiers: tuple[Modifier, ...], players: tuple[str, ...] = ()) -> None:
        self.modifiers = tuple(m for m in modifiers if isinstance(m, RewardModifier))
        self.players = players
        for modifier in self.modifiers:
            player = getattr(modifier, "player", None)
            if player is not None and player not in players:
                there = f"the players are {listed(players)}" if players else "the environment has no players"
                raise SettingError(f"`{modifier}` is for the player {player!r}, and {there}.")

    def _of(self, player: str | None) -> list[RewardModifier]:
        """Those that change what a player gets."""
        return [m for m in self.modifiers if getattr(m, "player", player) == player]

    def begun(self, xp: ModuleType) -> tuple[Any, ...]:
        """The memories at an episode's first decision."""
        if not self.players:
            return tuple(modifier.begun(xp) for modifier in self.modifiers)
        return tuple(tuple(modifier.begun(xp) for modifier in self._of(player)) for player in self.players)

    def given(
        self, xp: ModuleType, memories: tuple[Any, ...], reward: Any, before: Any, after: Any, ended: Any
    ) -> tuple[tuple[Any, ...], Any]:
        """Memories, and the reward that is learned from; of several players shape ``(players,)``."""
        if not self.players:
            return _through(xp, self.modifiers, memories, reward, before, after, ended)
        each = [
            _through(xp, self._of(player), memories[k], reward[k], before, after, ended)
            for k, player in enumerate(self.players)
        ]
        return tuple(kept for kept, _ in each), xp.stack([xp.asarray(one) for _, one in each])


def _through(
    xp: ModuleType, modifiers: Sequence[RewardModifier], memories: tuple[Any, ...], reward: Any, *moment: Any
) -> tuple[tuple[Any, ...], Any]:
    kept = []
    for modifier, memory in zip(modifiers, memories, strict=True):
        memory, reward = modifier.given(xp, memory, reward, *moment)
        kept.append(memory)
    return tuple(kept), reward
