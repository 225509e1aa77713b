"""The base of all settings: frozen, given by name, checked when they are made, with one message about what is wrong."""

from __future__ import annotations

from typing import Any, ClassVar

from pydantic import BaseModel, ConfigDict, ValidationError

from jokulmist.errors import SettingError, listed, nearest


class Settings(BaseModel):
    """Settings of something. A wrong one raises `SettingError`, which says its name, its value, what is allowed, and
    how to fix it."""

    model_config = ConfigDict(frozen=True, extra="forbid")

    # What messages call it; by default the name of the class.
    name_in_messages: ClassVar[str] = ""
    # What to write, where that is shorter than all defaults.
    example: ClassVar[str] = ""

    def __init__(self, **settings: Any) -> None:
        try:
            super().__init__(**settings)
        except ValidationError as failure:
            raise SettingError(explain(type(self), failure)) from None

    @classmethod
    def hint(cls, name: str) -> str:
        """What a setting that there is not may mean, as the end of a message."""
        return nearest(name, cls.model_fields)


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
