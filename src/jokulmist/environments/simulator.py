"""Environments whose state cannot be written down: a physics engine, a game, a program at the end of a socket.

A simulator cannot be copied, rewound or compiled; it is begun with a seed and advanced by actions. What it tells after
each advance is checked here and brought into one plain record, `Told`, from which a stepper answers whatever is asked
of a state. So everything that works on a plain lane works on simulators: limits, measures, modifiers, parameters that
vary.
"""

from __future__ import annotations

import math
from collections.abc import Mapping
from typing import Any, ClassVar

from jokulmist.environments.declaration import outline as outlines
from jokulmist.environments.declaration.instance import OUTLINES, Instance, outline_of
from jokulmist.environments.declaration.outcome import Outcome
from jokulmist.environments.declaration.parts import OVERS
from jokulmist.environments.declaration.players import simulator_with_players
from jokulmist.environments.environment import Environment
from jokulmist.environments.modifiers.base import Modifier, RewardModifier
from jokulmist.environments.spaces.actions import Actions, Choice, Range
from jokulmist.environments.spaces.legal import choices_of
from jokulmist.environments.spaces.player_actions import by_own_names, name_in, owner_of, players_of
from jokulmist.errors import BrokenEnvironment, DeclarationError, SettingError, listed, nearest

BOUNDS = ("low", "high", "unit", "shape", "values", "image")


def channel(
    *,
    low: float | str = -math.inf,
    high: float | str = math.inf,
    unit: str = "",
    shape: int | str | tuple[int | str, ...] = (),
    values: int | str | None = None,
    image: bool = False,
) -> dict[str, Any]:
    """Declare a channel of a simulator's observation; the words are those of `sensor`.

    Examples
    --------
    >>> channel(low=0.0, high=40.0, unit="m")["unit"]
    'm'
    """
    return {"low": low, "high": high, "unit": unit, "shape": shape, "values": values, "image": image}


class Simulator(Environment, abstract=True):
    """Base of environments whose state cannot be copied.

    A subclass declares ``observation`` (a `jm.channel` a name), ``action``, ``terms`` (reward terms with their
    weights), and it may declare ``endings``, ``cuts``, ``measures``, parameters, ``deadline``, ``time_limit``,
    ``decide_every``, ``says_legal``, ``answer_within`` and ``most_lost``.
    It writes ``begin(self, seed)``, which gives a dict with a value a channel, and ``advance(self, action)``, which
    gives a `jm.Outcome`; and it may write ``close(self)`` and ``image(self)``, a uint8 array of shape ``(height, width,
    3)``.

    An instance that is trained on is never begun itself: each copy gets one of its own, with the same parameters and
    weights, in this process or in a worker process. It may keep what it likes on ``self``, apart from its parameters.

    With ``players`` what belongs to one of them is in a dict under the player's name, where it is declared and
    where it is told:
    ``observation = {"net": channel(), "north": {"fuel": channel()}, "south": {"fuel": channel()}}``, ``terms`` and
    ``measures`` alike; ``action`` is one for all, or a dict by player. ``advance(self, actions)`` gets
    ``actions.north`` or ``actions[0]``.

    Attributes
    ----------
    observation : dict of str to channel
    terms : dict of str to float
    endings, cuts : tuple of str
        True ends, and cuts; ``closed_by`` of an outcome names one of them.
    measures : dict of str to {"sum", "mean", "last", "max", "min"}
    says_legal : bool
        Whether outcomes say by ``legal`` what may be done. ``begin`` may then give an `jm.Outcome`, too.
    players : tuple of str, or int
    says_turn, says_out : bool
        Of several players: whether outcomes say by ``turn`` who decides next, and by ``out`` who has left.
    answer_within : float
        Seconds after which a worker process that has not answered is taken to hang.
    most_lost : float
        Share of the episodes that may be lost in worker processes, which died, hung or raised an exception; a run that
        loses more ends.

    Examples
    --------
    >>> class Buoy(Simulator):
    ...     observation = {"drift": channel(low=-10.0, high=10.0, unit="m")}
    ...     action = Choice("left", "right")
    ...     terms = {"near": 1.0}
    ...     time_limit = 3
    ...     def begin(self, seed):
    ...         self.drift = float(seed % 5)
    ...         return {"drift": self.drift}
    ...     def advance(self, action):
    ...         self.drift += 2 * action - 1
    ...         return Outcome({"drift": self.drift}, terms={"near": -abs(self.drift)})
    >>> episode = Buoy().episode(seed=1)
    >>> while not episode.over:
    ...     episode.act("left")
    >>> episode.closed_by, episode.steps
    ('time limit', 3)
    """

    observation: ClassVar[Mapping[str, Any]] = {}
    terms: ClassVar[Mapping[str, float]] = {}
    endings: ClassVar[tuple[str, ...]] = ()
    cuts: ClassVar[tuple[str, ...]] = ()
    measures: ClassVar[Mapping[str, str]] = {}
    says_legal: ClassVar[bool] = False
    says_turn: ClassVar[bool] = False
    says_out: ClassVar[bool] = False
    answer_within: ClassVar[float] = 60.0
    most_lost: ClassVar[float] = 0.2

    def __init_subclass__(cls, abstract: bool = False, **options: Any) -> None:
        super().__init_subclass__(abstract=True, **options)
        cls._abstract = abstract
        if not abstract:
            simulator_with_players(cls)
            OUTLINES[cls] = _outline(cls)

    def begin(self, seed: int) -> Any:
        """Begin an episode; chance comes from `seed` alone. Gives a dict with a value a channel."""
        raise NotImplementedError

    def advance(self, action: Any) -> Outcome:  # type: ignore[override]
        """Advance by an action in own form; chance comes from what the seed began."""
        raise NotImplementedError

    begin._not_written = True  # type: ignore[attr-defined]
    advance._not_written = True  # type: ignore[attr-defined]

    def modified(self: Instance, *modifiers: Modifier) -> Instance:
        for modifier in modifiers:
            if isinstance(modifier, RewardModifier) and modifier.reads_state():
                raise SettingError(
                    f"`{type(modifier).__name__}` looks into the state, and `{type(self).__qualname__}` is a "
                    "simulator, which keeps its state to itself. Tell the gain as a term of the reward instead."
                )
        return super().modified(*modifiers)

    def close(self) -> None:
        """Let go of whatever the simulator holds."""

    def __setattr__(self, name: str, value: Any) -> None:
        if name in [p.name for p in outline_of(type(self)).parameters] or name in ("weights", *DECLARED):
            raise BrokenEnvironment(
                f"`self.{name}` was set to {value!r}, but it is declared on `{type(self).__qualname__}` and stays. "
                f"Keep what changes under another name."
            )
        self.__dict__[name] = value


