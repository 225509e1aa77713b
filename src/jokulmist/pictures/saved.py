"""The pictures that a run keeps in its folder."""

from __future__ import annotations

from pathlib import Path

from jokulmist.pictures import style
from jokulmist.pictures.curve import Levels, plot
from jokulmist.pictures.ledger import ledger
from jokulmist.training.run import Run


def save_pictures(run: Run, known: Levels | None = None) -> list[Path]:
    """Draw the learning curve and the ledger of a run into its folder; returns their paths."""
    assert run.path is not None
    paths = []
    for name in ("learning-curve.png", "ledger.png"):
        with style.styled():
            figure = style.own_figure()
            if name == "ledger.png":
                ledger(run, style.roomy_axes(figure, below=0.2))
            else:
                plot(run, style.roomy_axes(figure), known=known)
            paths.append(style.save(figure, run.path / "pictures" / name))
    return paths
