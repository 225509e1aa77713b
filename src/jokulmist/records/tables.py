"""Tables of a record as CSV: rows are appended in whole lines, and one parser reads them.

A table is read whole into a data frame, which says what is damaged; some columns of it as arrays; a large one in
pieces; or its last rows alone. A last line that is torn is left out by all four.
"""

from __future__ import annotations

import contextlib
import fcntl
import io
import math
import os
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any, BinaryIO

import numpy as np

from jokulmist.arrays import NumpyArray
from jokulmist.errors import RecordError, RunNotice, listed, warn
from jokulmist.plain_files import plain_file

if TYPE_CHECKING:
    import pandas as pd

TEXTS = ("closed_by", "also_held", "act", "policy")
WHOLE_NUMBERS = ("episode", "decisions", "copy", "steps", "advances", "episodes", "learned", "seed", "partner", "seat")
TORN_BLOCK, TAIL_BYTES, PIECE_BYTES = 65_536, 32_768, 1 << 22
DAMAGED = "It was damaged, or written by hand."
Columns = dict[str, NumpyArray]


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


def read_frame(path: Path, needed: Sequence[str] = ()) -> pd.DataFrame:
    """A table as a data frame, which is empty where there is no file; rows that hold something else than numbers are
    left out, with a notice."""
    import pandas as pd

    data = _whole_lines(path)
    if not data:
        return pd.DataFrame()
    names = column_names(data)
    missing = [name for name in needed if name not in names]
    if missing or len(set(names)) < len(names):
        reason = f"it has no column {listed(missing)}" if missing else "two of its columns have one name"
        raise RecordError(f"cannot read {path}: {reason}. {DAMAGED}")
    ragged: list[Any] = []
    with _damage_told(path):
        try:
            table = _parsed(data, names)
        except ValueError:  # a value is no number, or a row is too long or too short
            table = _parsed(data, names, ragged, as_text=True)
    return _numbers_only(table.to_pandas(), path, needed, ragged)


def read_columns(path: Path, names: Iterable[str], codes: Mapping[str, Sequence[str]] | None = None) -> Columns:
    """Those of some columns that a table has, as arrays, none where there is no file; a text as its place among those
    of `codes`, or -1."""
    data = _whole_lines(path)
    present = set(column_names(data))
    with _damage_told(path):
        return _arrays(_parsed(data, [name for name in names if name in present]), codes or {})


def read_pieces(path: Path, names: Sequence[str], codes: Mapping[str, Sequence[str]]) -> Iterator[Columns]:
    """Some columns of a large table, some rows at a time."""
    from pyarrow import csv

    with _damage_told(path), csv.open_csv(plain_file(path), *_options(names, ragged=[])) as batches:
        for batch in batches:
            yield _arrays(batch, codes)


def read_last(path: Path, is_asked: Callable[[str], bool], least: int) -> Columns:
    """Some columns of at least so many of the last rows, or of all that there are; none where there is no file."""
    try:
        stream = plain_file(path).open("rb")
    except FileNotFoundError:
        return {}
    with stream:
        head = stream.readline()
        first, end = stream.tell(), stream.seek(0, os.SEEK_END)
        begin, size, data = end, TAIL_BYTES, b""
        while begin > first and data.count(b"\n") <= least:
            begin, size = max(end - size, first), 4 * size
            stream.seek(begin)
            data = stream.read(end - begin)
    data = data[0 if begin == first else data.find(b"\n") + 1 : data.rfind(b"\n") + 1]
    names = [name for name in column_names(head) if is_asked(name)] if data else []
    with _damage_told(path):
        return _arrays(_parsed(head + data, names, ragged=[]), {})


def _whole_lines(path: Path) -> bytes:
    plain_file(path)
    try:
        data = path.read_bytes()
    except FileNotFoundError:
        return b""
    except OSError as failure:
        raise RecordError(f"cannot read {path}: {failure.strerror}.") from None
    return data[: data.rfind(b"\n") + 1]


def column_names(data: bytes) -> list[str]:
    """The names in the first line."""
    return data.partition(b"\n")[0].decode(errors="replace").strip().split(",")


