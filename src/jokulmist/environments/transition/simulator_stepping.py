"""One transition of a simulator: what it says is read, checked, and put into the form that lanes work in."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any, cast

import numpy as np

from jokulmist.environments.chance.draws import Draw
from jokulmist.environments.declaration.description import Description
from jokulmist.environments.declaration.instance import describe
from jokulmist.environments.declaration.outcome import Outcome
from jokulmist.environments.spaces.legal import DECIDING, STAYS, Mask, choices_of, mask_from
from jokulmist.environments.spaces.player_actions import PlayerActions, by_own_names, owner_of
from jokulmist.environments.transition.stepping import Stepper
from jokulmist.errors import BrokenEnvironment, listed, nearest

if TYPE_CHECKING:
    from jokulmist.environments.environment import Environment
    from jokulmist.environments.simulator import Simulator

SEEDS = 2**23


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
        self._players = self.description.players
        self.free: Mask = ()
        if self.spec.masked:
            self.free = tuple(np.ones(c.count, bool) for c in choices_of(self.description.action).values())

    def first(self, value: Any) -> SimulatorState:
        """What `begin` gave."""
        outcome = value if isinstance(value, Outcome) else Outcome(value)
        return self.read(outcome, "begin")

    def read(self, outcome: Any, method: str = "advance") -> SimulatorState:
        """What `advance` gave."""
        if not isinstance(outcome, Outcome):
            raise BrokenEnvironment(
                f"`{self.name}.{method}` returned {type(outcome).__name__}; it must return "
                f"{'a dict with a value a channel' if method == 'begin' else '`jm.Outcome(observation, terms=...)`'}."
            )
        satisfied = 0
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
            satisfied = self._bits[outcome.closed_by]
        row, images = self._observed(outcome.observation, method)
        terms = self._amounts(outcome.terms, self._terms, "terms", method)
        measures = self._amounts(outcome.measures, self._measures, "measures", method)
        mask = self.free
        if self.spec.masked and self._players:
            mask = self.mask_of_players(outcome, method)
        elif self.spec.masked and outcome.legal is not None:
            mask = mask_from(outcome.legal, self.description.action, np, f"{self.name}.{method}")
        return SimulatorState(row, images, terms, measures, satisfied, mask)

    def mask_of_players(self, outcome: Outcome, method: str) -> Mask:
        """What each may do, who is not out, and who is asked."""
        action, context = self.description.action, f"{self.name}.{method}"
        assert isinstance(action, PlayerActions)
        legal = {} if outcome.legal is None or not action.masked else outcome.legal
        if not isinstance(legal, Mapping):
            raise BrokenEnvironment(f"`{context}` gave `legal` as {type(legal).__name__}; write a dict by player.")
        stays = np.ones(len(self._players), bool)
        for player in outcome.out if action.leaves else ():
            stays[self._place(player, "out", context)] = False
        deciding = stays.copy()
        if outcome.turn is not None and action.asks:
            deciding &= np.arange(len(self._players)) == self._place(outcome.turn, "turn", context)
        return mask_from({**action.allowed_by_part(legal), STAYS: stays, DECIDING: deciding}, action, np, context)

    def _place(self, player: Any, subject: str, context: str) -> int:
        """A player's index, by index or by name."""
        if str(player) in self._players:
            return self._players.index(str(player))
        if not isinstance(player, (int, np.integer)) or not 0 <= player < len(self._players):
            raise BrokenEnvironment(
                f"`{context}` gave `{subject}` the player {player!r:.40}; the players are {listed(self._players)}, by "
                "name or by index from 0."
            )
        return int(player)

    def _observed(self, observation: Any, method: str) -> tuple[list[float], dict[str, Any]]:
        wanted = [c.name for c in self.spec.channels]
        observation = (
            by_own_names(observation, self._players)
            if self._players and isinstance(observation, Mapping)
            else observation
        )
        if not isinstance(observation, Mapping) or set(observation) != set(wanted):
            have = listed(observation) if isinstance(observation, Mapping) else type(observation).__name__
            raise BrokenEnvironment(f"`{self.name}.{method}` observed {have}; declared are {listed(wanted)}.")
        row: list[float] = []
        for c in self.spec.numbers:
            value = np.asarray(observation[c.name], np.float32)
            if value.shape != c.shape:
                raise BrokenEnvironment(
                    f"`{self.name}.{method}` gave `{c.name}` the shape {value.shape}; it is declared {c.shape}."
                )
            if not np.isfinite(value).all():
                raise BrokenEnvironment(f"`{self.name}.{method}` gave `{c.name}` the value {value}; it must be finite.")
            row.extend(value.reshape(-1).tolist())
        images = {}
        for c in self.spec.images:
            image = np.asarray(observation[c.name])
            if image.shape != c.shape or image.dtype != np.uint8:
                raise BrokenEnvironment(
                    f"`{self.name}.{method}` gave `{c.name}` as {image.dtype} of shape {image.shape}; "
                    f"it is declared uint8 of shape {c.shape}."
                )
            images[c.name] = image
        return row, images

    def _amounts(self, values: Any, names: list[str], subject: str, method: str) -> tuple[float, ...]:
        if not isinstance(values, Mapping):
            raise BrokenEnvironment(f"`{self.name}.{method}` gave {subject} as {type(values).__name__}; write a dict.")
        values = by_own_names(values, self._players) if self._players else values
        for name in values:
            if name not in names:
                raise BrokenEnvironment(
                    f"`{self.name}.{method}` gave {subject} a `{name}`; declared are "
                    f"{listed(names)}.{nearest(name, names)}"
                )
        amounts = tuple(float(values.get(name, 0.0)) for name in names)
        for name, amount in zip(names, amounts, strict=True):
            if not math.isfinite(amount):
                raise BrokenEnvironment(f"`{self.name}.{method}` gave `{name}` the amount {amount}; it must be finite.")
        return amounts


