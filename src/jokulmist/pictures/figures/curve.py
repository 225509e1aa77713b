"""The learning curve: each episode faint, the mean of the last 100 strong, what random play and references reach, and
how episodes closed."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from jokulmist.environments.declaration.environment import describe
from jokulmist.errors import SettingError, listed, nearest
from jokulmist.pictures import style
from jokulmist.records.run_index import LAST
from jokulmist.training.evaluation.evaluate import RANDOM, Evaluation, evaluate_references, interval_of, sees_more
from jokulmist.training.runs.run import Run, runs_of

if TYPE_CHECKING:
    from matplotlib.axes import Axes

MOST_POINTS = 6000
FEW_POINTS = 400
FEWEST = 10
# A share of the axis that short episodes may have to themselves without a word.
UNEVEN, NEAR = 0.01, 0.025
OVER = ("steps", "episodes")
Levels = dict[str, Evaluation]
LINES = tuple(color for color in style.SERIES if color != style.ICE)  # a thin line needs a strong colour


def plot(
    run: Run | str | Path | Sequence[Run | str | Path],
    axes: Axes | None = None,
    *,
    over: str = "steps",
    known: Levels | None = None,
) -> Axes:
    """Draw the learning curve of a run, or of several.

    Parameters
    ----------
    run : Run, path of a run's folder, or sequence of them
        Several are drawn one beside the other, without their single episodes; where they differ in their method or its
        settings, all seeds of one have its colour.
    axes : matplotlib.axes.Axes, optional
        Where to draw; new ones by default. A band of how episodes closed is put below them.
    over : "steps" or "episodes"
        What the horizontal axis counts: decisions of all copies together, or episodes.
    known : dict of str to Evaluation, optional
        Levels of random play and the references; measured on 100 episodes each by default.

    Returns
    -------
    matplotlib.axes.Axes
    """
    runs = runs_of(run)
    if not runs:
        raise SettingError("there is no run to plot.")
    if over not in OVER:
        raise SettingError(f"`over` is {over!r}; allowed: {listed(OVER)}.{nearest(over, OVER)}")
    with style.styled():
        axes = style.axes_or_new(axes)
        environment = runs[0].environment
        known = evaluate_references(environment) if known is None else known
        groups = _groups(runs)
        for place, one in enumerate(runs):
            group = list(groups).index(repr(one.plan.agent)) if len(groups) > 1 else place
            color = LINES[group % len(LINES)]
            _curve(axes, one, over, color, alone=len(runs) == 1, label=_label(one, groups))
        if len(runs) == 1:
            _evaluations(axes, runs[0], over)
        _levels(axes, known, environment, several=len(runs) > 1)
        name = describe(environment).name
        agent = type(runs[0].plan.agent).__name__ if len(groups) == 1 else f"{len(groups)} agents"
        seeds = f"seed {runs[0].seed}" if len(runs) == 1 else f"{len({one.seed for one in runs})} seeds"
        axes.set_ylabel("return of an episode (sum of weighted reward terms)")
        if len(runs) == 1:
            _short_first(axes, runs[0], over)
            _has_curriculum(axes, runs[0], over)
            _closings(axes, runs[0], over)
        else:
            style.counted_axis(axes, over)
        style.legend_above(axes, f"{name}: what {agent} learned, {seeds}")
    return axes


def _at(frame: Any, over: str, decisions: Any = None) -> Any:
    """Where episodes, or moments of a run, stand on the horizontal axis."""
    if over == "steps" and decisions is not None:
        return decisions
    own = frame["decisions"].to_numpy() if len(frame) else np.zeros(0, int)
    if over == "steps":
        return own
    return np.arange(1, len(own) + 1) if decisions is None else np.searchsorted(own, decisions, side="right")


def _short_first(axes: Axes, run: Run, over: str) -> None:
    """Mark the part in which some copy has not yet closed an episode: what has closed there are the short ones."""
    frame = run.episodes
    if run.plan.copies == 1 or not len(frame):
        return
    first = frame.groupby("copy")["decisions"].first()
    whole = len(first) == run.plan.copies
    until = _at(frame, over, first.max() if whole else frame["decisions"].iloc[-1])
    if until > UNEVEN * _at(frame, over)[-1]:
        label = f"not yet an episode of each of {run.plan.copies} copies: short ones come first"
        axes.axvspan(0, until, color=style.STONE, alpha=0.13, linewidth=0, label=label, zorder=0)


def _groups(runs: list[Run]) -> dict[str, list[Run]]:
    """The runs by what they learn with, in the order in which they come."""
    found: dict[str, list[Run]] = {}
    for run in runs:
        found.setdefault(repr(run.plan.agent), []).append(run)
    return found


def _label(run: Run, groups: dict[str, list[Run]]) -> str:
    """How a run stands in the legend: by its name, or once for all seeds of its agent."""
    if len(groups) == 1:
        return f"{run.name}, mean of {LAST}"
    same = groups[repr(run.plan.agent)]
    if run is not same[0]:
        return "_nolegend_"
    return f"{run.plan.agent!r}, {len(same)} seed{'s' if len(same) > 1 else ''}, mean of {LAST}"


def _curve(axes: Axes, run: Run, over: str, color: str, alone: bool, label: str) -> None:
    frame = run.episodes
    if not len(frame):
        axes.text(0.5, 0.5, "no episode has closed yet", transform=axes.transAxes, ha="center")
        return
    at = _at(frame, over)
    if alone:
        thin = max(1, len(frame) // MOST_POINTS)  # more points than this are one grey mass
        size = 2.5 + 5.5 * max(0.0, 1.0 - len(frame) / FEW_POINTS)  # some twenty are to be seen, too
        axes.plot(
            at[::thin], frame["return"].to_numpy()[::thin], ".", color=style.ICE, markersize=size, alpha=0.55 if size < 4.0 else 1.0,
            label="one episode" if thin == 1 else f"one episode in {thin}", rasterized=True, zorder=1,
        )  # fmt: skip
    mean = frame["return"].rolling(LAST, min_periods=min(FEWEST, len(frame))).mean()
    label = f"mean of the last {LAST} episodes" if alone else label
    axes.plot(at, mean, color=color, linewidth=2.2 if alone else 1.5, label=label, zorder=3)


def _levels(axes: Axes, known: Levels, environment: Any, several: bool) -> None:
    for i, (name, level) in enumerate(known.items()):
        if name == RANDOM:
            label, color = f"random play, {level.mean:.3g}", style.STONE
        else:
            more = ", sees more than the agent" if sees_more(environment, name) else ""
            label, color = (
                f"reference {name}, {level.mean:.3g}{more}",
                style.INK if several else style.SERIES[1 + (i - 1) % 6],
            )
        axes.axhline(level.mean, color=color, linestyle=(0, (6, 3)), linewidth=1.5, label=label, zorder=2)


def _evaluations(axes: Axes, run: Run, over: str) -> None:
    """The evaluations of the run itself: mean returns without exploration, with their intervals."""
    frame = run.evaluated
    if not len(frame):
        return
    frame = frame[(frame["who"] == "policy") & (frame["act"] == "greedy") & (frame["learned"] > 0)]
    groups = frame.groupby("learned")["return"]
    if not len(groups):
        return
    mean, count = groups.mean(), groups.count()
    ends = [interval_of(m, s, int(n)) for m, s, n in zip(mean, groups.std().fillna(0.0), count, strict=True)]
    half = np.nan_to_num([high - m for (_, high), m in zip(ends, mean, strict=True)])
    axes.errorbar(
        _at(run.episodes, over, mean.index.to_numpy()), mean, yerr=half, color=style.RUST, fmt="o-", markersize=4, linewidth=1.1, capsize=2,
        label="evaluated without exploration, 95 %", zorder=4,
    )  # fmt: skip


def _has_curriculum(axes: Axes, run: Run, over: str) -> None:
    """Mark where a curriculum moved: whatever began after a move began at the new level."""
    levels, frame = run.plan.curriculum, run.episodes
    if levels is None or not len(frame):
        return
    begun = frame["decisions"].to_numpy() - run.plan.copies * frame["steps"].to_numpy()
    order = np.argsort(begun, kind="stable")
    places = frame[levels.parameter].to_numpy(np.float32)[order]
    near = NEAR * float(_at(frame, over)[-1])
    labels: list[tuple[float, str]] = []  # moves that are near each other have one label
    for k in np.flatnonzero(np.diff(places, prepend=np.nan)):
        moved, value = float(_at(frame, over, begun[order][k])), f"{places[k]:g}"
        axes.axvline(moved, color=style.HEATHER, linewidth=1.2, zorder=2)
        if labels and moved - labels[-1][0] < near:
            labels[-1] = (moved, f"{labels[-1][1]}, {value}")
        else:
            labels.append((moved, f"{levels.parameter} {value}"))
    for moved, text in labels:
        axes.annotate(
            text, (moved, 0.02), xycoords=("data", "axes fraction"), xytext=(3, 0), textcoords="offset points",
            rotation=90, va="bottom", color=style.HEATHER, fontweight="bold",
        )  # fmt: skip


def _closings(axes: Axes, run: Run, over: str) -> None:
    """A band below the curve: which share of the episodes each ending and cut closed, adding to one."""
    frame = run.episodes
    if not len(frame):
        style.counted_axis(axes, over)
        return
    band = axes.inset_axes((0.0, -0.26, 1.0, 0.2), sharex=axes)
    axes.tick_params(labelbottom=False)
    edges, where = style.bins_of(_at(frame, over))
    names = [n for n in describe(run.environment).closings if (frame["closed_by"] == n).any()]
    counts = np.array([np.bincount(where[frame["closed_by"] == n], minlength=len(edges) - 1) for n in names], float)
    total = counts.sum(axis=0)
    shares = counts / np.where(total > 0, total, np.nan)
    base = np.zeros(len(edges) - 1)
    for name, share, color in zip(names, shares, style.SERIES, strict=False):
        label = f"{name} ({counts[names.index(name)].sum() / len(frame):.1%})"
        band.stairs(base + share, edges, baseline=base, fill=True, color=color, alpha=0.85, label=label)
        base = base + share
    band.set_ylim(0, 1)
    band.set_xlim(0, edges[-1])
    band.set_ylabel("share closed by")
    band.set_yticks([0.0, 0.5, 1.0])
    band.grid(False)
    band.legend(loc="upper center", bbox_to_anchor=(0.5, -0.5), ncols=min(4, len(names)))
    style.counted_axis(band, over)
