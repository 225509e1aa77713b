"""A class with `players`, read: what takes a `player` becomes one part a player, and their actions become one action.

After that the class is declared like any other, so that what reads declarations needs to know nothing of players. A
method that takes `player` is asked once a player, and stays callable as it was written: ``environment.partner(state,
0)``.
"""

from __future__ import annotations

import inspect
from collections.abc import Callable, Mapping
from typing import Any

from jokulmist.environments.declaration import parts
from jokulmist.environments.spaces.actions import Actions, Choice, Range
from jokulmist.environments.spaces.legal import ASKED, STAYS
from jokulmist.environments.spaces.player_actions import PlayerActions, own_name
from jokulmist.errors import DeclarationError, listed, nearest

PLAYER = "player"
STEP_WORDS = ("before", "action", "actions", "after", PLAYER)


def with_players(cls: Any) -> None:
    """Rewrite the parts of a class that declares `players`; any other is left as it is."""
    if getattr(cls, "players", None) is None:
        return
    where = cls.__qualname__
    players = _names(where, cls.players)
    cls.players = players
    leaves = callable(getattr(cls, "out", None))
    asks = leaves or callable(getattr(cls, "turn", None))
    legal = cls.__dict__.get("legal")
    masked = legal is not None or getattr(getattr(cls, "action", None), "masked", False)
    cls.action = _actions(
        where, cls.__dict__.get("action", getattr(cls, "action", None)), players, asks, masked, leaves
    )
    advance = cls.__dict__.get("advance")
    if advance is not None:
        given = parts.arguments_of(advance)
        if given not in (("state", "actions", "draw"), ("state", "action", "draw")):
            raise DeclarationError(
                f"`{where}.advance` takes ({', '.join(('self', *given))}); with `players` it must take (self, state, "
                "actions, draw)."
            )
        cls.advance = _advance(advance)
    for method, takes in (("turn", ("state",)), ("out", ("state", PLAYER))):
        function = cls.__dict__.get(method)
        if function is not None and parts.arguments_of(function) != takes:
            raise DeclarationError(f"`{where}.{method}` must be a method that takes (self, {', '.join(takes)}).")
    for name, part in list(cls.__dict__.items()):
        if isinstance(part, parts.MethodPart):
            _one_a_player(cls, name, part, players)
    if legal is not None or (asks and getattr(cls, "legal", None) is None):  # a base's own is heeded
        cls.legal = _legal(where, legal, players)


def simulator_with_players(cls: Any) -> None:
    """Read the players of a simulator's class: their actions become one, and `advance` gets what each does."""
    if getattr(cls, "players", None) is None:
        if cls.says_turn or cls.says_out:
            raise DeclarationError(
                f"`{cls.__qualname__}` says whose turn it is or who is out, and declares no `players`. Write "
                '`players = ("north", "south")`.'
            )
        return
    where = cls.__qualname__
    cls.players = players = _names(where, cls.players)
    leaves, asks = bool(cls.says_out), bool(cls.says_out or cls.says_turn)
    cls.action = _actions(where, getattr(cls, "action", None), players, asks, bool(cls.says_legal), leaves)
    advance = cls.__dict__.get("advance")
    if advance is None:
        return
    if parts.arguments_of(advance) not in (("actions",), ("action",)):
        raise DeclarationError(
            f"`{where}.advance` takes ({', '.join(('self', *parts.arguments_of(advance)))}); with `players` it must "
            "take (self, actions)."
        )

    def advanced(self: Any, action: Any) -> Any:
        return advance(self, self.action.by_player(action))

    cls.advance = _told_as(advanced, advance, ("action",))