class LocalCopy:
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

    def begin(self, seed: int) -> SimulatorState:
        if self._simulator is None:
            self._simulator = made_again(self._environment, self._values)
        return self._reader.first(self._simulator.begin(seed))

    def advance(self, state: Any, action: Any, draw: Draw | None) -> SimulatorState:
        """The stepper's call; `state` and `draw` are not looked at."""
        assert self._simulator is not None
        return self._reader.read(self._simulator.advance(action))

    def image(self) -> Any:
        """What the simulator looks like now, uint8 of shape ``(height, width, 3)``, or None."""
        draw = getattr(self._simulator, "image", None)
        image = None if draw is None else draw()
        return None if image is None else np.asarray(image)

    def close(self) -> None:
        if self._simulator is not None:
            self._simulator.close()
            self._simulator = None


class SimulatorStepper(Stepper):
    """The answers of `Stepper` from what a simulator told."""

    def __init__(self, environment: Simulator, copy: Any = None) -> None:
        self.environment: Any = LocalCopy(environment) if copy is None else copy
        self.description = description = describe(environment)
        self.flows = {}
        self.scalars, self.arrays = (), ()
        self.weights = description.weights
        closings = list(description.closings)
        outline = description.outline
        shares = [np.array(share) for share in description.shares]
        self.shared = bool(shares)
        self.direct_terms = tuple(
            (*_told_term(description, k), extra) for k, extra in enumerate(shares or self.weights)
        )
        self.direct_measures = tuple((_measure(k), None, m.over) for k, m in enumerate(description.measures))
        ends = [1 << closings.index(m.name) for m in (*outline.endings, *outline.cuts)]
        self.direct_closers = tuple((_closer(bit), None, bit) for bit in ends)
        self.prepare_limits()
        self.noisy = False

    def revalue(self, values: Mapping[str, Any]) -> None:
        self.environment.revalue(values)

    def begin(self, draw: Draw) -> Any:
        try:
            state: Any = self.environment.begin(seed_from(draw))
        except Exception as failure:
            self.failed("begin", failure)
        return state if self.description.opening is None else self._opened(state, draw)

    def cast(self, state: Any, method: str) -> Any:
        return state

    def cleared(self, state: Any) -> Any:
        return state

    def observe(self, state: Any, draw: Draw | None) -> list[float]:
        return list(state.row)

    def look(self, state: Any, draw: Draw) -> dict[str, Any]:
        return dict(state.images)

    def legal(self, state: Any) -> Mask:
        mask: Mask = state.mask
        return mask

    @property
    def step_methods(self) -> list[str]:
        return ["advance"]


def seed_from(draw: Draw) -> int:
    """The seed of a simulator's episode: from draws, so that it depends on run, copy and turn."""
    return int(draw.integers(0, SEEDS)) * 256 + int(draw.integers(0, 256))


def _told_term(description: Description, k: int) -> tuple[Any, Any]:
    """How a term is read: of `after` alone, or where a player may be out, who earns nothing then, of `before` too."""
    owner = owner_of(description.terms[k].name)
    if not owner or not getattr(description.action, "leaves", False):
        return lambda after: after.terms[k], None
    place = description.players.index(owner)
    return None, lambda before, action, after: after.terms[k] if before.mask[-2][place] else 0.0


def _measure(k: int) -> Any:
    return lambda after: after.measures[k]


def _closer(bit: int) -> Any:
    return lambda after: after.satisfied & bit


def stepper_for(environment: Environment) -> Stepper:
    """What steps an instance: a state that is written down, or a simulator."""
    if describe(environment).outline.simulator:
        return SimulatorStepper(cast("Simulator", environment))
    return Stepper(environment)


@dataclass(slots=True)
class SimulatorState:
    """A checked outcome, which takes the place of a state.

    Attributes
    ----------
    row : list of float
        The number channels side by side.
    images : dict of str to uint8 array
    terms, measures : tuple of float
        Of the last advance, in the order of declaration.
    satisfied : int
        The bit of the closing that was told, or 0.
    mask : tuple of bool array
    """

    row: list[float]
    images: dict[str, Any]
    terms: tuple[float, ...]
    measures: tuple[float, ...]
    satisfied: int
    mask: Mask


def made_again(environment: Simulator, values: Mapping[str, Any]) -> Simulator:
    """A fresh instance of the same class, parameters and weights, some of them changed."""
    return type(environment)(weights=environment.weights, **{**environment._arguments, **values})
