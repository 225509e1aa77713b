"""Searching for settings: `tune` begins a search, `Search` is one, running, stopped or done."""

from __future__ import annotations

import importlib
import os
import platform
import sys
import threading
from collections.abc import Mapping, Sequence
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from jokulmist.agents.contract import Agent
from jokulmist.environments.declaration.environment import Environment
from jokulmist.environments.varying import Vary
from jokulmist.errors import LookupFailed, RecordError, SettingError
from jokulmist.records.files import read_toml, replace_file, write_toml
from jokulmist.records.run_folder import PLAN, take_folder
from jokulmist.studies.search.candidates import FAILED, SEARCH, Board, Candidate, is_search
from jokulmist.studies.search.engine import Engine, winning_plan
from jokulmist.studies.search.progress import LiveSearch, SearchShow, SilentSearch, told_settings
from jokulmist.studies.search.settings import Question, Tuning, question_of
from jokulmist.studies.search.space import Dimension, plain, with_settings
from jokulmist.training.evaluation.evaluate import interval_of
from jokulmist.training.plans.plan import TUNING, Plan, Training, plan_of
from jokulmist.training.plans.sources import use_of
from jokulmist.training.runs.run import Run, Runs
from jokulmist.training.train import checked_workers
from jokulmist.training.workers.in_process import Here
from jokulmist.training.workers.jobs import Hands, Plans
from jokulmist.training.workers.pool import CannotTravel, Crew, can_travel, usual_workers

if TYPE_CHECKING:
    import pandas as pd

    from jokulmist.studies.importance import Mattering

WINNER, CANDIDATES = "winner.toml", "candidates.csv"
TRIES = 2


