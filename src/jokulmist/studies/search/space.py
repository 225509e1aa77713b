"""The settings that a search runs over: what each may be, which matter only sometimes, and how a plan holds them."""

from __future__ import annotations

import json
import math
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np

from jokulmist.agents.players import PlayerAgents
from jokulmist.arrays import NumpyArray
from jokulmist.environments.declaration.instance import reweighted
from jokulmist.environments.varying import Between, between, format_condition, read_when, written_when
from jokulmist.errors import JokulmistError, LookupFailed, SettingError, listed, nearest
from jokulmist.plans.plan import Plan
from jokulmist.plans.sources import agent_from, use_of

AGENT, PLAYERS, ENVIRONMENT, WEIGHTS = "agent.", "agents.", "environment.", "environment.weights."
AGENT_USE, COPIES = "agent.use", "training.copies"
Settings = dict[str, Any]


@dataclass(frozen=True)
class Among:
    """One of several values; made by `among`."""

    values: tuple[Any, ...]
    when: tuple[tuple[str, tuple[Any, ...]], ...] = ()

    @property
    def ordered(self) -> bool:
        """Whether the values are numbers: then some lie nearer to each other than others."""
        return all(isinstance(v, (int, float)) and not isinstance(v, bool) for v in self.values)

    def written(self) -> dict[str, Any]:
        """As it is in a plan."""
        return {"among": list(self.values), **written_when(self.when)}

    def __repr__(self) -> str:
        return f"among({', '.join(map(repr, self.values))}{format_condition(self.when)})"


def among(*values: Any, when: Mapping[str, Any] | None = None) -> Among:
    """One of several values, for a search.

    Parameters
    ----------
    *values
        Numbers, texts, flags, networks, schedules: what the setting takes.
    when : dict of str to value or list of values, optional
        The setting matters only where others have these values, e.g. ``{"agent.use": "DQN"}``.

    Examples
    --------
    >>> among(0.0, 0.01, 0.1)
    among(0.0, 0.01, 0.1)
    """
    if len(values) == 1 and isinstance(values[0], (list, tuple)):
        values = tuple(values[0])
    if not values or len({repr(value) for value in values}) != len(values):
        raise SettingError(
            f"`among` takes different values, one at least; got {list(values)!r}. Write `jm.among(0.0, 0.01)`."
        )
    return Among(tuple(values), read_when(when))


Dimension = Among | Between


def over_from(written: Mapping[str, Any]) -> dict[str, Dimension]:
    """What a plan's ``[tuning.over]`` says."""
    dimensions: dict[str, Dimension] = {}
    for name, entry in written.items():
        if isinstance(entry, (Among, Between)):
            dimensions[name] = entry
            continue
        is_dimension = isinstance(entry, Mapping) and ("among" in entry) != ("between" in entry)
        allowed = {"among", "when"} if is_dimension and "among" in entry else {"between", "scale", "whole", "when"}
        if (
            not is_dimension
            or set(entry) - allowed
            or not isinstance(entry.get("among", entry.get("between")), (list, tuple))
        ):
            raise SettingError(
                f"`{name}` in `[tuning.over]` is {entry!r}; it must be `{{ among = [0.0, 0.01] }}` or "
                f'`{{ between = [1e-4, 1e-2] }}`, the second with `scale = "log"` or `whole = true`, both with `when`.'
            )
        if "among" in entry:
            dimensions[name] = among(*entry["among"], when=entry.get("when"))
        elif len(entry["between"]) != 2:
            raise SettingError(f"`between` of `{name}` takes two bounds; got {entry['between']!r}.")
        else:
            more = {key: entry[key] for key in ("scale", "whole", "when") if key in entry}
            dimensions[name] = between(*entry["between"], **more)
    return dimensions


