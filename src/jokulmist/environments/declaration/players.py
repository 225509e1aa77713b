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
from jokulmist.environments.spaces.legal import DECIDING, STAYS
from jokulmist.environments.spaces.player_actions import PlayerActions, own_name
from jokulmist.errors import DeclarationError, listed, nearest

PLAYER = "player"
STEP_WORDS = ("before", "action", "actions", "after", PLAYER)


def with_players(cls: Any) -> None:
    """Rewrite the parts of a class that declares `players`; any other is left as it is."""
    if getattr(cls, "players", None) is None:
        return
    context, written = cls.__qualname__, _written(cls)
    players = _names(context, cls.players)
    cls.players = players
    leaves = callable(getattr(cls, "out", None))
    asks = leaves or callable(getattr(cls, "turn", None))
    legal = written.get("legal")
    masked = legal is not None or getattr(getattr(cls, "action", None), "masked", False)
    cls.action = _actions(context, getattr(cls, "action", None), players, asks, masked, leaves)
    advance = written.get("advance")
    if advance is not None:
        arguments = parts.arguments_of(advance)
        if arguments not in (("state", "actions", "draw"), ("state", "action", "draw")):
            raise DeclarationError(
                f"`{context}.advance` takes ({', '.join(('self', *arguments))}); with `players` it must take (self, "
                "state, "
                "actions, draw)."
            )
        cls.advance = _advance(advance)
    for method, takes in (("turn", ("state",)), ("out", ("state", PLAYER))):
        function = written.get(method)
        if function is not None and parts.arguments_of(function) != takes:
            raise DeclarationError(f"`{context}.{method}` must be a method that takes (self, {', '.join(takes)}).")
    for name, part in written.items():
        if isinstance(part, parts.MethodPart):
            _one_a_player(cls, name, part, players)
    if legal is not None or (asks and getattr(cls, "legal", None) is None):  # a base's own is heeded
        cls.legal = _legal(context, legal, players)


def _written(cls: Any) -> dict[str, Any]:
    """What a class itself declares, and its bases that are no environments: what an environment has was read before."""
    read = {above for base in cls.__mro__[1:] if hasattr(base, "players") for above in base.__mro__}
    written: dict[str, Any] = {}
    for base in reversed(cls.__mro__):
        if base not in read:
            written.update(base.__dict__)
    return written


def simulator_with_players(cls: Any) -> None:
    """Read the players of a simulator's class: their actions become one, and `advance` gets what each does."""
    if getattr(cls, "players", None) is None:
        if cls.says_turn or cls.says_out:
            raise DeclarationError(
                f"`{cls.__qualname__}` says whose turn it is or who is out, and declares no `players`. Write "
                '`players = ("north", "south")`.'
            )
        return
    context = cls.__qualname__
    cls.players = players = _names(context, cls.players)
    leaves, asks = bool(cls.says_out), bool(cls.says_out or cls.says_turn)
    cls.action = _actions(context, getattr(cls, "action", None), players, asks, bool(cls.says_legal), leaves)
    advance = cls.__dict__.get("advance")
    if advance is None:
        return
    if parts.arguments_of(advance) not in (("actions",), ("action",)):
        raise DeclarationError(
            f"`{context}.advance` takes ({', '.join(('self', *parts.arguments_of(advance)))}); with `players` it must "
            "take (self, actions)."
        )

    def advanced(self: Any, action: Any) -> Any:
        return advance(self, self.action.by_player(action))

    cls.advance = _told_as(advanced, advance, ("action",))


def _names(context: str, value: Any) -> tuple[str, ...]:
    if isinstance(value, bool) or not isinstance(value, (int, tuple, list)):
        raise DeclarationError(
            f'`{context}.players` is a tuple of names or a number; got {value!r}. Write `players = ("north", "south")`.'
        )
    names = tuple(str(k) for k in range(value)) if isinstance(value, int) else tuple(value)
    wrong = [
        name
        for name in names
        if not isinstance(name, str) or not (name.isidentifier() or isinstance(value, int) or name.isdecimal())
    ]
    if wrong or len(names) < 2 or len(set(names)) != len(names):
        problem = f"{wrong[0]!r} is no name" if wrong else f"got {value!r}"
        raise DeclarationError(
            f"`{context}.players` names two players or more, each once, by words; {problem}. Write `players = "
            '("north", '
            '"south")`.'
        )
    return names


def _actions(
    context: str, value: Any, players: tuple[str, ...], asks: bool, masked: bool, leaves: bool
) -> PlayerActions:
    if isinstance(value, PlayerActions):
        value = value.players
    if isinstance(value, Mapping):
        named = {str(player): action for player, action in value.items()}
        unknown = [player for player in named if player not in players]
        if unknown:
            raise DeclarationError(
                f"the action of `{context}` names the player `{unknown[0]}`; the players are "
                f"{listed(players)}.{nearest(unknown[0], players)}"
            )
        missing = [player for player in players if player not in named]
        if missing:
            raise DeclarationError(
                f"the action of `{context}` is missing for {listed(missing)}. Give one a player, or one for all of "
                "them."
            )
    else:
        named = dict.fromkeys(players, value)
    for player, action in named.items():
        if not isinstance(action, (Choice, Range, Actions)):
            raise DeclarationError(
                f'`{context}` declares no action for `{player}`; got {action!r}. Write `action = jm.Choice("slack", '
                '"pull")` for all, or a dict with one a player.'
            )
    return PlayerActions({player: named[player] for player in players}, asks, masked, leaves)


