"""Doing a run again from its record, in a new folder, and telling whether it came out the same.

The code that the run kept in source/ is what runs, whatever has become of the file since.
"""

from __future__ import annotations

import io
from contextlib import ExitStack
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np

from jokulmist.errors import SettingError
from jokulmist.plans.progress import ProgressDisplay, SilentDisplay
from jokulmist.records import run_folder as files
from jokulmist.records.run_index import tail_of
from jokulmist.running.runs.run import Run
from jokulmist.running.session.choices import run_folder, same_lane
from jokulmist.running.session.recorded import records_of
from jokulmist.running.session.session import Session
from jokulmist.trees import flattened


@dataclass(frozen=True)
class Redone:
    """What came of doing a run again.

    Attributes
    ----------
    run, repetition : Run
        The run, and the new one.
    same : bool
        Whether every episode that the run has is the same, to the last digit.
    episodes : int
        How many were compared.
    first_difference : int, optional
        The first episode that differs.
    stopped : bool
        Whether it was stopped before it was as far as the run; only as far as it came was it compared.
    differs : dict of str to (text, text)
        What is not as it was: versions, the processor.
    learned : bool, optional
        Of a run that learns from records, and so has no episodes: whether what it learned is the same; `same` says so,
        too.
    """

    run: Run
    repetition: Run
    same: bool
    episodes: int
    first_difference: int | None = None
    differs: dict[str, tuple[str, str]] = field(default_factory=dict)
    stopped: bool = False
    learned: bool | None = None

    def as_json(self) -> dict[str, Any]:
        return {
            "run": str(self.run.path),
            "again": str(self.repetition.path),
            "same": self.same,
            "stopped": self.stopped,
            "episodes": self.episodes,
            "learned": self.learned,
            "first_difference": self.first_difference,
            "differs": {name: list(both) for name, both in self.differs.items()},
        }

    def __str__(self) -> str:
        text = f"{self.repetition.path} is {self.run.path} done again: "
        if self.learned is not None:
            text += f"what it learned is {'the same, to the last digit' if self.learned else 'not the same'}."
        elif self.stopped and self.same:
            text += f"it was stopped; the {self.episodes:,} episodes until then are the same, to the last digit."
        elif self.same and not self.episodes:
            text += "no episode had closed, so there is nothing to compare them by."
        elif self.same:
            text += f"all {self.episodes:,} episodes are the same, to the last digit."
        else:
            text += f"the first {self.first_difference:,} of {self.episodes:,} episodes are the same; then they differ."
        for name, (then, new) in self.differs.items():
            text += f"\n  {name} was {then}, and is {new} now"
        if not self.same and not self.differs:
            text += (
                "\n  no version differs: something outside the record had a say, such as a file that the environment "
                "reads"
            )
        return text

    __repr__ = __str__


def redo(
    run: Run | str | Path,
    *,
    folder: str | Path | None = None,
    display: ProgressDisplay | None = None,
    command: list[str] | None = None,
) -> Redone:
    """Do a run again from its record, in a new folder.

    Parameters
    ----------
    run : Run or path
        One that was stopped or killed is done again as far as it came.
    folder : path, optional
        Where the new run's folder is made; by default beside the run.
    display : ProgressDisplay, optional

    Returns
    -------
    Redone
        Whether the episodes are the same and, if not, from which one on, and which versions differ.

    Examples
    --------
    >>> import jokulmist as jm
    >>> import tempfile
    >>> run = jm.train(jm.gallery.Tarn(), jm.QLearning(bins=8), steps=2000, lane="plain", folder=tempfile.mkdtemp())
    >>> jm.redo(run).same
    True
    """
    run = Run.open(run) if not isinstance(run, Run) else run
    if run.path is None:
        raise SettingError("a run in memory keeps no record to do it again from. Train it with `folder=`.")
    if run.origin.get("descends"):
        raise SettingError(
            f"{run.path.name} was copied from {run.origin['descends'][-1]['from']} while it trained, with other "
            "settings from then on: one plan cannot do it again. The search that it belongs to can, by its own plan."
        )
    plan = run.plan.for_seed(run.seed)
    lane, why = same_lane(plan, run.origin["lane"])
    records_of(plan)  # whether they can be read is told before a folder is made
    place = run.path.parent if folder is None else Path(folder)
    target = run_folder(plan, place, f"{run.path.name}-again-{_free(place, run.path.name):02d}")
    origin = files.origin_of(command or [], run.seed, files.current_time(), Path.cwd())
    more = {name: run.origin.get(name, 0) for name in ("more_steps", "more_episodes")}
    is_whole = run.status == "done" and "ended_by" not in run.origin
    until = None if is_whole else _reached(run)
    session = Session(
        plan,
        run.seed,
        lane,
        why,
        target,
        display or SilentDisplay(),
        command or [],
        until=until,
        more=more,
        parent=str(run.path),
    )
    repeated = session.run()
    return _compared(run, repeated, origin, stopped=bool(session.stop_request))


def _reached(run: Run) -> int:
    """The decisions that a run came to, whatever its origin could still tell."""
    assert run.path is not None
    seen = int(tail_of(run.path).get("decisions", 0))
    return max(seen, int(run.origin.get("decisions", 0)))


def _free(folder: Path, name: str) -> int:
    number = 1
    while (folder / f"{name}-again-{number:02d}").exists():
        number += 1
    return number


def _compared(run: Run, repeated: Run, origin: dict[str, Any], stopped: bool) -> Redone:
    assert run.path is not None
    assert repeated.path is not None
    count, first = _lines_compared(run.path / files.EPISODES, repeated.path / files.EPISODES, stopped)
    differs = {}
    then_versions, now_versions = run.origin.get("versions", {}), origin["versions"]
    for name in sorted({*then_versions, *now_versions}):
        if then_versions.get(name) != now_versions.get(name):
            differs[name] = (str(then_versions.get(name, "absent")), str(now_versions.get(name, "absent")))
    for name in ("python", "processor"):
        if run.origin.get(name) != origin[name]:
            differs[name] = (str(run.origin.get(name)), str(origin[name]))
    if run.plan.training.records is None:
        return Redone(run, repeated, first is None, count, first, differs, stopped)
    first_arrays, second_arrays = (flattened(each_run.policy.learner) for each_run in (run, repeated))
    learned = first_arrays.keys() == second_arrays.keys() and all(
        np.array_equal(first_arrays[name], second_arrays[name]) for name in first_arrays
    )
    return Redone(run, repeated, learned, 0, None, differs, stopped, learned)


def _lines_compared(first_path: Path, second: Path, stopped: bool) -> tuple[int, int | None]:
    """How many episodes the first file has, and the first that differs; of one that was stopped, what it came to
    counts."""
    count, first = -1, None  # the names of the columns are no episode
    with ExitStack() as opened:
        first_file, second_file = (
            opened.enter_context(path.open("rb")) if path.exists() else io.BytesIO() for path in (first_path, second)
        )
        for line in first_file:
            second_line = second_file.readline()
            if not line.endswith(b"\n") or (stopped and not second_line):
                break  # torn, or not come to
            count += 1
            if first is None and line != second_line:
                first = max(count - 1, 0)
    return max(count, 0), first