class Space:
    """All settings of a search together.

    Attributes
    ----------
    names : list of str
        A setting comes after those that its condition names.
    """

    def __init__(self, over: Mapping[str, Dimension]) -> None:
        if not over or not isinstance(over, Mapping):
            raise SettingError(
                'there is nothing to search over. Give `over={"agent.learning_rate": jm.between(1e-4, 1e-2, '
                'scale="log")}`.'
            )
        for name, dimension in over.items():
            if not isinstance(dimension, (Among, Between)):
                raise SettingError(
                    f"`over` of `{name}` must be `jm.among(...)` or `jm.between(low, high)`; got {dimension!r}."
                )
            for condition, _ in dimension.when:
                if condition not in over or condition == name:
                    raise SettingError(
                        f"`when` of `{name}` names `{condition}`, which is not searched over; there are {listed(over)}."
                        f"{nearest(condition, over)}"
                    )
        self.over = dict(over)
        self.names = self._sorted()

    def _sorted(self) -> list[str]:
        names: list[str] = []
        while len(names) < len(self.over):
            more = [
                n for n, dimension in self.over.items() if n not in names and all(o in names for o, _ in dimension.when)
            ]
            if not more:
                left = [name for name in self.over if name not in names]
                raise SettingError(f"the conditions of {listed(left)} wait for each other; take one `when` away.")
            names += more
        return names

    def active(self, name: str, settings: Settings) -> bool:
        """Whether a setting matters beside others."""
        return all(
            condition in settings and settings[condition] in values for condition, values in self.over[name].when
        )

    def sample(self, draw: np.random.Generator) -> Settings:
        """Settings drawn at random; those that do not matter are left out."""
        settings: Settings = {}
        for name in self.names:
            value = self.value(name, float(draw.random()))
            if self.active(name, settings):
                settings[name] = value
        return settings

    def value(self, name: str, unit: float) -> Any:
        """The value at a place in [0, 1) of a setting's range."""
        dimension = self.over[name]
        if isinstance(dimension, Among):
            return dimension.values[min(int(unit * len(dimension.values)), len(dimension.values) - 1)]
        low, high = dimension.low, dimension.high
        if dimension.whole:  # each whole number has its share, the bounds as well
            low, high = low - 0.5, high + 0.5
            if dimension.scale == "log":
                low = max(low, dimension.low / 2.0)
        value = low * (high / low) ** unit if dimension.scale == "log" else low + unit * (high - low)
        if dimension.whole:
            return int(min(max(round(value), dimension.low), dimension.high))
        return float(f"{value:.6g}")

    def place(self, name: str, value: Any) -> float:
        """Where a value lies in its setting's range, from 0 to 1."""
        dimension = self.over[name]
        if isinstance(dimension, Among):
            index = [repr(v) for v in dimension.values].index(repr(value))
            return index / max(len(dimension.values) - 1, 1)
        if dimension.scale == "log":
            return math.log(float(value) / dimension.low) / math.log(dimension.high / dimension.low)
        return (float(value) - dimension.low) / (dimension.high - dimension.low)

    def holds(self, name: str, value: Any) -> bool:
        """Whether a value is one that the search may give to a setting."""
        dimension = self.over.get(name)
        if isinstance(dimension, Among):
            return repr(value) in [repr(v) for v in dimension.values]
        if dimension is None or isinstance(value, bool) or not isinstance(value, (int, float)):
            return False
        slack = 1e-5 * max(abs(dimension.low), abs(dimension.high))  # values are rounded to six figures
        return dimension.low - slack <= value <= dimension.high + slack

    def columns(self) -> list[str]:
        """The setting of each column of `encoded`."""
        columns = []
        for name in self.names:
            dimension = self.over[name]
            wide = isinstance(dimension, Among) and not dimension.ordered and len(dimension.values) > 2
            columns += [name] * (len(dimension.values) if wide and isinstance(dimension, Among) else 1)
        return columns

    def encoded(self, settings: Settings) -> NumpyArray:
        """Settings as numbers in [0, 1] for a model: one column, or one a value where values have no order.

        A setting that does not matter is in the middle, so that a model sees no difference in it.
        """
        numbers: list[float] = []
        for name in self.names:
            dimension = self.over[name]
            if isinstance(dimension, Among) and not dimension.ordered and len(dimension.values) > 2:
                numbers += [float(name in settings and repr(v) == repr(settings[name])) for v in dimension.values]
            else:
                numbers.append(self.place(name, settings[name]) if name in settings else 0.5)
        return np.array(numbers)

    def neighbour(self, settings: Settings, draw: np.random.Generator, step: float, share: float = 1.0) -> Settings:
        """Settings a step away: numbers by a normal step of so much of their range, others now and then by another
        value."""
        neighbour: Settings = {}
        for name in self.names:
            dimension, moved = self.over[name], bool(draw.random() < share)
            offset, chance, jump = float(draw.normal(0.0, step)), float(draw.random()), float(draw.random())
            if not self.active(name, neighbour):
                continue
            if name not in settings:
                neighbour[name] = self.value(name, jump)
            elif not moved:
                neighbour[name] = settings[name]
            elif isinstance(dimension, Among):
                if dimension.ordered:
                    index = [repr(v) for v in dimension.values].index(repr(settings[name]))
                    shift = int(np.sign(offset)) if chance < 0.5 else 0
                    neighbour[name] = dimension.values[min(max(index + shift, 0), len(dimension.values) - 1)]
                else:
                    neighbour[name] = self.value(name, jump) if chance < 0.25 else settings[name]
            else:
                unit = self.place(name, settings[name]) + offset
                unit = -unit if unit < 0.0 else 2.0 - unit if unit > 1.0 else unit  # the bounds throw it back
                low = self.value(name, min(max(unit, 0.0), 1.0))
                neighbour[name] = min(max(low, dimension.low), dimension.high) if not dimension.whole else low
        return neighbour

    def grid(self, points: int) -> Iterator[Settings]:
        """Every combination; of a range so many values. What does not matter makes no combination of its own."""

        def extended(settings: Settings, names: list[str]) -> Iterator[Settings]:
            if not names:
                yield settings
                return
            name = names[0]
            if not self.active(name, settings):
                yield from extended(settings, names[1:])
                return
            for value in self.spread(name, points):
                yield from extended({**settings, name: value}, names[1:])

        yield from extended({}, self.names)

    def spread(self, name: str, points: int) -> list[Any]:
        """Values of a setting from one bound to the other, each once."""
        dimension = self.over[name]
        if isinstance(dimension, Among):
            return list(dimension.values)
        units = np.linspace(0.0, 1.0, max(points, 2))
        scale = [
            dimension.low * (dimension.high / dimension.low) ** u
            if dimension.scale == "log"
            else dimension.low + u * (dimension.high - dimension.low)
            for u in units
        ]
        return list(dict.fromkeys(round(v) if dimension.whole else float(f"{v:.6g}") for v in scale))

    def written(self) -> dict[str, Any]:
        """As it is in a plan; objects by what plans hold of them."""
        return {name: dimension.written() for name, dimension in self.over.items()}