class Search:
    """A search for settings, in its folder.

    Attributes
    ----------
    path : Path
    question : Question
        What was asked.
    board : Board
        What is known.
    """

    def __init__(self, path: Path, question: Question, board: Board) -> None:
        self.path, self.question, self.board = path, question, board

    @classmethod
    def open(cls, path: str | Path) -> Search:
        """A search's folder, finished or not.

        Raises
        ------
        LookupFailed
            When the folder is no search.
        """
        place = Path(path)
        if not is_search(place):
            raise LookupFailed(f"{place} is no search: it has no {SEARCH}. `jokulmist tune PLAN.toml` makes one.")
        content = read_toml(place / PLAN)
        tuning = content.pop(TUNING)
        return cls(place, question_of(tuning, plan_of(content, place)), Board.open(place))

    @property
    def status(self) -> str:
        """``running``, ``killed``, ``done`` or ``stopped``."""
        if self.board.status == "running" and not _at_work(self.board):
            return "killed"
        return self.board.status

    @property
    def winner(self) -> Candidate | None:
        """The best candidate of those that came furthest; None before there is one."""
        if self.board.winner is not None:
            return self.board.candidates[self.board.winner]
        found = self.question.method.best(self.board)
        return None if found is None else found[0]

    @property
    def settings(self) -> dict[str, Any]:
        """The winner's settings, by their names in a plan."""
        if self.winner is None:
            raise RecordError(f"{self.path} has no candidate with a score yet.")
        return dict(self.winner.settings)

    @property
    def plan(self) -> Plan:
        """The winner's plan, with the seeds of the search's."""
        return with_settings(self.question.plan, self.settings)

    @property
    def score(self) -> float:
        """The winner's score in the search: the highest of many, so it flatters."""
        if self.winner is None:
            raise RecordError(f"{self.path} has no candidate with a score yet.")
        return float(_last_score(self.board, self.winner, self.question.method.untils)["value"])

    @property
    def score_again(self) -> tuple[float, float, float]:
        """The winner's mean score on new seeds, and its interval; not numbers where it was not run again."""
        values = np.array(list(self.board.again.values()))
        if not len(values):
            return float("nan"), float("nan"), float("nan")
        mean, count = float(values.mean()), len(values)
        return mean, *interval_of(mean, float(values.std(ddof=1)) if count > 1 else 0.0, count)

    @property
    def table(self) -> pd.DataFrame:
        """A row a candidate, the best first: its settings, score, decisions, status."""
        import pandas as pd

        return pd.DataFrame(self.rows())

    def rows(self) -> list[dict[str, Any]]:
        """The candidates as rows, the best of those that came furthest first."""
        board, found, seen = self.board, [], set()
        for until in self.question.method.untils:
            for _, candidate in board.ranked(until):
                if candidate.number not in seen and candidate.status != FAILED:
                    seen.add(candidate.number)
                    found.append(self._row(candidate, until))
        return found + [self._row(c, None) for c in board.candidates if c.number not in seen]

    def _row(self, candidate: Candidate, until: int | None) -> dict[str, Any]:
        told = None if until is None else self.board.told(candidate, until)
        nan = float("nan")
        return {
            "candidate": candidate.number,
            **{name: plain(candidate.settings.get(name, "")) for name in self.question.space.names},
            "score": nan if told is None else told.score,
            "low": nan if told is None else told.low,
            "high": nan if told is None else told.high,
            "decisions": candidate.decisions,
            "status": candidate.status if told is None else "scored",
            "message": candidate.message,
        }

    @property
    def runs(self) -> Runs:
        """All runs of the search: those of the candidates, and of the winner on new seeds."""
        found = []
        for path in sorted(self.path.iterdir()):
            try:
                found.append(Run.open(path))
            except (LookupFailed, RecordError):
                continue
        return Runs(found)

    @property
    def winner_runs(self) -> Runs:
        """The winner's runs on new seeds."""
        return Runs([Run.open(path) for path in sorted(self.path.glob("winner-seed-*"))])

    @cached_property
    def mattering(self) -> Mattering:
        """Which settings mattered; see `Mattering`."""
        from jokulmist.studies.importance import mattering_of

        return mattering_of(self.question, self.board)

    def resume(
        self, *, workers: int | None = None, cluster: str | None = None, show: SearchShow | None = None,
        command: list[str] | None = None,
    ) -> Search:  # fmt: skip
        """Go on where the search was; nothing is trained twice.

        Parameters
        ----------
        workers, cluster, show
            As `tune` takes them.
        """
        if self.status == "running":
            raise SettingError(
                f"{self.path} is still running, in process {self.board.process}. Wait for it, or stop it by Ctrl-C first."
            )
        return searched(self, workers, cluster, show, command or sys.argv)

    def save_pictures(self) -> list[Path]:
        """Draw how the search went, which settings mattered, a slice a setting, and all candidates side by side."""
        from jokulmist.pictures.figures.search import save_search

        saved: list[Path] = save_search(self._drawn(), self.path / "pictures")
        return saved

    def _drawn(self) -> dict[str, Any]:
        """What the pictures show, as plain data."""
        from jokulmist.studies.importance import comparable

        return {
            "name": self.path.name,
            "score": self.question.tuning.score,
            "higher": self.board.higher,
            "names": self.question.space.names,
            "over": self.question.space.over,
            "place": self.question.space.place,
            "points": [
                {"number": c.number, "settings": c.settings, "decisions": c.decisions, **_last_score(self.board, c, self.question.method.untils)}
                for c in self.board.candidates if c.scores and c.status != FAILED
            ],
            "winner": None if self.winner is None else self.winner.number,
            "again": list(self.board.again.values()),
            "mattering": self.mattering,
            "compared": [
                (settings, score, self.winner is not None and settings == self.winner.settings)
                for settings, score in comparable(self.question, self.board)[0]
            ],
        }  # fmt: skip

    def __repr__(self) -> str:
        best = (
            "no score yet"
            if self.winner is None
            else f"best {self.score:.4g} with {told_settings(self.winner.settings)}"
        )
        return f"<search {self.path.name}: {self.status}, {len(self.board.candidates)} candidates, {best}>"


def _last_score(board: Board, candidate: Candidate, untils: list[int]) -> dict[str, Any]:
    """The score of a candidate where it came furthest, and whether that is the end of the plan."""
    for rank, until in enumerate(untils):
        score = candidate.score(until, len(candidate.runs))
        if score is not None:
            return {"value": score, "rank": rank}
    return {"value": float("nan"), "rank": len(untils)}


