"""The parts of a class, read and checked once: what it declares before any value is given."""

from __future__ import annotations

import inspect
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from jokulmist.environments.declaration import parts
from jokulmist.environments.declaration.state import Field, State
from jokulmist.environments.spaces.actions import Action, Actions, Choice, Range
from jokulmist.environments.spaces.legal import choices_of
from jokulmist.environments.spaces.player_actions import players_of
from jokulmist.errors import DeclarationError, listed

STEP_ARGUMENTS = ("before", "action", "after")


DEADLINE = "deadline"


TIME_LIMIT = "time limit"


LOST = "lost"


MOST_CLOSINGS = 24


# The names that mean something on an environment; a field, channel, term or parameter cannot take one of them.
RESERVED = (
    "State",
    "action",
    "begin",
    "advance",
    "deadline",
    "time_limit",
    "picture",
    "frame_rate",
    "legal",
    "decide_every",
    "decide_when",
    "meanwhile",
    "weights",
    "xp",
    "episode",
    "modified",
    "modify",
    "players",
)


# They mean something where there are players.
PLAYER_WORDS = ("player", "turn", "out")


RECORD_COLUMNS = (
    "episode",
    "decisions",
    "copy",
    "return",
    "learned_return",
    "steps",
    "advances",
    "closed_by",
    "also_held",
    "reward",
    "moment",
    "policy",
    "act",
    "seed",
    "learned",
)


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
    simulator: bool = False
    players: tuple[str, ...] = ()


def outline(cls: type) -> Outline:
    """Read a class; `DeclarationError` says what is missing or wrong, and how to write it."""
    context = cls.__qualname__
    named = _named_parts(cls)

    def parts_of(kind: type) -> list[Any]:
        return [part for part in named.values() if isinstance(part, kind)]

    state, action = _declared_state(cls), _declared_action(cls)
    for method, takes in (("begin", ("draw",)), ("advance", ("state", "action", "draw"))):
        refuse_missing(cls, method, takes)
    sensors = tuple(_sensor(context, part) for part in parts_of(parts.Sensor))
    terms = tuple(_step_method(context, part, weight=part.weight) for part in parts_of(parts.Term))
    closings = parts_of(parts.Closing)
    _refuse_incomplete(context, state, sensors, terms, closings, parts_of(parts.Reference))
    _refuse_clashes(cls, state, named)
    return Outline(
        cls=cls,
        fields=tuple(state._fields.values()),
        action=action,
        parameters=tuple(parts_of(parts.Parameter)),
        series=tuple(parts_of(parts.Series)),
        derived=tuple(part.name for part in parts_of(parts.Derived)),
        sensors=sensors,
        terms=terms,
        endings=tuple(_step_method(context, part, final=True) for part in closings if part.final),
        cuts=tuple(_step_method(context, part, final=False) for part in closings if not part.final),
        measures=tuple(_step_method(context, part, over=part.over) for part in parts_of(parts.Measure)),
        references=tuple(part.name for part in parts_of(parts.Reference)),
        masked=_masked(cls, action),
        gated=_gated(cls),
        players=players_of(action),
    )


def _declared_state(cls: type) -> Any:
    state, context = getattr(cls, "State", None), cls.__qualname__
    if not (isinstance(state, type) and issubclass(state, State)) or state is State:
        got = "nothing" if state is None or state is State else repr(state)
        raise DeclarationError(
            f"`{context}.State` must be a class derived from `jm.State`; got {got}. "
            f"Write `class State(jm.State):` inside `{context}`, with one line a field."
        )
    return state


def _declared_action(cls: type) -> Any:
    action = getattr(cls, "action", None)
    if not isinstance(action, (Choice, Range, Actions)):
        raise DeclarationError(
            f"`{cls.__qualname__}` declares no action; got {action!r}. "
            f'Write `action = jm.Choice("hold", "full")` or `action = jm.Range(0.0, 1.0)` in its body.'
        )
    return action


def _refuse_incomplete(context: str, state: Any, sensors: Any, terms: Any, closings: Any, references: Any) -> None:
    """Refuse a class that shows nothing, has no reward, has more closings than fit, or a reference that takes something
    else."""
    if not sensors and not any(field.role == "seen" for field in state._fields.values()):
        raise DeclarationError(
            f"`{context}` shows the agent nothing. Mark a state field as seen, `level: float = jm.seen(low=0.0, "
            "high=40.0)`, or write a method under `@jm.sensor`."
        )
    if not terms:
        raise DeclarationError(
            f"`{context}` has no reward. Write a method under `@jm.reward` that returns a number, "
            f"e.g. `def sales(self, before, action, after): return after.released`."
        )
    if len(closings) + 2 > MOST_CLOSINGS:
        raise DeclarationError(
            f"`{context}` has {len(closings)} endings and cuts; at most {MOST_CLOSINGS - 2} are allowed."
        )
    for part in references:
        arguments = parts.arguments_of(part.function)
        if arguments != ("state",):
            raise DeclarationError(
                f"`{context}.{part.name}` takes ({', '.join(('self', *arguments))}); a reference takes (self, state)."
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
                f"`{cls.__qualname__}.{name}` is marked as a {type(part).__name__.lower()}; a simulator names its "
                "terms, endings and measures in `terms`, `endings`, `measures` and tells them in a `jm.Outcome`."
            )
    return tuple(part for part in named.values() if isinstance(part, parts.Parameter))