def _one_a_player(cls: Any, name: str, part: parts.MethodPart, players: tuple[str, ...]) -> None:
    """Where a part takes `player`, or is of one player, put one a player beside the method itself."""
    context, arguments = f"{cls.__qualname__}.{name}", parts.arguments_of(part.function)
    player_option = part.bounds.get("of") if isinstance(part, parts.Sensor) else None
    if player_option is not None and str(player_option) not in players:
        raise DeclarationError(
            f"`{context}` is a channel of `{player_option}`, and the players are "
            f"{listed(players)}.{nearest(str(player_option), players)}"
        )
    wrong = (
        [word for word in arguments if word not in STEP_WORDS]
        if not isinstance(part, (parts.Sensor, parts.Reference))
        else []
    )
    if wrong:
        raise DeclarationError(
            f"`{context}` takes `{wrong[0]}`; with `players` a reward, an ending, a cut or a measure takes any of "
            "`before`, `actions`, `after` and `player`, by name."
        )
    if isinstance(part, parts.Closing) and PLAYER in arguments:
        raise DeclarationError(
            f"`{context}` takes `player`, and an episode closes for all. Write `def out(self, state, player):` for one "
            "who leaves before."
        )
    if isinstance(part, parts.Reference):
        if PLAYER in arguments:
            setattr(cls, name, _named(cls, name, parts.Reference(_by_player(part.function, players))))
        return
    takes = tuple("action" if word == "actions" else word for word in arguments if word != PLAYER)
    if player_option is None and PLAYER not in arguments:
        if "actions" in arguments or "action" in arguments:
            setattr(cls, name, _named(cls, name, _like(part, _seated(part.function, arguments, takes, None))))
        return
    leaves = isinstance(part, parts.Term) and callable(getattr(cls, "out", None))
    for k, player in enumerate(players):
        if player_option is None or player == str(player_option):
            full_name = own_name(player, name)
            function = _seated(part.function, arguments, takes, k)
            if leaves:
                function = _while_it_stays(function, takes, k)
            setattr(cls, full_name, _named(cls, full_name, _like(part, function)))
    setattr(cls, name, part.function)


def _named(cls: type, name: str, part: parts.Part) -> parts.Part:
    part.__set_name__(cls, name)
    return part


def _like(part: parts.MethodPart, function: Callable[..., Any]) -> parts.MethodPart:
    """A part of the same kind around another function."""
    copy = object.__new__(type(part))
    copy.__dict__.update(part.__dict__, function=function)
    return copy


def _seated(
    function: Callable[..., Any], arguments: tuple[str, ...], takes: tuple[str, ...], player: int | None
) -> Any:
    """A method as it is read: with one action of all, and for one player."""

    def for_player(self: Any, *values: Any) -> Any:
        by_name = dict(zip(takes, values, strict=True))
        if "action" in by_name:
            by_name["actions" if "actions" in arguments else "action"] = self.action.by_player(by_name.pop("action"))
        if player is not None and PLAYER in arguments:
            by_name[PLAYER] = player
        return function(self, **by_name)

    return _told_as(for_player, function, takes)


def _while_it_stays(function: Any, takes: tuple[str, ...], player: int) -> Any:
    """A player's own term, which pays nothing once the player is out."""
    wanted = ("before", *(word for word in takes if word != "before"))

    def paid(self: Any, *values: Any) -> Any:
        by_name = dict(zip(wanted, values, strict=True))
        result = function(self, *(by_name[word] for word in takes))
        return self.xp.where(self.out(by_name["before"], player), 0.0, result)

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


def _legal(context: str, function: Callable[..., Any] | None, players: tuple[str, ...]) -> Any:
    """What is allowed, by part, and who decides now."""
    arguments = () if function is None else parts.arguments_of(function)
    if function is not None and arguments not in (("state",), ("state", PLAYER)):
        raise DeclarationError(
            f"`{context}.legal` must be a method that takes (self, state), and gives a dict by player, or (self, "
            "state, player)."
        )

    def legal(self: Any, state: Any) -> Any:
        allowed: dict[str, Any] = {}
        if function is not None:
            by_name = (
                {p: function(self, state, k) for k, p in enumerate(players)}
                if PLAYER in arguments
                else function(self, state)
            )
            allowed = self.action.allowed_by_part(by_name)
        if self.action.asks:
            allowed[DECIDING] = players_to_decide(self, state)
        if self.action.leaves:
            allowed[STAYS] = stays(self, state)
        return allowed

    return legal if function is None else _told_as(legal, function, ("state",))


def players_to_decide(environment: Any, state: Any) -> Any:
    """Who decides in a state, bool of shape ``(players,)``."""
    xp, players = environment.xp, environment.players
    deciding = xp.ones(len(players), dtype=bool)
    if callable(getattr(environment, "turn", None)):
        deciding = xp.arange(len(players)) == environment.turn(state)
    if callable(getattr(environment, "out", None)):
        deciding = deciding & stays(environment, state)
    return deciding


def stays(environment: Any, state: Any) -> Any:
    """Who is not out in a state, bool of shape ``(players,)``."""
    xp = environment.xp
    return ~xp.stack([xp.asarray(environment.out(state, k), dtype=bool) for k in range(len(environment.players))])