def _at_work(board: Board) -> bool:
    """Whether the process that searches is alive; one of another machine is taken to be."""
    import psutil

    if board.host != platform.node():
        return True
    return board.process != os.getpid() and psutil.pid_exists(board.process)


def tune(
    environment: Environment,
    agent: Agent,
    *,
    over: Mapping[str, Dimension],
    steps: int | None = None,
    episodes: int | None = None,
    method: str = "random",
    candidates: int = 24,
    score: str = "return",
    better: str = "higher",
    seed: int = 0,
    seeds: Sequence[int] | None = None,
    again: int = 5,
    copies: int | None = None,
    vary: Vary | None = None,
    curriculum: Any = None,
    lane: str = "auto",
    workers: int | None = None,
    cluster: str | None = None,
    folder: str | Path = "runs",
    name: str | None = None,
    show: SearchShow | None = None,
    **more: Any,
) -> Search:
    """Search for the settings with which an agent learns best.

    Parameters
    ----------
    environment : Environment
    agent : Agent
        With the settings that are not searched over.
    over : dict of str to Among or Between
        By name: ``"agent.learning_rate": jm.between(1e-4, 1e-2, scale="log")``, ``"environment.melt": jm.among(2.0, 4.0)``,
        ``"environment.weights.flooding"``, ``"training.copies"``.
    steps, episodes : int
        How long each candidate trains, one of the two; as in `train`.
    method : {"random", "grid", "halving", "gaussian-process", "population"}
        Random search is the measure of the others. Halving trains many a little and the best further. A Gaussian process asks
        where a model of the scores promises most: for few candidates that take long. A population changes settings while it trains.
    candidates : int
    score : str
        ``"return"``: the mean return of the last 100 training episodes. ``"evaluation"``: the mean return of the last policy over
        fixed evaluation episodes. Or a measure, over these. Reward weights that are searched over are never scored by the return.
    better : {"higher", "lower"}
        Of a measure.
    seed : int
        Of what the search draws, and of the runs where `seeds` is not given.
    seeds : sequence of int, optional
        Each candidate is trained with each; its score is their mean.
    again : int
        New seeds on which the best candidate is run once more: its score in the search is the luckiest of many.
    copies, vary, curriculum, lane
        As in `train`.
    workers : int, optional
        Worker processes; by default one a core.
    cluster : str, optional
        The address of a Dask scheduler; its workers do the jobs. They must see the search's folder.
    folder : str or Path
    name : str, optional
        The folder's name; else environment, method and the next free number.
    show : SearchShow, optional
        By default a live board where standard error is a terminal, and nothing else.
    **more
        Any other setting of `Tuning` (``points``, ``one_in``, ``rungs``, ``looks``, ``evaluation_episodes``) or of training
        (``evaluate_every``, ``stop_when``, ...).

    Returns
    -------
    Search

    Raises
    ------
    SettingError, LookupFailed
        Where a setting is unknown or not allowed; nothing was trained then.

    Notes
    -----
    Every candidate is an ordinary run in the search's folder. A candidate that fails is recorded with its message, and the search
    goes on. Ctrl-C ends it cleanly; `Search.resume` and ``jokulmist resume FOLDER`` go on where it was.

    Examples
    --------
    >>> import tempfile
    >>> import jokulmist as jm
    >>> found = jm.tune(
    ...     jm.gallery.Tarn(), jm.QLearning(), over={"agent.bins": jm.among(2, 12)}, method="grid", steps=2000, again=0,
    ...     workers=1, lane="plain", folder=tempfile.mkdtemp(),
    ... )
    >>> len(found.table)
    2
    """
    own = {name: more.pop(name) for name in list(more) if name in Tuning.model_fields}
    tuning = Tuning(method=method, candidates=candidates, score=score, better=better, again=again, seed=seed, **own)
    unknown = [name for name in more if name not in Training.model_fields]
    if unknown:
        from jokulmist.errors import listed, nearest

        known = [*Tuning.model_fields, *Training.model_fields]
        raise SettingError(f"`tune` has no setting `{unknown[0]}`; it has {listed(known)}.{nearest(unknown[0], known)}")
    training = Training(
        steps=steps,
        episodes=episodes,
        seeds=tuple(seeds) if seeds is not None else (seed,),
        copies=copies,
        lane=lane,
        **more,
    )
    question = Question(Plan(environment, agent, training, vary, curriculum), tuning, over)
    return begin_search(question, Path(folder), name, workers, cluster, show, sys.argv)


