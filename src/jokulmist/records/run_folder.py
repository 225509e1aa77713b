"""A run's folder: its name is taken by making it, and everything in it is in an open format."""

from __future__ import annotations

import datetime
import os
import platform
import subprocess
import sys
from collections.abc import Callable, Mapping
from functools import cache
from importlib.metadata import PackageNotFoundError, version
from pathlib import Path
from typing import Any

import numpy as np

from jokulmist.errors import LookupFailed, RecordError, SettingError
from jokulmist.plain_files import plain_file
from jokulmist.records.files import (
    read_toml,
    replace_file,
    size_of,
    synced,
    write_json,
    write_toml,
)
from jokulmist.records.origin import ORIGIN, checked_origin
from jokulmist.records.tables import append_rows
from jokulmist.sources import trust

PACKAGES = ("jokulmist", "numpy", "scipy", "pandas", "jax", "jaxlib", "equinox", "optax", "pydantic", "pyarrow")
PLAN, EPISODES, READINGS, EVALUATED = "plan.toml", "episodes.csv", "readings.csv", "evaluated.csv"
MACHINE, DIFF = "machine.csv", "uncommitted.diff"
MOST_DIFF_BYTES = 1 << 20
LONGEST_NAME = 250
CUT = (EPISODES, READINGS, EVALUATED)
CHECKPOINTS, LOG = "checkpoints", "log.txt"
Clock = Callable[[], datetime.datetime]
# A plan has a table a player, `[agents.NAME]`; as settings they are one agent, which uses `players`.
AGENTS, PLAYERS = "agents", "players"


def with_one_agent(plan: Mapping[str, Any]) -> dict[str, Any]:
    """A plan's tables of players' agents as one agent."""
    return {**{name: part for name, part in plan.items() if name != AGENTS}, "agent": {"use": PLAYERS, **plan[AGENTS]}}


def with_tables(plan: Mapping[str, Any]) -> dict[str, Any]:
    """A plan whose agent is one of players with a table each; any other as it is."""
    if plan["agent"]["use"] != PLAYERS:
        return dict(plan)
    tables = {player: table for player, table in plan["agent"].items() if player != "use"}
    return {**{name: part for name, part in plan.items() if name != "agent"}, AGENTS: tables}


def current_time() -> datetime.datetime:
    return datetime.datetime.now().astimezone()


def take_folder(folder: Path, name: str | None, stem: str) -> Path:
    """Make a run's directory; two trainings at once never get the same one.

    With a `name` that directory is made, and one that exists is an error; else `stem` gets the next free number.
    """
    if name is not None and (not name or name in (".", "..") or Path(name).name != name):
        raise SettingError(f"`name` must be a plain folder name; got {name!r}. For another place use `folder`.")
    try:
        folder.mkdir(parents=True, exist_ok=True)
        if name is not None:
            try:
                (folder / name).mkdir()
            except FileExistsError:
                raise SettingError(
                    f"there is a run {folder / name} already. Choose another `name`, or leave it out."
                ) from None
            return folder / name
        suffixes = [p.name.rpartition("-")[2] for p in folder.glob(f"{stem}-*")]
        number = max([int(t) for t in suffixes if t.isdigit()], default=0) + 1
        while True:
            try:
                (folder / f"{stem}-{number:03d}").mkdir()
                return folder / f"{stem}-{number:03d}"
            except FileExistsError:
                number += 1
    except (SettingError, RecordError):
        raise
    except OSError as failure:
        raise RecordError(
            f"cannot make a run's folder in {folder}: {failure.strerror}. Choose another with `folder=` or `--folder`."
        ) from None


class FolderRecorder:
    """Writes a run into its folder while it trains."""

    def __init__(
        self, path: Path, plan: dict[str, Any] | None, origin: dict[str, Any], clock: Clock = current_time
    ) -> None:
        self.path = path
        self._clock = clock
        self.origin = origin
        if plan is not None:
            write_toml(path / PLAN, plan)
        self.status("running")
        self.log("began" if plan is not None else "began again")

    def episodes(self, columns: dict[str, Any]) -> None:
        append_rows(self.path / EPISODES, columns)

    def reading(self, row: dict[str, float]) -> None:
        append_rows(self.path / READINGS, {name: np.array([value]) for name, value in row.items()})

    def machine(self, row: dict[str, Any]) -> None:
        append_rows(self.path / MACHINE, {name: np.array([value]) for name, value in row.items()})

    def log(self, text: str) -> None:
        file = plain_file(self.path / LOG)
        try:
            with file.open("a", encoding="utf-8") as stream:
                stream.write(f"{self._clock().isoformat(timespec='seconds')} {text}\n")
        except OSError as failure:
            raise RecordError(
                f"cannot write {self.path / LOG}: {failure.strerror}. What was recorded so far is kept."
            ) from None

    def sizes(self) -> dict[str, int]:
        """The bytes of the files that a run which goes on must cut back to."""
        for name in CUT:
            if (self.path / name).exists():
                synced(self.path / name)
        return {name: size_of(self.path / name) for name in CUT}

    def status(self, status: str, **more: Any) -> None:
        """Write origin.json with a new status: running, done, stopped or failed."""
        self.origin.update(status=status, updated=self._clock().isoformat(timespec="seconds"), **more)
        write_json(self.path / ORIGIN, self.origin)

    def evaluated(self, columns: dict[str, Any]) -> None:
        """Append the episodes of an evaluation."""
        append_rows(self.path / EVALUATED, columns)


