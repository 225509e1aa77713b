"""A folder of runs as rows, quickly: from origin.json, which says of a run that is over all that a row needs.

Of a run that is not, the end of episodes.csv tells how far it is; plan.toml is read only where a setting is asked for.
"""

from __future__ import annotations

import json
import math
import platform
from collections.abc import Mapping, Sequence
from datetime import datetime
from pathlib import Path
from typing import Any

import numpy as np

from jokulmist.arrays import NumpyArray
from jokulmist.environments.spaces.player_actions import owner_of
from jokulmist.errors import RecordError, SettingError, listed, nearest
from jokulmist.records import run_folder as files
from jokulmist.records.episodes import is_return, telling_return
from jokulmist.records.files import read_toml
from jokulmist.records.lock import holder
from jokulmist.records.origin import ORIGIN, checked_origin
from jokulmist.records.tables import Columns, read_last

LAST, DAMAGED = 100, "damaged"
SORTS = ("began", "run", "environment", "agent", "seed", "status", "decisions", "episodes", f"return_last_{LAST}")
Row = dict[str, Any]


def rows_in(folder: Path) -> tuple[list[Row], list[str]]:
    """A row a run below a folder, in the order in which they began, and a word on each that is damaged."""
    rows, words = [], []
    paths = [path.parent for path in folder.glob(f"*/{ORIGIN}")] if folder.exists() else []
    for path in paths:
        try:
            rows.append(row_of(path, checked_origin(path)))
        except Exception as torn:  # whatever somebody wrote there: it stops no other row
            words.append(f"{path} is damaged: {torn!s:.300}")
            rows.append(damaged_row(path.name))
    return sorted(rows, key=lambda row: (str(row["began"]), row["run"])), words


def readable(row: Row) -> Row:
    """A row with the time at which the run began as a person reads it."""
    return {**row, "began": row["began"][:16].replace("T", " ")}


def damaged_row(name: str) -> Row:
    """What stands for a run whose record cannot be read."""
    return {
        "run": name,
        "environment": "?",
        "agent": "?",
        "seed": 0,
        "status": DAMAGED,
        "decisions": 0,
        "episodes": 0,
        f"return_last_{LAST}": math.nan,
        "return_of": "",
        "began": "",
    }


def row_of(path: Path, origin: Mapping[str, Any]) -> Row:
    """One run as a row."""
    status = str(origin["status"])
    is_over = f"return_last_{LAST}" in origin
    used = origin.get("uses") or _used(path)
    facts = origin if is_over else tail_of(path)
    decisions = int(facts.get("decisions") or 0)
    if status == "running" and not is_alive(path, origin):
        status = "killed"
    progress = ""
    if status in ("running", "killed", "stopped"):
        share = _share(origin, decisions, int(facts.get("episodes") or 0))
        progress = "" if share is None else f"{share:.0%}"
    score = facts.get(f"return_last_{LAST}")
    return {
        "run": path.name,
        "environment": used["environment"],
        "agent": used["agent"],
        "seed": int(origin["seed"]),
        "status": f"{status} {progress}".strip(),
        "decisions": decisions,
        "episodes": int(facts.get("episodes") or 0),
        f"return_last_{LAST}": math.nan if score is None else float(score),
        "return_of": str(facts.get("return_of", "")),
        "began": str(origin["began"]),
    }


def uses_of(plan: Mapping[str, Any]) -> dict[str, str]:
    """What a plan uses, by its last name; a question mark where the file was cut."""
    return {section: _use(plan, section) for section in ("environment", "agent")}


def _use(plan: Mapping[str, Any], section: str) -> str:
    part = plan.get(section)
    if section == "agent" and isinstance(plan.get(files.AGENTS), Mapping):  # one a player
        named = [_use({section: settings}, section) for settings in plan[files.AGENTS].values()]
        return " + ".join(named)
    if not isinstance(part, Mapping):
        return "?"
    use = str(part.get("use", "?")).rpartition("/")[2]
    return _program_name(part, use) if use == "remote" else use


def _program_name(part: Mapping[str, Any], use: str) -> str:
    """What a program says that its name is."""
    try:
        return f"{json.loads(part['described'])['name']}".lower()
    except (KeyError, TypeError, ValueError, RecursionError):
        return use


def _used(path: Path) -> dict[str, str]:
    try:
        return uses_of(read_toml(path / files.PLAN))
    except (SettingError, RecordError):
        return {"environment": "?", "agent": "?"}


