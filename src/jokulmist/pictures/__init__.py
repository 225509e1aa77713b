"""Figures of runs on Matplotlib axes, moving pictures of episodes, and reports.

The names are bound on first use: most of what imports a part of this package needs no Matplotlib.
"""

from __future__ import annotations

from importlib import import_module
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from jokulmist.pictures.figures.behaviour import plot_choices as plot_choices
    from jokulmist.pictures.figures.behaviour import plot_policy as plot_policy
    from jokulmist.pictures.figures.behaviour import plot_rollout as plot_rollout
    from jokulmist.pictures.figures.grid import plot_grid as plot_grid
    from jokulmist.pictures.replay import save_replay as save_replay
    from jokulmist.pictures.report.page import save_report as save_report
    from jokulmist.pictures.saved import save_pictures as save_pictures

_HOMES = {
    "plot_choices": "figures.behaviour",
    "plot_grid": "figures.grid",
    "plot_policy": "figures.behaviour",
    "plot_rollout": "figures.behaviour",
    "save_pictures": "saved",
    "save_replay": "replay",
    "save_report": "report.page",
}
__all__ = list(_HOMES)


def __getattr__(name: str) -> Any:
    if name not in _HOMES:
        raise AttributeError(f"jokulmist.pictures has no `{name}`.")
    return getattr(import_module(f"{__name__}.{_HOMES[name]}"), name)
