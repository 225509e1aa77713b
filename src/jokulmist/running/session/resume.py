"""Going on with a run: what was recorded after its newest checkpoint is cut away, and from there it trains as if never
stopped."""

from __future__ import annotations

import io
import math
import platform
import sys
from dataclasses import replace
from pathlib import Path
from typing import Any

from jokulmist.environments.declaration.instance import describe
from jokulmist.environments.simulator import Simulator
from jokulmist.environments.spaces.channels import refuse_mismatch
from jokulmist.errors import RecordError, SettingError
from jokulmist.plans.plan import Plan
from jokulmist.plans.progress import ProgressDisplay, usual_display
from jokulmist.records import run_folder as files
from jokulmist.records.files import path_of, shortened
from jokulmist.records.lock import writing
from jokulmist.records.rollouts import ROLLOUTS
from jokulmist.records.run_index import is_alive
from jokulmist.records.tables import column_names
from jokulmist.running.runs.run import Run
from jokulmist.running.session.checkpointing import Checkpoint, latest_checkpoint, spec_in
from jokulmist.running.session.choices import same_lane
from jokulmist.running.session.queued_runs import WAITING
from jokulmist.running.session.session import Session


def resume(
    run: Run | str | Path,
    *,
    steps: int = 0,
    episodes: int = 0,
    take_over: bool = False,
    start_over: bool = False,
    display: ProgressDisplay | None = None,
    command: list[str] | None = None,
) -> Run:
    """Go on with a run from its newest checkpoint. `adapt` goes on beside other partners.

    Parameters
    ----------
    run : Run or path
    steps, episodes : int
        So many decisions, or episodes, more than was planned; schedules stay at their last value then.
    take_over : bool
        Go on with a run whose record says that another machine is training it: say so only if you know that it is not.
    start_over : bool
        Train it from its beginning where no checkpoint can be read. What was recorded is put aside, into
        ``before-001/`` of its folder.
    display : ProgressDisplay, optional
        As in `train`.

    Returns
    -------
    Run
        The episodes and the final weights are, byte for byte, those of a run that was never stopped. A run of a
        `jm.Simulator` begins new episodes instead, and its log says so.

    Raises
    ------
    SettingError
        When the run is still running, or there is nothing more to do.
    RecordError
        When it has checkpoints and none can be read, so that going on would start again.

    Examples
    --------
    >>> import jokulmist as jm
    >>> import tempfile
    >>> run = jm.train(jm.gallery.Tarn(), jm.QLearning(bins=8), steps=2000, lane="plain", folder=tempfile.mkdtemp())
    >>> longer = jm.resume(run, steps=1000)
    >>> longer.origin["decisions"]
    3000
    """
    path = run.path if isinstance(run, Run) else path_of(run, "a run")
    if path is None:
        raise SettingError("a run in memory cannot be resumed. Train it with `folder=`.")
    files.open_folder(path)  # so that no lock is written into what is no run
    with writing(path, first=True):  # before anything is read: what another process may still write is not yet true
        return _resumed(Run.open(path), path, steps, episodes, take_over, start_over, display, command)


def _resumed(
    run: Run,
    path: Path,
    steps: int,
    episodes: int,
    take_over: bool,
    start_over: bool,
    display: ProgressDisplay | None,
    command: list[str] | None,
) -> Run:
    origin = dict(run.origin)
    _refuse_running(path, origin, take_over)
    plan = run.plan
    for name, more, planned in (("steps", steps, plan.training.steps), ("episodes", episodes, plan.training.episodes)):
        if isinstance(more, bool) or not isinstance(more, int) or more < 0:
            raise SettingError(f"`{name}` must be a whole number from 0 on; got {more!r}.")
        if more and planned is None:
            other_unit = "episodes" if name == "steps" else "steps"
            raise SettingError(
                f"the plan counts {other_unit}, so say how many more by `{other_unit}`; got `{name}={more}`."
            )
    if origin["status"] == "done" and not steps and not episodes and "ended_by" not in origin:
        counted = "steps" if plan.training.steps is not None else "episodes"
        raise SettingError(
            f"{path} is done. Say how much more, e.g. `{counted}={(getattr(plan.training, counted) or 2) // 2}`."
        )
    origin["more_steps"] = int(origin.get("more_steps", 0)) + steps
    origin["more_episodes"] = int(origin.get("more_episodes", 0)) + episodes
    if "ended_by" in origin:  # what ended it would end it again at once
        plan = replace(plan, training=plan.training.changed(stop_when=None))
    if display is None:
        display = usual_display()
    return resume_run(path, origin, plan.for_seed(run.seed), display, command or sys.argv, start_over=start_over)