@contextlib.contextmanager
def _damage_told(path: Path) -> Iterator[None]:
    try:
        yield
    except (ValueError, KeyError) as failure:
        raise RecordError(f"cannot read {path}: {str(failure).splitlines()[0].rstrip('.')}. {DAMAGED}") from None


def _parsed(data: bytes, names: Sequence[str], ragged: list[Any] | None = None, as_text: bool = False) -> Any:
    """Some columns as Arrow has them; the numbers of rows with more or fewer values than there are columns go to
    `ragged`, without which they are an error."""
    import pyarrow as pa
    from pyarrow import csv

    if not data or not names:  # Arrow would take no names for all
        return pa.table({})
    return csv.read_csv(pa.py_buffer(data), *_options(names, ragged, as_text))


def _options(names: Sequence[str], ragged: list[Any] | None = None, as_text: bool = False) -> tuple[Any, Any, Any]:
    import pyarrow as pa
    from pyarrow import csv

    def handle(row: Any) -> str:
        if ragged is None:
            return "error"
        ragged.append(row.number)
        return "skip"

    kinds = {name: pa.string() if as_text or name in TEXTS else _kind(name) for name in names}
    return (
        csv.ReadOptions(use_threads=not as_text, block_size=PIECE_BYTES),  # one thread numbers the rows
        csv.ParseOptions(invalid_row_handler=handle),
        csv.ConvertOptions(include_columns=list(names), column_types=kinds),
    )


def _kind(name: str) -> Any:
    import pyarrow as pa

    return pa.int64() if name.rpartition(".")[2] in WHOLE_NUMBERS else pa.float64()


def _arrays(table: Any, codes: Mapping[str, Sequence[str]]) -> Columns:
    """The columns of a table or a batch of Arrow."""
    return {
        name: _codes(_one_piece(column), codes[name]) if name in TEXTS else _numbers(_one_piece(column))
        for name, column in zip(table.schema.names, table.columns, strict=True)
    }


def _one_piece(column: Any) -> Any:
    return column.combine_chunks() if hasattr(column, "combine_chunks") else column


def _codes(texts: Any, names: Sequence[str]) -> NumpyArray:
    coded = texts.dictionary_encode()
    places = {name: k for k, name in enumerate(names)}
    codes = np.array([places.get(text, -1) for text in coded.dictionary.to_pylist()], np.int64)
    return codes[_numbers(coded.indices)]


def _numbers(column: Any) -> NumpyArray:
    """A column from its buffer, since Arrow's own conversion would load pandas; not a number where one is missing."""
    import pyarrow as pa

    if column.null_count:
        column = column.cast(pa.float64()).fill_null(math.nan)
    return np.frombuffer(column.buffers()[1], column.type.to_pandas_dtype())[column.offset :][: len(column)]


def _numbers_only(frame: pd.DataFrame, path: Path, needed: Sequence[str], ragged: Sequence[Any]) -> pd.DataFrame:
    """The rows whose numbers are numbers; `ragged` are those that are left out already."""
    import pandas as pd

    is_good = np.ones(len(frame), bool)
    for name in frame.columns:
        column = frame[name]
        if name in TEXTS:
            continue
        if column.dtype.kind not in "iuf":
            numbers = pd.to_numeric(column.astype(object), errors="coerce").astype(float)
            is_good &= ~(numbers.isna() & ~column.isin(("", "nan"))).to_numpy()
            frame[name] = numbers
        if name in needed:
            is_good &= np.isfinite(frame[name].to_numpy(float))
    bad = np.flatnonzero(~is_good)
    if len(bad) or ragged:
        lines = [*(bad[:1] + 2), *ragged]
        warn(
            f"{path}: {len(bad) + len(ragged)} rows hold something else than numbers, the first in line "
            f"{min(lines)}; they are left out",
            RunNotice,
        )
        frame = frame[is_good].reset_index(drop=True)
    for name in frame.columns:
        if frame[name].dtype.kind == "f" and name.rpartition(".")[2] in WHOLE_NUMBERS and _is_whole(frame[name]):
            frame[name] = frame[name].astype(np.int64)
    return frame


def _is_whole(column: Any) -> bool:
    values = column.to_numpy(float)
    return bool((np.isfinite(values) & (np.abs(values) < 2**53) & (values == np.floor(values))).all())
