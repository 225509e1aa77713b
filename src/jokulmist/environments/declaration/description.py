"""A class, read once.

`outline` reads a class when it is defined and refuses what is declared wrongly; `describe` resolves the outline with
one instance's parameters and weights. Lanes, checks, pictures and records work from these two and never search the
class again.
"""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from jokulmist.environments.declaration.outline import DEADLINE, LOST, TIME_LIMIT, Outline, SensorMethod, StepMethod
from jokulmist.environments.declaration.state import Field
from jokulmist.environments.modifiers import ActionPipeline, Modifier, ObservationPipeline, RewardPipeline
from jokulmist.environments.modifiers.base import idle_of
from jokulmist.environments.modifiers.episodes import LearningEnd, Opening
from jokulmist.environments.spaces.actions import Action, plain_form
from jokulmist.environments.spaces.channels import Channel, Spec
from jokulmist.environments.spaces.player_actions import name_in, owner_of
from jokulmist.environments.spaces.texts import checked_text
from jokulmist.environments.varying import Varying
from jokulmist.errors import ActionError, DeclarationError, SettingError, listed, nearest

MOST_FRAMES = 60.0


@dataclass(frozen=True)
class Description:
    """What one instance declares: an outline with bounds, shapes, weights and limits as numbers."""

    outline: Outline
    name: str
    fields: tuple[Field, ...]
    bare: Spec
    observation_pipeline: ObservationPipeline
    action_pipeline: ActionPipeline
    reward_pipeline: RewardPipeline
    modifiers: tuple[Modifier, ...]
    weights: tuple[float, ...]
    deadline: int | None
    time_limit: int | None
    varying: Varying | None = None
    decide_every: int = 1
    meanwhile: Any = None
    opening: Opening | None = None
    learning_ends: tuple[str, ...] = ()
    shares: tuple[tuple[float, ...], ...] = ()
    frame_rate: float | None = None

    @property
    def players(self) -> tuple[str, ...]:
        """The names of those who decide, where they are several."""
        return self.outline.players

    @property
    def gated(self) -> bool:
        """Whether the agent is asked only while `decide_when` holds."""
        return self.outline.gated

    @property
    def holds(self) -> bool:
        """Whether a decision can last for several advances."""
        return self.decide_every > 1 or self.gated

    @property
    def varied(self) -> tuple[str, ...]:
        """The parameters that differ from episode to episode."""
        return self.varying.names if self.varying is not None else ()

    @property
    def spec(self) -> Spec:
        """What the agent sees: the bare channels of the class, through the modifiers."""
        return self.observation_pipeline.spec

    @property
    def limit(self) -> int | None:
        """Advances until the deadline or the time limit, whichever comes first."""
        return min([n for n in (self.deadline, self.time_limit) if n is not None], default=None)

    def left(self, steps: Any) -> Any:
        """The share of the limit that is left after some advances; 1 where there is none."""
        return 1.0 if self.limit is None else 1.0 - steps / self.limit

    @property
    def action(self) -> Action:
        return self.bare.action

    @property
    def terms(self) -> tuple[StepMethod, ...]:
        return self.outline.terms

    @property
    def measures(self) -> tuple[StepMethod, ...]:
        return self.outline.measures

    @property
    def closings(self) -> tuple[str, ...]:
        """Every way an episode can close, true ends before cuts, each in the order of declaration."""
        ends = [e.name for e in self.outline.endings] + ([DEADLINE] if self.deadline is not None else [])
        cuts = [c.name for c in self.outline.cuts] + ([TIME_LIMIT] if self.time_limit is not None else [])
        return (*ends, *cuts, *([LOST] if self.outline.simulator else []))

    @property
    def lost_bit(self) -> int:
        """The bit of an episode whose worker process was lost; 0 where none can be."""
        return 1 << len(self.closings) - 1 if self.outline.simulator else 0

    @property
    def true_ends(self) -> int:
        """How many of `closings`, from the first, are true ends."""
        return len(self.outline.endings) + (self.deadline is not None)

    @property
    def ending_bits(self) -> int:
        """The bits of the closings that are true ends for what is learned."""
        bits = (1 << self.true_ends) - 1
        for name in self.learning_ends:
            bits |= 1 << self.closings.index(name) if name in self.closings else 0
        return bits

    @property
    def ending_measures(self) -> tuple[int, ...]:
        """The measures that, where they are not 0, are true ends for what is learned."""
        return tuple(k for k, m in enumerate(self.measures) if m.name in self.learning_ends)

    @property
    def own_weights(self) -> tuple[float, ...]:
        """The weights in what a player gets; `weights` are those in the mean of all players."""
        count = len(self.players)
        return tuple(w * count if owner_of(t.name) else w for t, w in zip(self.terms, self.weights, strict=True))

    def held_names(self, satisfied: int) -> list[str]:
        """The closings whose bit is set."""
        return [name for bit, name in enumerate(self.closings) if satisfied >> bit & 1]