def resume_run(
    path: Path,
    origin: dict[str, Any],
    plan: Plan,
    display: ProgressDisplay,
    command: list[str],
    until: int | None = None,
    start_over: bool = False,
) -> Run:
    """Go on with the run in a folder from its newest checkpoint, by a plan for its seed, up to some decisions."""
    checkpoint, words = latest_checkpoint(path)
    waited = origin["status"] == WAITING
    if checkpoint is None:
        _begin_again(path, words, start_over)
    else:
        stage = describe(plan.stage)
        refuse_mismatch(spec_in(checkpoint), stage.spec, f"what {path.name} learned so far", f"`{stage.name}`")
    lane, why = same_lane(plan, origin.get("lane"))
    origin.pop("ended_by", None)
    origin.pop("failure", None)
    decisions = 0 if checkpoint is None else checkpoint.state["decisions"]
    if waited:
        origin.update(
            queued=origin["began"], began=files.current_time().isoformat(timespec="seconds"), versions=files.versions()
        )
        return Session(plan, plan.training.seeds[0], lane, why, path, display, command, None, origin, until).run()
    origin["resumed"] = [
        *origin.get("resumed", []),
        {
            "at": decisions,
            "time": files.current_time().isoformat(timespec="seconds"),
            "command": command,
            "versions": files.versions(),
            "new_episodes": isinstance(plan.environment, Simulator),
        },
    ]
    _cut_back(path, checkpoint)
    for word in words:
        display.message(word)
    display.message(
        f"{path.name} goes on after {decisions:,} decisions"
        if checkpoint
        else f"{path.name} starts again: it had no checkpoint"
    )
    seed = plan.training.seeds[0]
    return Session(plan, seed, lane, why, path, display, command, checkpoint, origin, until).run()


def _refuse_running(path: Path, origin: dict[str, Any], take_over: bool) -> None:
    """A run that another process is at work on stays alone. The lock says so of this machine, the record of others."""
    process, host = origin.get("process"), origin.get("host")
    if origin["status"] != "running":
        return
    if host != platform.node():
        if not take_over:
            raise SettingError(
                f"{path} is being trained on {host!r}, as its record says, and nobody can look from here whether that "
                "is still so. If it is not, use `--take-over` (`take_over=True`)."
            )
    elif isinstance(process, int) and process != files.this_process() and is_alive(path, origin):
        raise SettingError(f"{path} is still running, in process {process}. Wait for it, or stop it by Ctrl-C first.")


def _begin_again(path: Path, words: list[str], start_over: bool) -> None:
    """Without a checkpoint a run starts again; what was recorded is put aside. One whose checkpoints are torn is asked
    about first."""
    recorded = [name for name in (*files.CUT, ROLLOUTS) if (path / name).exists()]
    lost = sorted(
        path_lost.name for path_lost in (path / files.CHECKPOINTS).glob("*") if not path_lost.name.startswith(".")
    )
    if not recorded and not lost:
        return
    if lost and not start_over:
        why = f"no checkpoint can be read ({'; '.join(words)})"
        still = f"{' and '.join(recorded)} can still be read" if recorded else "nothing else was recorded"
        raise RecordError(
            f"{path} cannot be resumed: {why}. {still[0].upper()}{still[1:]}. `--start-over` (`start_over=True`) "
            "trains it from its beginning and puts them aside."
        )
    number = 1 + max((int(p.name[-3:]) for p in path.glob("before-[0-9][0-9][0-9]")), default=0)
    aside = path / f"before-{number:03d}"
    try:
        aside.mkdir()
        for name in (*recorded, *([files.CHECKPOINTS] if lost else [])):
            (path / name).rename(aside / name)
    except OSError as failure:
        raise RecordError(f"cannot put aside what {path} recorded: {failure.strerror}.") from None


def _cut_back(path: Path, checkpoint: Checkpoint | None) -> None:
    """Cut away what was recorded after the checkpoint, but for evaluations of policies that it still has."""
    sizes = dict.fromkeys(files.CUT, 0) if checkpoint is None else checkpoint.state["sizes"]
    decisions = 0 if checkpoint is None else checkpoint.state["decisions"]
    for name in files.CUT:
        size, file = int(sizes.get(name, 0)), path / name
        rest = b""
        if name == files.EVALUATED and file.exists():
            rest = _still_true(file.read_bytes(), size, decisions)
        shortened(file, size)
        if rest:
            with file.open("ab") as stream:
                stream.write(rest)


def _learned(line: bytes, column: int) -> float:
    """After how many decisions the policy of a row was; beyond all where the row says none."""
    cells = line.split(b",")
    return int(cells[column]) if column < len(cells) and cells[column].isdigit() else math.inf


def _still_true(data: bytes, size: int, decisions: int) -> bytes:
    """The rows of evaluated.csv beyond a size that tell of policies up to some decisions: somebody evaluated them by
    hand."""
    head = column_names(data)
    if "learned" not in head:
        return b""
    column = head.index("learned")
    rest = data[max(size, len(data[: data.find(b"\n") + 1])) :]
    rows = [line for line in io.BytesIO(rest[: rest.rfind(b"\n") + 1]) if _learned(line, column) <= decisions]
    header = data[: data.find(b"\n") + 1] if rows and size == 0 else b""
    return header + b"".join(rows)
