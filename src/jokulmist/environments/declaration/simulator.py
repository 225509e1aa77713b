"""Environments whose state cannot be written down: a physics engine, a game, a program at the end of a socket.

A simulator cannot be copied, rewound or compiled; it is begun with a seed and advanced by actions. What it tells after each
advance is checked here and brought into one plain record, `Told`, from which a stepper answers whatever is asked of a state.
So everything that works on a plain lane works on simulators: limits, measures, modifiers, parameters that vary.
"""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any, ClassVar

import numpy as np

from jokulmist.environments.declaration import description as reading
from jokulmist.environments.declaration.environment import _OUTLINES, Environment, describe, outline_of
from jokulmist.environments.declaration.parts import OVERS
from jokulmist.environments.spaces.actions import Actions, Choice, Range
from jokulmist.environments.spaces.legal import Mask, choices_of, mask_from
from jokulmist.environments.transition.stepping import Stepper
from jokulmist.errors import BrokenEnvironment, DeclarationError, listed, nearest

SEEDS = 2**23
BOUNDS = ("low", "high", "unit", "shape", "values", "image")


@dataclass(frozen=True)
class Outcome:
    """What a simulator tells after an advance.

    Parameters
    ----------
    observation : mapping
        A value a channel.
    terms : mapping, optional
        Unweighted amounts of this advance by reward term; those that are left out are 0.
    closed_by : str, optional
        The ending or cut that closed the episode.
    measures : mapping, optional
        Amounts of this advance by measure; those that are left out are 0.
    legal : array, or mapping of arrays by part, optional
        Truth values of what may be done next; everything where it is left out.
    """

    observation: Mapping[str, Any]
    terms: Mapping[str, float] = field(default_factory=dict)
    closed_by: str | None = None
    measures: Mapping[str, float] = field(default_factory=dict)
    legal: Any = None


@dataclass(slots=True)
class Told:
    """An outcome, checked: what stands in the place of a state.

    Attributes
    ----------
    row : list of float
        The number channels side by side.
    images : dict of str to uint8 array
    terms, measures : tuple of float
        Of the last advance, in the order of declaration.
    held : int
        The bit of the closing that was told, or 0.
    mask : tuple of bool array
    """

    row: list[float]
    images: dict[str, Any]
    terms: tuple[float, ...]
    measures: tuple[float, ...]
    held: int
    mask: Mask


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

    A subclass declares ``observation`` (a `jm.channel` a name), ``action``, ``terms`` (reward terms with their weights), and it
    may declare ``endings``, ``cuts``, ``measures``, parameters, ``deadline``, ``time_limit``, ``decide_every`` and ``says_legal``.
    It writes ``begin(self, seed)``, which gives a dict with a value a channel, and ``advance(self, action)``, which gives a
    `jm.Outcome`; and it may write ``close(self)`` and ``image(self)``, a uint8 array of shape ``(height, width, 3)``.

    An instance that is trained on is never begun itself: each copy gets one of its own, with the same parameters and weights, in this
    process or in a worker process. It may keep what it likes on ``self``, apart from its parameters.

    Attributes
    ----------
    observation : dict of str to channel
    terms : dict of str to float
    endings, cuts : tuple of str
        True ends, and cuts; ``closed_by`` of an outcome names one of them.
    measures : dict of str to {"sum", "mean", "last", "max", "min"}
    says_legal : bool
        Whether outcomes say by ``legal`` what may be done. ``begin`` may then give an `jm.Outcome`, too.
    answer_within : float
        Seconds after which a worker process that has not answered is taken to hang.

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
    answer_within: ClassVar[float] = 60.0

    def __init_subclass__(cls, abstract: bool = False, **options: Any) -> None:
        super().__init_subclass__(abstract=True, **options)
        if not abstract:
            _OUTLINES[cls] = _outline(cls)

    def begin(self, seed: int) -> Any:
        """Begin an episode; chance comes from `seed` alone. Gives a dict with a value a channel."""
        raise NotImplementedError

    def advance(self, action: Any) -> Outcome:  # type: ignore[override]
        """Advance by an action in own form; chance comes from what the seed began."""
        raise NotImplementedError

    begin._not_written = True  # type: ignore[attr-defined]
    advance._not_written = True  # type: ignore[attr-defined]

    def close(self) -> None:
        """Let go of whatever the simulator holds."""

    def __setattr__(self, name: str, value: Any) -> None:
        if name in [p.name for p in outline_of(type(self)).parameters] or name in ("weights", *DECLARED):
            raise BrokenEnvironment(
                f"`self.{name}` was set to {value!r}, but it is declared on `{type(self).__qualname__}` and stays. "
                f"Keep what changes under another name."
            )
        self.__dict__[name] = value


