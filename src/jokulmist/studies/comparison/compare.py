"""Is it better, or was it luck? Groups of runs laid side by side, each seed one score.

A seed's final score is the mean return of its last policy over fixed evaluation episodes, the same for all. "Different" is said by
one test, a permutation test over seeds at 5 %, Holm-corrected over the pairs shown; intervals are to be looked at.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from jokulmist.errors import JokulmistError, SettingError, listed
from jokulmist.studies import statistics as stat
from jokulmist.studies.comparison.curves import PLACES, Over, curve_of, length_of, on_places
from jokulmist.studies.comparison.grouping import Group, Grouping, grouped
from jokulmist.studies.comparison.scales import Scales, common_weights
from jokulmist.studies.comparison.verdicts import DIFFERENT, DRAW_SEED, judged_pairs, said
from jokulmist.training.runs.run import Run
from jokulmist.training.runs.scores import EPISODES, EVALUATION, RETURN, SEED, Score, full_weights, score_of

if TYPE_CHECKING:
    import pandas as pd
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

OF_EACH_PLACE = 1_000  # resamples where there is an interval at each of many places
SAME_LENGTH = 0.02  # a last turn of all copies is run whole, so lengths differ a little
Say = Callable[[str], Any]


@dataclass(frozen=True)
class Comparison:
    """What came of laying groups side by side.

    Attributes
    ----------
    table : DataFrame
        A row a group: ``group``, ``seeds``, ``score`` (interquartile mean of the final scores) with its interval ``low`` and
        ``high``, ``median``, ``mean``, ``sd``, ``learned`` (share of seeds that reached the level) with ``learned_low`` and
        ``learned_high``, ``area`` (mean height of the curve over what is shared).
    pairs : DataFrame
        A row a pair: ``first``, ``second``, ``difference`` of the means, ``chance`` that a seed of the first beats one of the
        second, with ``low`` and ``high``, ``p``, ``p_holm``, ``verdict``, ``more_seeds`` (a side, to find a difference such as
        this one four times in five; not a number where no number would do).
    scores : DataFrame
        A row a run.
    curves, middle : DataFrame
        Long: each run's curve, and each group's middle with its interval.
    profile : DataFrame
        Long: the share of a group's seeds above each score.
    notes : list of str
        What a reader must know.
    by : list of str
    level : float or None
    value, over : str
        What scores and curves show.
    """

    table: pd.DataFrame
    pairs: pd.DataFrame
    scores: pd.DataFrame
    curves: pd.DataFrame
    middle: pd.DataFrame
    profile: pd.DataFrame
    notes: list[str]
    by: list[str]
    level: float | None
    value: str
    over: Over
    known: dict[str, float] = field(default_factory=dict)

    def plot(self, axes: Axes | None = None) -> Axes:
        """Draw the curves on `axes`; with None a figure of curves, scores and performance profile, whose first axes are given."""
        from jokulmist.pictures import style

        with style.styled():
            if axes is not None:
                return self._draw_curves(axes)
            import matplotlib.pyplot as plt

            return self._draw_all(plt.figure(figsize=(12.8, 8.0)))

    def _draw_all(self, figure: Figure) -> Axes:
        """Curves, final scores and performance profile; the axes of the curves."""
        from jokulmist.pictures.figures.comparison import comparison_axes, draw_profile, draw_scores

        parts = comparison_axes(figure)
        draw_scores(parts["scores"], self.scores, self.table, value=f"final {self.value}", level=self.level)
        parts["scores"].set_title("final scores, middle and 95 %")
        draw_profile(parts["profile"], self.profile, value=f"final {self.value}")
        parts["profile"].set_title("performance profile")
        return self._draw_curves(parts["curves"])

    def _draw_curves(self, axes: Axes) -> Axes:
        from jokulmist.pictures import style
        from jokulmist.pictures.figures.comparison import draw_curves

        along = f"mean {'normalised ' if self.value.startswith('normalised') else ''}return of the last 100 episodes"
        drawn = draw_curves(axes, self.curves, self.middle, over=self.over, value=along, levels=self.known)
        drawn.set_title(f"{len(self.table)} groups{f', by {_last(self.by)}' if self.by else ''}: middle and 95 % band")
        drawn.legend(loc="best", frameon=True, facecolor=style.PAPER, edgecolor="none", framealpha=0.85, fontsize=9)
        return drawn

    def save(self, path: str | Path) -> list[Path]:
        """Save the figure as PDF, SVG or PNG, by the ending of its name, and the numbers beside it as CSV.

        Returns
        -------
        list of Path
            The figure, then ``-table``, ``-pairs``, ``-scores``, ``-curves``, ``-middle`` and ``-profile``.
        """
        from jokulmist.pictures import style

        target = Path(path)
        if target.suffix.lower() not in (".pdf", ".svg", ".png"):
            raise SettingError(f"a figure is saved as .pdf, .svg or .png; got {target.name!r}. Write `figure.pdf`.")
        target.parent.mkdir(parents=True, exist_ok=True)
        with style.styled():
            figure = style.own_figure()
            self._draw_all(figure)
            saved = [style.save(figure, target)]
        for name in ("table", "pairs", "scores", "curves", "middle", "profile"):
            beside = target.with_name(f"{target.stem}-{name}.csv")
            getattr(self, name).to_csv(beside, index=False, float_format="%.7g")
            saved.append(beside)
        return saved

    def as_json(self) -> dict[str, Any]:
        """All but the curves, for programs."""
        return {
            "by": self.by, "value": self.value, "level": self.level, "known": self.known, "notes": self.notes,
            "groups": self.table.to_dict("records"), "pairs": self.pairs.to_dict("records"),
            "scores": self.scores.to_dict("records"),
        }  # fmt: skip

    def __repr__(self) -> str:
        best = self.table.sort_values("score", ascending=False).iloc[0]
        said = sum(self.pairs["verdict"] == DIFFERENT)
        return (
            f"<{len(self.table)} groups, best {best['group']}: {best['score']:.4g} [{best['low']:.4g}, {best['high']:.4g}]; "
            f"{said} of {len(self.pairs)} pairs different>"
        )


def compare(
    runs: Sequence[Run] | Mapping[str, Sequence[Run]],
    *,
    by: str | Sequence[str] | None = None,
    score: str = EVALUATION,
    over: Over = "steps",
    level: float | None = None,
    against: str | None = None,
    weights: Mapping[str, float] | None = None,
    episodes: int = EPISODES,
    seed: int = SEED,
    say: Say | None = None,
) -> Comparison:
    """Lay groups of runs side by side, and say which differ.

    Parameters
    ----------
    runs : sequence of Run, or dict of label to runs
    by : str or sequence of str, optional
        Settings that make the groups; by default all in which the runs differ.
    score : str
        ``"evaluation"``: the mean return of the last policy over fixed evaluation episodes. ``"return"``: the mean return of the
        last 100 training episodes. Or a measure, over the evaluation episodes.
    over : {"steps", "episodes", "seconds"}
        What the curves are drawn over.
    level : float, optional
        From which score on a seed has learned; by default halfway from random play to the best reference, or to the best seed
        where there is no reference.
    against : str, optional
        The label of a group: only pairs with it are shown and corrected for.
    weights : dict of str to float, optional
        Judge all by these weights of the reward terms; those not named are the environment's declared ones. Needed where the
        weights are what differs: returns under different weights are no common scale.
    episodes, seed : int
        Of the evaluation.
    say : function of a text, optional
        Told what is being done.

    Returns
    -------
    Comparison

    Raises
    ------
    SettingError, LookupFailed
        Where there is nothing to compare, or no common scale.

    Notes
    -----
    Runs of different length are compared on what they share: curves end there, and the final scores are the mean return
    of the last 100 training episodes up to there. Runs on different environments are normalised,
    (score - random) / (reference - random), and seeds are resampled and dealt anew within each environment.
    """
    say = say or (lambda _: None)
    grouping = grouped(runs, by)
    notes = list(grouping.notes)
    every = [run for group in grouping.groups for run in group.runs]
    _tell_unfinished(every, notes)
    for environment in {run.environment for run in every}:
        Score(score).refuse(environment)
    judged = common_weights(every, score, weights)
    if (
        judged is None
        and len({tuple(full_weights(run.environment).items()) for run in every}) > 1
        and score not in (RETURN, EVALUATION)
    ):
        notes.append("the curves show returns, each under the run's own weights: they are no common scale")
    scales = Scales(every, score, judged, episodes, seed, say)
    span, shared = _shared(every, over, notes)
    asked = Score(RETURN if shared else score, episodes, seed, judged)
    if shared and score not in (RETURN, EVALUATION):
        raise SettingError(f'runs of different length cannot be compared by `{score}`; use `score="return"`.')
    scores = _scored(grouping, asked, shared, scales, judged, notes, say)
    curves = _curves(grouping, over, span, scales, judged)
    if level is None:
        level = scales.usual_level([row["score"] for row in scores])
    return _told(grouping, scores, curves, level, against, notes, scales, over, score)


def _tell_unfinished(runs: Sequence[Run], notes: list[str]) -> None:
    """A run that failed counts with what it has: leaving it out would flatter its group."""
    for status in ("failed", "running", "stopped"):
        some = [run.name for run in runs if run.status == status]
        if some:
            more = f" and {len(some) - 3} more" if len(some) > 3 else ""
            notes.append(
                f"{listed(some[:3])}{more} {'is' if len(some) == 1 else 'are'} {status}, and counted with the policy kept"
            )


def _shared(runs: Sequence[Run], over: Over, notes: list[str]) -> tuple[float, float]:
    """The length that all curves have, and the decisions that all runs share where their lengths differ, else 0."""
    steps = [length_of(run, "steps") for run in runs]
    shared = 0.0
    if max(steps) > (1.0 + SAME_LENGTH) * min(steps):
        shared = min(steps)
        if shared <= 0.0:
            empty = runs[steps.index(shared)]
            raise SettingError(f"{empty.name} has no episode yet, so it shares nothing with the others. Leave it out.")
        notes.append(
            f"the runs are of different length, {min(steps):,.0f} to {max(steps):,.0f} decisions: they are compared on the first "
            f"{shared:,.0f}, by the mean return of the last 100 training episodes up to there"
        )
    span = min(length_of(run, over) for run in runs)
    return span, shared


def _scored(
    grouping: Grouping,
    asked: Score,
    shared: float,
    scales: Scales,
    weights: Mapping[str, float] | None,
    notes: list[str],
    say: Say,
) -> list[dict[str, Any]]:
    """The final score of each run."""
    rows: list[dict[str, Any]] = []
    total = sum(len(group.runs) for group in grouping.groups)
    for group in grouping.groups:
        for environment, runs in group.strata.items():
            for run in runs:
                say(f"scoring {len(rows) + 1} of {total}: {run.name}")
                try:
                    if shared:
                        at, mean = curve_of(run, "steps", weights)
                        value = float(on_places(at, mean, np.array([shared]))[0])
                    else:
                        value = score_of(run, asked)
                except JokulmistError as reason:
                    raise type(reason)(f"{run.name} cannot be scored: {reason}") from None
                if not math.isfinite(value):
                    raise SettingError(f"{run.name} has no score: no episode closed. Train it longer, or leave it out.")
                rows.append(
                    {"group": group.label, "environment": environment, "run": run.name, "seed": run.seed,
                     "score": float(scales.of(run, value)), "unscaled": value}
                )  # fmt: skip
    return rows


def _curves(
    grouping: Grouping, over: Over, span: float, scales: Scales, weights: Mapping[str, float] | None
) -> list[dict[str, Any]]:
    places = np.linspace(span / PLACES, span, PLACES)
    found = []
    for group in grouping.groups:
        for environment, runs in group.strata.items():
            for run in runs:
                value = on_places(*curve_of(run, over, weights), places)
                value = scales.of(run, value)
                found.append(
                    {
                        "group": group.label,
                        "environment": environment,
                        "run": run.name,
                        "seed": run.seed,
                        "at": places,
                        "value": value,
                    }
                )
    return found


def _told(
    grouping: Grouping, scores: list[dict[str, Any]], curves: list[dict[str, Any]], level: float | None, against: str | None,
    notes: list[str], scales: Scales, over: Over, score: str,
) -> Comparison:  # fmt: skip
    import pandas as pd

    frame = pd.DataFrame(scores)
    draw = np.random.default_rng(DRAW_SEED)
    strata = {group.label: _arrays(frame, group) for group in grouping.groups}
    table = [_row(group, strata[group.label], curves, level, draw) for group in grouping.groups]
    pairs = judged_pairs(strata, against)
    notes += said(pairs, strata)
    wide = [c for one in curves for c in [pd.DataFrame(one)]]
    unit = scales.value if score in (RETURN, EVALUATION) else score
    return Comparison(
        table=pd.DataFrame(table), pairs=pd.DataFrame(pairs), scores=frame, curves=pd.concat(wide, ignore_index=True),
        middle=pd.concat([_middle(group, curves, draw) for group in grouping.groups], ignore_index=True),
        profile=pd.concat([_profile(label, strata, draw) for label in strata], ignore_index=True), notes=notes,
        by=grouping.by, level=level, value=unit, over=over, known=scales.lines() if score in (RETURN, EVALUATION) else {},
    )  # fmt: skip


def _arrays(frame: pd.DataFrame, group: Group) -> list[stat.Array]:
    mine = frame[frame["group"] == group.label]
    return [mine[mine["environment"] == name]["score"].to_numpy() for name in group.strata]


def _row(
    group: Group, strata: list[stat.Array], curves: list[dict[str, Any]], level: float | None, draw: np.random.Generator
) -> dict[str, Any]:
    values = np.concatenate(strata)
    low, high = stat.interval(strata, stat.interquartile_mean, draw)
    hits = 0 if level is None else int(np.sum(values >= level))
    learned = (math.nan, math.nan, math.nan) if level is None else (hits / len(values), *stat.wilson(hits, len(values)))
    areas = [
        float(np.nanmean(c["value"])) for c in curves if c["group"] == group.label and np.isfinite(c["value"]).any()
    ]
    return {
        "group": group.label, "seeds": len(values), "score": float(stat.interquartile_mean(values)), "low": low, "high": high,
        "median": float(np.median(values)), "mean": float(values.mean()),
        "sd": float(values.std(ddof=1)) if len(values) > 1 else math.nan,
        "learned": learned[0], "learned_low": learned[1], "learned_high": learned[2],
        "area": float(np.mean(areas)) if areas else math.nan,
    }  # fmt: skip


def _middle(group: Group, curves: list[dict[str, Any]], draw: np.random.Generator) -> pd.DataFrame:
    """The interquartile mean of a group's curves at each place, with its interval."""
    import pandas as pd

    mine = [c for c in curves if c["group"] == group.label]
    values = np.stack([c["value"] for c in mine])
    known = np.isfinite(values).all(axis=0)
    middle = np.full(values.shape[1], np.nan)
    low, high = middle.copy(), middle.copy()
    middle[known] = stat.interquartile_mean(values[:, known], axis=0)
    rows: list[stat.Array] = [
        np.array([k for k, c in enumerate(mine) if c["environment"] == name]) for name in group.strata
    ]
    if min(map(len, rows)) > 1 and known.any():
        picks = stat.resampled(rows, draw, OF_EACH_PLACE).astype(int)
        low[known], high[known] = _band(stat.interquartile_mean(values[:, known][picks], axis=1), rows)
    return pd.DataFrame({"group": group.label, "at": mine[0]["at"], "middle": middle, "low": low, "high": high})


