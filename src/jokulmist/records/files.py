"""Writing files so that a reader never meets half of one, and reading what they hold."""

from __future__ import annotations

import json
import os
import tomllib
from collections.abc import Mapping
from pathlib import Path
from typing import Any

import tomli_w

from jokulmist.errors import RecordError, SettingError
from jokulmist.plain_files import MOST_TEXT_BYTES, plain_file, refuse_links


def path_of(value: Any, purpose: str) -> Path:
    """What was given as a path, or `SettingError`."""
    try:
        path = Path(value)
        if "\0" in str(path):
            raise TypeError
        path.exists()  # a name may be too long to ask for
    except TypeError:
        raise SettingError(f"{purpose} is a path; got {value!r:.80}.") from None
    except OSError as failure:
        raise SettingError(
            f"{purpose} is a path, and the system refuses {str(value)!r:.80}: {failure.strerror}."
        ) from None
    return path


def replace_file(path: Path, content: bytes | str) -> None:
    """Write to a temporary name beside the file, then rename: a reader sees the old content or the new."""
    temporary = path.with_name(f".{path.name}.{os.getpid()}.part")
    data = content.encode() if isinstance(content, str) else content
    refuse_links(path.parent)
    try:
        temporary.unlink(missing_ok=True)
        with temporary.open("xb") as stream:  # never through a link
            stream.write(data)
        temporary.replace(path)
    except OSError as failure:
        temporary.unlink(missing_ok=True)
        raise RecordError(f"cannot write {path}: {failure.strerror}. Choose a folder that you may write to.") from None


def synced(path: Path) -> None:
    """Have a file's content on the disk, not only on its way."""
    descriptor = os.open(path, os.O_RDONLY)
    try:
        os.fsync(descriptor)
    finally:
        os.close(descriptor)


def shortened(path: Path, size: int) -> None:
    """Cut a file to a size that it had; one that had none goes."""
    refuse_links(path)
    try:
        if size == 0:
            path.unlink(missing_ok=True)
        elif path.stat().st_size > size:
            os.truncate(path, size)
    except OSError as failure:
        raise RecordError(f"cannot cut {path} back to {size} bytes: {failure.strerror}.") from None


def size_of(path: Path) -> int:
    """Its bytes; 0 where there is no file."""
    return path.stat().st_size if path.exists() else 0


def write_json(path: Path, content: Any) -> None:
    replace_file(path, json.dumps(content, indent=2, ensure_ascii=False) + "\n")


def read_json(path: Path) -> Any:
    plain_file(path, MOST_TEXT_BYTES)
    try:
        text = path.read_text(encoding="utf-8")
        content = json.loads(text)
        if "\\ud" in text.lower():  # half of a surrogate pair is no text
            json.dumps(content, ensure_ascii=False).encode()
        return content
    except (OSError, ValueError) as failure:
        raise RecordError(f"cannot read {path}: {failure}.") from None
    except RecursionError:
        raise RecordError(f"cannot read {path}: it is nested too deeply.") from None


def write_toml(path: Path, content: dict[str, Any]) -> None:
    replace_file(path, tomli_w.dumps(content))


def read_toml(path: Path) -> dict[str, Any]:
    """A TOML file; an error names the file, the line and what was expected there."""
    plain_file(path, MOST_TEXT_BYTES)
    try:
        text = path.read_text(encoding="utf-8")
    except FileNotFoundError:
        raise SettingError(
            f"there is no plan {path}. Check the path, or write one as in `jokulmist train --help`."
        ) from None
    except (OSError, UnicodeDecodeError) as failure:
        raise SettingError(f"cannot read the plan {path}: {failure}.") from None
    try:
        return tomllib.loads(text)
    except ValueError as failure:
        raise SettingError(f"{path} is not valid TOML: {failure}. Fix that line and start again.") from None
    except RecursionError:
        raise SettingError(f"{path} is nested too deeply. Fix it and start again.") from None


def as_lists(value: Any) -> Any:
    """A tree of settings as TOML and JSON hold it: tuples are lists."""
    if isinstance(value, Mapping):
        return {name: as_lists(part) for name, part in value.items()}
    return [as_lists(part) for part in value] if isinstance(value, (tuple, list)) else value
