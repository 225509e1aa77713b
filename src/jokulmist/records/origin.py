"""What origin.json of a run holds: who trained it, when, with what, and how it ended."""

from __future__ import annotations

import datetime
from functools import cache
from pathlib import Path
from typing import Annotated, Any

from pydantic import AfterValidator, ConfigDict, Field, TypeAdapter, ValidationError, with_config
from typing_extensions import TypedDict  # Python 3.11: pydantic needs this one

from jokulmist.errors import RecordError
from jokulmist.records.files import read_json

ORIGIN = "origin.json"


def _time(text: str) -> str:
    if datetime.datetime.fromisoformat(text).tzinfo is None:
        raise ValueError("a time needs its zone")
    return text


# Whole numbers that arrays and other programs can hold.
WholeNumber = Annotated[int, Field(ge=-(2**63), lt=2**63)]
Time = Annotated[str, AfterValidator(_time)]


class Uses(TypedDict):
    """The names of what a run trains."""

    environment: str
    agent: str


class CodeEntry(TypedDict, total=False):
    """The code that a run keeps."""

    fingerprint: str
    versions: dict[str, str]
    packages: dict[str, str]


class Level(TypedDict):
    """Where a curriculum came to."""

    parameter: str
    value: float


class Required(TypedDict):
    """What no record is without."""

    status: str
    seed: WholeNumber
    began: Time


@with_config(ConfigDict(strict=True, extra="allow", allow_inf_nan=False))
class Origin(Required, total=False):
    """All entries that the library reads; others are left as they are."""

    updated: Time | None
    command: list[str] | None
    versions: dict[str, str] | None
    code: CodeEntry | None
    uses: Uses | None
    host: str | None
    process: WholeNumber | None
    decisions: WholeNumber | None
    episodes: WholeNumber | None
    seconds: float | None
    return_last_100: float | None
    return_of: str | None
    lane: str | None
    planned: dict[str, WholeNumber | None] | None
    resumed: list[dict[str, Any]] | None
    parent: dict[str, Any] | None
    level: Level | None
    ended_by: str | None
    failure: str | None
    again: str | None
    records: list[dict[str, Any]] | None
    recorded: dict[str, Any] | None
    more_steps: WholeNumber | None
    more_episodes: WholeNumber | None


@cache
def _adapter() -> TypeAdapter[Any]:
    return TypeAdapter(Origin)


def checked_origin(path: Path) -> dict[str, Any]:
    """What origin.json of a run's folder holds; `RecordError` where it cannot be read, or an entry is of another
    kind."""
    origin = read_json(path / ORIGIN)
    if not isinstance(origin, dict):
        raise RecordError(f"{path / ORIGIN} holds {type(origin).__name__}, and no record of a run. It was damaged.")
    try:
        _adapter().validate_python(origin)
    except (ValidationError, RecursionError) as failure:
        place = failure.errors()[0]["loc"] if isinstance(failure, ValidationError) else ("?",)
        name = ".".join(map(str, place))
        raise RecordError(
            f"{path / ORIGIN}: `{name}` is {origin.get(str(place[0]))!s:.80}, which no run writes. It was damaged."
        ) from None
    return origin