def refuse_missing(cls: type, method: str, takes: tuple[str, ...]) -> None:
    """Raise `DeclarationError` where a class does not write a method, or with other arguments."""
    context = cls.__qualname__
    function = cls.__dict__.get(method) or getattr(cls, method, None)
    if function is None or getattr(function, "_not_written", False):
        raise DeclarationError(f"`{context}` has no `{method}`. Write `def {method}(self, {', '.join(takes)}):`.")
    arguments = parts.arguments_of(function)
    if arguments != takes:
        code = getattr(inspect.unwrap(function), "__code__", None)
        line = "" if code is None else f" ({code.co_filename.rpartition('/')[2]}:{code.co_firstlineno})"
        raise DeclarationError(
            f"`{context}.{method}`{line} takes ({', '.join(('self', *arguments))}); it must take "
            f"({', '.join(('self', *takes))}). The names are fixed: they say what each is, here and in "
            f"reward terms and endings, which are handed what they name."
        )


def _masked(cls: type, action: Action) -> bool:
    """Whether the class says which choices are allowed."""
    legal = getattr(cls, "legal", None)
    if legal is None:
        return False
    context = cls.__qualname__
    if not callable(legal) or parts.arguments_of(legal) != ("state",):
        raise DeclarationError(f"`{context}.legal` must be a method that takes (self, state).")
    if not choices_of(action) and not getattr(action, "asks", False):
        raise DeclarationError(f"`{context}.legal` allows choices, and the action has none; got {action!r}.")
    return True


def _gated(cls: type) -> bool:
    """Whether the class says when the agent is asked."""
    context, when = cls.__qualname__, getattr(cls, "decide_when", None)
    if when is None:
        if getattr(cls, "meanwhile", None) is not None:
            raise DeclarationError(
                f"`{context}.meanwhile` says what is done while nobody is asked, and the agent is always asked. "
                f"Write `def decide_when(self, state):`, or leave `meanwhile` out."
            )
        return False
    if not callable(when) or parts.arguments_of(when) != ("state",):
        raise DeclarationError(f"`{context}.decide_when` must be a method that takes (self, state).")
    return True


def _sensor(context: str, part: parts.Sensor) -> SensorMethod:
    arguments = parts.arguments_of(part.function)
    if arguments not in (("state",), ("state", "draw")):
        raise DeclarationError(
            f"`{context}.{part.name}` takes ({', '.join(('self', *arguments))}); a sensor takes (self, state), "
            f"or (self, state, draw) when it is noisy."
        )
    return SensorMethod(part.name, part.bounds, noisy=len(arguments) == 2)


def _step_method(context: str, part: parts.MethodPart, **options: Any) -> StepMethod:
    arguments = parts.arguments_of(part.function)
    wrong = [name for name in arguments if name not in STEP_ARGUMENTS]
    if wrong:
        raise DeclarationError(
            f"`{context}.{part.name}` takes `{wrong[0]}`; a reward, an ending, a cut or a measure takes any of "
            f"`before`, `action`, `after`, by name."
        )
    help = (part.function.__doc__ or "").strip().split("\n")[0]
    return StepMethod(part.name, arguments, help=help, **options)


def _refuse_clashes(cls: type, state: type[State], named: Mapping[str, parts.Part]) -> None:
    """Fields, parts and closings are columns of the records, so a name may stand once."""
    context = cls.__qualname__
    meant = [*RESERVED, *(PLAYER_WORDS if getattr(cls, "players", None) is not None else ())]
    clashes = [name for name in [*state._fields, *named] if name in meant or name in RECORD_COLUMNS]
    twice = [name for name in state._fields if name in named]
    problems = []
    if clashes:
        problems.append(
            f"names {'a part' if len(clashes) == 1 else 'parts'} {listed(clashes)}, which "
            f"{'has a meaning' if len(clashes) == 1 else 'have meanings'} of {'its' if len(clashes) == 1 else 'their'} "
            f"own; choose another name. Taken are {listed(dict.fromkeys([*meant, *RECORD_COLUMNS]))}."
        )
    for name in twice:
        problems.append(
            f"uses the name `{name}` twice: for a state field and for a {type(named[name]).__name__.lower()}. "
            f"Names are columns of the records; rename one, e.g. `{name}_now`."
        )
    if problems:  # all at once: whoever renames one should not meet the next
        raise DeclarationError(f"`{context}` " + " It also ".join(problems))
    # A method under the same name twice leaves only the second in the class body, so the source is asked.
    for name, count in _defined_twice(cls).items():
        if name in named and count > 1:
            raise DeclarationError(
                f"`{context}` defines `{name}` {count} times, and only the last would count. Rename one of them."
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
