"""Is it better, or was it luck? Groups of runs laid side by side, each seed one score.

A seed's final score is the mean return of its last policy over fixed evaluation episodes, the same for all. "Different"
is said by one test, a step-down permutation test over seeds at 5 % for all pairs that are shown; intervals are to be
looked at.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from typing import Any

import numpy as np

from jokulmist.environments.environment import Environment
from jokulmist.errors import SettingError, listed
from jokulmist.running.runs.run import Run, runs_of
from jokulmist.running.runs.scores import EPISODES, EVALUATION, RETURN, SEED, Score, full_weights
from jokulmist.studies.comparison.comparison import Comparison
from jokulmist.studies.comparison.curves import Over
from jokulmist.studies.comparison.grouping import grouped
from jokulmist.studies.comparison.scales import Message, Scales, common_weights
from jokulmist.studies.comparison.scored import (
    AREA,
    DECISIONS,
    compared,
    curve_rows,
    score_rows,
    scores_of_curves,
    shared_length,
)
from jokulmist.studies.comparison.versions import changes_told, refuse_returns


def _runs_of(value: Any) -> Any:
    """Runs as `compare` was given them, each a run or its folder."""
    if isinstance(value, Mapping):
        return {label: _runs_of(several) for label, several in value.items()}
    if isinstance(value, (str, bytes)) or not isinstance(value, Iterable):
        raise SettingError(f"`compare` takes a sequence of runs, or a dict of label to runs; got {value!r:.80}.")
    return runs_of(value)


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
    within: Run | Environment | None = None,
    on_message: Message | None = None,
) -> Comparison:
    """Lay groups of runs side by side, and say which differ.

    Parameters
    ----------
    runs : sequence of Run, or dict of label to runs
    by : str or sequence of str, optional
        Settings that make the groups; by default all in which the runs differ.
    score : str
        ``"evaluation"``: the mean return of the last policy over fixed evaluation episodes. ``"return"``: the mean
        return of the last 100 training episodes. Or a measure, over the evaluation episodes. How fast was learned:
        ``"area"``, the mean height of the curve; ``"decisions"``, after how many decisions the curve is at `level`.
    over : {"steps", "episodes", "seconds"}
        What the curves are drawn over.
    level : float, optional
        From which score on a seed has learned; by default halfway from random play to the best reference, or to the
        best seed where there is no reference.
    against : str, optional
        The label of a group: only pairs with it are shown and corrected for.
    weights : dict of str to float, optional
        Judge all by these weights of the reward terms; those not named are the environment's declared ones. Needed
        where the weights are what differs: returns under different weights are no common scale.
    episodes, seed : int
        Of the evaluation.
    within : Run or Environment, optional
        Play all last policies in this environment, or this run's: for runs on different versions of one.
    on_message : function of a text, optional
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
    (score - random) / (reference - random), and seeds are resampled and dealt again within each environment.

    Examples
    --------
    >>> import jokulmist as jm
    >>> runs = [
    ...     run
    ...     for bins in (4, 12)
    ...     for run in jm.train_seeds(jm.gallery.Tarn(), jm.QLearning(bins=bins), steps=2000, seeds=[0, 1, 2], workers=1, lane="plain", folder=None)
    ... ]
    >>> found = jm.compare(runs, episodes=10)
    >>> found.by, len(found.table)
    (['agent.bins'], 2)
    """
    on_message = on_message or (lambda _: None)
    grouping = grouped(_runs_of(runs), by)
    notes = list(grouping.notes)
    every = [run for group in grouping.groups for run in group.runs]
    _tell_unfinished(every, notes)
    changes = changes_told(every)
    notes += changes
    if any("term `" in change for change in changes):
        notes.append("the curves and their area show returns by each version's own terms: they are no common scale")
    place = within.environment if isinstance(within, Run) else within
    of_curves = score in (AREA, DECISIONS)
    for environment in {run.environment for run in every} if not of_curves else ():
        Score(score).refuse(environment)
    if place is None and (of_curves or score in (RETURN, EVALUATION)):
        refuse_returns(every, weights)
    if place is not None and of_curves:
        raise SettingError(
            f"`within` plays last policies, and `score={score!r}` asks how they came about; leave one of them out."
        )
    weights_used = common_weights(every, score, weights)
    if (
        weights_used is None
        and len({tuple(full_weights(run.environment).items()) for run in every}) > 1
        and score not in (RETURN, EVALUATION)
    ):
        notes.append("the curves show returns, each under the run's own weights: they are no common scale")
    scales = Scales(every, RETURN if of_curves else score, weights_used, episodes, seed, on_message, place)
    span, shared = shared_length(every, over, notes)
    if not of_curves:
        final_score = Score(RETURN if shared else score, episodes, seed, weights_used)
    if shared and not of_curves and (score not in (RETURN, EVALUATION) or place is not None):
        raise SettingError(f'runs of different length cannot be compared by `{score}`; use `score="return"`.')
    curves = curve_rows(grouping, over, span, scales, weights_used)
    if of_curves:
        if level is None and score == DECISIONS:
            level = scales.usual_level([float(np.nanmax(curve["value"])) for curve in curves])
        scores = scores_of_curves(grouping, curves, score, level, notes)
        level = None
    else:
        scores = score_rows(grouping, final_score, shared, scales, weights_used, notes, on_message, place)
        if level is None:
            level = scales.usual_level([row["score"] for row in scores])
    return compared(grouping, scores, curves, level, against, notes, scales, over, score)


def _tell_unfinished(runs: Sequence[Run], notes: list[str]) -> None:
    """A run that failed counts with what it has: leaving it out would flatter its group."""
    for status in ("failed", "running", "stopped"):
        unfinished = [run.name for run in runs if run.status == status]
        if unfinished:
            more = f" and {len(unfinished) - 3} more" if len(unfinished) > 3 else ""
            notes.append(
                f"{listed(unfinished[:3])}{more} {'is' if len(unfinished) == 1 else 'are'} {status}, and counted "
                "with the policy "
                "kept"
            )
