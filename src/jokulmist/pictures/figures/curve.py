"""The learning curve: each episode faint, the mean of the last 100 strong, what random play and references reach, and
how episodes closed."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np

from jokulmist.agents.players import method_names
from jokulmist.environments.declaration.instance import describe
from jokulmist.environments.environment import Environment
from jokulmist.errors import SettingError, listed, nearest
from jokulmist.judging.cached_references import known_references
from jokulmist.judging.evaluate import RANDOM, Evaluation, interval_of, sees_more
from jokulmist.pictures import style
from jokulmist.records.episodes import pairing_name
from jokulmist.records.run_folder import EVALUATED
from jokulmist.running.runs.course import OVER, Course, course_of, greedy_rows, panel_rows
from jokulmist.running.runs.run import Run, runs_of

if TYPE_CHECKING:
    from matplotlib.axes import Axes


FEW_POINTS = 400
# A share of the axis that short episodes may have to themselves without a word.
UNEVEN, NEAR_SHARE = 0.01, 0.025
Levels = dict[str, Evaluation]
LINES = tuple(color for color in style.SERIES if color != style.ICE)  # a thin line needs a strong colour


def plot(
    run: Run | str | Path | Sequence[Run | str | Path],
    axes: Axes | None = None,
    *,
    over: str = "steps",
    levels: Levels | None = None,
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
    levels : dict of str to Evaluation, optional
        Levels of random play and the references; measured on 100 episodes each by default.

    Returns
    -------
    matplotlib.axes.Axes

    Examples
    --------
    >>> import jokulmist as jm
    >>> run = jm.train(jm.gallery.Tarn(), jm.QLearning(bins=8), steps=2000, lane="plain", folder=None)
    >>> axes = jm.plot(run)
    >>> axes.get_ylabel()
    'return of an episode (sum of weighted reward terms)'
    """
    runs = runs_of(run)
    if not runs:
        raise SettingError("there is no run to plot.")
    if over not in OVER:
        raise SettingError(f"`over` is {over!r}; allowed: {listed(OVER)}.{nearest(over, OVER)}")
    with style.styled():
        axes = style.axes_or_new(axes)
        environment = runs[0].environment
        levels = known_references(environment) if levels is None else levels
        groups = _groups(runs)
        courses = [course_of(each_run) for each_run in runs]
        for place, (each_run, course) in enumerate(zip(runs, courses, strict=True)):
            color = LINES[_place(runs, groups, place) % len(LINES)]
            if each_run.plan.training.records is None:  # else its evaluations are all that it has
                _curve(axes, course, over, color, alone=len(runs) == 1, label=_label(each_run, groups, course.window))
        if len(runs) == 1:
            _evaluations(axes, runs[0], courses[0], over)
        _levels(axes, levels, environment, several=len(runs) > 1)
        name = describe(environment).name
        agent = method_names(runs[0].plan.agent) if len(groups) == 1 else f"{len(groups)} agents"
        seeds = f"seed {runs[0].seed}" if len(runs) == 1 else f"{len({each_run.seed for each_run in runs})} seeds"
        rows = _players(axes, courses, [LINES[_place(runs, groups, k) % len(LINES)] for k in range(len(runs))], over)
        if len(runs) == 1:
            _panel(axes, rows, runs[0], courses[0], over)
        axes.set_ylabel("return, mean of players" if rows else "return of an episode (sum of weighted reward terms)")
        if len(runs) == 1:
            _short_first(axes, courses[0], over, runs[0].plan.copies)
            _has_curriculum(axes, courses[0], over, runs[0])
            _closings(axes, courses[0], over, rows)
        else:
            style.counted_axis(rows[-1] if rows else axes, over)
        _recorded(axes, runs)
        style.legend_above(
            axes, f"{name}: what {agent} learned{' from records' if runs[0].plan.training.records else ''}, {seeds}"
        )
    return axes


def _place(runs: list[Run], groups: dict[str, list[Run]], k: int) -> int:
    """Which colour a run has: that of its agent, where there are several."""
    return list(groups).index(repr(runs[k].plan.agent)) if len(groups) > 1 else k