DECLARED = ("observation", "action", "terms", "endings", "cuts", "measures", "players")


def _outline(cls: type[Simulator]) -> outlines.Outline:
    """Read a simulator's class; `DeclarationError` says what is missing or wrong, and how to write it."""
    parameters = outlines.parts_of(cls)
    _refuse_missing(cls)
    action: Any = cls.action  # type: ignore[attr-defined]
    players = players_of(action)
    named = {
        kind: _by_own_names(cls.__qualname__, kind, getattr(cls, kind), players)
        for kind in ("observation", "terms", "measures")
    }
    _refuse_values(cls, named)
    columns = [*named["observation"], *named["terms"], *named["measures"], *(p.name for p in parameters)]
    _refuse_names(cls, columns, players)
    return outlines.Outline(
        cls=cls,
        fields=(),
        action=action,
        parameters=parameters,
        series=(),
        derived=(),
        sensors=tuple(
            outlines.SensorMethod(name, bounds, noisy=False) for name, bounds in named["observation"].items()
        ),
        terms=tuple(outlines.StepMethod(name, (), weight=float(w)) for name, w in named["terms"].items()),
        endings=tuple(outlines.StepMethod(name, (), final=True) for name in cls.endings),
        cuts=tuple(outlines.StepMethod(name, (), final=False) for name in cls.cuts),
        measures=tuple(outlines.StepMethod(name, (), over=over) for name, over in named["measures"].items()),
        references=(),
        masked=bool(cls.says_legal or getattr(action, "asks", False)),
        simulator=True,
        players=players,
    )