DECLARED = ("observation", "action", "terms", "endings", "cuts", "measures")


def _outline(cls: type[Simulator]) -> reading.Outline:
    """Read a simulator's class; `DeclarationError` says what is missing or wrong, and how to write it."""
    where = cls.__qualname__
    parameters = reading.parts_of(cls)
    for method, takes in (("begin", ("seed",)), ("advance", ("action",))):
        reading.refuse_missing(cls, method, takes)
    if not isinstance(cls.action, (Choice, Range, Actions)):  # type: ignore[attr-defined]
        raise DeclarationError(f'`{where}` declares no action. Write `action = jm.Choice("hold", "full")` in its body.')
    if not isinstance(cls.observation, Mapping) or not cls.observation:
        raise DeclarationError(
            f"`{where}` shows the agent nothing. Write `observation = {{'depth': jm.channel(low=0.0, high=40.0)}}`."
        )
    if not isinstance(cls.terms, Mapping) or not cls.terms:
        raise DeclarationError(
            f"`{where}` has no reward. Write `terms = {{'progress': 1.0}}`: each term with its weight."
        )
    if not isinstance(cls.measures, Mapping) or any(over not in OVERS for over in cls.measures.values()):
        raise DeclarationError(
            f"`measures` of `{where}` is {cls.measures!r}; write a dict with one of {listed(OVERS)} for each."
        )
    for name, bounds in cls.observation.items():
        if not isinstance(bounds, Mapping) or set(bounds) != set(BOUNDS):
            raise DeclarationError(
                f"`observation[{name!r}]` of `{where}` is {bounds!r}; write `jm.channel(low=, high=)`."
            )
    for name, weight in cls.terms.items():
        if isinstance(weight, (bool, str)) or not math.isfinite(weight):
            raise DeclarationError(f"the weight of `{name}` of `{where}` must be a finite number; got {weight!r}.")
    if isinstance(cls.endings, str) or isinstance(cls.cuts, str):
        raise DeclarationError(f"`endings` and `cuts` of `{where}` are tuples of names. Write `endings = ('sunk',)`.")
    names = [*cls.observation, *cls.terms, *cls.endings, *cls.cuts, *cls.measures, *(p.name for p in parameters)]
    for name in names:
        if not isinstance(name, str) or not name.isidentifier():
            raise DeclarationError(f"`{where}` names {name!r}; a name is a column of the records, e.g. `depth_now`.")
        if name == reading.LOST:
            raise DeclarationError(
                f"`{where}` names `{name}`, which is how an episode closes whose worker process is lost. Rename it, e.g. `strayed`."
            )
        if names.count(name) > 1 or name in reading.RECORD_COLUMNS:
            raise DeclarationError(
                f"`{where}` uses the name `{name}` twice, or it is a column of the records. Rename it."
            )
    if hasattr(cls, "decide_when"):
        raise DeclarationError(
            f"`{where}` declares `decide_when`, and a simulator has no state to look at. Advance it inside `advance` until "
            f"a decision is due."
        )
    if cls.says_legal and not choices_of(cls.action):  # type: ignore[attr-defined]
        raise DeclarationError(f"`{where}.says_legal` is set, and its action has no choices.")
    return reading.Outline(
        cls=cls,
        fields=(),
        action=cls.action,  # type: ignore[attr-defined]
        parameters=parameters,
        series=(),
        derived=(),
        sensors=tuple(reading.SensorMethod(name, bounds, noisy=False) for name, bounds in cls.observation.items()),
        terms=tuple(reading.StepMethod(name, (), weight=float(w)) for name, w in cls.terms.items()),
        endings=tuple(reading.StepMethod(name, (), final=True) for name in cls.endings),
        cuts=tuple(reading.StepMethod(name, (), final=False) for name in cls.cuts),
        measures=tuple(reading.StepMethod(name, (), over=over) for name, over in cls.measures.items()),
        references=(),
        masked=bool(cls.says_legal),
        losable=True,
    )


