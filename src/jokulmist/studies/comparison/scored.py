"""Groups of runs as scores and curves, in rows and in arrays."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING, Any

import numpy as np

from jokulmist.arrays import NumpyArray
from jokulmist.environments.environment import Environment
from jokulmist.errors import JokulmistError, SettingError
from jokulmist.records.run_index import LAST
from jokulmist.running.runs.run import Run
from jokulmist.running.runs.scores import EVALUATION, RETURN, Score, score_of, score_within
from jokulmist.studies import statistics as stat
from jokulmist.studies.comparison.comparison import Comparison
from jokulmist.studies.comparison.curves import PLACES, Over, curve_of, length_of, on_places
from jokulmist.studies.comparison.grouping import Grouping, RunGroup
from jokulmist.studies.comparison.scales import Message, Scales
from jokulmist.studies.comparison.verdicts import DRAW_SEED, judged_pairs, verdict_lines

if TYPE_CHECKING:
    import pandas as pd


AREA, DECISIONS = "area", "decisions"
OF_EACH_PLACE = 1_000  # resamples where there is an interval at each of many places


SAME_LENGTH = 0.02  # a last turn of all copies is run whole, so lengths differ a little


def shared_length(runs: Sequence[Run], over: Over, notes: list[str]) -> tuple[float, float]:
    """The length that all curves have, and the decisions that all runs share where their lengths differ, else 0."""
    steps = [length_of(run, "steps") for run in runs]
    shared = 0.0
    if max(steps) > (1.0 + SAME_LENGTH) * min(steps):
        shared = min(steps)
        if shared <= 0.0:
            empty = runs[steps.index(shared)]
            raise SettingError(f"{empty.name} has no episode yet, so it shares nothing with the others. Leave it out.")
        text = (
            "last evaluation"
            if all("recorded" in run.origin for run in runs)
            else f"mean return of the last {LAST} training episodes"
        )
        notes.append(
            f"the runs are of different length, {min(steps):,.0f} to {max(steps):,.0f} decisions: they are compared on "
            f"the first {shared:,.0f}, by the {text} up to there"
        )
    span = min(length_of(run, over) for run in runs)
    return span, shared


def score_rows(
    grouping: Grouping,
    final_score: Score,
    shared: float,
    scales: Scales,
    weights: Mapping[str, float] | None,
    notes: list[str],
    on_message: Message,
    within: Environment | None = None,
) -> list[dict[str, Any]]:
    """The final score of each run; where there is an environment to play `within`, of its last policy there."""
    rows: list[dict[str, Any]] = []
    total = sum(len(group.runs) for group in grouping.groups)
    for group in grouping.groups:
        for environment, runs in group.strata.items():
            for run in runs:
                on_message(f"scoring {len(rows) + 1} of {total}: {run.name}")
                try:
                    if shared:
                        places, mean = curve_of(run, "steps", weights)
                        value = float(on_places(places, mean, np.array([shared]))[0])
                    elif within is not None:
                        value = score_within(run, within, final_score)
                    else:
                        value = score_of(run, final_score)
                except JokulmistError as reason:
                    raise type(reason)(f"{run.name} cannot be scored: {reason}") from None
                if not math.isfinite(value):
                    raise SettingError(f"{run.name} has no score: no episode closed. Train it longer, or leave it out.")
                rows.append(
                    {
                        "group": group.label,
                        "environment": environment,
                        "run": run.name,
                        "seed": run.seed,
                        "score": float(scales.scaled(run, value)),
                        "unscaled": value,
                    }
                )
    return rows


def curve_rows(
    grouping: Grouping, over: Over, span: float, scales: Scales, weights: Mapping[str, float] | None
) -> list[dict[str, Any]]:
    places = np.linspace(span / PLACES, span, PLACES)
    rows = []
    for group in grouping.groups:
        for environment, runs in group.strata.items():
            for run in runs:
                value = on_places(*curve_of(run, over, weights), places)
                value = scales.scaled(run, value)
                rows.append(
                    {
                        "group": group.label,
                        "environment": environment,
                        "run": run.name,
                        "seed": run.seed,
                        "at": places,
                        "value": value,
                    }
                )
    return rows


def scores_of_curves(
    grouping: Grouping, curves: list[dict[str, Any]], score: str, level: float | None, notes: list[str]
) -> list[dict[str, Any]]:
    """How fast each run learned: the mean height of its curve, or the decisions after which the curve is at a level."""
    rows, never = [], 0
    for curve in curves:
        value, places = np.asarray(curve["value"]), np.asarray(curve["at"])
        if not np.isfinite(value).any():
            raise SettingError(
                f"{curve['run']} has no curve: too few episodes closed. Train it longer, or leave it out."
            )
        if score == AREA:
            score_value = float(np.nanmean(value))
        else:
            if level is None:
                raise SettingError(
                    '`score="decisions"` asks after how many decisions a level is reached: say which, `level=`.'
                )
            reached = np.flatnonzero(value >= level)
            never += not len(reached)
            score_value = float(places[reached[0]]) if len(reached) else float(places[-1])
        rows.append(
            {
                **{n: curve[n] for n in ("group", "environment", "run", "seed")},
                "score": score_value,
                "unscaled": score_value,
            }
        )
    if never:
        notes.append(f"{never} of {len(curves)} seeds never came to {level:.4g}, and count with the whole length")
    if score == DECISIONS:
        notes.append("fewer decisions are better: a group beats another where it needs fewer")
    return rows


def compared(
    grouping: Grouping,
    scores: list[dict[str, Any]],
    curves: list[dict[str, Any]],
    level: float | None,
    against: str | None,
    notes: list[str],
    scales: Scales,
    over: Over,
    score: str,
) -> Comparison:
    import pandas as pd

    frame = pd.DataFrame(scores)
    draw = np.random.default_rng(DRAW_SEED)
    strata = {group.label: _arrays(frame, group) for group in grouping.groups}
    table = [_row(group, strata[group.label], curves, level, draw) for group in grouping.groups]
    sign = -1.0 if score == DECISIONS else 1.0
    pairs = judged_pairs({label: [sign * s for s in several] for label, several in strata.items()}, against)
    for pair in pairs:
        pair["difference"] *= sign
    notes += verdict_lines(pairs, strata)
    wide = [c for curve_table in curves for c in [pd.DataFrame(curve_table)]]
    unit = (
        scales.value
        if score in (RETURN, EVALUATION)
        else {AREA: "mean height of the curve", DECISIONS: "decisions to the level"}.get(score, score)
    )
    return Comparison(
        table=pd.DataFrame(table),
        pairs=pd.DataFrame(pairs),
        scores=frame,
        curves=pd.concat(wide, ignore_index=True),
        middle=pd.concat([_middle(group, curves, draw) for group in grouping.groups], ignore_index=True),
        profile=pd.concat([_profile(label, strata, draw) for label in strata], ignore_index=True),
        notes=notes,
        by=grouping.by,
        level=level,
        value=unit,
        over=over,
        levels=scales.lines() if score in (RETURN, EVALUATION) else {},
    )


def _arrays(frame: pd.DataFrame, group: RunGroup) -> list[NumpyArray]:
    rows = frame[frame["group"] == group.label]
    return [rows[rows["environment"] == name]["score"].to_numpy() for name in group.strata]


def _row(
    group: RunGroup,
    strata: list[NumpyArray],
    curves: list[dict[str, Any]],
    level: float | None,
    draw: np.random.Generator,
) -> dict[str, Any]:
    values = np.concatenate(strata)
    low, high = stat.interval(strata, stat.interquartile_mean, draw)
    hits = 0 if level is None else int(np.sum(values >= level))
    learned = (math.nan, math.nan, math.nan) if level is None else (hits / len(values), *stat.wilson(hits, len(values)))
    areas = [
        float(np.nanmean(c["value"])) for c in curves if c["group"] == group.label and np.isfinite(c["value"]).any()
    ]
    return {
        "group": group.label,
        "seeds": len(values),
        "score": float(stat.interquartile_mean(values)),
        "low": low,
        "high": high,
        "median": float(np.median(values)),
        "mean": float(values.mean()),
        "sd": float(values.std(ddof=1)) if len(values) > 1 else math.nan,
        "learned": learned[0],
        "learned_low": learned[1],
        "learned_high": learned[2],
        "area": float(np.mean(areas)) if areas else math.nan,
    }


def _middle(group: RunGroup, curves: list[dict[str, Any]], draw: np.random.Generator) -> pd.DataFrame:
    """The interquartile mean of a group's curves at each place, with its interval."""
    import pandas as pd

    group_curves = [c for c in curves if c["group"] == group.label]
    values = np.stack([c["value"] for c in group_curves])
    is_finite = np.isfinite(values).all(axis=0)
    middle = np.full(values.shape[1], np.nan)
    low, high = middle.copy(), middle.copy()
    middle[is_finite] = stat.interquartile_mean(values[:, is_finite], axis=0)
    rows: list[NumpyArray] = [
        np.array([k for k, c in enumerate(group_curves) if c["environment"] == name]) for name in group.strata
    ]
    if min(map(len, rows)) > 1 and is_finite.any():
        picks = stat.resampled(rows, draw, OF_EACH_PLACE).astype(int)
        resamples = stat.interquartile_mean(values[:, is_finite][picks], axis=1)
        low[is_finite], high[is_finite] = stat.interval_ends(resamples, middle[is_finite], rows)
    return pd.DataFrame({"group": group.label, "at": group_curves[0]["at"], "middle": middle, "low": low, "high": high})


def _profile(label: str, groups: Mapping[str, stat.Strata], draw: np.random.Generator) -> pd.DataFrame:
    """The share of a group's seeds above each score that any seed has, with its interval; environments count alike."""
    import pandas as pd

    every = np.unique(np.concatenate([np.concatenate(list(strata)) for strata in groups.values()]))
    reach = (every[-1] - every[0]) or 1.0
    places = np.concatenate([[every[0] - 0.03 * reach], every, [every[-1] + 0.03 * reach]])

    def above(strata: stat.Strata) -> NumpyArray:
        profile: NumpyArray = np.mean([(s[..., None] > places).mean(axis=-2) for s in strata], axis=0)
        return profile

    strata = [np.asarray(s) for s in groups[label]]
    low = high = np.full(len(places), np.nan)
    if min(map(len, strata)) > 1:
        resamples = above([stat.resampled([s], draw, OF_EACH_PLACE) for s in strata])
        ends = stat.interval_ends(resamples, above(strata), strata)
        low, high = np.clip(ends, 0.0, 1.0)
    return pd.DataFrame({"group": label, "score": places, "share": above(strata), "low": low, "high": high})
