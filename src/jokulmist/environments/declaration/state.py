"""The state of an environment: an immutable record of everything that changes.

Because the state is data and `advance` returns a new one, an episode can be rewound, copied, saved, resumed and
compiled. The fields are declared as annotations; which of them the agent sees, and which only say what happened in one
advance, is said field by field.
"""

from __future__ import annotations

import inspect
import math
from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import Any, ClassVar, Literal, Self, dataclass_transform, get_type_hints

import numpy as np

from jokulmist.environments.declaration.parts import Bound, Shape
from jokulmist.errors import BrokenEnvironment, DeclarationError, listed, nearest

Kind = Literal["float", "int", "bool"]
Role = Literal["seen", "hidden", "flow"]
KINDS: dict[type, Kind] = {float: "float", int: "int", bool: "bool"}
DTYPES: dict[str, type] = {"float": np.float32, "int": np.int32, "bool": np.bool_}
ZEROS: dict[str, Any] = {"float": 0.0, "int": 0, "bool": np.bool_(False)}


@dataclass(frozen=True)
class Field:
    """One declared field of a state.

    `shape` is ``()`` for a number; its entries, and the bounds, may be names of parameters until an instance
    resolves them. Arrays of kind float are float32, of kind int the dtype that was declared.
    """

    name: str = ""
    kind: Kind = "float"
    role: Role = "hidden"
    low: Bound = -math.inf
    high: Bound = math.inf
    unit: str = ""
    shape: Shape = ()
    values: int | str | None = None
    dtype: str = ""
    constant: bool = False

    @property
    def scalar(self) -> bool:
        return self.shape == ()


def seen(
    *,
    low: Bound = -math.inf,
    high: Bound = math.inf,
    unit: str = "",
    shape: Shape = (),
    values: int | str | None = None,
) -> Any:
    """Declare a field that the agent observes as it is.

    Parameters
    ----------
    low, high : float or str
        Bounds, or the name of a parameter that holds one. Needed for tables and for scaling.
    unit : str
        Shown in tables and plots.
    shape : int or tuple
        Shape of an array; entries may be names of parameters. ``()`` is a single number.
    values : int, optional
        The field is a whole number from 0 to ``values - 1``.

    Examples
    --------
    >>> import numpy as np
    >>> import jokulmist as jm
    >>> class Tub(jm.State):
    ...     heat: float = jm.seen(low=0.0, high=60.0, unit="degC")
    ...     lid: int = jm.seen(low=0, values=2)
    ...     ripples: object = jm.seen(low=-1.0, high=1.0, shape=3)
    >>> Tub(heat=38.0, lid=1, ripples=np.zeros(3)).heat
    38.0
    """
    return Field(role="seen", low=low, high=high, unit=unit, shape=shape, values=values)


STORED_DTYPES = {"int64": "int32", "uint64": "uint32", "float64": "float32"}


def field(*, shape: Shape = (), dtype: Any = None, constant: bool = False, unit: str = "") -> Any:
    """Declare a field that is not observed: a number or an array.

    `constant` says that it is drawn in `begin` and stays as it is until the episode closes. Numbers of 64 bits, as
    ``dtype=int`` asks for, are held in 32: compiled arrays have no others.

    Examples
    --------
    >>> import numpy as np
    >>> import jokulmist as jm
    >>> class Tub(jm.State):
    ...     heat: float = jm.seen(low=0.0, high=60.0)
    ...     logs: object = jm.field(shape=2, dtype=int)
    ...     weather: float = jm.field(constant=True)
    >>> Tub(heat=38.0, logs=np.array([2, 1]), weather=-4.0).weather
    -4.0
    """
    kind = "" if dtype is None else np.dtype(dtype).name
    return Field(role="hidden", shape=shape, dtype=STORED_DTYPES.get(kind, kind), constant=constant, unit=unit)


def flow(*, unit: str = "", shape: Shape = (), init: Literal[False] = False) -> Any:
    """Declare what happened in one advance: zero before it, set in it, read from `after`.

    `init` is for type checkers alone: a state is made without its flows.

    Examples
    --------
    >>> import jokulmist as jm
    >>> class Tub(jm.State):
    ...     heat: float = jm.seen(low=0.0, high=60.0)
    ...     burnt: float = jm.flow(unit="kg")
    >>> state = Tub(heat=38.0)  # a flow is left out where a state is made, and set by `advance`
    >>> state.replace(heat=39.0, burnt=1.5).burnt
    1.5
    """
    return Field(role="flow", unit=unit, shape=shape)


