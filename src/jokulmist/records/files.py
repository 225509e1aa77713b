"""Writing files so that a reader never meets half of one, and reading CSV with a torn last line."""

from __future__ import annotations

import contextlib
import fcntl
import io
import json
import os
import tomllib
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any, BinaryIO

import numpy as np
import tomli_w

from jokulmist.errors import RecordError, RunNotice, SettingError, listed, warn
from jokulmist.plain_files import MOST_TEXT_BYTES, plain_file, refuse_links

if TYPE_CHECKING:
    import pandas as pd


TORN_BLOCK = 65_536


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


def csv_lines(columns: dict[str, Any], header: bool) -> bytes:
    """Columns as CSV, floats in the fewest digits that give them back."""
    import pyarrow as pa
    from pyarrow import csv

    table = pa.table({name: _arrow(values) for name, values in columns.items()})
    sink = io.BytesIO()
    if header:  # names of parts are identifiers, so nothing needs quoting
        sink.write((",".join(columns) + "\n").encode())
    csv.write_csv(table, sink, csv.WriteOptions(include_header=False, quoting_style="none"))
    return sink.getvalue()


def _arrow(values: Any) -> Any:
    """A column for Arrow, from its buffers: Arrow's own conversion would load pandas, which takes half a second."""
    import pyarrow as pa

    array = np.asarray(values)
    count = len(array)
    if array.dtype.kind in "OUS":
        encoded = [str(value).encode() for value in array.tolist()]
        offsets = np.concatenate([[0], np.cumsum([len(text) for text in encoded])]).astype(np.int32)
        return pa.Array.from_buffers(
            pa.string(), count, [None, pa.py_buffer(offsets.tobytes()), pa.py_buffer(b"".join(encoded))]
        )
    kinds = {"f4": pa.float32(), "f8": pa.float64(), "i8": pa.int64()}
    if array.dtype.str[1:] not in kinds:
        array = array.astype(np.float64 if array.dtype.kind == "f" else np.int64)
    return pa.Array.from_buffers(kinds[array.dtype.str[1:]], count, [None, pa.py_buffer(array.tobytes())])


def append_rows(path: Path, columns: dict[str, Any]) -> None:
    """Append rows to a CSV in whole lines; the header is written with the first rows, from their columns.

    A last line that is torn, by a kill or a full disk, is cut away first. Several processes may append to one file: a
    person evaluates a run while it trains.
    """
    rows = csv_lines(columns, header=False)
    plain_file(path)
    try:
        with path.open("a+b") as stream:
            with contextlib.suppress(OSError):  # a file system without locks
                fcntl.flock(stream, fcntl.LOCK_EX)
            size = stream.seek(0, os.SEEK_END)
            intact_size = size - _torn(stream, size)
            if intact_size < size:
                stream.truncate(intact_size)
            head = (",".join(columns) + "\n").encode() if intact_size == 0 else b""
            stream.write(head + rows)
    except OSError as failure:
        raise RecordError(f"cannot write {path}: {failure.strerror}. What was recorded so far is kept.") from None


def _torn(stream: BinaryIO, size: int) -> int:
    """Bytes of a last line that has no end."""
    back = 0
    while back < size:
        step = min(TORN_BLOCK, size - back)
        stream.seek(size - back - step)
        end = stream.read(step).rfind(b"\n")
        if end >= 0:
            return back + step - end - 1
        back += step
    return size


TEXTS = ("closed_by", "also_held", "act", "policy")
WHOLE_COLUMNS = ("episode", "decisions", "copy", "steps", "episodes", "learned", "seed")


def read_csv(path: Path, needed: Sequence[str] = ()) -> pd.DataFrame:
    """A CSV as a data frame; a torn last line is left out, an absent file is an empty frame."""
    import pandas as pd

    plain_file(path)
    try:
        data = path.read_bytes()
    except FileNotFoundError:
        return pd.DataFrame()
    except OSError as failure:
        raise RecordError(f"cannot read {path}: {failure.strerror}.") from None
    intact = data[: data.rfind(b"\n") + 1]
    if not intact:
        return pd.DataFrame()
    # These hold text that may be empty: empty, not missing.
    texts = dict.fromkeys(TEXTS, str)
    try:
        frame = pd.read_csv(io.BytesIO(intact), converters=texts, low_memory=False, index_col=False)
    except ValueError as failure:
        raise RecordError(
            f"cannot read {path}: {str(failure).splitlines()[0]}. It was damaged, or written by hand."
        ) from None
    missing = [name for name in needed if name not in frame]
    if missing:
        raise RecordError(
            f"cannot read {path}: it has no column {listed(missing)}. It was damaged, or written by hand."
        )
    return _numbers_only(frame, path, needed)


def _numbers_only(frame: pd.DataFrame, path: Path, needed: Sequence[str]) -> pd.DataFrame:
    """The rows whose numbers are numbers."""
    import pandas as pd

    good = np.ones(len(frame), bool)
    for name in frame.columns:
        column = frame[name]
        if name in TEXTS:
            continue
        if column.dtype.kind not in "biuf":
            numbers = pd.to_numeric(column.astype(object), errors="coerce").astype(float)
            good &= ~(numbers.isna() & column.notna()).to_numpy()
            frame[name] = numbers
        if name in needed:
            good &= np.isfinite(frame[name].to_numpy(float))
    if not good.all():
        line = int(np.flatnonzero(~good)[0]) + 2
        warn(
            f"{path}: {int((~good).sum())} rows hold something else than numbers, the first in line {line}; they are "
            "left out",
            RunNotice,
        )
        frame = frame[good].reset_index(drop=True)
    for name in WHOLE_COLUMNS:
        if (
            name in frame
            and frame[name].dtype.kind == "f"
            and np.isfinite(frame[name]).all()
            and (frame[name].abs() < 2**53).all()
        ):
            frame[name] = frame[name].astype(np.int64)
    return frame
