"""An environment's picture as blocks of colour, for a terminal: two pixels a cell, one above the other."""

from __future__ import annotations

from typing import Any

import numpy as np

from jokulmist.arrays import NumpyArray
from jokulmist.environments.declaration.instance import describe
from jokulmist.environments.simulator import Simulator
from jokulmist.environments.transition.episode import Episode

UPPER_HALF = "▀"
PIXELS_A_CELL = 8


def pixels(episode: Episode, width: int, height: int) -> tuple[NumpyArray | None, str]:
    """The picture of an episode as it is now."""
    picture = _draw_picture(episode, width, height)
    if picture is None:
        return None, ""
    image, title = picture
    return shrunk(image, width, height), title


def shrunk(image: NumpyArray, width: int, height: int) -> NumpyArray:
    """An image as means over so many cells of two pixels, one above the other."""
    rows = np.array_split(np.arange(image.shape[0]), 2 * height)
    columns = np.array_split(np.arange(image.shape[1]), width)
    means = [[image[np.ix_(r, c)].reshape(-1, 3).mean(axis=0) for c in columns] for r in rows]
    return np.asarray(means).round().astype(np.uint8)


def _draw_picture(episode: Episode, width: int, height: int) -> Any:
    environment, state = episode.environment, episode.state
    if isinstance(environment, Simulator):
        image = episode.image()
        return None if image is None else (_enlarged(image, width), "")
    picture = getattr(environment, "picture", None)
    if picture is not None:
        from matplotlib.backends.backend_agg import FigureCanvasAgg
        from matplotlib.figure import Figure

        figure = Figure(figsize=(width / 10, height / 5), dpi=10 * PIXELS_A_CELL)
        canvas: Any = FigureCanvasAgg(figure)
        axes = figure.add_axes((0.0, 0.0, 1.0, 1.0))
        picture(axes, state)
        title = axes.get_title() or axes.get_title(loc="left")
        axes.set_title("")
        axes.set_axis_off()
        for text in axes.texts:  # in half blocks it would be a smear
            text.set_visible(False)
        canvas.draw()
        return np.asarray(canvas.buffer_rgba())[:, :, :3], title
    for channel in describe(environment).bare.images:
        image = np.asarray(getattr(environment, channel.name)(state))
        if image.shape[2] in (1, 3):
            return _enlarged(np.broadcast_to(image, (*image.shape[:2], 3)), width), channel.name
    return None


def _enlarged(image: Any, width: int) -> Any:
    """An image with every pixel repeated, so that so many cells have enough of them."""
    times = max(1, (width * PIXELS_A_CELL) // image.shape[1])
    return np.repeat(np.repeat(image, times, 0), times, 1)


def blocks(image: NumpyArray, fine: bool = True) -> Any:
    """Pixels as a `rich` text of half blocks."""
    from rich.text import Text

    text = Text(no_wrap=True)
    for row in range(0, image.shape[0], 2):
        for upper, lower in zip(image[row], image[row + 1], strict=True):
            if not fine:
                text.append(" ", style=f"on rgb({upper[0]},{upper[1]},{upper[2]})")
                continue
            text.append(
                UPPER_HALF, style=f"rgb({upper[0]},{upper[1]},{upper[2]}) on rgb({lower[0]},{lower[1]},{lower[2]})"
            )
        text.append("\n")
    return text