def describe(instance: Any, read: Outline) -> Description:
    """Resolve an outline with an instance's parameters: bounds, shapes, weights and limits become numbers."""
    resolver = _Resolver(instance, read)
    fields = tuple(resolver.field(field) for field in read.fields)
    channels = [resolver.field_channel(field) for field in fields if field.role == "seen"]
    channels += [resolver.sensor_channel(sensor) for sensor in read.sensors]
    limits = {limit: resolver.limit(limit) for limit in ("deadline", "time_limit", "decide_every")}
    weights = tuple(_weight(term, instance.weights, read.players) for term in read.terms)
    bare = Spec(tuple(channels), read.action, read.masked)
    return Description(
        outline=read,
        name=read.cls.__name__,
        fields=fields,
        bare=bare,
        observation_pipeline=ObservationPipeline(bare, ()),
        action_pipeline=ActionPipeline(read.action, ()),
        reward_pipeline=RewardPipeline(()),
        modifiers=(),
        weights=weights,
        shares=_shares(read, weights),
        deadline=limits["deadline"],
        time_limit=limits["time_limit"],
        decide_every=limits["decide_every"] or 1,
        meanwhile=_meanwhile(instance, read),
        frame_rate=_frame_rate(read.cls),
    )


def _frame_rate(cls: Any) -> float | None:
    """Decisions a second for whoever plays, where the class names them."""
    rate: float | None = cls.frame_rate
    if rate is None or (isinstance(rate, (int, float)) and not isinstance(rate, bool) and 0.0 < rate <= MOST_FRAMES):
        return rate
    raise DeclarationError(
        f"`frame_rate` of `{cls.__qualname__}` must be a number of decisions a second, above 0 and at most "
        f"{MOST_FRAMES:g}; got {rate!r:.40}. Write for instance `frame_rate = 15`."
    )


class _Resolver:
    """Puts an instance's parameters where its declaration names them."""

    def __init__(self, instance: Any, outline: Outline) -> None:
        self._instance, self._outline, self._context = instance, outline, outline.cls.__qualname__
        self._parameters = [p.name for p in outline.parameters]

    def number(self, value: Any, subject: str) -> Any:
        if not isinstance(value, str):
            return value
        if value not in self._parameters:
            raise DeclarationError(
                f"{subject} of `{self._context}` is the text {value!r}; it must be a number or the name of a parameter "
                f"({listed(self._parameters)}).{nearest(value, self._parameters)}"
            )
        return getattr(self._instance, value)

    def shape(self, shape: Any, subject: str) -> tuple[int, ...]:
        entries = (shape,) if isinstance(shape, (int, str)) else tuple(shape)
        sizes = []
        for entry in entries:
            size = self.number(entry, f"the shape of {subject}")
            if isinstance(entry, str) and not getattr(self._outline.cls, entry).fixed:
                raise DeclarationError(
                    f"the shape of {subject} follows from the parameter `{entry}`, which may vary. "
                    f"Write `{entry}: int = jm.parameter({size}, fixed=True)`."
                )
            if not isinstance(size, int) or size < 1:
                raise DeclarationError(f"the shape of {subject} must hold whole numbers above 0; got {size!r}.")
            sizes.append(size)
        return tuple(sizes)

    def field(self, field: Field) -> Field:
        subject = f"`{field.name}`"
        low, high = self.number(field.low, f"`low` of {subject}"), self.number(field.high, f"`high` of {subject}")
        if isinstance(field.values, str):
            high = int(self.number(field.values, f"`values` of {subject}")) - 1
        return replace(field, low=low, high=high, shape=self.shape(field.shape, subject))

    def field_channel(self, field: Field) -> Channel:
        is_whole = field.kind != "float" or field.values is not None
        low: Any = field.low
        high: Any = field.high
        shape: Any = field.shape
        return _channel(self._context, field.name, low, high, field.unit, shape, is_whole, False, False)

    def sensor_channel(self, sensor: SensorMethod) -> Channel:
        bounds, subject = sensor.bounds, f"sensor `{sensor.name}`"
        low, high = (
            self.number(bounds["low"], f"`low` of {subject}"),
            self.number(bounds["high"], f"`high` of {subject}"),
        )
        is_whole, image = bounds["values"] is not None, bounds["image"]
        if is_whole:
            low, high = 0, int(self.number(bounds["values"], f"`values` of {subject}")) - 1
        if image:
            low, high = 0, 255
        shape = self.shape(bounds["shape"], subject)
        if image and len(shape) != 3:
            raise DeclarationError(
                f"{subject} of `{self._context}` is an image of shape {shape}; give `shape=(height, width, channels)`."
            )
        return _channel(self._context, sensor.name, low, high, bounds["unit"], shape, is_whole, image, True)

    def limit(self, name: str) -> int | None:
        value = self.number(getattr(self._instance, name), f"`{name}`")
        if value is not None and (isinstance(value, bool) or not isinstance(value, int) or value < 1):
            raise DeclarationError(
                f"`{name}` of `{self._context}` must be a whole number of advances above 0; got {value!r}. "
                f"Write for instance `{name} = 120`."
            )
        return value


