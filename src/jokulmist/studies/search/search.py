"""Searching for settings: `tune` begins a search, `Search` is one, running, stopped or done."""

from __future__ import annotations

import os
import platform
import sys
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from jokulmist import cells
from jokulmist.errors import LookupFailed, RecordError, SettingError
from jokulmist.judging.evaluate import interval_of
from jokulmist.plans.plan import TUNING, Plan, plan_of
from jokulmist.records.files import path_of, replace_file, write_toml
from jokulmist.records.lock import writing
from jokulmist.records.run_folder import PLAN, checked_plan
from jokulmist.records.run_index import wrote
from jokulmist.running.runs.run import Run, Runs
from jokulmist.studies.search.candidates import FAILED, SEARCH, Board, Candidate, is_search
from jokulmist.studies.search.engine import winning_plan
from jokulmist.studies.search.progress import SearchDisplay, format_settings
from jokulmist.studies.search.settings import SearchSettings, settings_of
from jokulmist.studies.search.space import plain, with_settings
from jokulmist.studies.search.work import work_through

if TYPE_CHECKING:
    import pandas as pd

    from jokulmist.studies.search.importance import Importance

WINNER, CANDIDATES = "winner.toml", "candidates.csv"


class Search:
    """A search for settings, in its folder.

    Attributes
    ----------
    path : Path
    question : Question
        What was asked.
    board : Board
        What is known.

    Examples
    --------
    >>> import jokulmist as jm
    >>> import tempfile
    >>> found = jm.tune(
    ...     jm.gallery.Tarn(), jm.QLearning(), over={"agent.bins": jm.among(2, 12)}, method="grid", steps=2000, again=0,
    ...     workers=1, lane="plain", folder=tempfile.mkdtemp(),
    ... )
    >>> found.status, len(found.table), sorted(found.settings)
    ('done', 2, ['agent.bins'])
    """

    def __init__(self, path: Path, question: SearchSettings, board: Board) -> None:
        self.path, self.question, self.board = path, question, board

    @classmethod
    def open(cls, path: str | Path) -> Search:
        """A search's folder, finished or not.

        Raises
        ------
        LookupFailed
            When the folder is no search.
        """
        place = path_of(path, "a search")
        if not is_search(place):
            raise LookupFailed(f"{place} is no search: it has no {SEARCH}. `jokulmist tune PLAN.toml` makes one.")
        content = checked_plan(place)
        tuning = content.pop(TUNING, None)
        if not isinstance(tuning, dict):
            raise RecordError(f"{place / PLAN} has no section `[{TUNING}]`. It was damaged.")
        search = cls(place, settings_of(tuning, plan_of(content, place), place), Board.open(place))
        for candidate in search.board.candidates:
            for name, value in candidate.settings.items():
                if not search.question.space.holds(name, value):
                    raise RecordError(
                        f"{place / SEARCH}: candidate {candidate.number} has `{name}` = {value!r:.80}, which this "
                        "search does not give. It was damaged."
                    )
        return search

    @property
    def status(self) -> str:
        """``waiting``, ``running``, ``killed``, ``done`` or ``stopped``."""
        if self.board.status == "running" and not _at_work(self.board, self.path / SEARCH):
            return "killed"
        return self.board.status

    @property
    def winner(self) -> Candidate | None:
        """The best candidate of those that came furthest; None before there is one."""
        if self.board.winner is not None:
            return self.board.candidates[self.board.winner]
        best = self.question.method.best(self.board)
        return None if best is None else best[0]

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
        """The winner's score in the search: the maximum over many candidates, so it is optimistic."""
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
        board, rows, seen = self.board, [], set()
        for until in self.question.method.untils:
            for _, candidate in board.ranked(until):
                if candidate.number not in seen and candidate.status != FAILED:
                    seen.add(candidate.number)
                    rows.append(self._row(candidate, until))
        return rows + [self._row(c, None) for c in board.candidates if c.number not in seen]

    def _row(self, candidate: Candidate, until: int | None) -> dict[str, Any]:
        score = None if until is None else self.board.shown_score(candidate, until)
        nan = float("nan")
        return {
            "candidate": candidate.number,
            **{name: plain(candidate.settings.get(name, "")) for name in self.question.space.names},
            "score": nan if score is None else score.score,
            "low": nan if score is None else score.low,
            "high": nan if score is None else score.high,
            "decisions": candidate.decisions,
            "status": candidate.status if score is None else "scored",
            "message": candidate.message,
        }

    @property
    def runs(self) -> Runs:
        """All runs of the search: those of the candidates, and of the winner on new seeds."""
        runs = []
        for path in sorted(self.path.iterdir()):
            try:
                runs.append(Run.open(path))
            except (LookupFailed, RecordError):
                continue
        return Runs(runs)

    @property
    def winner_runs(self) -> Runs:
        """The winner's runs on new seeds."""
        return Runs([Run.open(path) for path in sorted(self.path.glob("winner-seed-*"))])

    @cached_property
    def importance(self) -> Importance:
        """Which settings mattered; see `Importance`."""
        from jokulmist.studies.search.importance import importance_of

        return importance_of(self.question, self.board)

    def resume(
        self,
        *,
        workers: int | None = None,
        cluster: str | None = None,
        display: SearchDisplay | None = None,
        command: list[str] | None = None,
    ) -> Search:
        """Go on where the search was; nothing is trained twice.

        Parameters
        ----------
        workers, cluster, display
            As `tune` takes them.
        """
        if self.status == "running":
            raise SettingError(
                f"{self.path} is still running, in process {self.board.process}. Wait for it, or stop it by Ctrl-C "
                "first."
            )
        return self.work(workers, cluster, display, command or sys.argv)

    def work(
        self, workers: int | None, cluster: str | None, display: SearchDisplay | None, command: list[str]
    ) -> Search:
        """Search to the end, and leave the table and the winner's plan."""
        with writing(self.path, first=True):
            return self._worked(workers, cluster, display, command)

    def _worked(
        self, workers: int | None, cluster: str | None, display: SearchDisplay | None, command: list[str]
    ) -> Search:
        try:
            work_through(self.path, self.question, self.board, workers, cluster, display, command)
        finally:
            self.__dict__.pop("importance", None)
            if self.board.candidates:
                replace_file(self.path / CANDIDATES, self.table.to_csv(index=False, float_format="%.7g"))
        won = winning_plan(self.question, self.board)
        if won is not None:
            write_toml(self.path / WINNER, won.written())
        return self

    def save_pictures(self) -> list[Path]:
        """Draw how the search went, which settings mattered, a slice a setting, and all candidates side by side."""
        from jokulmist.pictures.figures.search import save_search

        saved: list[Path] = save_search(self._draw_data(), self.path / "pictures")
        return saved

    def _draw_data(self) -> dict[str, Any]:
        """What the pictures show, as plain data."""
        from jokulmist.studies.search.importance import comparable

        return {
            "name": self.path.name,
            "score": self.question.tuning.score,
            "higher": self.board.higher,
            "names": self.question.space.names,
            "over": self.question.space.over,
            "place": self.question.space.place,
            "points": [
                {
                    "number": c.number,
                    "settings": c.settings,
                    "decisions": c.decisions,
                    **_last_score(self.board, c, self.question.method.untils),
                }
                for c in self.board.candidates
                if c.scores and c.status != FAILED
            ],
            "winner": None if self.winner is None else self.winner.number,
            "again": list(self.board.again.values()),
            "importance": self.importance,
            "compared": [
                (settings, score, self.winner is not None and settings == self.winner.settings)
                for settings, score in comparable(self.question, self.board)[0]
            ],
        }

    @cells.safely
    def _repr_html_(self) -> str:
        facts: dict[str, Any] = {
            "status": self.status,
            "candidates": len(self.board.candidates),
            "folder": str(self.path),
        }
        if self.winner is not None:
            facts |= {"best score": self.score, **{f"best {name}": value for name, value in self.settings.items()}}
        return cells.html_card(
            f"search {self.path.name}", facts, cells.table(self.rows(), "candidates, the best first", most=6)
        )

    def __repr__(self) -> str:
        best = (
            "no score yet"
            if self.winner is None
            else f"best {self.score:.4g} with {format_settings(self.winner.settings)}"
        )
        return f"<search {self.path.name}: {self.status}, {len(self.board.candidates)} candidates, {best}>"


def _last_score(board: Board, candidate: Candidate, untils: list[int]) -> dict[str, Any]:
    """The score of a candidate where it came furthest, and whether that is the end of the plan."""
    for rank, until in enumerate(untils):
        score = candidate.score(until, len(candidate.runs))
        if score is not None:
            return {"value": score, "rank": rank}
    return {"value": float("nan"), "rank": len(untils)}


def _at_work(board: Board, record: Path) -> bool:
    """Whether the process that searches is alive; one of another machine is taken to be."""
    if board.host != platform.node():
        return True
    return board.process != os.getpid() and wrote(board.process, record)