@dataclass_transform(frozen_default=True, kw_only_default=True, field_specifiers=(seen, field, flow))
class State:
    """Base of the ``class State(jm.State)`` inside an environment.

    Instances are immutable; `replace` gives a changed copy. Numbers are plain Python numbers when an environment runs
    plain, and traced arrays when it is compiled.

    Examples
    --------
    >>> class Pond(State):
    ...     level: float = seen(low=0.0, high=4.0)
    ...     frozen: bool
    >>> Pond(level=1.5, frozen=False).replace(level=2.0)
    Pond(level=2.0, frozen=False)
    """

    _fields: ClassVar[dict[str, Field]] = {}

    def __init_subclass__(cls, **options: Any) -> None:
        super().__init_subclass__(**options)
        fields = dict(cls._fields)
        annotations = inspect.get_annotations(cls)
        hints = _hints(cls)
        for name in annotations:
            if name.startswith("_"):
                raise DeclarationError(f"state field `{name}` begins with an underscore; name it without one.")
            if hasattr(State, name):
                raise DeclarationError(f"state field `{name}` clashes with `State.{name}`; choose another name.")
            declared = cls.__dict__.get(name, Field())
            if not isinstance(declared, Field):
                kind = type(declared).__name__ if type(declared) in KINDS else "float"
                raise DeclarationError(
                    f"state field `{name}` has a default ({declared!r}); the first values are set in `begin`. "
                    f"Write `{name}: {kind}`, or `{name}: {kind} = jm.seen(low=..., high=...)`."
                )
            fields[name] = _typed(cls, name, hints.get(name), declared)
            if name in cls.__dict__:
                delattr(cls, name)
        for name, value in list(cls.__dict__.items()):
            if isinstance(value, Field):
                raise DeclarationError(
                    f"state field `{name}` has no type. Write `{name}: float = ...` with float, int or bool."
                )
        cls._fields = fields
        cls._zeros = {  # type: ignore[attr-defined]
            name: ZEROS[f.kind] for name, f in fields.items() if f.role == "flow" and f.scalar
        }

    def __init__(self, **values: Any) -> None:
        attributes = self.__dict__
        attributes.update(type(self)._zeros)  # type: ignore[attr-defined]
        attributes.update(values)
        fields = type(self)._fields
        if len(attributes) != len(fields) or attributes.keys() != fields.keys():
            _refuse(type(self), values)

    def replace(self, **changes: Any) -> Self:
        """A copy with some fields changed; a name that is no field is an error."""
        cls = type(self)
        new = object.__new__(cls)
        attributes = new.__dict__
        attributes.update(self.__dict__)
        attributes.update(changes)
        if len(attributes) != len(cls._fields):
            _refuse(cls, changes, complete=False)
        return new

    def __setattr__(self, name: str, value: Any) -> None:
        raise BrokenEnvironment(
            f"a state cannot be changed in place (`{name}` was set to {value!r}). "
            f"Return `state.replace({name}=...)` instead."
        )

    def __eq__(self, other: object) -> bool:
        if type(other) is not type(self):
            return NotImplemented
        return all(np.array_equal(a, other.__dict__[n], equal_nan=True) for n, a in self.__dict__.items())

    __hash__ = None  # type: ignore[assignment]

    def __repr__(self) -> str:
        inside = ", ".join(
            f"{name}={_short(self.__dict__[name])}" for name in type(self)._fields if name in self.__dict__
        )
        return f"{type(self).__qualname__}({inside})"


def _short(value: Any) -> str:
    if isinstance(value, np.ndarray) and value.size > 8:
        return f"<{value.dtype} array {value.shape}>"
    return repr(value.item()) if isinstance(value, np.generic) else repr(value)


def _hints(cls: type) -> Mapping[str, Any]:
    try:
        return get_type_hints(cls, localns=dict(vars(cls)))
    except NameError:
        return inspect.get_annotations(cls)


def _typed(cls: type, name: str, hint: Any, declared: Field) -> Field:
    """The declared field with its kind, or an error that says which types there are."""
    named = {"float": float, "int": int, "bool": bool}
    hint = named.get(hint, hint) if isinstance(hint, str) else hint
    shaped = declared.shape != ()
    if hint in KINDS:
        kind = KINDS[hint]
    elif shaped:  # an annotation such as np.ndarray: the dtype decides
        numpy_kind = np.dtype(declared.dtype or "float32").kind
        kind = "float" if numpy_kind == "f" else "bool" if numpy_kind == "b" else "int"
    else:
        raise DeclarationError(
            f"state field `{name}` of `{cls.__qualname__}` has the type {hint!r}; a number is `float`, `int` or "
            f"`bool`. For an array write `{name}: np.ndarray = jm.field(shape=(3, 3))`."
        )
    dtype = declared.dtype or np.dtype(DTYPES[kind]).name
    shape = (declared.shape,) if isinstance(declared.shape, (int, str)) else tuple(declared.shape)
    low, high = declared.low, declared.high
    if declared.values is not None:
        low, high = 0, declared.values if isinstance(declared.values, str) else declared.values - 1
    elif kind == "bool":
        low, high = 0, 1
    return replace(declared, name=name, kind=kind, dtype=dtype, shape=shape, low=low, high=high)


def _refuse(cls: type[State], values: Mapping[str, Any], complete: bool = True) -> None:
    fields = cls._fields
    for name in values:
        if name not in fields:
            raise BrokenEnvironment(
                f"`{cls.__qualname__}` has no field `{name}`; its fields are {listed(fields)}.{nearest(name, fields)}"
            )
    missing = [n for n, f in fields.items() if n not in values and f.role != "flow"]
    if complete and missing:
        raise BrokenEnvironment(
            f"`{cls.__qualname__}` was made without {listed(missing)}; every field but flows needs a first value."
        )


def zero_of(field: Field) -> Any:
    """The value of a flow before an advance."""
    return ZEROS[field.kind] if field.scalar else np.zeros(field.shape, field.dtype)
