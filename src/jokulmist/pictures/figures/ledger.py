"""The reward ledger: what each term brought to the return, over training."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from jokulmist.agents.players import method_names
from jokulmist.environments.declaration.instance import describe
from jokulmist.pictures import style
from jokulmist.running.runs.course import course_of
from jokulmist.running.runs.run import Run

if TYPE_CHECKING:
    from matplotlib.axes import Axes


def ledger(run: Run | str | Path, axes: Axes | None = None) -> Axes:
    """Draw the weighted reward terms of a run, stacked: gains upwards, costs downwards, the return as a line.

    Parameters
    ----------
    run : Run, or path of a run's folder
    axes : matplotlib.axes.Axes, optional

    Returns
    -------
    matplotlib.axes.Axes

    Notes
    -----
    Each step of the stack is the mean over the episodes of one stretch of training. A term whose mean changes sign
    within a run moves from one side to the other.

    Examples
    --------
    >>> import jokulmist as jm
    >>> run = jm.train(jm.gallery.Tarn(), jm.QLearning(bins=8), steps=2000, lane="plain", folder=None)
    >>> axes = jm.ledger(run)
    >>> axes.get_xlabel()
    'decisions, all copies together'
    """
    run = Run.as_run(run)
    with style.styled():
        axes = style.axes_or_new(axes)
        description = describe(run.environment)
        course = course_of(run)
        axes.set_title(
            f"{description.name}: where the return came from, {method_names(run.plan.agent)}, seed {run.seed}"
        )
        axes.set_ylabel("mean return of an episode, by reward term")
        style.decisions_axis(axes)
        if not course.count:
            why = (
                "no episode has closed yet"
                if run.plan.training.records is None
                else "learned from records: no episode was stepped"
            )
            axes.text(0.5, 0.5, why, transform=axes.transAxes, ha="center")
            return axes
        stretches = course.stretches()
        up, down, total = (np.zeros(len(stretches.counts)) for _ in range(3))
        for k, (term, weight) in enumerate(zip(description.terms, description.weights, strict=True)):
            share = weight * stretches.terms[:, k] / stretches.counts
            total += share
            base = np.where(share >= 0, up, down)
            mean_amount = weight * float(stretches.terms[:, k].sum()) / course.count
            label = f"{term.name} x {weight:g}  (mean {mean_amount:+.3g})"
            axes.stairs(
                base + share,
                stretches.edges,
                baseline=base,
                fill=True,
                color=style.SERIES[k % len(style.SERIES)],
                alpha=0.85,
                label=label,
            )
            up, down = up + np.clip(share, 0, None), down + np.clip(share, None, 0)
        axes.stairs(total, stretches.edges, baseline=None, color=style.INK, linewidth=2.0, label="return")
        _novelty(axes, run, stretches)
        axes.axhline(0.0, color=style.INK, linewidth=0.8)
        axes.set_xlim(0, stretches.edges[-1])
        axes.legend(loc="upper center", bbox_to_anchor=(0.5, -0.13), ncols=3)
    return axes


def _novelty(axes: Axes, run: Run, stretches: Any) -> None:
    """What was learned from beside the return: the reward for what is new, of an episode as long as those of the
    time."""
    if getattr(run.plan.agent, "novelty", None) is None:
        return
    readings = run.readings
    if "novelty" not in readings or len(readings) < 2:
        return
    long = np.diff(stretches.edges) / stretches.counts
    decisions = readings["decisions"].to_numpy(float)
    each = np.interp(decisions, (stretches.edges[:-1] + stretches.edges[1:]) / 2.0, long)
    amount = readings["novelty"].to_numpy(float) * each
    axes.plot(
        decisions,
        amount,
        color=style.INK,
        linewidth=1.4,
        linestyle=(0, (1, 2)),
        label=f"novelty, learned from and no part of the return  (mean {np.nanmean(amount):+.3g})",
    )
