"""What a job can be: a verb of a short list, options that a model checks, and a run by its name; never words of a
command line."""

from __future__ import annotations

import json
from collections.abc import Callable
from pathlib import Path
from typing import Annotated, Any, Literal

from pydantic import AfterValidator, BaseModel, ConfigDict, Field, FiniteFloat, ValidationError, model_validator

from jokulmist.errors import SettingError, listed
from jokulmist.records.run_folder import is_name
from jokulmist.settings import Settings
from jokulmist.sources.trust import is_signed, signature

WAITING, WORKING, PAUSED, STOPPED, DONE, FAILED = "waiting", "working", "paused", "stopped", "done", "failed"
DAMAGED = "damaged"
WholeNumber = Annotated[int, Field(strict=True)]
Seconds = Annotated[float, Field(ge=0.0, lt=1e11)]  # since 1970; later ones have no date


class Options(Settings):
    """The options of a verb."""


class Resume(Options):
    """Go on with the run, or begin one that waits."""

    name_in_messages = "resume"

    steps: Annotated[WholeNumber, Field(ge=0, le=10**12)] = 0


class Redo(Options):
    """Train it again from its record."""

    name_in_messages = "redo"


def _run_name(name: str) -> str:
    if not is_name(name):
        raise ValueError("a run is named by its folder's name")
    return name


RunName = Annotated[str, AfterValidator(_run_name)]


class Evaluate(Options):
    """Play episodes without exploration; with partners, of each run with each."""

    name_in_messages = "evaluate"

    episodes: Annotated[WholeNumber, Field(ge=2, le=100_000)] = 100
    seed: Annotated[WholeNumber, Field(ge=0, lt=2**31)] = 0
    partners: Annotated[tuple[RunName, ...], Field(max_length=31)] = ()


class ReportOptions(Options):
    """Write its report."""

    name_in_messages = "report"


class Export(Options):
    """Take its policy out."""

    name_in_messages = "export"

    form: Literal["python", "c", "javascript", "onnx"] = "python"


OPTIONS: dict[str, type[Options]] = {
    "resume": Resume,
    "redo": Redo,
    "evaluate": Evaluate,
    "report": ReportOptions,
    "export": Export,
}


def checked_options(verb: str, value: dict[str, Any]) -> Options:
    """The options of a verb, or `SettingError`."""
    if verb not in OPTIONS:
        raise SettingError(f"a job can {listed(OPTIONS)}; got {verb!r:.40}.")
    return OPTIONS[verb](**value)


class Job(BaseModel):
    """A job as it is in the queue.

    Attributes
    ----------
    id : int
    verb : str
    options : dict
        As the verb's model has them.
    run : str
        The name of the run that it is about.
    status : str
        ``waiting``, ``working``, ``paused``, ``stopped``, ``done`` or ``failed``; ``damaged`` where its row cannot be
        read.
    requested : str
        What a worker is asked to do with it: ``pause``, ``stop``, or nothing.
    host, process, since
        Of the worker: its machine, its process, and when that process began.
    tries : int
        How often a worker took it and was gone.
    added, began, ended : float or None
        Seconds since 1970.
    message : str
        Why it failed.
    signed : str
        By the key of the user who added it, or accepted it.
    """

    model_config = ConfigDict(frozen=True, extra="forbid")

    id: WholeNumber
    verb: str
    options: dict[str, Any]
    run: RunName
    place: FiniteFloat
    status: Literal["waiting", "working", "paused", "stopped", "done", "failed", "damaged"]
    requested: Literal["", "pause", "stop"]
    host: str
    process: Annotated[WholeNumber, Field(ge=0, lt=2**31)]
    since: FiniteFloat
    tries: Annotated[WholeNumber, Field(ge=0)]
    added: Seconds
    began: Seconds | None
    ended: Seconds | None
    message: str
    signed: str

    @model_validator(mode="before")
    @classmethod
    def _from_row(cls, row: Any) -> Any:
        options = row.get("options")
        try:
            return {**row, "options": json.loads(options) if isinstance(options, str) else options}
        except (ValueError, RecursionError):
            raise ValueError("its options are no JSON") from None

    @model_validator(mode="after")
    def _with_whole_options(self) -> Job:
        checked_options(self.verb, self.options)
        return self

    @property
    def is_own(self) -> bool:
        """Whether this user added it, or accepted it."""
        return is_signed(content_of(self.verb, self.options, self.run, self.added), self.signed)

    @property
    def ready(self) -> bool:
        """Whether a worker may take it."""
        return self.status == WAITING and self.is_own

    @property
    def command(self) -> str:
        return " ".join(_words(self.verb, self.options, self.run, str)) if self.status != DAMAGED else ""

    def words(self, folder: Path) -> list[str]:
        """The command that does it, about a run of a folder."""
        return _words(self.verb, self.options, self.run, lambda name: str((folder / name).absolute()))


def _words(verb: str, value: dict[str, Any], run: str, place_of: Callable[[str], str]) -> list[str]:
    options = checked_options(verb, value)
    names = sorted(options.model_fields_set - {"partners"})
    named = [word for name in names for word in (f"--{name}", str(getattr(options, name)))]
    partners = [place_of(name) for name in options.partners] if isinstance(options, Evaluate) else []
    to = ["--to", f"{place_of(run)}/exported-{options.form}"] if isinstance(options, Export) else []
    return [verb, place_of(run), *partners, *named, *to]


def content_of(verb: str, options: dict[str, Any], run: str, added: float) -> str:
    """What of a job is signed: all that says what is done."""
    return json.dumps([verb, options, run, added], sort_keys=True)


def signature_of(verb: str, options: dict[str, Any], run: str, added: float) -> str:
    return signature(content_of(verb, options, run, added))


def job_of(row: dict[str, Any]) -> Job:
    """A job from its row; one that was damaged stands for itself as such."""
    try:
        return Job.model_validate(row)
    except (ValidationError, SettingError, UnicodeError):
        number = row["id"]
        problem = f"it was damaged; drop it: `jokulmist queue drop {number}`"
        nothing: dict[str, Any] = {
            name: "" if kind.annotation is str else None for name, kind in Job.model_fields.items()
        }
        run = row["run"] if isinstance(row["run"], str) and is_name(row["run"]) else ""
        return Job.model_construct(
            **{**nothing, "id": number, "run": run, "status": DAMAGED, "place": 0.0, "added": 0.0, "message": problem}
        )