def made_again(environment: Simulator, values: Mapping[str, Any]) -> Simulator:
    """A fresh instance of the same class, parameters and weights, some of them changed."""
    return type(environment)(weights=environment.weights, **{**environment._given, **values})


class Reader:
    """Checks what a simulator gives, and brings it into one form."""

    def __init__(self, environment: Simulator) -> None:
        self.description = describe(environment)
        self.name = self.description.name
        self.spec = self.description.bare
        self._terms = [t.name for t in self.description.terms]
        self._measures = [m.name for m in self.description.measures]
        self._bits = {name: 1 << bit for bit, name in enumerate(self.description.closings)}
        outline = self.description.outline
        self._closings = [c.name for c in (*outline.endings, *outline.cuts)]
        self._free: Mask = ()
        if self.spec.masked:
            self._free = tuple(np.ones(c.count, bool) for c in choices_of(self.description.action).values())

    def first(self, given: Any) -> Told:
        """What `begin` gave."""
        outcome = given if isinstance(given, Outcome) else Outcome(given)
        return self.told(outcome, "begin")

    def told(self, outcome: Any, method: str = "advance") -> Told:
        """What `advance` gave."""
        if not isinstance(outcome, Outcome):
            raise BrokenEnvironment(
                f"`{self.name}.{method}` returned {type(outcome).__name__}; it must return "
                f"{'a dict with a value a channel' if method == 'begin' else '`jm.Outcome(observation, terms=...)`'}."
            )
        held = 0
        if outcome.closed_by is not None:
            if outcome.closed_by not in self._closings or method == "begin":
                raise BrokenEnvironment(
                    f"`{self.name}.{method}` was closed by {outcome.closed_by!r}; "
                    + (
                        "a first state cannot close an episode."
                        if method == "begin"
                        else f"declared are {listed(self._closings)}.{nearest(str(outcome.closed_by), self._closings)}"
                    )
                )
            held = self._bits[outcome.closed_by]
        row, images = self._observed(outcome.observation, method)
        terms = self._amounts(outcome.terms, self._terms, "terms", method)
        measures = self._amounts(outcome.measures, self._measures, "measures", method)
        mask = self._free
        if self.spec.masked and outcome.legal is not None:
            mask = mask_from(outcome.legal, self.description.action, np, f"{self.name}.{method}")
        return Told(row, images, terms, measures, held, mask)

    def _observed(self, given: Any, method: str) -> tuple[list[float], dict[str, Any]]:
        wanted = [c.name for c in self.spec.channels]
        if not isinstance(given, Mapping) or set(given) != set(wanted):
            have = listed(given) if isinstance(given, Mapping) else type(given).__name__
            raise BrokenEnvironment(f"`{self.name}.{method}` observed {have}; declared are {listed(wanted)}.")
        row: list[float] = []
        for c in self.spec.numbers:
            value = np.asarray(given[c.name], np.float32)
            if value.shape != c.shape:
                raise BrokenEnvironment(
                    f"`{self.name}.{method}` gave `{c.name}` the shape {value.shape}; it is declared {c.shape}."
                )
            if not np.isfinite(value).all():
                raise BrokenEnvironment(f"`{self.name}.{method}` gave `{c.name}` the value {value}; it must be finite.")
            row.extend(value.reshape(-1).tolist())
        images = {}
        for c in self.spec.images:
            image = np.asarray(given[c.name])
            if image.shape != c.shape or image.dtype != np.uint8:
                raise BrokenEnvironment(
                    f"`{self.name}.{method}` gave `{c.name}` as {image.dtype} of shape {image.shape}; "
                    f"it is declared uint8 of shape {c.shape}."
                )
            images[c.name] = image
        return row, images

    def _amounts(self, given: Any, names: list[str], what: str, method: str) -> tuple[float, ...]:
        if not isinstance(given, Mapping):
            raise BrokenEnvironment(f"`{self.name}.{method}` gave {what} as {type(given).__name__}; write a dict.")
        for name in given:
            if name not in names:
                raise BrokenEnvironment(
                    f"`{self.name}.{method}` gave {what} a `{name}`; declared are {listed(names)}.{nearest(name, names)}"
                )
        amounts = tuple(float(given.get(name, 0.0)) for name in names)
        for name, amount in zip(names, amounts, strict=True):
            if not math.isfinite(amount):
                raise BrokenEnvironment(f"`{self.name}.{method}` gave `{name}` the amount {amount}; it must be finite.")
        return amounts