def _players(axes: Axes, courses: list[Course], colors: list[str], over: str) -> list[Axes]:
    """A row a player below the curve, where they do not get the same, and of one run another for its band."""
    spec = axes.get_subplotspec()
    if spec is None or not any(course.players_differ for course in courses):
        return []
    names = courses[0].players
    alone = len(courses) == 1
    heights = [2.4, *[1.0] * len(names), *[0.6] * alone]
    rows = spec.subgridspec(len(heights), 1, height_ratios=heights)
    axes.set_subplotspec(rows[0])
    axes.tick_params(labelbottom=False)
    parts = [axes.figure.add_subplot(rows[k], sharex=axes) for k in range(1, len(heights))]
    for k, (player, part) in enumerate(zip(names, parts, strict=False)):
        for course, color in zip(courses, colors, strict=True):
            if course.count:
                part.plot(course.positions(over), course.player_means[k], color=color, linewidth=1.8)
        part.set_ylabel(f"{player} gets")
        part.tick_params(labelbottom=k == len(heights) - 2)
    return parts


def _short_first(axes: Axes, course: Course, over: str, copies: int) -> None:
    """Mark the part in which some copy has not yet closed an episode: what has closed there are the short ones."""
    if copies == 1 or not course.count:
        return
    firsts = course.first_of_copies
    until = course.positions(over, max(firsts.values()) if len(firsts) == copies else course.decisions[-1])
    if until > UNEVEN * course.positions(over)[-1]:
        label = f"not yet an episode of each of {copies} copies: short ones come first"
        axes.axvspan(0, float(until), color=style.STONE, alpha=0.13, linewidth=0, label=label, zorder=0)


def _groups(runs: list[Run]) -> dict[str, list[Run]]:
    """The runs by what they learn with, in the order in which they come."""
    groups: dict[str, list[Run]] = {}
    for run in runs:
        groups.setdefault(repr(run.plan.agent), []).append(run)
    return groups


def _label(run: Run, groups: dict[str, list[Run]], window: int) -> str:
    """How a run is in the legend: by its name, or once for all seeds of its agent."""
    if len(groups) == 1:
        return f"{run.name}, mean of {window}"
    same = groups[repr(run.plan.agent)]
    if run is not same[0]:
        return "_nolegend_"
    return f"{run.plan.agent!r}, {len(same)} seed{'s' if len(same) > 1 else ''}, mean of {window}"


def _curve(axes: Axes, course: Course, over: str, color: str, alone: bool, label: str) -> None:
    if not course.count:
        axes.text(0.5, 0.5, "no episode has closed yet", transform=axes.transAxes, ha="center")
        return
    places = course.positions(over)
    if alone:
        size = 2.5 + 5.5 * max(0.0, 1.0 - course.count / FEW_POINTS)  # some twenty are to be seen, too
        axes.plot(
            places,
            course.returns,
            ".",
            color=style.ICE,
            markersize=size,
            alpha=0.55 if size < 4.0 else 1.0,
            label="one episode" if course.thin == 1 else f"one episode in {course.thin:,}",
            rasterized=True,
            zorder=1,
        )
    label = f"mean of the last {course.window} episodes" if alone else label
    axes.plot(places, course.means, color=color, linewidth=2.2 if alone else 1.5, label=label, zorder=3)


def _recorded(axes: Axes, runs: list[Run]) -> None:
    """What those got who were recorded, where all runs learn from the same records; updates are counted then."""
    records = [each_run.origin["recorded"] for each_run in runs if "recorded" in each_run.origin]
    if len(records) == len(runs):
        axes.set_xlabel("updates")
        mean = records[0]["mean_return"]
        if all(each_run == records[0] for each_run in records):
            axes.axhline(mean, color=style.ICE, linewidth=3.0, label=f"recorded, {mean:.3g}", zorder=1)


def _levels(axes: Axes, levels: Levels, environment: Environment, several: bool) -> None:
    for i, (name, level) in enumerate(levels.items()):
        if name == RANDOM:
            label, color = f"random play, {level.mean:.3g}", style.STONE
        elif level.exact is not None:
            label, color = f"optimum, {level.exact:.4g}", style.INK
        else:
            more = ", sees more than the agent" if sees_more(environment, name) else ""
            label, color = (
                f"reference {name}, {level.mean:.3g}{more}",
                style.INK if several else style.SERIES[1 + (i - 1) % 6],
            )
        axes.axhline(
            level.level,
            color=color,
            linestyle=(0, (6, 3)),
            linewidth=1.5,
            label=label,
            zorder=2,
        )


