"""Files of a record, which may come from elsewhere: read only where they are what they look like."""

from __future__ import annotations

import stat
from pathlib import Path

from jokulmist.errors import RecordError

# What a run's folder, and a search's, has and no other.
RECORDS = ("origin.json", "search.json")
LEVELS = 6
MOST_BYTES = 4 << 30
MOST_TEXT_BYTES = 64 << 20
HOLES, SPARSE = 1 << 26, 64


def plain_file(path: Path, most: int = MOST_BYTES) -> Path:
    """The same path, if a regular file stands there that can be read whole; one that is absent is for the caller to
    miss."""
    try:
        status = path.stat()
    except OSError:
        status = None
    refuse_links(path)
    if status is None:
        return path
    if not stat.S_ISREG(status.st_mode):
        raise RecordError(f"cannot read {path}: it is no regular file.")
    holes = status.st_size > HOLES and status.st_blocks * 512 * SPARSE < status.st_size
    if status.st_size > most or holes:
        raise RecordError(
            f"cannot read {path}: it has {status.st_size:,} "
            f"bytes{', nearly all of them holes' if holes else f'; at most {most:,} are read'}."
        )
    return path


def refuse_links(path: Path) -> None:
    """Raise `RecordError` where a path inside of a run's or a search's folder is a link, or goes through one."""
    folders = list(path.parents)[:LEVELS]
    inside = [k for k, folder in enumerate(folders) if any((folder / name).is_file() for name in RECORDS)]
    for part in (path, *folders[: inside[-1]]) if inside else ():
        if part.is_symlink():
            raise RecordError(f"{part} is a link, which may lead out of the record. Put there what it leads to.")
