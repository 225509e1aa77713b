"""A class, read once.

`outline` reads a class when it is defined and refuses what is declared wrongly; `describe` resolves the outline with
one instance's parameters and weights. Lanes, checks, pictures and records work from these two and never search the
class again.
"""

from __future__ import annotations

import inspect
import math
from collections.abc import Callable, Mapping
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from jokulmist.environments.declaration import parts
from jokulmist.environments.declaration.state import Field, State
from jokulmist.environments.modifiers import Glass, Grip, LearningEnd, Modifier, Opening, Worth
from jokulmist.environments.modifiers.base import idle_of
from jokulmist.environments.spaces.actions import Action, Actions, Choice, Range, plain_form
from jokulmist.environments.spaces.channels import Channel, Spec
from jokulmist.environments.spaces.legal import choices_of
from jokulmist.environments.varying import Varying
from jokulmist.errors import ActionError, DeclarationError, SettingError, listed, nearest

STEP_ARGUMENTS = ("before", "action", "after")
DEADLINE = "deadline"
TIME_LIMIT = "time limit"
LOST = "lost"
MOST_CLOSINGS = 24
# The names that mean something on an environment; a field, channel, term or parameter cannot take one of them.
RESERVED = (
    "State", "action", "begin", "advance", "deadline", "time_limit", "picture", "legal", "decide_every", "decide_when",
    "meanwhile", "weights", "xp", "episode", "modified", "modify",
)  # fmt: skip
RECORD_COLUMNS = (
    "episode", "decisions", "copy", "return", "learned_return", "steps", "advances", "closed_by", "also_held", "reward", "step",
)  # fmt: skip


@dataclass(frozen=True)
class StepMethod:
    """A method asked after each advance: a term, an ending, a cut or a measure."""

    name: str
    takes: tuple[str, ...]
    weight: float = 1.0
    over: str = "sum"
    final: bool = True
    help: str = ""


@dataclass(frozen=True)
class SensorMethod:
    name: str
    bounds: Mapping[str, Any]
    noisy: bool


@dataclass(frozen=True)
class Outline:
    """What a class declares, before any instance."""

    cls: type
    fields: tuple[Field, ...]
    action: Action
    parameters: tuple[parts.Parameter, ...]
    series: tuple[parts.Series, ...]
    derived: tuple[str, ...]
    sensors: tuple[SensorMethod, ...]
    terms: tuple[StepMethod, ...]
    endings: tuple[StepMethod, ...]
    cuts: tuple[StepMethod, ...]
    measures: tuple[StepMethod, ...]
    references: tuple[str, ...]
    masked: bool = False
    gated: bool = False
    losable: bool = False


@dataclass(frozen=True)
class Description:
    """What one instance declares: an outline with bounds, shapes, weights and limits as numbers."""

    outline: Outline
    name: str
    fields: tuple[Field, ...]
    bare: Spec
    glass: Glass
    grip: Grip
    worth: Worth
    modifiers: tuple[Modifier, ...]
    weights: tuple[float, ...]
    deadline: int | None
    time_limit: int | None
    varying: Varying | None = None
    decide_every: int = 1
    meanwhile: Any = None
    opening: Opening | None = None
    learning_ends: tuple[str, ...] = ()

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
        return self.glass.spec

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
        return (*ends, *cuts, *([LOST] if self.outline.losable else []))

    @property
    def lost_bit(self) -> int:
        """The bit of an episode whose worker process was lost; 0 where none can be."""
        return 1 << len(self.closings) - 1 if self.outline.losable else 0

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

    def held_names(self, held: int) -> list[str]:
        """The closings whose bit is set."""
        return [name for bit, name in enumerate(self.closings) if held >> bit & 1]