def begin_search(
    question: Question, folder: Path, name: str | None, workers: int | None, cluster: str | None, show: SearchShow | None,
    command: list[str],
) -> Search:  # fmt: skip
    """Make a search's folder, and search."""
    if workers is not None:
        checked_workers(workers)
    plan = question.plan
    use = use_of(type(plan.environment)).rpartition(":")[2].lower()
    path = take_folder(folder, name, f"{use}-{type(plan.agent).__name__.lower()}-search")
    write_toml(path / PLAN, question.written())
    board = Board(plan.training.seeds, question.tuning.better == "higher")
    board.save(path)
    return searched(Search(path, question, board), workers, cluster, show, command)


def searched(
    search: Search, workers: int | None, cluster: str | None, show: SearchShow | None, command: list[str]
) -> Search:
    """Search from where it stands to the end, and leave the winner's plan, the table and the pictures."""
    if show is None:
        show = LiveSearch() if sys.stderr.isatty() else SilentSearch()
    board = search.board
    board.status, board.process, board.host = "running", os.getpid(), platform.node()
    board.save(search.path)
    engines: list[Engine] = []
    hands = _hands(search, workers, cluster, show, engines)
    finished = False
    try:
        engines.append(Engine(search.question, search.path, board, hands, show, command))
        finished = engines[0].run()
    finally:
        hands.close()
        board.status = "done" if finished else "stopped"
        board.save(search.path)
        search.__dict__.pop("mattering", None)
        if board.candidates:
            replace_file(search.path / CANDIDATES, search.table.to_csv(index=False, float_format="%.7g"))
    won = winning_plan(search.question, board)
    if won is not None:
        write_toml(search.path / WINNER, won.written())
    return search


def _read_ahead() -> None:
    """Load what will judge and draw while the workers train, not when they have done."""
    for module in ("scipy.special", "pandas", "matplotlib.figure", "matplotlib.backends.backend_agg"):
        importlib.import_module(module)


def _hands(search: Search, workers: int | None, cluster: str | None, show: SearchShow, engines: list[Engine]) -> Hands:
    """Who does the work: a cluster, worker processes, or this process where its classes cannot be found by name."""
    plan = search.question.plan
    if cluster is not None:
        from jokulmist.training.workers.dask_cluster import Cluster

        return Cluster(cluster, plan.written())
    count = usual_workers() if workers is None else checked_workers(workers)
    if count > 1 and can_travel(plan):
        try:
            crew = Crew(count, plan.written(), tries=TRIES)
            threading.Thread(target=_read_ahead, name="reading ahead").start()
            return crew
        except CannotTravel as reason:
            show.say(f"one run after another, because {reason}")

    def watch(tag: Any, standing: Any) -> None:
        engines[0].now[tag] = standing
        show.update(engines[0].view())

    return Here(_KnownPlans(search), watch)


class _KnownPlans(Plans):
    """The plans of a search's candidates, made from the objects at hand."""

    def __init__(self, search: Search) -> None:
        super().__init__()
        self._search = search

    def of(self, written: Mapping[str, Any]) -> Plan:
        for candidate in self._search.board.candidates[::-1]:
            if candidate.status == FAILED:  # its settings may not even make a plan
                continue
            plan = with_settings(self._search.question.plan, candidate.settings)
            same = {**plan.written(), "training": {**plan.written()["training"], "seeds": written["training"]["seeds"]}}
            if same == written:
                return plan
        return super().of(written)
