"""A run that was trained: its episodes, readings and policy, in memory or in its folder."""

from __future__ import annotations

import logging
from collections.abc import Iterable, Sequence
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from jokulmist import cells
from jokulmist.arrays import NumpyArray
from jokulmist.environments.declaration.instance import describe
from jokulmist.environments.environment import Environment
from jokulmist.errors import CodeNotice, LookupFailed, RecordError, SettingError, listed, nearest, warn
from jokulmist.loops.policy import Policy
from jokulmist.plans.plan import Plan, plan_of
from jokulmist.plans.sources import version_changes
from jokulmist.records import run_folder as files
from jokulmist.records.checkpoints import ARRAYS, best_checkpoint, checkpoints_of, whole_checkpoint
from jokulmist.records.episodes import Memory, telling_return
from jokulmist.records.files import path_of, read_toml
from jokulmist.records.origin import ORIGIN
from jokulmist.records.run_index import LAST, row_of, uses_of
from jokulmist.records.tables import read_frame
from jokulmist.sources.snapshot import SourceSnapshot, source_snapshot

if TYPE_CHECKING:
    import pandas as pd

log = logging.getLogger(__name__)


class Run:
    """One seed's training.

    Its environment and agent are made by the code that the run keeps, whatever has become of the files since.

    Attributes
    ----------
    path : Path or None
        Its folder; None for a run in memory.
    current : bool
        Whether the code as it is now is used instead.
    status : str
        ``running``, ``done``, ``stopped`` or ``failed``.
    origin : dict
        Where it comes from; see origin.json.

    Examples
    --------
    >>> import jokulmist as jm
    >>> import tempfile
    >>> run = jm.train(jm.gallery.Tarn(), jm.QLearning(bins=8), steps=2000, lane="plain", folder=tempfile.mkdtemp())
    >>> run.name, run.status, len(run.episodes) > 5
    ('tarn-qlearning-001', 'done', True)
    >>> jm.Run.open(run.path).seed
    0
    """

    def __init__(
        self,
        path: Path | None,
        origin: dict[str, Any],
        plan: Plan | None = None,
        memory: Memory | None = None,
        policy: Policy | None = None,
        current: bool = False,
    ) -> None:
        self.path = path
        self.origin = origin
        self._plan = plan
        self._memory = memory
        self._policy = policy
        self.current = current

    @classmethod
    def as_run(cls, value: Any) -> Run:
        """A run, or the run of a folder."""
        return value if isinstance(value, Run) else cls.open(value)

    @classmethod
    def open(cls, path: str | Path, current: bool = False) -> Run:
        """A run's folder, finished or not.

        Parameters
        ----------
        path : path
        current : bool
            Its environment and agent by the code as it is now, and not as the run keeps it in ``source/``.

        Raises
        ------
        LookupFailed
            When the folder is no run.
        """
        place = path_of(path, "a run")
        return cls(place, files.open_folder(place), current=current)

    @property
    def name(self) -> str:
        return self.path.name if self.path is not None else f"seed {self.seed}"

    @property
    def status(self) -> str:
        return str(self.origin["status"])

    @property
    def seed(self) -> int:
        return int(self.origin["seed"])

    @cached_property
    def plan(self) -> Plan:
        """What was asked, as checked objects."""
        if self._plan is not None:
            return self._plan
        assert self.path is not None
        snapshot = source_snapshot(self.path)
        changed = "" if snapshot is None else snapshot.changed_files
        if snapshot is not None and changed:
            warn(self._code_note(snapshot, changed), CodeNotice)
        return plan_of(read_toml(self.path / files.PLAN), self.path, self.current)

    def _code_note(self, snapshot: SourceSnapshot, changed: str) -> str:
        """One line on files that are not what they were."""
        if not self.current:
            return (
                f"{changed} since {self.name} was trained: its own copy is used (`--current` or `current=True` for the "
                "new)"
            )
        use = str(self.written_plan["environment"]["use"])
        return (
            f"the code as it is now is used, not what {self.name} was trained with: "
            f"{version_changes(snapshot, None, use)}"
        )

    @property
    def environment(self) -> Environment:
        """What the run is measured on: the declared parameters, and the last level of a curriculum."""
        return self.plan.measured

    @property
    def level_note(self) -> str:
        """Where a curriculum did not come to the last level, on which the run is measured: one line that says so; else
        empty."""
        reached, levels = self.origin.get("level"), self.plan.curriculum
        if levels is None or reached is None or reached["value"] == levels.values[-1]:
            return ""
        name = levels.parameter
        return (
            f"measured at the last level of the curriculum, `{name}` {levels.values[-1]:g}; training came to "
            f"{reached['value']:g}. To measure there, change the parameter: `jokulmist evaluate ... --over "
            f"{name}={reached['value']:g},{levels.values[-1]:g}`"
        )

    @property
    def written_plan(self) -> dict[str, Any]:
        """The plan as it is in plan.toml, without importing anything."""
        if self._plan is not None or self.path is None:
            return self.plan.written()
        return files.checked_plan(self.path)

    @property
    def episodes(self) -> pd.DataFrame:
        """One row an episode: return, steps, closed_by, each term (unweighted), each measure."""
        if self._memory is None:
            assert self.path is not None
            return read_frame(
                self.path / files.EPISODES, ("episode", "decisions", "copy", "return", "steps", "closed_by")
            )
        import pandas as pd

        parts = self._memory.episode_parts
        if not parts:
            return pd.DataFrame()
        return pd.DataFrame({name: np.concatenate([part[name] for part in parts]) for name in parts[0]})

    @property
    def readings(self) -> pd.DataFrame:
        """One row a report: what the method tells of itself, and its speed."""
        if self._memory is None:
            assert self.path is not None
            return read_frame(self.path / files.READINGS, ("decisions",))
        import pandas as pd

        return pd.DataFrame(self._memory.reading_rows)

    @property
    def evaluated(self) -> pd.DataFrame:
        """One row an evaluation episode, of all evaluations that were recorded."""
        if self.path is None:
            import pandas as pd

            return pd.DataFrame()
        return read_frame(self.path / files.EVALUATED, ("policy", "act", "learned", "return"))

    @property
    def policy(self) -> Policy:
        """What was learned, from the newest checkpoint that is whole."""
        if self._policy is None:
            assert self.path is not None
            checkpoint, words = whole_checkpoint(self.path)
            if checkpoint is None:
                torn = f" {words[0]}" if words else ""
                raise RecordError(
                    f"{self.path} has no checkpoint: the run is {self.status} and none was saved yet.{torn} "
                    f"`jokulmist resume` begins where nothing was saved."
                )
            self._policy = Policy.open(checkpoint / ARRAYS, self.path, self.current)
        return self._policy

    @property
    def rollouts(self) -> list[Any]:
        """The episodes that were recorded step by step, in the order of their numbers; see `Rollout`."""
        from jokulmist.records.rollouts import ROLLOUTS, read_rollouts

        if self.path is None:
            raise RecordError("a run in memory records no rollouts. Train it with `folder=` and `record_every=`.")
        return read_rollouts(self.path / ROLLOUTS)

    @property
    def best(self) -> Policy:
        """The best policy of the run, by what its plan judges it by."""
        path = None if self.path is None else best_checkpoint(self.path)
        if path is None:
            players = describe(self.environment).players
            why = (
                ""
                if not players
                else " In a game in which one gets what the other loses it is judged by one player, "
                f'`best_by="{players[0]}.return"`.'
            )
            raise RecordError(f"{self.name} has no best policy yet: it is judged once 100 episodes have closed.{why}")
        assert self.path is not None
        return Policy.open(path / ARRAYS, self.path, self.current)

    def checkpoint(self, name: str | int) -> Policy:
        """The policy of a checkpoint: ``"last"``, ``"best"``, or the decisions in its name."""
        if name == "last":
            return self.policy
        if name == "best":
            return self.best
        paths = [] if self.path is None else checkpoints_of(self.path)
        for path in paths:
            if str(name).isdigit() and int(path.name) == int(name):
                return Policy.open(path / ARRAYS, self.path, self.current)
        names = ["last", "best", *(int(path.name) for path in paths)]
        raise LookupFailed(f"{self.name} has no checkpoint {name!r}; there are {listed(names)}.")

    def returns(self, weights: dict[str, float] | None = None) -> NumpyArray:
        """The return of each episode under any weights of the terms.

        Parameters
        ----------
        weights : dict of str to float, optional
            In place of the run's own; terms that are not named keep theirs.
        """
        description = describe(self.environment)
        names = [term.name for term in description.terms]
        for name in weights or {}:
            if name not in names:
                raise SettingError(f"`weights` names `{name}`, which is no reward term; the terms are {listed(names)}.")
        frame = self.episodes
        total = np.zeros(len(frame))
        for name, weight in zip(names, description.weights, strict=True):
            total += (weights or {}).get(name, weight) * frame[name].to_numpy(np.float64)
        return total

    if not TYPE_CHECKING:

        def __getattr__(self, name: str) -> Any:
            hint = (
                " Its folder is `run.path`."
                if name in ("folder", "directory", "dir")
                else nearest(name, dir(type(self)))
            )
            raise AttributeError(f"a run has no `{name}`.{hint}")

    def mean_return(self, last: int = LAST) -> float:
        """Mean return of the last episodes; not a number where none closed. Of a game in which one gets what the other
        loses that of the first player."""
        frame = self.episodes.tail(last)
        return (
            float(frame[telling_return({str(name): column for name, column in frame.items()})].mean())
            if len(frame)
            else float("nan")
        )

    @cells.safely
    def _repr_html_(self) -> str:
        row = summary(self)
        facts = {**row, "seconds": float(self.origin["seconds"]) if "seconds" in self.origin else None}
        if self.path is not None:
            facts["folder"] = str(self.path)
        returns = self.episodes["return"].to_list()
        return cells.html_card(
            f"run {self.name}", facts, cells.line(cells.means_of(returns), "return of an episode, in equal stretches")
        )

    def __repr__(self) -> str:
        return f"<run {self.name}: {self.status}>"


