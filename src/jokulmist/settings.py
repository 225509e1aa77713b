"""The base of all settings: frozen, given by name, checked when they are made, with one message about what is wrong."""

from __future__ import annotations

import inspect
import re
from inspect import Parameter, Signature
from typing import TYPE_CHECKING, Any, ClassVar, NamedTuple

from pydantic import BaseModel, ConfigDict, PydanticUserError, ValidationError

from jokulmist.errors import DeclarationError, SettingError, listed, nearest

if TYPE_CHECKING:  # by it a type checker knows the settings of a class
    from pydantic._internal._model_construction import ModelMetaclass as SettingsType
else:

    class SettingsType(type(BaseModel)):
        def __new__(mcs, name: str, bases: tuple[type, ...], namespace: dict[str, Any], **more: Any) -> Any:
            try:
                return super().__new__(mcs, name, bases, namespace, **more)
            except PydanticUserError as failure:
                setting = re.search(r"`(\w+) = (.*?)`", str(failure))
                if setting is None or failure.code != "model-field-missing-annotation":
                    raise
                named, value = setting.groups()
                kind = type(namespace.get(named)).__name__
                raise DeclarationError(
                    f"`{name}` has a setting without a type, `{named} = {value}`. Write `{named}: {kind} = {value}`, "
                    f"or `{named}: ClassVar[{kind}] = {value}` where it is no setting."
                ) from None

        # Whoever asks for help waits for what it is made of, and not every start.
        @property
        def __signature__(cls) -> Signature:
            return signature_of(cls)

        @__signature__.setter
        def __signature__(cls, value: Any) -> None:
            """The one that pydantic makes once a class is built is not kept."""

        @property
        def __doc__(cls) -> str | None:
            return with_inherited_settings(cls) if vars(cls).get("__doc__") else None


class Settings(BaseModel, metaclass=SettingsType):
    """Settings of something. A wrong one raises `SettingError`, which says its name, its value, what is allowed, and
    how to fix it."""

    model_config = ConfigDict(frozen=True, extra="forbid")

    # What messages call it; by default the name of the class.
    name_in_messages: ClassVar[str] = ""
    # What to write, where that is shorter than all defaults.
    example: ClassVar[str] = ""

    if not TYPE_CHECKING:  # a type checker makes one from the fields

        def __init__(self, **settings: Any) -> None:
            try:
                super().__init__(**settings)
            except ValidationError as failure:
                raise SettingError(explain(type(self), failure)) from None

    @classmethod
    def hint(cls, name: str) -> str:
        """What a setting that there is not may mean, as the end of a message."""
        return nearest(name, cls.model_fields)


def signature_of(kind: type[Settings]) -> Signature:
    """What a class is called with: the parameters of its `__init__`, and its fields by name, with their defaults; the
    docstring has their types."""
    parameters = list(inspect.signature(kind.__init__).parameters.values())[1:]
    first = [p for p in parameters if p.kind is not Parameter.VAR_KEYWORD]
    if len(first) == len(parameters):
        return Signature(first)
    fields = [
        Parameter(name, Parameter.KEYWORD_ONLY, default=Parameter.empty if field.is_required() else field.get_default())
        for name, field in kind.model_fields.items()
        if name not in {p.name for p in first}
    ]
    return Signature([*first, *fields])


SECTION = re.compile(r"^Parameters\n-+\n(.*?)(?=^\w[\w ]*\n-+\n|\Z)", re.S | re.M)
# A line that begins at the margin, and all that belongs to it.
ENTRY = re.compile(r"^(\S.*)\n((?:[ ]+.*\n|\n(?=[ ]))*)", re.M)


class Described(NamedTuple):
    """What a docstring says of a setting: what it may be, and what it means."""

    allowed: str
    meaning: str


def _entries(doc: str) -> dict[str, str]:
    """The entries of a docstring's section of parameters, by their first lines."""
    section = SECTION.search(doc)
    entries: list[tuple[str, str]] = ENTRY.findall(section.group(1).rstrip() + "\n") if section else []
    return {head: f"{head}\n{text}" for head, text in entries}


def described_settings(kind: type[Settings]) -> dict[str, Described]:
    """What the docstring of a class says of each setting."""
    settings: dict[str, Described] = {}
    for head, entry in _entries(inspect.cleandoc(kind.__doc__ or "")).items():
        names, _, allowed = head.partition(" : ")
        meaning = " ".join(line.strip() for line in entry.splitlines()[1:])
        settings.update({name.strip("*"): Described(allowed, meaning) for name in names.split(", ")})
    return settings


def with_inherited_settings(kind: type[Settings]) -> str:
    """The docstring of a class, in which the settings that it inherits are described as its bases do: in the place of
    an entry that only names them, and after all others."""
    doc = inspect.cleandoc(vars(kind)["__doc__"])
    inherited: dict[str, str] = {}
    for base in kind.__mro__[1:]:
        for head, entry in _entries(inspect.cleandoc(vars(base).get("__doc__") or "")).items():
            owners, colon, _ = head.partition(" : ")
            if colon:
                inherited = {**dict.fromkeys(owners.split(", "), entry), **inherited}
    blocks: list[str] = []
    for head, entry in _entries(doc).items():
        names = [name.strip() for name in head.split(",")]
        blocks += [inherited[name] for name in names] if all(name in inherited for name in names) else [entry]
    names_described = (
        " ".join(block.partition("\n")[0].partition(" : ")[0] for block in blocks).replace(",", " ").split()
    )
    blocks += [inherited[name] for name in kind.model_fields if name in inherited and name not in names_described]
    if not blocks:
        return doc
    text = f"Parameters\n----------\n{''.join(dict.fromkeys(blocks))}\n"
    if SECTION.search(doc):
        return SECTION.sub(lambda _: text, doc, count=1)
    place = re.search(r"^(?:Notes|Examples)\n-+\n", doc, re.M)
    return doc[: place.start()] + text + doc[place.start() :] if place else f"{doc.rstrip()}\n\n{text}"


def explain(kind: type[Settings], failure: ValidationError) -> str:
    """A failed check of settings as one message."""
    first = failure.errors()[0]
    owner = kind.name_in_messages or kind.__name__
    path = [str(part) for part in first["loc"]]
    name = path[0] if path else owner
    fields = kind.model_fields
    if first["type"] == "extra_forbidden":
        return f"`{owner}` has no setting `{name}`; its settings are {listed(fields)}.{kind.hint(name)}"
    if first["type"] == "missing":
        return f"`{owner}` needs `{name}`."
    message = first["msg"].removeprefix("Value error, ").replace("Input should", "must")
    if message.startswith("`"):  # of settings within these, which say it themselves
        return message
    message = message.rstrip(".")
    got = "" if "; got " in message else f"; got {first['input']!r:.80}"
    if kind.example:
        fix = f" Write for instance `{kind.example}`."
    elif name in fields and not fields[name].is_required() and fields[name].default is not None:
        fix = f" Its default is {fields[name].default!r}."
    else:
        fix = ""
    return f"`{'.'.join(path) or owner}` of `{owner}`: {message[0].lower()}{message[1:]}{got}.{fix}"
