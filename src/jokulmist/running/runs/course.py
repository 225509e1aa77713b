"""The course of a training as figures show it: some thousand points of the curve, and sums over stretches.

A run of a night has tens of millions of episodes, whose table is larger than the memory that a figure may take. A large
file is therefore read once, in pieces, and only what a figure shows is kept; a small one is taken from the table at
hand, by the same code.
"""

from __future__ import annotations

import contextlib
from dataclasses import dataclass
from functools import lru_cache
from pathlib import Path
from typing import Any

import numpy as np

from jokulmist.arrays import NumpyArray
from jokulmist.environments.declaration.instance import describe
from jokulmist.environments.spaces.player_actions import own_name
from jokulmist.errors import RecordError
from jokulmist.records.episodes import CONSTANT, PAIRING_SEPARATOR
from jokulmist.records.run_folder import EPISODES
from jokulmist.records.run_index import LAST, tail_of
from jokulmist.records.tables import Columns, read_columns, read_pieces
from jokulmist.running.runs.run import Run

MOST_POINTS = 6000
FEWEST = 10
LARGE_BYTES = 64_000_000
# Of a large file: what figures ask for, 60 or 80 stretches, are some of these joined.
FINE = 240
OVER = ("steps", "episodes")
# Returns of players that lie nearer to their mean, as a share of its range, tell nothing more.
NEARLY_THE_SAME = 0.1


@dataclass(frozen=True)
class Stretches:
    """Sums over stretches of training that are equally long, but for those in which no episode closed: these are joined
    with the next.

    Attributes
    ----------
    edges : float64, shape (stretches + 1,)
    counts : int64, shape (stretches,)
        Episodes.
    closings : int64, shape (stretches, closings)
    terms : float64, shape (stretches, terms)
        Sums of the unweighted terms.
    wins : int64, shape (stretches, players)
        Episodes in which a player alone had the highest return.
    """

    edges: NumpyArray
    counts: NumpyArray
    closings: NumpyArray
    terms: NumpyArray
    wins: NumpyArray