def runs_of(values: Any) -> list[Run]:
    """A run, the folder of one, or several of these, as a list of runs."""
    if isinstance(values, (Run, str, Path)) or not isinstance(values, Iterable):
        return [Run.as_run(values)]
    return [Run.as_run(value) for value in values]


class Runs(Sequence[Run]):
    """Several runs, as a list with one table."""

    def __init__(self, runs: Sequence[Run]) -> None:
        self._runs = list(runs)

    def __getitem__(self, index: Any) -> Any:
        return Runs(self._runs[index]) if isinstance(index, slice) else self._runs[index]

    def __len__(self) -> int:
        return len(self._runs)

    @property
    def table(self) -> pd.DataFrame:
        """One row a run: what it is, how far it came, the mean return of its last 100 episodes."""
        import pandas as pd

        return pd.DataFrame([summary(run) for run in self._runs])

    @cells.safely
    def _repr_html_(self) -> str:
        return cells.html_card(f"{len(self)} runs", {}, cells.table([summary(run) for run in self._runs]))

    def __repr__(self) -> str:
        return f"<{len(self)} runs: {', '.join(run.name for run in self._runs)}>"


def summary(run: Run) -> dict[str, Any]:
    """One run as a row of a table; of a folder files only are read, so that a run whose code is gone is listed too."""
    if run.path is not None:
        return row_of(run.path, run.origin)
    frame = run.episodes
    return {
        "run": run.name,
        **uses_of(run.written_plan),
        "seed": run.seed,
        "status": run.status,
        "decisions": int(run.origin["decisions"]),
        "episodes": len(frame),
        f"return_last_{LAST}": run.mean_return(),
        "began": run.origin["began"],
    }


def runs_in(folder: Path) -> Runs:
    """Every run below a folder, in the order in which they began."""
    if not folder.exists():
        return Runs([])
    runs = []
    for path in (p.parent for p in folder.glob(f"*/{ORIGIN}") if files.is_run(p.parent)):
        try:
            runs.append(Run.open(path))
        except RecordError as torn:
            log.warning("%s is left out: %s", path, torn)
    return Runs(sorted(runs, key=lambda run: (run.origin["began"], run.name)))
