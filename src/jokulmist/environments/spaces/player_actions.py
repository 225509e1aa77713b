"""Several players' actions as one action of an environment.

Inside the library an environment of several players is one whose action has a part a player and whose channels are
those of all. Lanes, records and pictures need to know nothing else. What belongs to one player has the player's name in
front: ``north.partner``, ``south.fuel``.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from typing import Any

from jokulmist.environments.spaces.actions import Action, Actions, Choice, Range, Record
from jokulmist.errors import ActionError, listed, nearest


def own_name(player: str, name: str) -> str:
    """The name in records of what belongs to one player."""
    return f"{player}.{name}"


def belongs_to(player: str, name: str) -> bool:
    """Whether a name in records is a player's, or of something that belongs to the player."""
    return name == player or name.startswith(own_name(player, ""))


def name_in(name: str) -> str:
    """The name itself, without the player's: of ``north.fuel`` it is ``fuel``."""
    return name.rpartition(".")[2]


def owner_of(name: str) -> str:
    """The player whom a name in records belongs to; empty where it is everybody's."""
    return name.rpartition(".")[0]


def by_own_names(values: Mapping[Any, Any], players: tuple[str, ...]) -> dict[str, Any]:
    """What is told in part by player, by the names in records.

    Examples
    --------
    >>> by_own_names({"catch": 2.0, "north": {"fuel": 1.0}}, ("north", "south"))
    {'catch': 2.0, 'north.fuel': 1.0}
    """
    result: dict[str, Any] = {}
    for name, value in values.items():
        if players and str(name) in players and isinstance(value, Mapping):
            result.update({own_name(str(name), str(part)): part_value for part, part_value in value.items()})
        else:
            result[name] = value
    return result


class ByPlayer:
    """A value a player, by name or by index: what `advance` gets as `actions`.

    Examples
    --------
    >>> both = ByPlayer({"north": 1, "south": 0})
    >>> both.north, both["south"], both[0], list(both)
    (1, 0, 1, [1, 0])
    """

    def __init__(self, values: Mapping[str, Any]) -> None:
        self.__dict__.update(values)

    def __getitem__(self, player: int | str) -> Any:
        return self.__dict__[player] if isinstance(player, str) else list(self.__dict__.values())[player]

    def __iter__(self) -> Iterator[Any]:
        return iter(self.__dict__.values())

    def __len__(self) -> int:
        return len(self.__dict__)

    def __repr__(self) -> str:
        return f"ByPlayer({', '.join(f'{name}={value!r}' for name, value in self.__dict__.items())})"