def outline(cls: type) -> Outline:
    """Read a class; `DeclarationError` says what is missing or wrong, and how to write it."""
    where = cls.__qualname__
    named = _named_parts(cls)

    def of(kind: type) -> list[Any]:
        return [part for part in named.values() if isinstance(part, kind)]

    state = getattr(cls, "State", None)
    if not (isinstance(state, type) and issubclass(state, State)) or state is State:
        got = "nothing" if state is None or state is State else repr(state)
        raise DeclarationError(
            f"`{where}.State` must be a class derived from `jm.State`; got {got}. "
            f"Write `class State(jm.State):` inside `{where}`, with one line a field."
        )
    action = getattr(cls, "action", None)
    if not isinstance(action, (Choice, Range, Actions)):
        raise DeclarationError(
            f"`{where}` declares no action; got {action!r}. "
            f'Write `action = jm.Choice("hold", "full")` or `action = jm.Range(0.0, 1.0)` in its body.'
        )
    for method, takes in (("begin", ("draw",)), ("advance", ("state", "action", "draw"))):
        refuse_missing(cls, method, takes)
    sensors = tuple(_sensor(where, part) for part in of(parts.Sensor))
    seen = [f for f in state._fields.values() if f.role == "seen"]
    if not sensors and not seen:
        raise DeclarationError(
            f"`{where}` shows the agent nothing. Mark a state field as seen, `level: float = jm.seen(low=0.0, high=40.0)`, "
            f"or write a method under `@jm.sensor`."
        )
    terms = tuple(_step_method(where, part, weight=part.weight) for part in of(parts.Term))
    if not terms:
        raise DeclarationError(
            f"`{where}` has no reward. Write a method under `@jm.reward` that returns a number, "
            f"e.g. `def sales(self, before, action, after): return after.released`."
        )
    closings = of(parts.Closing)
    endings = tuple(_step_method(where, part, final=True) for part in closings if part.final)
    cuts = tuple(_step_method(where, part, final=False) for part in closings if not part.final)
    if len(closings) + 2 > MOST_CLOSINGS:
        raise DeclarationError(
            f"`{where}` has {len(closings)} endings and cuts; at most {MOST_CLOSINGS - 2} are allowed."
        )
    measures = tuple(_step_method(where, part, over=part.over) for part in of(parts.Measure))
    for part in of(parts.Reference):
        given = _arguments(part.function)
        if given != ("state",):
            raise DeclarationError(
                f"`{where}.{part.name}` takes ({', '.join(('self', *given))}); a reference takes (self, state)."
            )
    _refuse_clashes(cls, state, named)
    return Outline(
        cls=cls,
        fields=tuple(state._fields.values()),
        action=action,
        parameters=tuple(of(parts.Parameter)),
        series=tuple(of(parts.Series)),
        derived=tuple(part.name for part in of(parts.Derived)),
        sensors=sensors,
        terms=terms,
        endings=endings,
        cuts=cuts,
        measures=measures,
        references=tuple(part.name for part in of(parts.Reference)),
        masked=_masked(cls, action),
        gated=_gated(cls),
    )


def _named_parts(cls: type) -> dict[str, parts.Part]:
    """Everything that a class and its bases declare, the last declaration of a name counting."""
    named: dict[str, parts.Part] = {}
    for base in reversed(cls.__mro__):
        for name, value in vars(base).items():
            if isinstance(value, parts.Part):
                named.pop(name, None)
                named[name] = value
            elif name in named:
                del named[name]
    return named


def parts_of(cls: type) -> tuple[parts.Parameter, ...]:
    """The parameters of a class; anything else that is marked is refused, for a simulator tells it itself."""
    named = _named_parts(cls)
    for name, part in named.items():
        if not isinstance(part, parts.Parameter):
            raise DeclarationError(
                f"`{cls.__qualname__}.{name}` is marked as a {type(part).__name__.lower()}; a simulator names its terms, endings "
                f"and measures in `terms`, `endings`, `measures` and tells them in a `jm.Outcome`."
            )
    return tuple(part for part in named.values() if isinstance(part, parts.Parameter))


def refuse_missing(cls: type, method: str, takes: tuple[str, ...]) -> None:
    """Raise `DeclarationError` where a class does not write a method, or with other arguments."""
    where = cls.__qualname__
    function = cls.__dict__.get(method) or getattr(cls, method, None)
    if function is None or getattr(function, "_not_written", False):
        raise DeclarationError(f"`{where}` has no `{method}`. Write `def {method}(self, {', '.join(takes)}):`.")
    given = _arguments(function)
    if given != takes:
        raise DeclarationError(
            f"`{where}.{method}` takes ({', '.join(('self', *given))}); it must take ({', '.join(('self', *takes))})."
        )


def _masked(cls: type, action: Action) -> bool:
    """Whether the class says which choices are allowed."""
    legal = getattr(cls, "legal", None)
    if legal is None:
        return False
    where = cls.__qualname__
    if not callable(legal) or _arguments(legal) != ("state",):
        raise DeclarationError(f"`{where}.legal` must be a method that takes (self, state).")
    if not choices_of(action):
        raise DeclarationError(f"`{where}.legal` allows choices, and the action has none; got {action!r}.")
    return True


