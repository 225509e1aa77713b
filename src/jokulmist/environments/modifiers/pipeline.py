"""All modifiers around an environment, by what they change: the observation, the action and the reward."""

from __future__ import annotations

from collections.abc import Sequence
from types import ModuleType
from typing import Any

from jokulmist.environments.chance.draws import Draw
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

    def start(
        self, xp: ModuleType, seen: ChannelValues, surroundings: Surroundings
    ) -> tuple[tuple[Any, ...], ChannelValues]:
        """Memories and what is seen at an episode's first moment."""
        memories = []
        for modifier, spec in zip(self.modifiers, self.specs, strict=False):
            memory, seen = modifier.start(spec, xp, seen, surroundings)
            memories.append(memory)
        return tuple(memories), seen

    def update(
        self, xp: ModuleType, memories: tuple[Any, ...], seen: ChannelValues, surroundings: Surroundings
    ) -> tuple[tuple[Any, ...], ChannelValues]:
        """The same, one decision later."""
        new_memories = []
        for modifier, spec, memory in zip(self.modifiers, self.specs, memories, strict=False):
            memory, seen = modifier.update(spec, xp, memory, seen, surroundings)
            new_memories.append(memory)
        return tuple(new_memories), seen


class ActionPipeline:
    """The modifiers of the action, from the agent inwards: the last named first."""

    def __init__(self, action: Action, modifiers: tuple[Modifier, ...], masked: bool = False) -> None:
        self.action = action
        self.modifiers = tuple(m for m in reversed(modifiers) if isinstance(m, ActionModifier))
        for modifier in self.modifiers:
            if masked:
                turns = getattr(action, "asks", False) and not getattr(action, "masked", False)
                reason = "its players decide in turns" if turns else "the environment says what is legal"
                raise SettingError(f"`{modifier}` can do what is not allowed now, and {reason}. Leave it out.")
            modifier.refuse(action)

    def start(self, xp: ModuleType) -> tuple[Any, ...]:
        """The memories at an episode's first decision."""
        return tuple(modifier.start(xp, self.action) for modifier in self.modifiers)

    def modify(self, xp: ModuleType, memories: tuple[Any, ...], action: Any, draw: Draw) -> tuple[tuple[Any, ...], Any]:
        """Memories, and what is done instead of the action in own form."""
        new_memories = []
        for modifier, memory in zip(self.modifiers, memories, strict=True):
            memory, action = modifier.modify(xp, self.action, memory, action, draw)
            new_memories.append(memory)
        return tuple(new_memories), action


class RewardPipeline:
    """The modifiers of the reward, the first named first; of several players that of each by itself."""

    def __init__(self, modifiers: tuple[Modifier, ...], players: tuple[str, ...] = ()) -> None:
        self.modifiers = tuple(m for m in modifiers if isinstance(m, RewardModifier))
        self.players = players
        for modifier in self.modifiers:
            player = getattr(modifier, "player", None)
            if player is not None and player not in players:
                players_text = f"the players are {listed(players)}" if players else "the environment has no players"
                raise SettingError(f"`{modifier}` is for the player {player!r}, and {players_text}.")

    def _for_player(self, player: str | None) -> list[RewardModifier]:
        """Those that change what a player gets."""
        return [m for m in self.modifiers if getattr(m, "player", player) == player]

    def start(self, xp: ModuleType) -> tuple[Any, ...]:
        """The memories at an episode's first decision."""
        if not self.players:
            return tuple(modifier.start(xp) for modifier in self.modifiers)
        return tuple(tuple(modifier.start(xp) for modifier in self._for_player(player)) for player in self.players)

    def modify(
        self, xp: ModuleType, memories: tuple[Any, ...], reward: Any, before: Any, after: Any, ended: Any
    ) -> tuple[tuple[Any, ...], Any]:
        """Memories, and the reward that is learned from; of several players shape ``(players,)``."""
        if not self.players:
            return _through(xp, self.modifiers, memories, reward, before, after, ended)
        each = [
            _through(xp, self._for_player(player), memories[k], reward[k], before, after, ended)
            for k, player in enumerate(self.players)
        ]
        return tuple(memory for memory, _ in each), xp.stack([xp.asarray(value) for _, value in each])


def _through(
    xp: ModuleType, modifiers: Sequence[RewardModifier], memories: tuple[Any, ...], reward: Any, *moment: Any
) -> tuple[tuple[Any, ...], Any]:
    new_memories = []
    for modifier, memory in zip(modifiers, memories, strict=True):
        memory, reward = modifier.modify(xp, memory, reward, *moment)
        new_memories.append(memory)
    return tuple(new_memories), reward
