"""Curves and scores of several groups, side by side: each seed faint, the middle strong with its interval."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

from jokulmist.pictures import style

if TYPE_CHECKING:
    import pandas as pd
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

MOST_SEEDS_DRAWN = 20
MOST_BANDS = 3  # steps over more bands than this are mud
LABELS = {
    "steps": "decisions, all copies together",
    "episodes": "episodes",
    "seconds": "seconds of training",
}


def colours(labels: Sequence[str]) -> dict[str, Any]:
    """A colour a group: distinct ones for a few, one scale from light to dark for many."""
    strong = [color for color in style.SERIES if color != style.ICE]
    if len(labels) <= len(strong):
        return dict(zip(labels, strong, strict=False))
    from matplotlib.colors import LinearSegmentedColormap

    scale = LinearSegmentedColormap.from_list("fjord", [style.OCHRE, style.RUST, style.HEATHER, style.WATER, style.INK])
    return {label: scale(k / (len(labels) - 1)) for k, label in enumerate(labels)}


def draw_curves(
    axes: Axes, curves: pd.DataFrame, middle: pd.DataFrame, *, over: str, value: str, levels: dict[str, float]
) -> Axes:
    """Draw every seed's curve, and the middle of each group with its band."""
    labels = list(dict.fromkeys(middle["group"]))
    color = colours(labels)
    for label in labels:
        group_curves = curves[curves["group"] == label]
        runs = list(dict.fromkeys(zip(group_curves["environment"], group_curves["run"], strict=True)))
        for environment, run in runs[:MOST_SEEDS_DRAWN]:
            part = group_curves[(group_curves["run"] == run) & (group_curves["environment"] == environment)]
            axes.plot(part["at"], part["value"], color=color[label], linewidth=0.7, alpha=0.3, zorder=2)
        strong = middle[middle["group"] == label]
        axes.fill_between(
            strong["at"], strong["low"], strong["high"], color=color[label], alpha=0.16, linewidth=0, zorder=1
        )
        seeds = len(runs)
        axes.plot(
            strong["at"],
            strong["middle"],
            color=color[label],
            linewidth=2.4,
            zorder=3,
            label=f"{label}  ({seeds} seed{'s' if seeds > 1 else ''})",
        )
    for name, level in levels.items():
        tone = style.STONE if name.startswith("random") else style.INK
        axes.axhline(level, color=tone, linestyle=(0, (6, 3)), linewidth=1.3, label=f"{name}, {level:.3g}", zorder=2)
    if over == "steps":
        style.decisions_axis(axes)
    else:
        axes.set_xlabel(LABELS[over])
    axes.set_ylabel(value)
    return axes


def draw_scores(axes: Axes, scores: pd.DataFrame, table: pd.DataFrame, *, value: str, level: float | None) -> Axes:
    """Draw the final score of each seed as a dot, and each group's interquartile mean with its interval."""
    import numpy as np

    labels = table["group"].tolist()
    color = colours(labels)
    for place, label in enumerate(labels):
        values = np.sort(scores[scores["group"] == label]["score"].to_numpy())
        spread = np.linspace(-0.16, 0.16, len(values)) if len(values) > 1 else np.zeros(1)
        axes.plot(
            values, place + spread, "o", color=color[label], markersize=4.5, alpha=0.55, markeredgewidth=0, zorder=2
        )
        row = table[table["group"] == label].iloc[0]
        if np.isfinite(row["low"]):
            axes.plot([row["low"], row["high"]], [place, place], color=style.INK, linewidth=1.6, zorder=3)
        axes.plot(row["score"], place, "D", color=color[label], markeredgecolor=style.INK, markersize=8, zorder=4)
    if level is not None:
        axes.axvline(level, color=style.STONE, linestyle=(0, (2, 2)), linewidth=1.2, zorder=1)
        axes.annotate(
            f"learned above {level:.3g}",
            (level, 1.0),
            xycoords=("data", "axes fraction"),
            xytext=(3, -3),
            textcoords="offset points",
            va="top",
            color=style.STONE,
            fontsize=8.5,
        )
    axes.set_yticks(range(len(labels)), labels)
    axes.set_ylim(len(labels) - 0.5, -0.5 if level is None else -1.1)  # room for the word, where no point is
    axes.set_xlabel(value)
    axes.grid(True, axis="x")
    axes.grid(False, axis="y")
    return axes


def draw_profile(axes: Axes, profile: pd.DataFrame, *, value: str) -> Axes:
    """Draw which share of a group's seeds scored above each score."""
    labels = list(dict.fromkeys(profile["group"]))
    color = colours(labels)
    for label in labels:
        part = profile[profile["group"] == label]
        if len(labels) <= MOST_BANDS:
            axes.fill_between(
                part["score"], part["low"], part["high"], color=color[label], alpha=0.12, linewidth=0, step="post"
            )
        axes.step(part["score"], part["share"], where="post", color=color[label], linewidth=2.0)
    axes.set_ylim(-0.02, 1.02)
    axes.set_xlabel(value)
    axes.set_ylabel("share of seeds above")
    return axes


def comparison_axes(figure: Figure) -> dict[str, Axes]:
    """Axes in a figure: curves to the left, scores and profile to the right."""
    figure.subplots_adjust(left=0.065, right=0.98, top=0.93, bottom=0.1, wspace=0.38, hspace=0.34)
    grid = figure.add_gridspec(2, 2, width_ratios=(1.75, 1.0))
    return {
        "curves": figure.add_subplot(grid[:, 0]),
        "scores": figure.add_subplot(grid[0, 1]),
        "profile": figure.add_subplot(grid[1, 1]),
    }
