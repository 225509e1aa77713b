"""Parameters that differ from episode to episode: drawn again each time, or moved through levels as the agent learns.

What an episode is played with is drawn when it begins, from the copy's own noise, and recorded with it. A level is the
same for all episodes that begin under it; the training loop says which one holds now.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any, Literal

import numpy as np

from jokulmist.environments.chance.draws import Draw
from jokulmist.errors import SettingError, listed, nearest

Scale = Literal["even", "log"]


@dataclass(frozen=True)
class Between:
    """A number drawn between two bounds; made by `between`."""

    low: float
    high: float
    scale: Scale = "even"
    whole: bool = False
    when: tuple[tuple[str, tuple[Any, ...]], ...] = ()

    def sample(self, draw: Draw) -> Any:
        """One value."""
        if self.scale == "log":
            return self.low * draw.xp.exp(math.log(self.high / self.low) * draw.uniform())
        return draw.uniform(self.low, self.high)

    def written(self) -> dict[str, Any]:
        """As it is in a plan."""
        written: dict[str, Any] = {"between": [int(v) if self.whole else v for v in (self.low, self.high)]}
        if self.scale != "even":
            written["scale"] = self.scale
        return {**written, **({"whole": True} if self.whole else {}), **written_when(self.when)}

    def __repr__(self) -> str:
        more = "" if self.scale == "even" else f", scale={self.scale!r}"
        more += ", whole=True" if self.whole else ""
        return f"between({self.low:g}, {self.high:g}{more}{format_condition(self.when)})"


def read_when(when: Mapping[str, Any] | None) -> tuple[tuple[str, tuple[Any, ...]], ...]:
    """A condition, as ``{"agent.use": ["DQN"]}`` or ``{"agent.use": "DQN"}``, in a form that can be hashed."""
    if when is not None and (not isinstance(when, Mapping) or not all(isinstance(name, str) for name in when)):
        raise SettingError(
            f'`when` takes a dict of settings and values, e.g. `{{"agent.baseline": True}}`; got {when!r}.'
        )
    return tuple((n, tuple(v) if isinstance(v, (list, tuple)) else (v,)) for n, v in (when or {}).items())


def written_when(when: tuple[tuple[str, tuple[Any, ...]], ...]) -> dict[str, Any]:
    """A condition as it is in a plan."""
    return {"when": {name: list(values) for name, values in when}} if when else {}


def format_condition(when: tuple[tuple[str, tuple[Any, ...]], ...]) -> str:
    return f", when={dict(when)!r}" if when else ""


def between(
    low: float, high: float, *, scale: Scale = "even", whole: bool = False, when: Mapping[str, Any] | None = None
) -> Between:
    """A number between two bounds, evenly drawn, or evenly in its logarithm with ``scale="log"``.

    Parameters
    ----------
    low, high : float
    scale : {"even", "log"}
    whole : bool
        Whole numbers only, both bounds among them; for a search.
    when : dict of str to value or list of values, optional
        In a search: the setting matters only where others have these values, e.g. ``{"agent.use": "DQN"}``.

    Examples
    --------
    >>> between(1, 5), between(0.01, 1, scale="log")
    (between(1, 5), between(0.01, 1, scale='log'))
    """
    if isinstance(low, bool) or isinstance(high, bool) or not all(isinstance(v, (int, float)) for v in (low, high)):
        raise SettingError(f"`between` takes two numbers; got {low!r} and {high!r}. Write `jm.between(1.0, 5.0)`.")
    if not (math.isfinite(low) and math.isfinite(high) and low < high):
        raise SettingError(f"`between` needs low < high; got {low!r} and {high!r}. Write `jm.between(1.0, 5.0)`.")
    if scale not in ("even", "log"):
        raise SettingError(f'`scale` must be "even" or "log"; got {scale!r}.')
    if scale == "log" and low <= 0.0:
        raise SettingError(f'`scale="log"` needs bounds above 0; got {low!r}. Use `scale="even"`.')
    if whole and not (float(low).is_integer() and float(high).is_integer()):
        raise SettingError(f"`whole=True` needs bounds that are whole numbers; got {low!r} and {high!r}.")
    return Between(float(low), float(high), scale, bool(whole), read_when(when))


# Long episodes tell more: a level may change after ten of them, if these took as many decisions together.
FEWEST_EPISODES, FEWEST_DECISIONS = 10, 5_000


@dataclass(frozen=True)
class Levels:
    """A parameter that moves through levels when a score says that the agent is ready.

    Parameters
    ----------
    parameter : str
    values : sequence of float
        The levels, in order; training begins with the first, evaluation uses the last.
    above : float
        The next level begins when the mean score of the last episodes at this level exceeds it.
    below : float, optional
        The level before begins again when the mean falls below it; None for forward only.
    score : str
        ``"return"``, or the name of a measure.
    last : int
        Episodes in the mean.
    at_least : int, optional
        Episodes at a level before it can change; by default `last`, or ten that took 5,000 decisions together.
    every : int, optional
        Decisions between two looks; by default a 200th of the run.
    together : dict of str to sequence of float
        Other parameters that move with it, each with as many values.

    Examples
    --------
    >>> Levels("melt", [1.0, 2.0, 4.0], above=30.0, last=50)
    Levels('melt', [1, 2, 4], above=30)
    >>> Levels("melt", [1.0, 2.0], above=30.0, together={"price": [10.0, 5.0]}).values_at(2.0)
    {'melt': 2.0, 'price': 5.0}
    """

    parameter: str
    values: tuple[float, ...]
    above: float
    below: float | None = None
    score: str = "return"
    last: int = 50
    at_least: int | None = None
    every: int | None = None
    together: Mapping[str, tuple[float, ...]] = field(default_factory=dict, hash=False)

    def __init__(
        self,
        parameter: str,
        values: Sequence[float],
        *,
        above: float,
        below: float | None = None,
        score: str = "return",
        last: int = 50,
        at_least: int | None = None,
        every: int | None = None,
        together: Mapping[str, Sequence[float]] | None = None,
    ) -> None:
        try:
            values = tuple(float(value) for value in values)
            above = float(above)
        except (TypeError, ValueError):
            raise SettingError(
                f"`Levels` takes a parameter, a sequence of its values and a number `above`; got {values!r:.80} and "
                f"{above!r:.80}."
            ) from None
        if not isinstance(parameter, str):
            raise SettingError(
                f"`Levels` names a parameter first, e.g. `jm.Levels('tide', ...)`; got {parameter!r:.80}."
            )
        if len(values) < 2 or len(set(values)) != len(values):
            raise SettingError(f"`Levels` needs at least two different values of `{parameter}`; got {list(values)!r}.")
        for name, count in (("last", last), ("at_least", at_least), ("every", every)):
            if count is not None and (isinstance(count, bool) or not isinstance(count, int) or count < 1):
                raise SettingError(f"`{name}` of `Levels` must be a whole number above 0; got {count!r}.")
        if below is not None and below >= above:
            raise SettingError(f"`below` of `Levels` must lie below `above`, {above:g}; got {below!r}.")
        settings = {
            "together": _together(together or {}, parameter, len(values)),
            "parameter": parameter,
            "values": values,
            "above": above,
            "below": below,
            "score": score,
            "last": last,
            "at_least": at_least,
            "every": every,
        }
        for name, value in settings.items():
            object.__setattr__(self, name, value)

    @property
    def names(self) -> tuple[str, ...]:
        """The parameters that move."""
        return (self.parameter, *self.together)

    def values_at(self, level: Any) -> dict[str, Any]:
        """The parameters by name where the first of them is at a level's value, which may be traced."""
        if isinstance(level, float):
            k = self.values.index(level)
            return {self.parameter: level, **{name: values[k] for name, values in self.together.items()}}
        at_level = [level == np.float32(value) for value in self.values]
        return {
            self.parameter: level,
            **{
                name: sum(is_level * np.float32(value) for is_level, value in zip(at_level, values, strict=True))
                for name, values in self.together.items()
            },
        }

    def enough(self, episodes: int, decisions: int) -> bool:
        """Whether so many episodes at a level, of so many decisions, say whether it may change."""
        if self.at_least is not None:
            return episodes >= self.at_least
        return episodes >= min(self.last, FEWEST_EPISODES if decisions >= FEWEST_DECISIONS else self.last)

    def moved(self, level: int, mean: float, episodes: int, decisions: int) -> int:
        """The index of the level that follows from the mean of the last scores, and from how many episodes and
        decisions there were at this one."""
        if not self.enough(episodes, decisions):
            return level
        if mean > self.above:
            return min(level + 1, len(self.values) - 1)
        if self.below is not None and mean < self.below:
            return max(level - 1, 0)
        return level

    def written(self) -> dict[str, Any]:
        """As it is in a plan."""
        written = {name: value for name, value in vars(self).items() if value is not None and name != "together"}
        more = {"together": {name: list(values) for name, values in self.together.items()}} if self.together else {}
        return {**written, "values": list(self.values), **more}

    def __repr__(self) -> str:
        defaults: dict[str, Any] = {"below": None, "score": "return", "last": 50, "at_least": None, "every": None}
        more = [f"{name}={value!r}" for name, value in vars(self).items() if defaults.get(name, value) != value]
        more += [f"together={self.written()['together']}"] if self.together else []
        values = ", ".join(f"{value:g}" for value in self.values)
        return f"Levels({', '.join([repr(self.parameter), f'[{values}]', f'above={self.above:g}', *more])})"