def _refuse_missing(cls: type[Simulator]) -> None:
    """Refuse a class that lacks a part, or has one of another kind."""
    context = cls.__qualname__
    for method, takes in (("begin", ("seed",)), ("advance", ("action",))):
        outlines.refuse_missing(cls, method, takes)
    if not isinstance(cls.action, (Choice, Range, Actions)):  # type: ignore[attr-defined]
        raise DeclarationError(
            f'`{context}` declares no action. Write `action = jm.Choice("hold", "full")` in its body.'
        )
    if not isinstance(cls.observation, Mapping) or not cls.observation:
        raise DeclarationError(
            f"`{context}` shows the agent nothing. Write `observation = {{'depth': jm.channel(low=0.0, high=40.0)}}`."
        )
    if not isinstance(cls.terms, Mapping) or not cls.terms:
        raise DeclarationError(
            f"`{context}` has no reward. Write `terms = {{'progress': 1.0}}`: each term with its weight."
        )
    if not isinstance(cls.measures, Mapping):
        raise DeclarationError(_wrong_measures(context, cls.measures))
    if isinstance(cls.endings, str) or isinstance(cls.cuts, str):
        raise DeclarationError(f"`endings` and `cuts` of `{context}` are tuples of names. Write `endings = ('sunk',)`.")
    if hasattr(cls, "decide_when"):
        raise DeclarationError(
            f"`{context}` declares `decide_when`, and a simulator has no state to look at. Advance it inside `advance` "
            "until a decision is due."
        )
    if cls.says_legal and not choices_of(cls.action):  # type: ignore[attr-defined]
        raise DeclarationError(f"`{context}.says_legal` is set, and its action has no choices.")


def _refuse_values(cls: type[Simulator], named: Mapping[str, Mapping[str, Any]]) -> None:
    """Refuse bounds, weights, measures, shares and numbers of closings that cannot be."""
    context = cls.__qualname__
    for name, bounds in named["observation"].items():
        if not isinstance(bounds, Mapping) or set(bounds) != set(BOUNDS):
            raise DeclarationError(
                f"`observation[{name!r}]` of `{context}` is {bounds!r}; write `jm.channel(low=, high=)`."
            )
    for name, weight in named["terms"].items():
        if isinstance(weight, bool) or not isinstance(weight, (int, float)) or not math.isfinite(weight):
            raise DeclarationError(f"the weight of `{name}` of `{context}` must be a finite number; got {weight!r}.")
    if any(over not in OVERS for over in named["measures"].values()):
        raise DeclarationError(_wrong_measures(context, cls.measures))
    closings = len(cls.endings) + len(cls.cuts)
    if closings + 2 > outlines.MOST_CLOSINGS:
        raise DeclarationError(
            f"`{context}` has {closings} endings and cuts; at most {outlines.MOST_CLOSINGS - 2} are allowed."
        )
    if not isinstance(cls.most_lost, (int, float)) or not 0.0 <= cls.most_lost <= 1.0:
        raise DeclarationError(f"`{context}.most_lost` is a share from 0 to 1; got {cls.most_lost!r}.")


def _refuse_names(cls: type[Simulator], columns: list[str], players: tuple[str, ...]) -> None:
    """Refuse names that are no columns of the records, or stand for two things."""
    context, names = cls.__qualname__, [*columns, *cls.endings, *cls.cuts]
    for name in names:
        if not isinstance(name, str) or not name_in(name).isidentifier() or name in players:
            raise DeclarationError(f"`{context}` names {name!r}; a name is a column of the records, e.g. `depth_now`.")
        if name == outlines.LOST:
            raise DeclarationError(
                f"`{context}` names `{name}`, which is how an episode closes whose worker process is lost. Rename it, "
                "e.g. `strayed`."
            )
        # A term may be named as what closes an episode: that is no column, but what is in one.
        alike = columns if name in columns else names
        everybodys = owner_of(name) and name_in(name) in columns  # a weight is set by the name alone
        if alike.count(name) > 1 or everybodys or name_in(name) in outlines.RECORD_COLUMNS:
            raise DeclarationError(
                f"`{context}` uses the name `{name}` twice, or it is a column of the records. Rename it."
            )


def _wrong_measures(context: str, value: Any) -> str:
    return f"`measures` of `{context}` is {value!r}; write a dict with one of {listed(OVERS)} for each."


def _by_own_names(context: str, subject: str, values: Mapping[str, Any], players: tuple[str, ...]) -> dict[str, Any]:
    for name, value in values.items():
        if str(name) in players and (not isinstance(value, Mapping) or set(value) == set(BOUNDS)):
            raise DeclarationError(
                f"`{subject}` of `{context}` names the player `{name}`, with {value!r:.80}. What belongs to one "
                "player is a "
                f"dict: `{subject} = {{{str(name)!r}: {{'fuel': ...}}}}`."
            )
        if players and isinstance(value, Mapping) and set(value) != set(BOUNDS) and str(name) not in players:
            raise DeclarationError(
                f"`{subject}` of `{context}` names the player `{name}`; the players are "
                f"{listed(players)}.{nearest(str(name), players)}"
            )
    return by_own_names(values, players)
