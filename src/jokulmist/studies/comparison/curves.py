"""Learning curves of several runs on one axis: what each returned lately, at the same places for all."""

from __future__ import annotations

from collections.abc import Mapping
from typing import TYPE_CHECKING, Any, Literal

import numpy as np

from jokulmist.arrays import NumpyArray
from jokulmist.errors import SettingError
from jokulmist.records.run_index import LAST
from jokulmist.running.runs.run import Run
from jokulmist.running.runs.scores import returns_under

if TYPE_CHECKING:
    import pandas as pd

Over = Literal["steps", "episodes", "seconds"]
OVERS: tuple[str, ...] = ("steps", "episodes", "seconds")
PLACES = 200
FEWEST = 10


def curve_of(run: Run, over: Over, weights: Mapping[str, float] | None = None) -> tuple[NumpyArray, NumpyArray]:
    """Where each episode of a run closed, and the mean return of the last 100 up to it."""
    if over not in OVERS:
        raise SettingError(f'`over` must be "steps", "episodes" or "seconds"; got {over!r}.')
    if "recorded" in run.origin:
        return _evaluated(run, over, weights)
    frame = run.episodes
    if not len(frame):
        return np.zeros(0), np.zeros(0)
    returns = frame["return"].to_numpy(np.float64) if weights is None else returns_under(frame, weights)
    # A run of very few episodes has a curve, too.
    mean = _rolling(returns, LAST, min(FEWEST, len(frame)))
    return _places(run, frame, over), mean


def _evaluated(run: Run, over: Over, weights: Mapping[str, float] | None) -> tuple[NumpyArray, NumpyArray]:
    """The same of a run that learned from records, and so has no episodes of its own: the means of its evaluations,
    over updates in the place of decisions."""
    frame = run.evaluated
    if len(frame):
        frame = frame[(frame["policy"] == "policy") & (frame["act"] == "greedy") & (frame["learned"] > 0)]
    if over == "episodes" or not len(frame):
        return np.zeros(0), np.zeros(0)
    returns: NumpyArray = frame["return"].to_numpy(np.float64) if weights is None else returns_under(frame, weights)
    rows: Any = (
        frame.assign(value=returns, decisions=frame["learned"]).groupby("decisions", as_index=False)["value"].mean()
    )
    return _places(run, rows, over), rows["value"].to_numpy(np.float64)


def _places(run: Run, frame: pd.DataFrame, over: Over) -> NumpyArray:
    if over == "episodes":
        return np.arange(1, len(frame) + 1, dtype=np.float64)
    decisions = frame["decisions"].to_numpy(np.float64)
    if over == "steps":
        return decisions
    readings = run.readings
    if not len(readings):
        return np.zeros(len(frame))
    decisions_known = np.concatenate([[0.0], readings["decisions"].to_numpy(np.float64)])
    seconds: NumpyArray = np.interp(
        decisions, decisions_known, np.concatenate([[0.0], readings["seconds"].to_numpy(np.float64)])
    )
    return seconds


def _rolling(values: NumpyArray, last: int, fewest: int) -> NumpyArray:
    """The mean of the last so many values at each place."""
    sums = np.concatenate([[0.0], np.cumsum(values)])
    counts = np.arange(1, len(values) + 1)
    first = np.maximum(counts - last, 0)
    mean: NumpyArray = np.where(counts < fewest, np.nan, (sums[counts] - sums[first]) / (counts - first))
    return mean


def length_of(run: Run, over: Over) -> float:
    """How long a run is."""
    places, _ = curve_of(run, over)
    if over == "steps" and run.origin.get("decisions"):
        return float(run.origin["decisions"])
    return float(places[-1]) if len(places) else 0.0


def on_places(curve_places: NumpyArray, mean: NumpyArray, places: NumpyArray) -> NumpyArray:
    """The value of a curve at some places: that of the last episode that closed up to each; not a number before the
    first."""
    index = np.searchsorted(curve_places, places, side="right") - 1
    if not len(curve_places):
        return np.full(len(places), np.nan)
    means: NumpyArray = np.where(index >= 0, mean[np.maximum(index, 0)], np.nan)
    return means
