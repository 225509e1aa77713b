"""What a user writes to a run afterwards: a note, tags, another name; and the bin, which is emptied by hand."""

from __future__ import annotations

import time
from pathlib import Path
from typing import Annotated, Any

from pydantic import Field

from jokulmist.errors import RecordError, SettingError
from jokulmist.records.files import read_json, write_json
from jokulmist.records.lock import holder
from jokulmist.records.run_folder import is_name
from jokulmist.settings import Settings
from jokulmist.work.jobs import DONE, FAILED, STOPPED
from jokulmist.work.queue import Queue

LABELS, BIN = "labels.json", ".bin"
OVER = (DONE, FAILED, STOPPED)


class Labels(Settings):
    """The note and the tags of a run."""

    name_in_messages = "labels"

    note: Annotated[str, Field(max_length=2_000)] = ""
    tags: Annotated[tuple[Annotated[str, Field(min_length=1, max_length=40)], ...], Field(max_length=20)] = ()


def labels_of(run: Path) -> Labels:
    """The labels of a run's folder; none where there is no file, or one that cannot be read."""
    if not (run / LABELS).exists():
        return Labels()
    try:
        return Labels(**read_json(run / LABELS))
    except (RecordError, SettingError, TypeError):
        return Labels()


def write_labels(run: Path, content: dict[str, Any]) -> Labels:
    """Write a note and tags into a run's folder."""
    labels = Labels(**content)
    write_json(run / LABELS, labels.model_dump(mode="json"))
    return labels


def rename(run: Path, name: Any, queue: Queue) -> Path:
    """Give a run another name. Its records stay as they are."""
    if not isinstance(name, str) or not is_name(name) or name.startswith("."):
        raise SettingError(f"the name of a run is that of one folder, e.g. `calm-1`; got {name!r:.80}.")
    target = run.with_name(name)
    if target.exists():
        raise SettingError(f"there is {name} already; choose another name.")
    _refuse_busy(run, queue)
    return run.rename(target)


def move_to_bin(run: Path, queue: Queue) -> Path:
    """Move a run into the folder `.bin` beside it; nothing empties that but you."""
    _refuse_busy(run, queue)
    place = run.parent / BIN
    place.mkdir(exist_ok=True)
    return run.rename(place / f"{run.name}-{time.strftime('%Y%m%d-%H%M%S')}-{time.time_ns() % 1_000_000_000:09d}")


def _refuse_busy(run: Path, queue: Queue) -> None:
    if holder(run):
        raise SettingError(f"{run.name} is being trained; stop it first.")
    jobs = [job.id for job in queue.jobs() if job.run == run.name and job.status not in OVER]
    if jobs:
        raise SettingError(f"job {jobs[0]} is about {run.name}; drop the job first.")
