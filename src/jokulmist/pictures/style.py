"""Colours, fonts and small helpers that every figure shares: a fjord in overcast light."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

INK, STONE, PAPER = "#1f2a33", "#8a8578", "#fbfaf7"
WATER, OCHRE, MOSS, RUST, HEATHER, ICE = "#2f6f8f", "#d9a441", "#6f8f4f", "#b04f3c", "#86608e", "#9cc3cf"
# Of bold titles of 13 points; and the height of a row of a legend, in points.
LETTERS_AN_INCH, LEGEND_ROW = 9.5, 16.0
SERIES = (WATER, OCHRE, MOSS, RUST, HEATHER, ICE, "#54504a", "#c98a9b")
STYLE: dict[str, Any] = {
    "figure.facecolor": PAPER,
    "axes.facecolor": PAPER,
    "savefig.facecolor": PAPER,
    "text.color": INK,
    "axes.labelcolor": INK,
    "axes.edgecolor": STONE,
    "axes.titleweight": "bold",
    "axes.titlesize": 13,
    "axes.titlelocation": "left",
    "axes.spines.top": False,
    "axes.spines.right": False,
    "axes.grid": True,
    "axes.axisbelow": True,
    "grid.color": "#e4e0d8",
    "grid.linewidth": 0.8,
    "xtick.color": INK,
    "ytick.color": INK,
    "legend.frameon": False,
    "font.size": 10.5,
}


@contextmanager
def styled() -> Iterator[None]:
    """The shared style, for the figures made inside, and nothing else in the process."""
    import matplotlib

    with matplotlib.rc_context(STYLE):  # type: ignore[arg-type]
        yield


def own_figure(width: float = 12.8, height: float = 8.0, layout: Any = None) -> Figure:
    """A figure that no window system knows of: it can be saved on a machine without a monitor."""
    from matplotlib.figure import Figure

    return Figure(figsize=(width, height), dpi=100, layout=layout)


def fitted_figure() -> Figure:
    """A figure whose axes make room for their labels, titles, legends and bands."""
    return own_figure(layout=_fitting())


def _fitting() -> Any:
    """Room for what the layout does not measure, such as the legend of a band."""
    from matplotlib.layout_engine import ConstrainedLayoutEngine

    return ConstrainedLayoutEngine(w_pad=0.14, h_pad=0.2)


def axes_or_new(axes: Axes | None) -> Axes:
    """The axes given, or new ones that a notebook shows."""
    if axes is not None:
        return axes
    import matplotlib.pyplot as plt

    return plt.figure(figsize=(10, 7), layout=_fitting()).add_subplot()


def ink_on(image: Any, value: float) -> str:
    """The colour of a text that is legible on what an image shows for a value."""
    red, green, blue, _ = image.cmap(image.norm(value))
    return INK if 0.299 * red + 0.587 * green + 0.114 * blue > 0.5 else PAPER


def save(figure: Figure, path: Path) -> Path:
    path.parent.mkdir(parents=True, exist_ok=True)
    figure.savefig(path)
    return path


def wrapped(text: str, letters: float = 150) -> str:
    """A text broken into lines of so many letters."""
    import textwrap

    return "\n".join(textwrap.wrap(text, int(letters)))


def titled(axes: Axes, title: str) -> None:
    """Set a title that is broken into lines where it is longer than the figure is wide."""
    axes.set_title(wrapped(title, LETTERS_AN_INCH * axes.figure.bbox.width / axes.figure.dpi))


def legend_at_corner(axes: Axes) -> None:
    """A small legend in one line over the right corner of low axes, so that it covers no line."""
    axes.legend(loc="lower right", bbox_to_anchor=(1.0, 1.0), ncols=8, fontsize=7, borderpad=0.0, borderaxespad=0.1)


def legend_above(axes: Axes, title: str) -> None:
    """A title, and below it a legend that stands above the axes, so that it covers nothing."""
    titled(axes, title)
    legend = axes.legend(loc="lower left", bbox_to_anchor=(0.0, 1.0), ncols=2, borderaxespad=0.2, labelspacing=0.25)
    rows = -(-len(legend.get_texts()) // 2)
    axes.set_title(axes.get_title(loc="left"), pad=10.0 + rows * LEGEND_ROW)


def decisions_axis(axes: Axes) -> None:
    """Label the horizontal axis in decisions, as ``200k`` and ``1.5M``."""
    from matplotlib.ticker import FuncFormatter

    def short(value: float, _: int) -> str:
        for size, letter in ((1e9, "G"), (1e6, "M"), (1e3, "k")):
            if abs(value) >= size:
                return f"{value / size:g}{letter}"
        return f"{value:g}"

    axes.xaxis.set_major_formatter(FuncFormatter(short))
    axes.set_xlabel("decisions, all copies together")


def counted_axis(axes: Axes, over: str) -> None:
    """Label the horizontal axis by what it counts: ``"steps"`` or ``"episodes"``."""
    decisions_axis(axes)
    if over == "episodes":
        axes.set_xlabel("episodes, in the order in which they closed")