def _weight(term: StepMethod, weights: Mapping[str, float], players: tuple[str, ...]) -> float:
    """A term's weight in the return of an episode; of several players that is their mean."""
    weight = float(weights.get(name_in(term.name), term.weight))
    return weight / len(players) if owner_of(term.name) else weight


def _shares(read: Outline, weights: tuple[float, ...]) -> tuple[tuple[float, ...], ...]:
    """What each player gets of each term: its own terms and everybody's."""
    count = len(read.players)
    owners = [owner_of(term.name) for term in read.terms]
    return (
        tuple(
            tuple(weight * (count if owner else 1) * (owner in ("", player)) for player in read.players)
            for weight, owner in zip(weights, owners, strict=True)
        )
        if count
        else ()
    )


def _meanwhile(instance: Any, read: Outline) -> Any:
    """What is done while nobody is asked, in own form; by default first alternatives and middles."""
    if not read.gated:
        return None
    try:
        return plain_form(idle_of(np, read.action, getattr(instance, "meanwhile", None)))
    except ActionError as wrong:
        raise DeclarationError(f"`meanwhile` of `{read.cls.__qualname__}`: {wrong}") from None


def through(description: Description, modifiers: tuple[Modifier, ...]) -> Description:
    """The same instance with modifiers around it."""
    openings = [m for m in modifiers if isinstance(m, Opening)]
    if len(openings) > 1:
        raise SettingError(f"an episode opens once; got {listed(map(str, openings))}. Keep one of them.")
    ends = [m for m in modifiers if isinstance(m, LearningEnd)]
    for opening in openings:
        opening.refuse(description.action)
    for end in ends:
        end.refuse(description.closings, [m.name for m in description.measures])
    return replace(
        description,
        observation_pipeline=ObservationPipeline(description.bare, modifiers, limited=description.limit is not None),
        action_pipeline=ActionPipeline(description.action, modifiers, masked=description.bare.masked),
        reward_pipeline=RewardPipeline(modifiers, description.players),
        modifiers=modifiers,
        opening=openings[0] if openings else None,
        learning_ends=tuple(end.name for end in ends),
    )


def _channel(
    context: str,
    name: str,
    low: float,
    high: float,
    unit: str,
    shape: tuple[int, ...],
    is_whole: bool,
    image: bool,
    computed: bool,
) -> Channel:
    low, high = float(low), float(high)
    if math.isnan(low) or math.isnan(high) or low >= high:
        raise DeclarationError(f"`{name}` of `{context}` has low={low:g} and high={high:g}; low must lie below high.")
    checked_text(unit, f"the unit of `{name}` of `{context}`")
    return Channel(name, low, high, unit, shape, is_whole, image, computed)


def checked_weights(read: Outline, changes: Mapping[str, Any] | None) -> dict[str, float]:
    """Weights set from outside, by term; an unknown term or a weight that is no number is an error."""
    names = list(dict.fromkeys(name_in(term.name) for term in read.terms))
    weights = {}
    if changes is not None and not isinstance(changes, Mapping):
        raise SettingError(
            f"`weights` is a dict of numbers by reward term, e.g. `{{{names[0]!r}: 2.0}}`; got {changes!r:.80}."
        )
    for name, value in (changes or {}).items():
        if name not in names:
            raise SettingError(
                f"`weights` names `{name}`, which is no reward term of `{read.cls.__qualname__}`; "
                f"its terms are {listed(names)}.{nearest(name, names)}"
            )
        if isinstance(value, (bool, str)) or not np.isscalar(value) or not math.isfinite(float(value)):  # type: ignore[arg-type]
            raise SettingError(f"the weight of `{name}` must be a finite number; got {value!r}.")
        weights[name] = float(value)  # type: ignore[arg-type]
    return weights
