"""What a plan learns from instead of stepping its environment: the records that it names, as they were when the run
began."""

from __future__ import annotations

import hashlib
from functools import lru_cache
from pathlib import Path
from typing import Any

from jokulmist.environments.environment import Environment
from jokulmist.errors import JokulmistError, LookupFailed, RecordError
from jokulmist.loops.records import Records, joined
from jokulmist.loops.records_loop import refuse_untaught
from jokulmist.plain_files import plain_file
from jokulmist.plans.plan import Plan
from jokulmist.records.files import path_of

PIECE = 1 << 20


def records_of(plan: Plan) -> Records | None:
    """What a plan learns from; None where it steps its environment."""
    names = plan.training.records
    if names is None:
        return None
    refuse_untaught(plan.agent)
    paths = [path_of(name, "`records`") for name in names]
    for path in paths:
        if not path.exists():
            raise LookupFailed(
                f"`records` names {path}, which is not there. Name files of rollouts, folders of them, or tables."
            )
    stamps = tuple((str(p), file.stat().st_mtime_ns, file.stat().st_size) for p in paths for file in _files(p))
    columns = tuple(sorted((plan.training.columns or {}).items()))
    return _read(_RecordsKey(plan.environment, repr(plan.written()["environment"])), tuple(paths), columns, stamps)


class _RecordsKey:
    """An environment, the same as another with the same settings."""

    def __init__(self, environment: Environment, settings: str) -> None:
        self.environment, self._key = environment, (type(environment), settings)

    def __hash__(self) -> int:
        return hash(self._key)

    def __eq__(self, other: object) -> bool:
        return isinstance(other, _RecordsKey) and other._key == self._key


@lru_cache(maxsize=1)  # whether they fit is asked before a folder is made, and each seed learns from the same
def _read(key: _RecordsKey, paths: tuple[Path, ...], columns: tuple[tuple[str, str], ...], stamps: Any) -> Records:
    tables = []
    for path in paths:
        try:
            tables.append(Records.read(path, key.environment, dict(columns)))
        except JokulmistError as wrong:
            reason = str(wrong)
            raise type(wrong)(reason if str(path) in reason else f"{path}: {reason}") from None
    return joined(tables)


def _files(path: Path) -> list[Path]:
    return sorted(path.glob("*.parquet")) if path.is_dir() else [path]


def told_of(plan: Plan) -> list[dict[str, Any]]:
    """What a run keeps of its records: where each file is, its size and SHA-256."""
    entries = []
    for name in plan.training.records or ():
        for file in _files(Path(name)):
            digest = hashlib.sha256()
            try:
                with plain_file(file).open("rb") as stream:
                    while piece := stream.read(PIECE):
                        digest.update(piece)
            except OSError as failure:
                raise RecordError(f"{file} cannot be read: {failure.strerror}.") from None
            entries.append({"file": str(file), "bytes": file.stat().st_size, "sha256": digest.hexdigest()})
    return entries


def summary_of(records: Records) -> dict[str, Any]:
    """How much was recorded, and the mean return of its episodes."""
    returns = records.returns
    return {"decisions": len(records), "episodes": len(returns), "mean_return": float(f"{returns.mean():.7g}")}


def refuse_changed(before: Any, entries: list[dict[str, Any]], run: Path) -> None:
    """Raise `RecordError` where records are not those that a run began with."""
    then = {entry["file"]: entry["sha256"] for entry in before or []}
    for entry in entries:
        if then.get(entry["file"]) != entry["sha256"]:
            raise RecordError(
                f"{entry['file']} is not what {run.name} learned from: it has changed since. Put the old file back, or "
                "begin a new run."
            )