def _names(where: str, given: Any) -> tuple[str, ...]:
    if isinstance(given, bool) or not isinstance(given, (int, tuple, list)):
        raise DeclarationError(
            f'`{where}.players` is a tuple of names or a number; got {given!r}. Write `players = ("north", "south")`.'
        )
    names = tuple(str(k) for k in range(given)) if isinstance(given, int) else tuple(given)
    wrong = [
        name
        for name in names
        if not isinstance(name, str) or not (name.isidentifier() or isinstance(given, int) or name.isdecimal())
    ]
    if wrong or len(names) < 2 or len(set(names)) != len(names):
        told = f"{wrong[0]!r} is no name" if wrong else f"got {given!r}"
        raise DeclarationError(
            f'`{where}.players` names two players or more, each once, by words; {told}. Write `players = ("north", '
            '"south")`.'
        )
    return names


def _actions(where: str, given: Any, players: tuple[str, ...], asks: bool, masked: bool, leaves: bool) -> PlayerActions:
    if isinstance(given, PlayerActions):
        given = given.players
    if isinstance(given, Mapping):
        named = {str(player): action for player, action in given.items()}
        unknown = [player for player in named if player not in players]
        if unknown:
            raise DeclarationError(
                f"the action of `{where}` names the player `{unknown[0]}`; the players are "
                f"{listed(players)}.{nearest(unknown[0], players)}"
            )
        missing = [player for player in players if player not in named]
        if missing:
            raise DeclarationError(
                f"the action of `{where}` is missing for {listed(missing)}. Give one a player, or one for all of them."
            )
    else:
        named = dict.fromkeys(players, given)
    for player, action in named.items():
        if not isinstance(action, (Choice, Range, Actions)):
            raise DeclarationError(
                f'`{where}` declares no action for `{player}`; got {action!r}. Write `action = jm.Choice("slack", '
                '"pull")` for all, or a dict with one a player.'
            )
    return PlayerActions({player: named[player] for player in players}, asks, masked, leaves)


def _one_a_player(cls: Any, name: str, part: parts.MethodPart, players: tuple[str, ...]) -> None:
    """Where a part takes `player`, or is of one player, put one a player beside the method itself."""
    where, given = f"{cls.__qualname__}.{name}", parts.arguments_of(part.function)
    of = part.bounds.get("of") if isinstance(part, parts.Sensor) else None
    if of is not None and str(of) not in players:
        raise DeclarationError(
            f"`{where}` is a channel of `{of}`, and the players are {listed(players)}.{nearest(str(of), players)}"
        )
    wrong = (
        [word for word in given if word not in STEP_WORDS]
        if not isinstance(part, (parts.Sensor, parts.Reference))
        else []
    )
    if wrong:
        raise DeclarationError(
            f"`{where}` takes `{wrong[0]}`; with `players` a reward, an ending, a cut or a measure takes any of "
            "`before`, `actions`, `after` and `player`, by name."
        )
    if isinstance(part, parts.Closing) and PLAYER in given:
        raise DeclarationError(
            f"`{where}` takes `player`, and an episode closes for all. Write `def out(self, state, player):` for one "
            "who leaves before."
        )
    if isinstance(part, parts.Reference):
        if PLAYER in given:
            setattr(cls, name, _named(cls, name, parts.Reference(_by_player(part.function, players))))
        return
    takes = tuple("action" if word == "actions" else word for word in given if word != PLAYER)
    if of is None and PLAYER not in given:
        if "actions" in given or "action" in given:
            setattr(cls, name, _named(cls, name, _like(part, _seated(part.function, given, takes, None))))
        return
    leaves = isinstance(part, parts.Term) and callable(getattr(cls, "out", None))
    for k, player in enumerate(players):
        if of is None or player == str(of):
            own = own_name(player, name)
            function = _seated(part.function, given, takes, k)
            if leaves:
                function = _while_it_stays(function, takes, k)
            setattr(cls, own, _named(cls, own, _like(part, function)))
    setattr(cls, name, part.function)


def _named(cls: type, name: str, part: parts.Part) -> parts.Part:
    part.__set_name__(cls, name)
    return part


def _like(part: parts.MethodPart, function: Callable[..., Any]) -> parts.MethodPart:
    """A part of the same kind around another function."""
    other = object.__new__(type(part))
    other.__dict__.update(part.__dict__, function=function)
    return other