def _evaluations(axes: Axes, run: Run, course: Course, over: str) -> None:
    """The evaluations of the run itself: mean returns without exploration, with their intervals."""
    if run.path is None or not (run.path / EVALUATED).exists():
        return  # nothing is loaded that reads tables
    groups = greedy_rows(run.evaluated)
    if not len(groups):
        return
    groups = groups["return"]
    mean, count = groups.mean(), groups.count()
    ends = [interval_of(m, s, int(n)) for m, s, n in zip(mean, groups.std().fillna(0.0), count, strict=True)]
    half = np.nan_to_num([high - m for (_, high), m in zip(ends, mean, strict=True)])
    axes.errorbar(
        course.positions(over, mean.index.to_numpy()),
        mean,
        yerr=half,
        color=style.RUST,
        fmt="o-",
        markersize=4,
        linewidth=1.1,
        capsize=2,
        label="evaluated without exploration, 95 %",
        zorder=4,
    )


def _panel(axes: Axes, rows: list[Axes], run: Run, course: Course, over: str) -> None:
    """What each player's policy got from each member of the panel, below the curve where players have rows."""
    pairings = panel_rows(run)
    members = list(dict.fromkeys(member for _, member in pairings))
    for (player, member), returns in pairings.items():
        means, row = returns.mean(), rows[course.players.index(player)] if rows else axes
        row.plot(
            course.positions(over, means.index.to_numpy()),
            means,
            "o-",
            color=LINES[(1 + members.index(member)) % len(LINES)],
            markersize=3,
            linewidth=1.0,
            label=f"against {member}" if rows else pairing_name(player, member),
        )
    for row in rows[: len(course.players)]:
        if row.get_legend_handles_labels()[1]:
            style.legend_at_corner(row)


def _has_curriculum(axes: Axes, course: Course, over: str, run: Run) -> None:
    """Mark where a curriculum moved: whatever began after a move began at the new level."""
    levels = run.plan.curriculum
    if levels is None or not course.count:
        return
    begins, places = course.moves[:, np.argsort(course.moves[0], kind="stable")]
    nearby = NEAR_SHARE * float(course.positions(over)[-1])
    labels: list[tuple[float, str]] = []  # moves that are near each other have one label
    for k in np.flatnonzero(np.diff(places, prepend=np.nan)):
        moved, value = float(course.positions(over, begins[k])), f"{places[k]:g}"
        axes.axvline(moved, color=style.HEATHER, linewidth=1.2, zorder=2)
        if labels and moved - labels[-1][0] < nearby:
            labels[-1] = (moved, f"{labels[-1][1]}, {value}")
        else:
            labels.append((moved, f"{levels.parameter} {value}"))
    for moved, text in labels:
        axes.annotate(
            text,
            (moved, 0.02),
            xycoords=("data", "axes fraction"),
            xytext=(3, 0),
            textcoords="offset points",
            rotation=90,
            va="bottom",
            color=style.HEATHER,
            fontweight="bold",
        )


def _closings(axes: Axes, course: Course, over: str, rows: list[Axes]) -> None:
    """A band below the curve, in the last of the rows where there are several: which share of the episodes each ending
    and cut closed, adding to one."""
    if not course.count:
        style.counted_axis(axes, over)
        return
    band = rows[-1] if rows else axes.inset_axes((0.0, -0.26, 1.0, 0.2), sharex=axes)
    axes.tick_params(labelbottom=False)
    stretches = course.stretches(over)
    base = np.zeros(len(stretches.counts))
    met_closings = np.flatnonzero(stretches.closings.sum(axis=0))
    for k, color in zip(met_closings, style.SERIES, strict=False):
        counts = stretches.closings[:, k]
        share = counts / stretches.counts
        label = f"{course.closings[k]} ({counts.sum() / course.count:.1%})"
        band.stairs(base + share, stretches.edges, baseline=base, fill=True, color=color, alpha=0.85, label=label)
        base = base + share
    band.set_ylim(0, 1)
    band.set_xlim(0, stretches.edges[-1])
    band.set_ylabel("closed by" if rows else "share closed by")
    band.set_yticks([0.0, 0.5, 1.0])
    band.grid(False)
    band.legend(loc="upper center", bbox_to_anchor=(0.5, -0.95 if rows else -0.46), ncols=min(4, len(met_closings)))
    style.counted_axis(band, over)
