"""How a search went: the scores as they came, what mattered, a slice a setting, all candidates side by side."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from jokulmist.pictures import style
from jokulmist.plans.setting_differences import short_names

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

MOST_SLICES = 9
WIDTHS = {1: 1, 2: 2, 3: 3, 4: 2}


def save_search(search: Mapping[str, Any], folder: Path) -> list[Path]:
    """Draw all pictures of a search."""
    if not search["points"]:
        return []
    saved = []
    with style.styled():
        for name, draw in (("search", search_figure), ("slices", slices_figure), ("parallel", parallel_figure)):
            if name == "parallel" and len(search["names"]) < 2:
                continue
            saved.append(style.save(draw(search), folder / f"{name}.png"))
    return saved


def search_figure(search: Mapping[str, Any]) -> Figure:
    """The scores in the order of the candidates with the best so far, and which settings mattered."""
    figure = style.own_figure()
    grid = figure.add_gridspec(
        1, 2, width_ratios=(1.25, 1.0), left=0.065, right=0.975, top=0.92, bottom=0.22, wspace=0.42
    )
    draw_progress(figure.add_subplot(grid[0]), search)
    draw_importance(figure.add_subplot(grid[1]), search)
    note = search["importance"].note
    if note:
        figure.text(0.065, 0.035, style.wrapped(note), color=style.STONE, fontsize=9.5, va="bottom")
    return figure


def draw_progress(axes: Axes, search: Mapping[str, Any]) -> Axes:
    """Each candidate's score, the best so far, and what the winner came to on new seeds."""
    points = sorted(search["points"], key=lambda p: p["number"])
    ranks = sorted({p["rank"] for p in points})
    tints = (style.MOSS, style.ICE, style.STONE)
    for rank in ranks[::-1]:
        at_rank = [p for p in points if p["rank"] == rank]
        full = rank == 0
        axes.plot(
            [p["number"] for p in at_rank],
            [p["value"] for p in at_rank],
            "o",
            color=style.WATER if full else tints[(rank - 1) % len(tints)],
            markersize=7 if full else 5,
            alpha=0.9 if full else 0.8,
            markeredgewidth=0,
            label="trained to the end" if full else f"halted after {max(p['decisions'] for p in at_rank):,}",
        )
    finished = [p for p in points if p["rank"] == ranks[0]]
    best = (
        np.maximum.accumulate([p["value"] for p in finished])
        if search["higher"]
        else np.minimum.accumulate([p["value"] for p in finished])
    )
    axes.step([p["number"] for p in finished], best, where="post", color=style.OCHRE, linewidth=2, label="best so far")
    winner = next((p for p in points if p["number"] == search["winner"]), None)
    if winner is not None:
        axes.plot(
            winner["number"],
            winner["value"],
            "D",
            color=style.OCHRE,
            markeredgecolor=style.INK,
            markersize=10,
            label="the winner",
        )
    if search["again"]:
        mean = float(np.mean(search["again"]))
        axes.axhline(
            mean,
            color=style.RUST,
            linestyle=(0, (6, 3)),
            linewidth=1.6,
            label=f"the winner on {len(search['again'])} new seeds, {mean:.4g}",
        )
        axes.plot(
            [points[-1]["number"] + 1.5] * len(search["again"]),
            search["again"],
            "o",
            color=style.RUST,
            markersize=4,
            alpha=0.7,
        )
    axes.set_title(f"{search['name']}: scores as they came")
    axes.set_xlabel("candidate")
    axes.set_ylabel(f"score ({search['score']})")
    axes.legend(loc="upper left", bbox_to_anchor=(-0.02, -0.09), ncols=3)
    return axes


def draw_importance(axes: Axes, search: Mapping[str, Any]) -> Axes:
    """A bar a setting, with its interval."""
    importance = search["importance"]
    table = importance.table
    short = short_names(list(table["setting"]))
    places = np.arange(len(table))
    if table["matters"].notna().any():
        value = table["matters"].to_numpy()
        axes.barh(places, np.maximum(value, 0.0), color=style.MOSS, height=0.55)
        axes.hlines(places, table["low"], table["high"], color=style.INK, linewidth=1.6)
        axes.axvline(0.0, color=style.STONE, linewidth=1.0)
        axes.set_title(f"what mattered: the model predicts {max(importance.explained, 0.0):.0%}")
    else:
        axes.set_title("what mattered: too early to say")
        axes.set_xticks([])
    axes.set_yticks(places, [short[name] for name in table["setting"]])
    axes.set_ylim(len(table) - 0.5, -0.5)
    axes.set_xlabel("share of the scores' variance lost when shuffled, 95 %")
    axes.grid(False, axis="y")
    return axes