def _gated(cls: type) -> bool:
    """Whether the class says when the agent is asked."""
    where, when = cls.__qualname__, getattr(cls, "decide_when", None)
    if when is None:
        if getattr(cls, "meanwhile", None) is not None:
            raise DeclarationError(
                f"`{where}.meanwhile` says what is done while nobody is asked, and the agent is always asked. "
                f"Write `def decide_when(self, state):`, or leave `meanwhile` out."
            )
        return False
    if not callable(when) or _arguments(when) != ("state",):
        raise DeclarationError(f"`{where}.decide_when` must be a method that takes (self, state).")
    return True


def _arguments(function: Callable[..., Any]) -> tuple[str, ...]:
    names = tuple(inspect.signature(function).parameters)
    return names[1:] if names and names[0] == "self" else names


def _sensor(where: str, part: parts.Sensor) -> SensorMethod:
    given = _arguments(part.function)
    if given not in (("state",), ("state", "draw")):
        raise DeclarationError(
            f"`{where}.{part.name}` takes ({', '.join(('self', *given))}); a sensor takes (self, state), "
            f"or (self, state, draw) when it is noisy."
        )
    return SensorMethod(part.name, part.bounds, noisy=len(given) == 2)


def _step_method(where: str, part: parts.MethodPart, **options: Any) -> StepMethod:
    given = _arguments(part.function)
    wrong = [name for name in given if name not in STEP_ARGUMENTS]
    if wrong:
        raise DeclarationError(
            f"`{where}.{part.name}` takes `{wrong[0]}`; a reward, an ending, a cut or a measure takes any of "
            f"`before`, `action`, `after`, by name."
        )
    help = (part.function.__doc__ or "").strip().split("\n")[0]
    return StepMethod(part.name, given, help=help, **options)


def _refuse_clashes(cls: type, state: type[State], named: Mapping[str, parts.Part]) -> None:
    """Fields, parts and closings are columns of the records, so a name may stand once."""
    where = cls.__qualname__
    for name in [*state._fields, *named]:
        if name in RESERVED or name in RECORD_COLUMNS:
            raise DeclarationError(
                f"`{where}` names a part `{name}`, which has a meaning of its own; choose another name. "
                f"Taken are {listed(dict.fromkeys([*RESERVED, *RECORD_COLUMNS]))}."
            )
    for name in state._fields:
        if name in named:
            raise DeclarationError(
                f"`{where}` uses the name `{name}` twice: for a state field and for a {type(named[name]).__name__.lower()}. "
                f"Names are columns of the records; rename one, e.g. `{name}_now`."
            )
    # A method under the same name twice leaves only the second in the class body, so the source is asked.
    for name, count in _defined_twice(cls).items():
        if name in named and count > 1:
            raise DeclarationError(
                f"`{where}` defines `{name}` {count} times, and only the last would count. Rename one of them."
            )


def _defined_twice(cls: type) -> dict[str, int]:
    import ast
    import textwrap

    try:
        tree = ast.parse(textwrap.dedent(inspect.getsource(cls)))
    except (OSError, TypeError, SyntaxError, IndentationError):
        return {}
    counts: dict[str, int] = {}
    body = tree.body[0].body if isinstance(tree.body[0], ast.ClassDef) else []
    for node in body:
        if isinstance(node, ast.FunctionDef):
            counts[node.name] = counts.get(node.name, 0) + 1
    return counts


