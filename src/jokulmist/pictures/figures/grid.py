"""A grid of parameters as a picture: lines over one of them, a map over two."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np

from jokulmist.errors import SettingError
from jokulmist.judging.evaluate import RANDOM
from jokulmist.judging.grid import EvaluationGrid
from jokulmist.pictures import style

if TYPE_CHECKING:
    from matplotlib.axes import Axes


def plot_grid(grid: EvaluationGrid, axes: Axes | None = None) -> Axes:
    """Draw what a policy reaches over a grid of parameters.

    Parameters
    ----------
    grid : EvaluationGrid
        Over one parameter (means with their 95 % intervals, beside random play and the references) or two (a map of the
        policy's mean return).
    axes : matplotlib.axes.Axes, optional

    Returns
    -------
    matplotlib.axes.Axes

    Examples
    --------
    >>> import jokulmist as jm
    >>> run = jm.train(jm.gallery.Tarn(), jm.QLearning(bins=8), steps=2000, lane="plain", folder=None)
    >>> grid = jm.evaluate_grid(run.policy, run.environment, {"melt": [0.5, 1.0]}, episodes=3)
    >>> axes = jm.pictures.plot_grid(grid)
    >>> axes.get_xlabel()
    'melt'
    """
    if len(grid.parameters) > 2:
        raise SettingError(f"a grid over {len(grid.parameters)} parameters cannot be drawn; one or two can.")
    with style.styled():
        axes = style.axes_or_new(axes)
        axes.set_title(f"{grid.name}: mean return over {' and '.join(grid.parameters)}")
        if len(grid.parameters) == 1:
            _lines(grid, axes)
        else:
            _map(grid, axes)
    return axes


def _lines(grid: EvaluationGrid, axes: Axes) -> None:
    name = grid.parameters[0]
    values = np.array([place[name] for place in grid.places], float)
    for k, player in enumerate(grid.results[0]):
        mean = np.array([by_player[player].mean for by_player in grid.results])
        low, high = np.array([by_player[player].interval for by_player in grid.results]).T
        is_policy = player == "policy"
        color = style.WATER if is_policy else style.STONE if player == RANDOM else style.SERIES[k % len(style.SERIES)]
        label = player if is_policy else "random play" if player == RANDOM else f"reference {player}"
        axes.fill_between(values, low, high, color=color, alpha=0.18, linewidth=0)
        axes.plot(
            values,
            mean,
            color=color,
            linewidth=2.4 if is_policy else 1.5,
            marker="o" if is_policy else None,
            linestyle="-" if is_policy else (0, (6, 3)),
            label=label,
        )
    axes.set_xlabel(_label(grid, 0))
    axes.set_ylabel("mean return, with its 95 % interval")
    axes.legend(loc="best", frameon=True, facecolor=style.PAPER, edgecolor="none", framealpha=0.85)


def _label(grid: EvaluationGrid, k: int) -> str:
    unit = grid.units[k]
    return f"{grid.parameters[k]}, {unit}" if unit else grid.parameters[k]


def _reach(grid: EvaluationGrid, means: Any) -> tuple[float, float]:
    """From random play to the best reference, or what the policy reaches beyond them: returns that are all near the
    best shall not look as if some were bad."""
    beside = [result.mean for by_player in grid.results for player, result in by_player.items() if player != "policy"]
    return min([float(means.min()), *beside]), max([float(means.max()), *beside])


def _map(grid: EvaluationGrid, axes: Axes) -> None:
    down, right = (list(dict.fromkeys(place[name] for place in grid.places)) for name in grid.parameters)
    means = np.array([by_player["policy"].mean for by_player in grid.results]).reshape(len(down), len(right))
    low, high = _reach(grid, means)
    image = axes.imshow(means, cmap="cividis", aspect="auto", origin="lower", vmin=low, vmax=high)
    for i in range(len(down)):
        for j in range(len(right)):
            color = style.ink_on(image, means[i, j])
            axes.text(j, i, f"{means[i, j]:.3g}", ha="center", va="center", color=color)
    axes.set_xticks(range(len(right)), [f"{value:g}" for value in right])
    axes.set_yticks(range(len(down)), [f"{value:g}" for value in down])
    axes.set_xlabel(_label(grid, 1))
    axes.set_ylabel(_label(grid, 0))
    axes.grid(False)
    axes.figure.colorbar(image, ax=axes, label="mean return of the policy", shrink=0.8)