def slices_figure(search: Mapping[str, Any]) -> Figure:
    """One panel a setting: the candidates' scores over its values, and what the model expects."""
    names = list(search["names"])[:MOST_SLICES]
    columns = WIDTHS.get(len(names), 3)
    rows = -(-len(names) // columns)
    figure = style.own_figure()
    axes = figure.subplots(rows, columns, squeeze=False, sharey=True)
    figure.subplots_adjust(left=0.07, right=0.98, top=0.91, bottom=0.12, hspace=0.35, wspace=0.12)
    figure.suptitle(f"{search['name']}: the score over each setting", x=0.07, ha="left", fontweight="bold")
    every = [axes[k // columns][k % columns] for k in range(rows * columns)]
    for place, name in zip(every, names, strict=False):
        draw_slice(place, search, name)
    for place in every[len(names) :]:
        place.set_axis_off()
    for row in axes:
        row[0].set_ylabel(f"score ({search['score']})")
    if search["importance"].note:
        figure.text(0.07, 0.015, style.wrapped(search["importance"].note), color=style.STONE, fontsize=9)
    return figure


def draw_slice(axes: Axes, search: Mapping[str, Any], name: str) -> Axes:
    """The scores over one setting."""
    from matplotlib.ticker import NullLocator

    dimension = search["over"][name]
    words = hasattr(dimension, "values")
    labels = [str(v) for v in dimension.values] if words else []

    def across(value: Any) -> Any:
        return labels.index(str(value)) if words else value

    for settings, score, won in search["compared"]:
        if name in settings:
            axes.plot(
                across(settings[name]),
                score,
                "D" if won else "o",
                markersize=9 if won else 5,
                alpha=1.0 if won else 0.7,
                color=style.OCHRE if won else style.WATER,
                zorder=3 if won else 2,
                markeredgecolor=style.INK if won else "none",
            )
    lines = search["importance"].slices
    lines_of_setting = lines[lines["setting"] == name] if len(lines) else lines
    if len(lines_of_setting):
        places = [across(value) for value in lines_of_setting["value"]]
        axes.fill_between(
            places,
            lines_of_setting["low"].astype(float),
            lines_of_setting["high"].astype(float),
            color=style.MOSS,
            alpha=0.2,
            linewidth=0,
        )
        axes.plot(places, lines_of_setting["expected"].astype(float), color=style.MOSS, linewidth=2)
    if words:
        axes.set_xticks(range(len(labels)), labels)
        axes.set_xlim(-0.5, len(labels) - 0.5)
    elif dimension.scale == "log":
        axes.set_xscale("log")
        axes.xaxis.set_minor_locator(NullLocator())
        ticks = np.geomspace(dimension.low, dimension.high, 4)
        axes.set_xticks(ticks, [f"{round(tick) if dimension.whole else float(f'{tick:.1g}'):g}" for tick in ticks])
    axes.set_xlabel(name.partition(".")[2])
    return axes


def parallel_figure(search: Mapping[str, Any]) -> Figure:
    """All candidates as lines from setting to setting, coloured by their score."""
    from matplotlib.cm import ScalarMappable
    from matplotlib.colors import LinearSegmentedColormap, Normalize

    figure = style.own_figure()
    axes = figure.add_axes((0.06, 0.12, 0.82, 0.78))
    names = list(search["names"])
    points = sorted(search["points"], key=lambda p: p["value"] if search["higher"] else -p["value"])
    values = np.array([p["value"] for p in points])
    low, high = float(np.quantile(values, 0.1)), float(values.max())
    low, high = (low, high) if high > low else (low - 0.5, high + 0.5)
    scale = Normalize(low, high, clip=True)
    tint = LinearSegmentedColormap.from_list("ice", [style.ICE, style.WATER, style.OCHRE, style.RUST])
    for rank, p in enumerate(points):
        heights = [search["place"](n, p["settings"][n]) if n in p["settings"] else np.nan for n in names]
        top = rank >= len(points) - max(3, len(points) // 10)
        axes.plot(
            range(len(names) + 1),
            [*heights, float(scale(p["value"]))],
            color=tint(scale(p["value"])),
            linewidth=2.4 if top else 1.0,
            alpha=0.95 if top else 0.45,
            zorder=3 if top else 2,
            marker="o",
            markersize=3,
        )
    for k, name in enumerate(names):
        axes.axvline(k, color=style.STONE, linewidth=1.0, zorder=1)
        dimension = search["over"][name]
        marks = list(dimension.values) if hasattr(dimension, "values") else [dimension.low, dimension.high]
        for value in marks if len(marks) <= 8 else (marks[0], marks[-1]):
            label = f"{value:g}" if isinstance(value, (int, float)) and not isinstance(value, bool) else str(value)
            axes.annotate(
                label,
                (k, search["place"](name, value)),
                xytext=(-5, 0),
                textcoords="offset points",
                fontsize=9,
                ha="right",
                va="center",
                zorder=5,
                bbox={"facecolor": axes.get_facecolor(), "edgecolor": "none", "alpha": 0.85, "pad": 1.0},
            )
    axes.axvline(len(names), color=style.STONE, linewidth=1.0)
    short = short_names(names)
    axes.set_xticks(range(len(names) + 1), [*[short[name] for name in names], "score"])
    axes.set_yticks([])
    axes.set_ylim(-0.05, 1.08)
    axes.grid(False)
    axes.spines["left"].set_visible(False)
    axes.set_title(f"{search['name']}: {len(points)} candidates, the best drawn strongly")
    bar = figure.colorbar(ScalarMappable(scale, tint), cax=figure.add_axes((0.92, 0.12, 0.018, 0.78)))
    bar.set_label(f"score ({search['score']}); below {low:.3g} in one colour")
    return figure