def _together(together: Any, parameter: str, count: int) -> dict[str, tuple[float, ...]]:
    """The values of the parameters that move with the first, checked."""
    wanted = f"`together` of `Levels` is a dict of as many values as `{parameter}` has, {count}"
    if not isinstance(together, Mapping):
        raise SettingError(f"{wanted}; got {together!r:.80}.")
    checked = {}
    for name, values in together.items():
        try:
            checked[name] = tuple(float(value) for value in values)
        except (TypeError, ValueError):
            raise SettingError(f"{wanted}; of `{name}` got {values!r:.80}.") from None
        if len(checked[name]) != count:
            raise SettingError(f"{wanted}; of `{name}` got {len(checked[name])}: {list(checked[name])}.")
        if name == parameter:
            raise SettingError(f"`together` of `Levels` names `{name}`, which is the parameter itself. Leave it out.")
    return checked


Draws = Callable[[Any], Mapping[str, Any]]
Vary = Mapping[str, Between] | Draws


class Varying:
    """Which parameters differ from episode to episode, and how.

    Attributes
    ----------
    names : tuple of str
    """

    def __init__(self, vary: Vary | None, levels: Levels | None = None) -> None:
        if vary is not None and not isinstance(vary, Mapping) and (isinstance(vary, type) or not callable(vary)):
            raise SettingError(
                f"`vary` is a dict such as `{{'melt': jm.between(1.0, 5.0)}}`, or a function of a draw; got "
                f"{vary!r:.80}."
            )
        self.vary = dict(vary) if isinstance(vary, Mapping) else vary
        self.levels = levels
        self._among: tuple[str, ...] = ()
        if isinstance(self.vary, dict):
            self._among = tuple(self.vary)
        elif self.vary is not None:
            self._among = tuple(self._called(_sample(0)))
        self.names = (*self._among, *(levels.names if levels is not None else ()))

    def _called(self, draw: Draw) -> Mapping[str, Any]:
        assert callable(self.vary)
        values = self.vary(draw)
        if not isinstance(values, Mapping) or not values:
            raise SettingError(
                f"the function of `vary` returned {values!r}; it must return a dict of parameters, "
                f'e.g. `{{"melt": draw.uniform(1.0, 5.0)}}`.'
            )
        return values

    def values(self, draw: Draw, level: Any) -> dict[str, Any]:
        """The values of one episode; `level` is the value of the level that holds now."""
        if isinstance(self.vary, dict):
            values = {name: distribution.sample(draw) for name, distribution in self.vary.items()}
        else:
            values = dict(self._called(draw)) if self.vary is not None else {}
        if self.levels is not None:
            values.update(self.levels.values_at(level))
        return values

    def refuse(self, environment: Any, outline: Any) -> None:
        """Raise `SettingError` where a parameter cannot vary, or would leave its bounds."""
        context = type(environment).__qualname__
        parameters = {p.name: p for p in outline.parameters}
        if len(set(self.names)) != len(self.names):
            raise SettingError(
                f"`vary` and `curriculum` both move a parameter: {listed(self.names)}. Keep one of them."
            )
        for name in self.names:
            if name not in parameters:
                raise SettingError(
                    f"`vary` names `{name}`, which is no parameter of `{context}`; there are {listed(parameters)}."
                    f"{nearest(name, parameters)}"
                )
            if parameters[name].fixed or not isinstance(parameters[name].default, (int, float)):
                raise SettingError(f"`{name}` of `{context}` is fixed, so it cannot vary within a run.")
            bounded = [f.name for f in outline.fields if name in (f.low, f.high)]
            bounded += [s.name for s in outline.sensors if name in (s.bounds["low"], s.bounds["high"])]
            if bounded or name in (outline.cls.deadline, outline.cls.time_limit, outline.cls.decide_every):
                limit = f"bounds of `{bounded[0]}`" if bounded else "limit"
                raise SettingError(
                    f"`{name}` of `{context}` cannot vary, because the {limit} follow from it. Declare them as numbers."
                )
        if isinstance(self.vary, dict):
            for name, distribution in self.vary.items():
                if not isinstance(distribution, Between):
                    raise SettingError(f"`vary` of `{name}` must be `jm.between(low, high)`; got {distribution!r}.")
                if distribution.whole or distribution.when:
                    raise SettingError(
                        f"`vary` of `{name}`: `whole` and `when` are for a search; got {distribution!r}."
                    )
                for end in (distribution.low, distribution.high):
                    parameters[name].checked(_as(parameters[name].default, end, name), f"{context}.{name}")
        elif self.vary is not None:
            for seed in range(50):
                for name, value in self._called(_sample(seed)).items():
                    parameters[name].checked(value, f"{context}.{name}")
        if self.levels is not None:
            for level in self.levels.values:
                for name, value in self.levels.values_at(level).items():
                    parameters[name].checked(value, f"{context}.{name}")
            scores = ["return", *(m.name for m in outline.measures)]
            if self.levels.score not in scores:
                raise SettingError(
                    f"`score` of `Levels` is {self.levels.score!r}; it must be one of {listed(scores)}."
                    f"{nearest(self.levels.score, scores)}"
                )

    def written(self) -> dict[str, Any]:
        """What varies and how, as plans hold it; of a function only that there is one."""
        vary = (
            {name: distribution.written() for name, distribution in self.vary.items()}
            if isinstance(self.vary, dict)
            else repr(self.vary)
        )
        return {"vary": vary, "levels": None if self.levels is None else self.levels.written()}

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Varying) and (other.vary, other.levels) == (self.vary, self.levels)

    def __hash__(self) -> int:
        return hash(self.names)

    @property
    def key(self) -> Any:
        """What decides the program that draws."""
        vary = tuple(self.vary.items()) if isinstance(self.vary, dict) else self.vary
        levels = self.levels
        if levels is None or not levels.together:
            return (vary, None if levels is None else levels.parameter)
        return (vary, levels.parameter, levels.values, tuple(levels.together.items()))