def with_settings(base: Plan, settings: Mapping[str, Any]) -> Plan:
    """A plan with some of its settings changed."""
    parameters: Settings = {}
    weights: dict[str, float] = {}
    agent: Settings = {}
    training: Settings = {}
    players: dict[str, Settings] = {}
    for name, value in settings.items():
        if name.startswith(WEIGHTS):
            weights[name.removeprefix(WEIGHTS)] = value
        elif name.startswith(ENVIRONMENT):
            parameters[name.removeprefix(ENVIRONMENT)] = value
        elif name.startswith(AGENT):
            agent[name.removeprefix(AGENT)] = value
        elif name.startswith(PLAYERS):
            player, _, setting = name.removeprefix(PLAYERS).partition(".")
            players.setdefault(player, {})[setting] = value
        elif name == COPIES:
            training["copies"] = value
        else:
            raise LookupFailed(
                f"`{name}` cannot be searched over: name a setting of the agent (`agent.learning_rate`, or of one "
                "player's, `agents.north.learning_rate`), a parameter of the environment (`environment.melt`), a "
                "reward weight (`environment.weights.flooding`) or `training.copies`."
            )
    environment = reweighted(base.environment, weights, **parameters)
    agent_before = base.agent
    if isinstance(agent_before, PlayerAgents):
        agents: Any = dict(agent_before.agents)
        if agent and len(agents) > 1:
            raise SettingError(
                "each player has an agent of its own; name one, e.g. "
                f"`agents.{next(iter(agents))}.{next(iter(agent))}`."
            )
        if agent:
            agents = {group: changed_agent(member, agent) for group, member in agents.items()}
        for player, player_settings in players.items():
            if player not in agents:
                raise SettingError(
                    f"there is no agent of `{player}`; there are those of {listed(agents)}.{nearest(player, agents)}"
                )
            agents[player] = changed_agent(agents[player], player_settings)
    elif players:
        raise SettingError(
            f"the environment has no players, so there is no `agents.{next(iter(players))}`; use `agent.`."
        )
    else:
        agents = changed_agent(agent_before, agent)
    if any(
        player_settings.get("use") not in (None, use_of(type(agent_before)))
        for player_settings in (agent, *players.values())
    ):
        training.setdefault("copies", None)
    return Plan(environment, agents, base.training.changed(**training), base.vary, base.curriculum, base.observers)


def changed_agent(agent: Any, settings: Settings) -> Any:
    """An agent with some settings changed, or another method with them."""
    use = settings.get("use")
    rest = {name: value for name, value in settings.items() if name != "use"}
    if use is None or use == use_of(type(agent)):
        return type(agent)(**{**dict(agent), **rest}) if rest else agent
    return agent_from({"use": use, **rest})


def plain(value: Any) -> Any:
    """A value as JSON holds it: networks and schedules by what a plan holds of them."""
    try:
        return json.loads(json.dumps(value))
    except TypeError:
        return repr(value)


def refuse_space(space: Space, base: Plan) -> None:
    """Try each value that a search may take at its bounds, so that what is wrong is told before anything is trained."""
    for name, dimension in space.over.items():
        values = dimension.values if isinstance(dimension, Among) else tuple(space.spread(name, 2))
        beside = {condition: allowed[0] for condition, allowed in dimension.when}
        for value in values:
            try:
                with_settings(base, {**beside, name: value})
            except JokulmistError as wrong:
                raise type(wrong)(f"`{name}` of the search at {value!r}: {wrong}") from None
            except TypeError as wrong:
                raise SettingError(f"`{name}` of the search at {value!r}: {wrong}") from None