def _band(again: stat.Array, strata: stat.Strata) -> stat.Array:
    """The interval at each place, from resamples in rows."""
    tail = max(stat.widened(strata), 1.0 / OF_EACH_PLACE)
    found: stat.Array = np.quantile(again, [tail, 1.0 - tail], axis=0)
    return found


def _profile(label: str, groups: Mapping[str, stat.Strata], draw: np.random.Generator) -> pd.DataFrame:
    """The share of a group's seeds above each score that any seed has, with its interval; environments count alike."""
    import pandas as pd

    every = np.unique(np.concatenate([np.concatenate(list(strata)) for strata in groups.values()]))
    reach = (every[-1] - every[0]) or 1.0
    places = np.concatenate([[every[0] - 0.03 * reach], every, [every[-1] + 0.03 * reach]])

    def above(strata: stat.Strata) -> stat.Array:
        found: stat.Array = np.mean([(s[..., None] > places).mean(axis=-2) for s in strata], axis=0)
        return found

    strata = [np.asarray(s) for s in groups[label]]
    low = high = np.full(len(places), np.nan)
    if min(map(len, strata)) > 1:
        low, high = _band(above([stat.resampled([s], draw, OF_EACH_PLACE) for s in strata]), strata)
    return pd.DataFrame({"group": label, "score": places, "share": above(strata), "low": low, "high": high})


def _last(names: Sequence[str]) -> str:
    return ", ".join(name.rpartition(".")[2] for name in names)