class Here:
    """One copy of a simulator in this process, made when it is first begun."""

    def __init__(self, environment: Simulator) -> None:
        self._environment = environment
        self._reader = Reader(environment)
        self._values: dict[str, Any] = {}
        self._simulator: Simulator | None = None

    def revalue(self, values: Mapping[str, Any]) -> None:
        """Other parameters from the next episode on."""
        if dict(values) != self._values:
            self._values = dict(values)
            self.close()

    def begin(self, seed: int) -> Told:
        if self._simulator is None:
            self._simulator = made_again(self._environment, self._values)
        return self._reader.first(self._simulator.begin(seed))

    def advance(self, state: Any, action: Any, draw: Any) -> Told:
        """The stepper's call; `state` and `draw` are not looked at."""
        assert self._simulator is not None
        return self._reader.told(self._simulator.advance(action))

    def image(self) -> Any:
        """What the simulator looks like now, uint8 of shape ``(height, width, 3)``, or None."""
        draw = getattr(self._simulator, "image", None)
        return None if draw is None else np.asarray(draw())

    def close(self) -> None:
        if self._simulator is not None:
            self._simulator.close()
            self._simulator = None


class SimulatorStepper(Stepper):
    """The answers of `Stepper` from what a simulator told.

    Parameters
    ----------
    environment : Simulator
    copy : optional
        Who steps it; by default an instance in this process. It has `begin`, `advance`, `revalue`, `image` and `close`.
    """

    def __init__(self, environment: Simulator, copy: Any = None) -> None:
        self.environment: Any = Here(environment) if copy is None else copy
        self.description = description = describe(environment)
        self.flows = {}
        self.scalars, self.arrays = (), ()
        self.weights = description.weights
        closings = list(description.closings)
        outline = description.outline
        self.direct_terms = tuple((_term(k), None, w) for k, w in enumerate(self.weights))
        self.direct_measures = tuple((_measure(k), None, m.over) for k, m in enumerate(description.measures))
        ends = [1 << closings.index(m.name) for m in (*outline.endings, *outline.cuts)]
        self.direct_closers = tuple((_closer(bit), None, bit) for bit in ends)
        self.prepare_limits()
        self.noisy = False

    def revalue(self, values: Mapping[str, Any]) -> None:
        self.environment.revalue(values)

    def begin(self, draw: Any) -> Any:
        try:
            state: Any = self.environment.begin(seed_from(draw))
        except Exception as failure:
            self.failed("begin", failure)
        return state if self.description.opening is None else self._opened(state, draw)

    def cast(self, state: Any, method: str) -> Any:
        return state

    def cleared(self, state: Any) -> Any:
        return state

    def observe(self, state: Any, draw: Any) -> list[float]:
        return list(state.row)

    def look(self, state: Any, draw: Any) -> dict[str, Any]:
        return dict(state.images)

    def legal(self, state: Any) -> Mask:
        mask: Mask = state.mask
        return mask

    @property
    def step_methods(self) -> list[str]:
        return ["advance"]


def seed_from(draw: Any) -> int:
    """The seed of a simulator's episode: from draws, so that it depends on run, copy and turn."""
    return int(draw.integers(0, SEEDS)) * 256 + int(draw.integers(0, 256))


def _term(k: int) -> Any:
    return lambda after: after.terms[k]


def _measure(k: int) -> Any:
    return lambda after: after.measures[k]


def _closer(bit: int) -> Any:
    return lambda after: after.held & bit


def stepper_for(environment: Environment) -> Stepper:
    """What steps an instance: a state that is written down, or a simulator."""
    return SimulatorStepper(environment) if isinstance(environment, Simulator) else Stepper(environment)