class Course:
    """What the episodes of a run tell of its training.

    Attributes
    ----------
    count : int
        Episodes.
    thin : int
        One episode in so many is a point.
    decisions, numbers : int64, shape (points,)
        Where the points are: decisions of all copies together, and episodes.
    window : int
        So many episodes make a mean: 100, or a tenth of a training of fewer than 1,000, and at least ten. A mean of
        100 of 300 long episodes would show what was learned a third of the training later.
    returns, means : float64, shape (points,)
        Of the episode, and of the last `window`; the latter is not a number before there are ten.
    player_means : float64, shape (players, points)
        The same of what each of several players got.
    first_of_copies : dict of int to int
        Where each copy closed its first episode, in decisions.
    moves : float64, shape (2, k)
        Decisions in which episodes began around the moves of a curriculum, and the parameter's value there.
    """

    def __init__(
        self,
        names: tuple[str, ...],
        terms: tuple[str, ...],
        players: tuple[str, ...],
        count: int,
        last: int,
        copies: int,
        parameter: str | None,
    ) -> None:
        self._names, self._terms, self._copies, self._parameter = names, terms, copies, parameter
        self.players = players
        self.count, self.last = count, last
        self.window = window_of(count)
        self.thin = max(1, count // MOST_POINTS)
        self.first_of_copies: dict[int, int] = {}
        self._points: list[NumpyArray] = []
        self._moves: list[NumpyArray] = []
        self._before: NumpyArray = np.zeros((1 + len(players), 0))  # the last returns before the piece at hand
        self._place: float | None = None
        self._seen = 0
        self._columns: Columns | None = None
        self._fine = {axis: np.zeros((FINE, 1 + len(names) + len(terms) + len(players))) for axis in OVER}

    def take(self, columns: Columns, is_complete: bool) -> None:
        """Take the next episodes, with `closed_by` as an index into `closings`; `is_complete` where they are all that
        there are."""
        size = len(columns["decisions"])
        if not size:
            return
        numbers = np.arange(self._seen + 1, self._seen + size + 1)
        returns = np.stack([columns[name].astype(np.float64) for name in self.return_columns])
        joined = np.concatenate([self._before, returns], axis=1)
        places = np.flatnonzero(((numbers - 1) % self.thin == 0) | (numbers == self.count))
        sums = np.pad(np.cumsum(joined, axis=1), ((0, 0), (1, 0)))
        ends = places + self._before.shape[1] + 1
        lasts = np.minimum(numbers[places], self.window)
        means = (sums[:, ends] - sums[:, ends - lasts]) / lasts
        means[:, numbers[places] < min(FEWEST, self.count)] = np.nan
        self._points.append(np.stack([columns["decisions"][places], numbers[places], returns[0, places], *means]))
        self._before, self._seen = joined[:, -LAST:], self._seen + size
        if len(self.first_of_copies) < self._copies:
            for copy, place in zip(*np.unique(columns["copy"], return_index=True), strict=True):
                self.first_of_copies.setdefault(int(copy), int(columns["decisions"][place]))
        if self._parameter is not None:
            self._take_moves(columns, is_complete)
        if is_complete:
            self._columns = {**columns, "number": numbers}
        else:
            for axis, positions in (("steps", columns["decisions"]), ("episodes", numbers)):
                self._fine[axis] += self._sums(columns, positions, self._edges(axis, FINE))

    def _take_moves(self, columns: Columns, is_complete: bool) -> None:
        """Note where episodes began whose neighbours had another value of the parameter; of a table at hand, where all
        began."""
        place = columns[str(self._parameter)].astype(np.float32)
        begins = columns["decisions"] - self._copies * columns["steps"]
        if is_complete:
            is_near = np.ones(len(place), bool)
        else:
            changes = np.flatnonzero(np.diff(place, prepend=np.nan if self._place is None else self._place))
            is_near = np.zeros(len(place), bool)
            is_near[changes] = is_near[np.maximum(changes - 1, 0)] = True
        self._place = float(place[-1])
        self._moves.append(np.stack([begins[is_near].astype(float), place[is_near].astype(float)]))

    def _edges(self, axis: str, count: int) -> NumpyArray:
        return np.linspace(0.0, float(self.last if axis == "steps" else self.count), count + 1)

    def _sums(self, columns: Columns, positions: NumpyArray, edges: NumpyArray) -> NumpyArray:
        """By stretch: episodes, those that each closing closed, the sum of each term, what each player won; `positions`
        never falls."""
        borders = np.searchsorted(positions, edges, side="right")
        borders[0], borders[-1] = 0, len(positions)
        every = [columns["closed_by"] == code for code in range(len(self._names))]
        every += [columns[name] for name in self._terms]
        returns = np.array([columns[name] for name in self.return_columns[1:]]).reshape(-1, len(positions))
        is_highest = returns >= returns.max(axis=0, initial=-np.inf) - CONSTANT
        every += list(is_highest & (is_highest.sum(axis=0) == 1))
        sums = [np.concatenate([[0.0], np.cumsum(values, dtype=np.float64)])[borders] for values in every]
        return np.diff(np.stack([borders.astype(float), *sums], axis=1), axis=0)

    def stretches(self, over: str = "steps", most: int = 60) -> Stretches:
        """Sums over stretches, at most so many (a divisor of 240)."""
        if self._columns is not None:
            count = int(max(1, min(most, self.count // 5)))
            edges = self._edges(over, count)
            positions = self._columns["decisions" if over == "steps" else "number"]
            sums = self._sums(self._columns, positions, edges)
        else:
            edges = self._edges(over, most)
            sums = self._fine[over].reshape(most, FINE // most, -1).sum(axis=1)
        filled = np.flatnonzero(sums[:, 0])
        edges, sums = np.concatenate([[0.0], edges[filled + 1]]), sums[filled]
        episodes, closings, terms, wins = np.split(sums, np.cumsum([1, len(self._names), len(self._terms)]), axis=1)
        return Stretches(
            edges, episodes[:, 0].astype(int), closings.astype(int), np.ascontiguousarray(terms), wins.astype(int)
        )

    @property
    def closings(self) -> tuple[str, ...]:
        return self._names

    @property
    def decisions(self) -> NumpyArray:
        return _row(self._points, 0).astype(np.int64)

    @property
    def numbers(self) -> NumpyArray:
        return _row(self._points, 1).astype(np.int64)

    @property
    def returns(self) -> NumpyArray:
        return _row(self._points, 2)

    @property
    def means(self) -> NumpyArray:
        return _row(self._points, 3)

    @property
    def player_means(self) -> NumpyArray:
        return np.stack([_row(self._points, 4 + k) for k in range(len(self.players))])

    @property
    def return_columns(self) -> tuple[str, ...]:
        """The columns of the returns: of an episode, and of each player."""
        return ("return", *(own_name(player, "return") for player in self.players))

    @property
    def players_differ(self) -> bool:
        """Whether what one player gets tells more than what all get on average."""
        if not self.players or not self.count:
            return False
        means = self.means
        differences = np.abs(self.player_means - means)[:, np.isfinite(means)]
        finite_means = means[np.isfinite(means)]
        return bool(differences.size and differences.max() > NEARLY_THE_SAME * np.ptp(finite_means))

    @property
    def moves(self) -> NumpyArray:
        return np.stack([_row(self._moves, 0), _row(self._moves, 1)])

    def positions(self, axis: str, decisions: Any = None) -> NumpyArray:
        """Where the points, or moments in decisions, are on the axis: decisions, or episodes that had closed by
        then."""
        if decisions is None:
            return self.decisions if axis == "steps" else self.numbers
        if axis == "steps":
            return np.asarray(decisions)
        index = np.searchsorted(self.decisions, decisions, side="right") - 1
        numbers: NumpyArray = np.where(index < 0, 0, self.numbers[np.maximum(index, 0)])
        return numbers


def greedy_rows(frame: Any) -> Any:
    """Of a run's evaluation episodes those of its own policy without exploration, by how much it had learned."""
    if not len(frame):
        return {}
    is_greedy = (frame["policy"] == "policy") & (frame["act"] == "greedy") & (frame["learned"] > 0)
    return frame[is_greedy].groupby("learned")


def panel_rows(run: Run) -> dict[tuple[str, str], Any]:
    """What a player's policy got from each member of a run's panel, by both names: its returns by how much it had
    learned."""
    frame: Any = run.evaluated if run.plan.training.panel is not None else ()
    if not len(frame):
        return {}
    met = frame[frame["policy"].str.contains(PAIRING_SEPARATOR, regex=False)]
    return {
        (player, member): part.groupby("learned")[own_name(player, "return")]
        for name, part in met.groupby("policy", sort=False)
        for player, _, member in [name.partition(PAIRING_SEPARATOR)]
    }


def window_of(episodes: int) -> int:
    """Of how many episodes a mean of a curve is made."""
    return int(np.clip(episodes // 10, FEWEST, LAST))


def _row(parts: list[NumpyArray], row: int) -> NumpyArray:
    return np.concatenate([part[row] for part in parts]) if parts else np.zeros(0)


def course_of(run: Run) -> Course:
    """The course of a run, whose file is read in pieces where it is large."""
    file = None if run.path is None else run.path / EPISODES
    if file is not None and file.exists():
        status = file.stat()
        with contextlib.suppress(RecordError, KeyError):  # damaged: the patient reader looks at it
            large = status.st_size > LARGE_BYTES
            course_read = _streamed(run, file, status.st_size, status.st_mtime_ns) if large else _at_once(run, file)
            if course_read is not None:
                return course_read
    frame = run.episodes
    if not len(frame):
        return _empty(run, 0, 0)
    course = _empty(run, len(frame), int(frame["decisions"].iloc[-1]))
    codes = frame["closed_by"].map({name: code for code, name in enumerate(course.closings)}).fillna(-1)
    course.take(
        {name: frame[name].to_numpy() for name in frame.columns} | {"closed_by": codes.to_numpy()}, is_complete=True
    )
    return course


def _empty(run: Run, count: int, last: int) -> Course:
    description, levels = describe(run.environment), run.plan.curriculum
    terms = tuple(term.name for term in description.terms)
    parameter = None if levels is None else levels.parameter
    return Course(description.closings, terms, description.players, count, last, run.plan.copies, parameter)


@lru_cache(maxsize=4)
def _streamed(run: Run, file: Path, size: int, changed: int) -> Course:
    """The course of a large file."""
    course = _empty_course(run, file)
    for columns in read_pieces(file, _names(course), {"closed_by": course.closings}):
        course.take(columns, is_complete=False)
    course.count = course._seen
    return course


def _at_once(run: Run, file: Path) -> Course | None:
    """The course of a small file, without the half second that loading data frames takes; None where numbers are
    missing."""
    course = _empty_course(run, file)
    if not course.count:
        return None
    columns = read_columns(file, _names(course), {"closed_by": course.closings})
    numbers = all(columns[name].dtype.kind == "i" for name in ("decisions", "copy", "steps"))  # else one is missing
    if not numbers or len(columns["decisions"]) != course.count or not np.isfinite(columns["return"]).all():
        return None
    course.take(columns, is_complete=True)
    return course


def _empty_course(run: Run, file: Path) -> Course:
    facts = tail_of(file.parent)
    return _empty(run, int(facts.get("episodes", 0)), int(facts.get("decisions", 0)))


def _names(course: Course) -> tuple[str, ...]:
    """The columns that a course is made of."""
    parameter = () if course._parameter is None else (course._parameter,)
    return ("decisions", "copy", "steps", "closed_by", *course.return_columns, *course._terms, *parameter)
