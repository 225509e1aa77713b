"""What each of several players sees and does, among what all of them see and do."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from typing import Any, NamedTuple

from jokulmist.environments.spaces.actions import Choice
from jokulmist.environments.spaces.channels import Channel, Observation, Spec
from jokulmist.environments.spaces.player_actions import PlayerActions, belongs_to
from jokulmist.errors import SettingError, listed, nearest


class PlayerObservation(Observation):
    """What all players see, by channel; ``observation["north"]`` is what one of them sees."""

    def __init__(self, values: Mapping[str, Any], each: Mapping[str, Observation]) -> None:
        super().__init__(values)
        object.__setattr__(self, "_each", dict(each))

    def __getitem__(self, name: Any) -> Any:
        each: dict[str, Observation] = self.__dict__["_each"]
        return each[str(name)] if str(name) in each else self.__dict__[name]

    def __getattr__(self, name: str) -> Any:
        each: dict[str, Observation] = self.__dict__.get("_each", {})
        if name in each:
            return each[name]
        raise AttributeError(name)

    def keys(self) -> Any:
        return [name for name in self.__dict__ if name != "_each"]

    def __repr__(self) -> str:
        parts = (f"{player}={observation!r}" for player, observation in self.__dict__["_each"].items())
        return f"PlayerObservation({', '.join(parts)})"


class PlayerView(NamedTuple):
    """Where one player's part of the whole is.

    Attributes
    ----------
    spec : Spec
        What the player sees and does, by names without the player's.
    columns : tuple of int
        Its number channels among those of the whole.
    images : tuple of (str, str)
        Its image channels, by their names in the whole and its own.
    masks : tuple of int
        Its choices among the masks of the whole.
    """

    spec: Spec
    columns: tuple[int, ...]
    images: tuple[tuple[str, str], ...]
    masks: tuple[int, ...]


def view_of(spec: Spec, player: str) -> PlayerView:
    """One player's part of what an environment shows and takes."""
    action = spec.action
    assert isinstance(action, PlayerActions)
    prefixes = [f"{prefix}." for prefix in action.players if prefix != player]
    channels: list[Channel] = []
    columns: list[int] = []
    images: list[tuple[str, str]] = []
    for channel in spec.channels:
        if any(channel.name.startswith(prefix) for prefix in prefixes):
            continue
        view_channel = replace(channel, name=channel.name.removeprefix(f"{player}."))
        # Decisions of its own skip moments, so replay cannot rebuild a stack from the player's newest frames.
        if action.asks:
            view_channel = replace(view_channel, stacked=1)
        channels.append(view_channel)
        if channel.image:
            images.append((channel.name, view_channel.name))
        else:
            part = spec.slices[channel.name]
            columns.extend(range(part.start, part.stop))
    choices = [name for name, part in action.parts.items() if isinstance(part, Choice)]
    masks = tuple(k for k, name in enumerate(choices) if belongs_to(player, name))
    player_action = action.players[player]
    return PlayerView(
        Spec(tuple(channels), player_action, action.masked and bool(masks)), tuple(columns), tuple(images), masks
    )


def refuse_unknown(player: str, players: tuple[str, ...], context: str) -> None:
    """Raise `SettingError` where a player is named that is not there."""
    if player not in players:
        raise SettingError(
            f"{context} names the player `{player}`; the players are {listed(players)}.{nearest(player, players)}"
        )