def describe(instance: Any, read: Outline) -> Description:
    """Resolve an outline with an instance's parameters: bounds, shapes, weights and limits become numbers."""
    where = read.cls.__qualname__
    parameters = [p.name for p in read.parameters]

    def number(value: Any, what: str) -> Any:
        if not isinstance(value, str):
            return value
        if value not in parameters:
            raise DeclarationError(
                f"{what} of `{where}` is the text {value!r}; it must be a number or the name of a parameter "
                f"({listed(parameters)}).{nearest(value, parameters)}"
            )
        return getattr(instance, value)

    def resolved(shape: Any, what: str) -> tuple[int, ...]:
        entries = (shape,) if isinstance(shape, (int, str)) else tuple(shape)
        sizes = []
        for entry in entries:
            size = number(entry, f"the shape of {what}")
            if isinstance(entry, str) and not getattr(read.cls, entry).fixed:
                raise DeclarationError(
                    f"the shape of {what} follows from the parameter `{entry}`, which may vary. "
                    f"Write `{entry}: int = jm.parameter({size}, fixed=True)`."
                )
            if not isinstance(size, int) or size < 1:
                raise DeclarationError(f"the shape of {what} must hold whole numbers above 0; got {size!r}.")
            sizes.append(size)
        return tuple(sizes)

    fields = []
    channels = []
    for field in read.fields:
        what = f"`{field.name}`"
        low, high = number(field.low, f"`low` of {what}"), number(field.high, f"`high` of {what}")
        if isinstance(field.values, str):
            high = int(number(field.values, f"`values` of {what}")) - 1
        field = replace(field, low=low, high=high, shape=resolved(field.shape, what))
        fields.append(field)
        if field.role == "seen":
            whole = field.kind != "float" or field.values is not None
            channels.append(_channel(where, field.name, low, high, field.unit, field.shape, whole, False, False))  # type: ignore[arg-type]
    for sensor in read.sensors:
        bounds, what = sensor.bounds, f"sensor `{sensor.name}`"
        low, high = number(bounds["low"], f"`low` of {what}"), number(bounds["high"], f"`high` of {what}")
        whole = bounds["values"] is not None
        if whole:
            low, high = 0, int(number(bounds["values"], f"`values` of {what}")) - 1
        if bounds["image"]:
            low, high = 0, 255
        shape = resolved(bounds["shape"], what)
        if bounds["image"] and len(shape) != 3:
            raise DeclarationError(
                f"{what} of `{where}` is an image of shape {shape}; give `shape=(height, width, channels)`."
            )
        channels.append(_channel(where, sensor.name, low, high, bounds["unit"], shape, whole, bounds["image"], True))
    limits = {}
    for limit in ("deadline", "time_limit", "decide_every"):
        value = number(getattr(instance, limit), f"`{limit}`")
        if value is not None and (isinstance(value, bool) or not isinstance(value, int) or value < 1):
            raise DeclarationError(
                f"`{limit}` of `{where}` must be a whole number of advances above 0; got {value!r}. "
                f"Write for instance `{limit} = 120`."
            )
        limits[limit] = value
    given = instance.weights
    weights = tuple(float(given.get(term.name, term.weight)) for term in read.terms)
    bare = Spec(tuple(channels), read.action, read.masked)
    return Description(
        outline=read,
        name=read.cls.__name__,
        fields=tuple(fields),
        bare=bare,
        glass=Glass(bare, ()),
        grip=Grip(read.action, ()),
        worth=Worth(()),
        modifiers=(),
        weights=weights,
        deadline=limits["deadline"],
        time_limit=limits["time_limit"],
        decide_every=limits["decide_every"] or 1,
        meanwhile=_meanwhile(instance, read),
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
        glass=Glass(description.bare, modifiers, limited=description.limit is not None),
        grip=Grip(description.action, modifiers, masked=description.bare.masked),
        worth=Worth(modifiers),
        modifiers=modifiers,
        opening=openings[0] if openings else None,
        learning_ends=tuple(end.name for end in ends),
    )


def _channel(
    where: str,
    name: str,
    low: float,
    high: float,
    unit: str,
    shape: tuple[int, ...],
    whole: bool,
    image: bool,
    computed: bool,
) -> Channel:
    low, high = float(low), float(high)
    if math.isnan(low) or math.isnan(high) or low >= high:
        raise DeclarationError(f"`{name}` of `{where}` has low={low:g} and high={high:g}; low must lie below high.")
    return Channel(name, low, high, unit, shape, whole, image, computed)


def checked_weights(read: Outline, given: Mapping[str, Any] | None) -> dict[str, float]:
    """Weights set from outside, by term; an unknown term or a weight that is no number is an error."""
    names = [term.name for term in read.terms]
    weights = {}
    for name, value in (given or {}).items():
        if name not in names:
            raise SettingError(
                f"`weights` names `{name}`, which is no reward term of `{read.cls.__qualname__}`; "
                f"its terms are {listed(names)}.{nearest(name, names)}"
            )
        if isinstance(value, (bool, str)) or not np.isscalar(value) or not math.isfinite(float(value)):  # type: ignore[arg-type]
            raise SettingError(f"the weight of `{name}` must be a finite number; got {value!r}.")
        weights[name] = float(value)  # type: ignore[arg-type]
    return weights