def _seated(function: Callable[..., Any], given: tuple[str, ...], takes: tuple[str, ...], player: int | None) -> Any:
    """A method as it is read: with one action of all, and for one player."""

    def asked(self: Any, *values: Any) -> Any:
        by_name = dict(zip(takes, values, strict=True))
        if "action" in by_name:
            by_name["actions" if "actions" in given else "action"] = self.action.by_player(by_name.pop("action"))
        if player is not None and PLAYER in given:
            by_name[PLAYER] = player
        return function(self, **by_name)

    return _told_as(asked, function, takes)


def _while_it_stays(function: Any, takes: tuple[str, ...], player: int) -> Any:
    """A player's own term, which pays nothing once the player is out."""
    wanted = ("before", *(word for word in takes if word != "before"))

    def paid(self: Any, *values: Any) -> Any:
        by_name = dict(zip(wanted, values, strict=True))
        found = function(self, *(by_name[word] for word in takes))
        return self.xp.where(self.out(by_name["before"], player), 0.0, found)

    return _told_as(paid, function, wanted)


def _told_as(wrapper: Any, function: Callable[..., Any], takes: tuple[str, ...]) -> Any:
    """A wrapper with the name and words of a method, and arguments of its own."""
    wrapper.__name__, wrapper.__qualname__ = function.__name__, getattr(function, "__qualname__", function.__name__)
    wrapper.__doc__, wrapper.__module__, wrapper.__wrapped__ = function.__doc__, function.__module__, function
    kind = inspect.Parameter.POSITIONAL_OR_KEYWORD
    wrapper.__signature__ = inspect.Signature([inspect.Parameter(name, kind) for name in ("self", *takes)])
    return wrapper


def _advance(function: Callable[..., Any]) -> Any:
    def advance(self: Any, state: Any, action: Any, draw: Any) -> Any:
        return function(self, state, self.action.by_player(action), draw)

    return _told_as(advance, function, ("state", "action", "draw"))


def _by_player(function: Callable[..., Any], players: tuple[str, ...]) -> Any:
    """A reference that is asked once a player."""

    def decided(self: Any, state: Any) -> Any:
        return {player: function(self, state, k) for k, player in enumerate(players)}

    return _told_as(decided, function, ("state",))


def _legal(where: str, function: Callable[..., Any] | None, players: tuple[str, ...]) -> Any:
    """What is allowed, by part, and who decides now."""
    given = () if function is None else parts.arguments_of(function)
    if function is not None and given not in (("state",), ("state", PLAYER)):
        raise DeclarationError(
            f"`{where}.legal` must be a method that takes (self, state), and gives a dict by player, or (self, "
            "state, player)."
        )

    def legal(self: Any, state: Any) -> Any:
        found: dict[str, Any] = {}
        if function is not None:
            told = (
                {p: function(self, state, k) for k, p in enumerate(players)}
                if PLAYER in given
                else function(self, state)
            )
            found = self.action.allowed_by_part(told)
        if self.action.asks:
            found[ASKED] = asked(self, state)
        if self.action.leaves:
            found[STAYS] = stays(self, state)
        return found

    return legal if function is None else _told_as(legal, function, ("state",))


def asked(environment: Any, state: Any) -> Any:
    """Who decides in a state, bool of shape ``(players,)``."""
    xp, players = environment.xp, environment.players
    who = xp.ones(len(players), dtype=bool)
    if callable(getattr(environment, "turn", None)):
        who = xp.arange(len(players)) == environment.turn(state)
    if callable(getattr(environment, "out", None)):
        who = who & stays(environment, state)
    return who


def stays(environment: Any, state: Any) -> Any:
    """Who is not out in a state, bool of shape ``(players,)``."""
    xp = environment.xp
    return ~xp.stack([xp.asarray(environment.out(state, k), dtype=bool) for k in range(len(environment.players))])