def _as(default: Any, value: float, name: str) -> Any:
    if isinstance(default, int):
        raise SettingError(
            f"`{name}` is a whole number, and `between` draws fractions. Use a function, "
            f'`lambda draw: {{"{name}": draw.integers(1, 5)}}`.'
        )
    return value


def _sample(seed: int) -> Draw:
    """A draw to try a function with."""
    from jokulmist.environments.chance.draws import PlainDraw
    from jokulmist.environments.chance.noise import Domain, Noise, Stream

    return PlainDraw(Noise(seed, 1, Domain.CHECK), Stream.VARY).for_step(0, 0)


def vary_from(written: Mapping[str, Any]) -> dict[str, Between]:
    """What a plan's ``[vary]`` says."""
    distributions = {}
    for name, entry in written.items():
        ends = entry.get("between") if isinstance(entry, Mapping) else None
        if not (isinstance(ends, (list, tuple)) and len(ends) == 2) or set(entry) - {"between", "scale"}:
            raise SettingError(
                f'`{name}` in `[vary]` is {entry!r}; it must be `{{ between = [1.0, 5.0] }}`, with `scale = "log"` '
                "if wanted."
            )
        try:
            distributions[name] = between(*ends, scale=entry.get("scale", "even"))
        except SettingError as wrong:
            raise SettingError(f"`{name}` in `[vary]`: {wrong}") from None
    return distributions


def levels_from(written: Mapping[str, Any]) -> Levels:
    """What a plan's ``[curriculum]`` says."""
    settings = dict(written)
    missing = [name for name in ("parameter", "values", "above") if name not in settings]
    unknown = [name for name in settings if name not in Levels.__dataclass_fields__]
    if missing or unknown:
        problem = f"lacks `{missing[0]}`" if missing else f"has no setting `{unknown[0]}`"
        raise SettingError(
            f"`[curriculum]` {problem}; its settings are {listed(Levels.__dataclass_fields__)}. "
            f'Write `parameter = "melt"`, `values = [1.0, 2.0]`, `above = 30.0`.'
        )
    return Levels(settings.pop("parameter"), settings.pop("values"), **settings)
