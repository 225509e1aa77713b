"""The settings that a search runs over: what each may be, which matter only sometimes, and how a plan holds them."""

from __future__ import annotations

import json
import math
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np

from jokulmist.agents.players import PlayerAgents
from jokulmist.environments.declaration.environment import reweighted
from jokulmist.environments.varying import Between, between, read_when, told_when, written_when
from jokulmist.errors import JokulmistError, LookupFailed, SettingError, listed, nearest
from jokulmist.training.plans.plan import Plan
from jokulmist.training.plans.sources import agent_from, use_of

AGENT, PLAYERS, ENVIRONMENT, WEIGHTS = "agent.", "agents.", "environment.", "environment.weights."
AGENT_USE, COPIES = "agent.use", "training.copies"
Array = np.ndarray[Any, Any]
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
        """As it stands in a plan."""
        return {"among": list(self.values), **written_when(self.when)}

    def __repr__(self) -> str:
        return f"among({', '.join(map(repr, self.values))}{told_when(self.when)})"


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
    found: dict[str, Dimension] = {}
    for name, entry in written.items():
        if isinstance(entry, (Among, Between)):
            found[name] = entry
            continue
        known = isinstance(entry, Mapping) and ("among" in entry) != ("between" in entry)
        allowed = {"among", "when"} if known and "among" in entry else {"between", "scale", "whole", "when"}
        if not known or set(entry) - allowed or not isinstance(entry.get("among", entry.get("between")), (list, tuple)):
            raise SettingError(
                f"`{name}` in `[tuning.over]` is {entry!r}; it must be `{{ among = [0.0, 0.01] }}` or "
                f'`{{ between = [1e-4, 1e-2] }}`, the second with `scale = "log"` or `whole = true`, both with `when`.'
            )
        if "among" in entry:
            found[name] = among(*entry["among"], when=entry.get("when"))
        elif len(entry["between"]) != 2:
            raise SettingError(f"`between` of `{name}` takes two bounds; got {entry['between']!r}.")
        else:
            more = {key: entry[key] for key in ("scale", "whole", "when") if key in entry}
            found[name] = between(*entry["between"], **more)
    return found


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
        for name, how in over.items():
            if not isinstance(how, (Among, Between)):
                raise SettingError(
                    f"`over` of `{name}` must be `jm.among(...)` or `jm.between(low, high)`; got {how!r}."
                )
            for other, _ in how.when:
                if other not in over or other == name:
                    raise SettingError(
                        f"`when` of `{name}` names `{other}`, which is not searched over; there are {listed(over)}."
                        f"{nearest(other, over)}"
                    )
        self.over = dict(over)
        self.names = self._sorted()

    def _sorted(self) -> list[str]:
        names: list[str] = []
        while len(names) < len(self.over):
            more = [n for n, how in self.over.items() if n not in names and all(o in names for o, _ in how.when)]
            if not more:
                left = [name for name in self.over if name not in names]
                raise SettingError(f"the conditions of {listed(left)} wait for each other; take one `when` away.")
            names += more
        return names

    def active(self, name: str, settings: Settings) -> bool:
        """Whether a setting matters beside others."""
        return all(other in settings and settings[other] in values for other, values in self.over[name].when)

    def sample(self, draw: np.random.Generator) -> Settings:
        """Settings drawn at random; those that do not matter are left out."""
        found: Settings = {}
        for name in self.names:
            value = self.value(name, float(draw.random()))
            if self.active(name, found):
                found[name] = value
        return found

    def value(self, name: str, unit: float) -> Any:
        """The value at a place in [0, 1) of a setting's range."""
        how = self.over[name]
        if isinstance(how, Among):
            return how.values[min(int(unit * len(how.values)), len(how.values) - 1)]
        low, high = how.low, how.high
        if how.whole:  # each whole number has its share, the bounds as well
            low, high = low - 0.5, high + 0.5
            if how.scale == "log":
                low = max(low, how.low / 2.0)
        value = low * (high / low) ** unit if how.scale == "log" else low + unit * (high - low)
        if how.whole:
            return int(min(max(round(value), how.low), how.high))
        return float(f"{value:.6g}")

    def place(self, name: str, value: Any) -> float:
        """Where a value lies in its setting's range, from 0 to 1."""
        how = self.over[name]
        if isinstance(how, Among):
            at = [repr(v) for v in how.values].index(repr(value))
            return at / max(len(how.values) - 1, 1)
        if how.scale == "log":
            return math.log(float(value) / how.low) / math.log(how.high / how.low)
        return (float(value) - how.low) / (how.high - how.low)

    def holds(self, name: str, value: Any) -> bool:
        """Whether a value is one that the search may give to a setting."""
        how = self.over.get(name)
        if isinstance(how, Among):
            return repr(value) in [repr(v) for v in how.values]
        if how is None or isinstance(value, bool) or not isinstance(value, (int, float)):
            return False
        slack = 1e-5 * max(abs(how.low), abs(how.high))  # values are rounded to six figures
        return how.low - slack <= value <= how.high + slack

    def columns(self) -> list[str]:
        """The setting of each column of `encoded`."""
        found = []
        for name in self.names:
            how = self.over[name]
            wide = isinstance(how, Among) and not how.ordered and len(how.values) > 2
            found += [name] * (len(how.values) if wide and isinstance(how, Among) else 1)
        return found

    def encoded(self, settings: Settings) -> Array:
        """Settings as numbers in [0, 1] for a model: one column, or one a value where values have no order.

        A setting that does not matter stands in the middle, so that a model sees no difference in it.
        """
        found: list[float] = []
        for name in self.names:
            how = self.over[name]
            if isinstance(how, Among) and not how.ordered and len(how.values) > 2:
                found += [float(name in settings and repr(v) == repr(settings[name])) for v in how.values]
            else:
                found.append(self.place(name, settings[name]) if name in settings else 0.5)
        return np.array(found)

    def neighbour(self, settings: Settings, draw: np.random.Generator, step: float, share: float = 1.0) -> Settings:
        """Settings a step away: numbers by a normal step of so much of their range, others now and then by another
        value."""
        found: Settings = {}
        for name in self.names:
            how, moved = self.over[name], bool(draw.random() < share)
            there, chance, jump = float(draw.normal(0.0, step)), float(draw.random()), float(draw.random())
            if not self.active(name, found):
                continue
            if name not in settings:
                found[name] = self.value(name, jump)
            elif not moved:
                found[name] = settings[name]
            elif isinstance(how, Among):
                if how.ordered:
                    at = [repr(v) for v in how.values].index(repr(settings[name]))
                    shift = int(np.sign(there)) if chance < 0.5 else 0
                    found[name] = how.values[min(max(at + shift, 0), len(how.values) - 1)]
                else:
                    found[name] = self.value(name, jump) if chance < 0.25 else settings[name]
            else:
                unit = self.place(name, settings[name]) + there
                unit = -unit if unit < 0.0 else 2.0 - unit if unit > 1.0 else unit  # the bounds throw it back
                low = self.value(name, min(max(unit, 0.0), 1.0))
                found[name] = min(max(low, how.low), how.high) if not how.whole else low
        return found

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
        how = self.over[name]
        if isinstance(how, Among):
            return list(how.values)
        units = np.linspace(0.0, 1.0, max(points, 2))
        scale = [
            how.low * (how.high / how.low) ** u if how.scale == "log" else how.low + u * (how.high - how.low)
            for u in units
        ]
        return list(dict.fromkeys(round(v) if how.whole else float(f"{v:.6g}") for v in scale))

    def written(self) -> dict[str, Any]:
        """As it stands in a plan; objects by what plans hold of them."""
        return {name: how.written() for name, how in self.over.items()}


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
    whole = base.agent
    if isinstance(whole, PlayerAgents):
        made: Any = dict(whole.agents)
        if agent and len(made) > 1:
            raise SettingError(
                f"each player has an agent of its own; name one, e.g. `agents.{next(iter(made))}.{next(iter(agent))}`."
            )
        if agent:
            made = {group: changed_agent(one, agent) for group, one in made.items()}
        for player, own in players.items():
            if player not in made:
                raise SettingError(
                    f"there is no agent of `{player}`; there are those of {listed(made)}.{nearest(player, made)}"
                )
            made[player] = changed_agent(made[player], own)
    elif players:
        raise SettingError(
            f"the environment has no players, so there is no `agents.{next(iter(players))}`; use `agent.`."
        )
    else:
        made = changed_agent(whole, agent)
    if any(own.get("use") not in (None, use_of(type(whole))) for own in (agent, *players.values())):
        training.setdefault("copies", None)
    return Plan(environment, made, base.training.changed(**training), base.vary, base.curriculum, base.observers)


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
    for name, how in space.over.items():
        values = how.values if isinstance(how, Among) else tuple(space.spread(name, 2))
        beside = {other: allowed[0] for other, allowed in how.when}
        for value in values:
            try:
                with_settings(base, {**beside, name: value})
            except JokulmistError as wrong:
                raise type(wrong)(f"`{name}` of the search at {value!r}: {wrong}") from None
            except TypeError as wrong:
                raise SettingError(f"`{name}` of the search at {value!r}: {wrong}") from None