class PlayerActions(Actions):
    """The actions of several players as one: a part a player, or one for each thing that a player decides."""

    def __init__(
        self, players: Mapping[str, Action], asks: bool = False, masked: bool = False, leaves: bool = False
    ) -> None:
        parts: dict[str, Choice | Range] = {}
        for player, action in players.items():
            if isinstance(action, Actions):
                parts.update({own_name(player, name): part for name, part in action.parts.items()})
            else:
                parts[player] = action
        super().__init__(**parts)
        self.players, self.asks, self.masked, self.leaves = dict(players), asks, masked, leaves

    def __getattr__(self, name: str) -> Any:
        players: dict[str, Action] = self.__dict__.get("players", {})
        if name in players:
            return players[name]
        first = next(iter(players.values()), None)
        if first is not None and not name.startswith("_") and all(action == first for action in players.values()):
            return getattr(first, name)  # `self.action.pull`, where all have the same
        return super().__getattr__(name)

    def by_player(self, action: Any) -> ByPlayer:
        """What each player does, from a record of all parts."""
        if isinstance(action, ByPlayer):
            return action
        return ByPlayer({player: self.for_player(player, action) for player in self.players})

    def for_player(self, player: str, native: Any) -> Any:
        """What one player does, in the own form of its action."""
        action = self.players[player]
        if isinstance(action, Actions):
            return Record(**{name: getattr(native, own_name(player, name)) for name in action.parts})
        return getattr(native, player)

    def joined(self, by_player: Mapping[str, Any]) -> Record:
        """A record of all parts, from what each player does in own form."""
        parts: dict[str, Any] = {}
        for player, action in self.players.items():
            if isinstance(action, Actions):
                parts.update({own_name(player, name): getattr(by_player[player], name) for name in action.parts})
            else:
                parts[player] = by_player[player]
        return Record(**parts)

    def allowed_by_part(self, by_player: Mapping[Any, Any]) -> dict[str, Any]:
        """What is allowed, by part, from what is allowed to each player."""
        result: dict[str, Any] = {}
        for player, allowed in dict(by_player).items():
            if isinstance(self.players.get(str(player)), Actions):
                result.update(
                    {own_name(str(player), name): part_allowed for name, part_allowed in dict(allowed).items()}
                )
            else:
                result[str(player)] = allowed
        return result

    def native(self, value: Any) -> Record:
        """A record of all parts, from a dict with an action a player."""
        if isinstance(value, Record):
            return super().native(value)
        values = dict(vars(value)) if isinstance(value, ByPlayer) else value
        if not isinstance(values, Mapping):
            raise ActionError(f"an action is a dict with one a player, {listed(self.players)}; got {value!r:.80}.")
        named = {str(player): action for player, action in values.items()}
        for player in named:
            if player not in self.players:
                raise ActionError(
                    f"there is no player `{player}`; the players are "
                    f"{listed(self.players)}.{nearest(player, self.players)}"
                )
        missing = [player for player in self.players if player not in named]
        if missing:
            raise ActionError(f"an action is missing for {listed(missing)}; give one a player, {listed(self.players)}.")
        return self.joined({player: self.players[player].native(named[player]) for player in self.players})

    def label(self, action: Any) -> str:
        return self.label_of(tuple(self.players), action)

    def label_of(self, players: Sequence[str], action: Any) -> str:
        """What some of the players do, in words."""
        return " ".join(f"{player}={self.players[player].label(self.for_player(player, action))}" for player in players)

    def __repr__(self) -> str:
        return f"{{{', '.join(f'{player!r}: {action!r}' for player, action in self.players.items())}}}"

    def __eq__(self, other: object) -> bool:
        return (
            isinstance(other, PlayerActions)
            and tuple(other.players.items()) == tuple(self.players.items())
            and (other.asks, other.masked, other.leaves) == (self.asks, self.masked, self.leaves)
        )

    def __hash__(self) -> int:
        return hash((tuple(self.players.items()), self.asks, self.masked, self.leaves))

    def described(self) -> dict[str, Any]:
        players = {player: action.described() for player, action in self.players.items()}
        return {"kind": "players", "players": players, "asks": self.asks, "masked": self.masked, "leaves": self.leaves}

    @classmethod
    def from_described(cls, described: Mapping[str, Any]) -> PlayerActions:
        """What `described` wrote down."""
        players = {player: from_described(action) for player, action in described["players"].items()}
        return cls(players, bool(described["asks"]), bool(described["masked"]), bool(described["leaves"]))


def players_of(action: Action) -> tuple[str, ...]:
    """The names of the players; none where there are no several."""
    return tuple(action.players) if isinstance(action, PlayerActions) else ()


def from_described(described: Mapping[str, Any]) -> Action:
    """The action that `described()` wrote down."""
    if described["kind"] == "choice":
        labels = described["labels"]
        return Choice(labels) if isinstance(labels, int) else Choice(*labels)
    if described["kind"] == "range":
        return Range(
            described["low"], described["high"], shape=described.get("shape", ()), unit=described.get("unit", "")
        )
    if described["kind"] == "players":
        return PlayerActions.from_described(described)
    return Actions(**{name: from_described(part) for name, part in described["parts"].items()})  # type: ignore[arg-type]