def _share(origin: Mapping[str, Any], decisions: int, episodes: int) -> float | None:
    planned = origin.get("planned") or {}
    for name, done in (("steps", decisions), ("episodes", episodes)):
        if planned.get(name):
            return min(done / float(planned[name] + int(origin.get(f"more_{name}", 0))), 1.0)
    return None


def tail_of(path: Path) -> Row:
    """How far a run is, from the last rows of its episodes.csv."""
    columns = read_last(path / files.EPISODES, _is_telling, LAST)
    if not len(columns.get("episode", ())):
        return {}
    name, returns = _telling(columns)
    return {
        "decisions": int(columns["decisions"][-1]),
        "episodes": int(columns["episode"][-1]) + 1,
        f"return_last_{LAST}": float(returns.mean()),
        "return_of": owner_of(name),
    }


def last_returns(path: Path) -> NumpyArray:
    """The returns of a run's last 100 episodes, or of all it has."""
    columns = read_last(path / files.EPISODES, _is_telling, LAST)
    return _telling(columns)[1] if len(columns.get("return", ())) else np.zeros(0)


def _is_telling(name: str) -> bool:
    return name in ("episode", "decisions") or is_return(name)


def _telling(columns: Columns) -> tuple[str, NumpyArray]:
    """The returns of the last 100 episodes that tell something, and the name of their column."""
    returns = {name: values[-LAST:] for name, values in columns.items() if is_return(name)}
    name = telling_return(returns)
    return name, returns[name]


def is_alive(path: Path, origin: Mapping[str, Any]) -> bool:
    """Whether the process that trains a run is at work; a process of another machine is taken to be."""
    if holder(path):
        return True
    process = origin.get("process")
    if origin.get("host") != platform.node() or not isinstance(process, int):
        return True
    if process == files.this_process():
        return True
    return wrote(process, path / ORIGIN)


def wrote(process: int, record: Path) -> bool:
    """Whether a process is at work that may have written a record: one that began after it has only got the number."""
    import psutil

    try:
        owner = psutil.Process(process)
        return owner.status() != psutil.STATUS_ZOMBIE and owner.create_time() <= record.stat().st_mtime
    except (psutil.Error, OSError):
        return False


def chosen(
    folder: Path,
    rows: Sequence[Row],
    *,
    environment: str | None = None,
    agent: str | None = None,
    status: str | None = None,
    where: Sequence[str] = (),
    above: float | None = None,
    since: str | None = None,
    sort: str = "began",
) -> list[Row]:
    """The rows that are asked for, in the order that is."""
    if sort not in SORTS:
        raise SettingError(f"`--sort` takes a column, one of {listed(SORTS)}; got `{sort}`.{nearest(sort, SORTS)}")
    selected = list(rows)
    for name, wanted in (("environment", environment), ("agent", agent), ("status", status)):
        if wanted is not None:
            selected = [row for row in selected if wanted.lower() in str(row[name]).lower()]
    if above is not None:
        selected = [row for row in selected if row[f"return_last_{LAST}"] >= above]
    if since is not None:
        try:
            first = datetime.fromisoformat(since).astimezone()
        except ValueError:
            raise SettingError(f"`--since` takes a date such as `2026-11-23`; got `{since}`.") from None
        selected = [row for row in selected if row["began"] and datetime.fromisoformat(row["began"]) >= first]
    for text in where:
        selected = [row for row in selected if _holds(folder / row["run"], text)]
    if sort == "began":
        return selected
    number = isinstance(selected[0][sort], (int, float)) if selected else False
    return sorted(selected, key=lambda row: _order(row[sort]), reverse=number)


def _order(value: Any) -> Any:
    return -math.inf if isinstance(value, float) and math.isnan(value) else value


def _holds(path: Path, text: str) -> bool:
    """Whether a run's plan has a setting."""
    import tomllib

    name, equals, value = text.partition("=")
    keys = name.strip().split(".")
    if not equals or len(keys) < 2:
        raise SettingError(f"`--where` takes a setting and a value, e.g. `--where agent.bins=20`; got `{text}`.")
    try:
        wanted: Any = tomllib.loads(f"value = {value}")["value"]
    except tomllib.TOMLDecodeError:
        wanted = value.strip()
    try:
        part: Any = read_toml(path / files.PLAN)
    except (SettingError, RecordError):
        return False
    for key in keys:
        part = part.get(key) if isinstance(part, Mapping) else None
    return (bool(part == wanted) and type(part) is not bool) or part is wanted