def keep_source(folder: Path, parts: Mapping[str, bytes]) -> None:
    """Write code below ``source/`` of a run's folder; it was trained here, so it may run here again."""
    for layout, content in parts.items():
        path = folder / trust.SOURCE / layout
        path.parent.mkdir(parents=True, exist_ok=True)
        replace_file(path, content)
    if parts:
        trust.remember(folder / trust.SOURCE)


def origin_of(command: list[str], seed: int, began: datetime.datetime, folder: Path | None) -> dict[str, Any]:
    """Where a run comes from: command, versions, source revision and whether all was committed, host, seed, time.

    `folder` is a folder in the repository, if there is one; None asks no repository.
    """
    revision = changes = None
    if folder is not None and (revision := _git(folder, "rev-parse", "HEAD")) is not None:
        # The first line names the branch: nothing at all means that git failed.
        changes = _git(folder, "status", "--porcelain", "--branch", "--untracked-files=no")
    return {
        "command": command,
        "began": began.isoformat(timespec="seconds"),
        "seed": seed,
        "python": sys.version.split()[0],
        "versions": versions(),
        "host": platform.node(),
        "processor": _processor(),
        "cores": os.cpu_count(),
        "system": platform.platform(),
        "revision": revision,
        "clean": None if changes is None else "\n" not in changes,
    }


def keep_diff(folder: Path, work_folder: Path) -> None:
    """Write the uncommitted change of a repository into a run's folder."""
    change = (_git(work_folder, "diff", "HEAD") or "").encode()
    if len(change) > MOST_DIFF_BYTES:
        change = change[:MOST_DIFF_BYTES] + f"\n... {len(change) - MOST_DIFF_BYTES:,} bytes more ...".encode()
    if change:
        replace_file(folder / DIFF, change + b"\n")


@cache
def versions() -> dict[str, str]:
    """The versions of what a result may depend on; looked up once, for a worker that trains many runs."""
    return {name: version for name in PACKAGES if (version := _version(name)) is not None}


def this_process() -> int:
    return os.getpid()


def _processor() -> str:
    """The processor's own name where the system tells it."""
    try:
        with open("/proc/cpuinfo", encoding="utf-8") as stream:
            names = [line.partition(":")[2].strip() for line in stream if line.startswith("model name")]
    except OSError:
        names = []
    return names[0] if names else platform.processor() or platform.machine()


def _version(name: str) -> str | None:
    try:
        return version(name)
    except PackageNotFoundError:
        return None


def _git(folder: Path, *words: str) -> str | None:
    try:
        done = subprocess.run(
            ["git", "-C", str(folder), *words], capture_output=True, text=True, timeout=10, check=False
        )
    except (OSError, subprocess.TimeoutExpired):
        return None
    return done.stdout.strip() or None if done.returncode == 0 else None


def stop_waiting(folder: Path, name: str) -> None:
    """A run that waited in a queue and is not in it any more is stopped; `resume` begins it."""
    path = folder / name
    if is_name(name) and not path.is_symlink() and is_run(path):
        origin = checked_origin(path)
        if origin["status"] == "waiting":
            write_json(
                path / ORIGIN, {**origin, "status": "stopped", "updated": current_time().isoformat(timespec="seconds")}
            )


def is_name(name: str) -> bool:
    """Whether a text may be the name of one file or folder."""
    return (
        bool(name)
        and name == Path(name).name
        and name not in (".", "..")
        and "\0" not in name
        and len(name.encode()) <= LONGEST_NAME
    )


def is_run(path: Path) -> bool:
    return (path / PLAN).is_file() and (path / ORIGIN).is_file()


def checked_plan(path: Path) -> dict[str, Any]:
    """The plan of a run's folder, with the sections that every plan has."""
    plan = read_toml(path / PLAN)
    if isinstance(plan.get(AGENTS), dict):
        plan = with_one_agent(plan)
    for section in ("environment", "agent", "training"):
        part = plan.get(section)
        if not isinstance(part, dict) or (section != "training" and not isinstance(part.get("use"), str)):
            raise RecordError(f"{path / PLAN} has no whole section `[{section}]`. It was damaged.")
    return plan


def open_folder(path: Path) -> dict[str, Any]:
    """The origin of a run's folder, or an error that says what a run's folder holds."""
    if not path.exists():
        raise LookupFailed(f"there is no run {path}. `jokulmist runs` lists the runs here.")
    if not is_run(path):
        raise LookupFailed(
            f"{path} is no run: it has no {PLAN} and {ORIGIN}. Name a folder made by `jokulmist train`, "
            f"e.g. `runs/tarn-qlearning-001`."
        )
    return checked_origin(path)
