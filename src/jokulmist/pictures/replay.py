"""Episodes as moving pictures: what was, what was done, what it brought, side by side, as GIF, MP4, a strip or in the
terminal.

What does not move is drawn once; at each moment only the pictures, the words and a mark on the traces are drawn again.
"""

from __future__ import annotations

import math
import shutil
from collections.abc import Callable, Iterable, Iterator, Sequence
from pathlib import Path
from typing import Any

import numpy as np

from jokulmist.arrays import NumpyArray
from jokulmist.environments.declaration.instance import describe
from jokulmist.environments.environment import Environment
from jokulmist.environments.spaces.actions import Actions, Choice
from jokulmist.errors import LookupFailed, SettingError, listed
from jokulmist.pictures import style
from jokulmist.records.files import path_of, replace_file
from jokulmist.records.rollouts import Rollout
from jokulmist.running.runs.scenes import Scene, scene_of

KINDS = ("gif", "mp4", "png")
MOST_FRAMES = 150
STRIP = 6
MOST_BARS = 8
WIDTH, HEIGHT, DPI = 12.8, 8.0, 80
LAST_SECONDS = 1.5


def save_replay(
    scenes: Sequence[Scene | Rollout],
    environment: Environment,
    path: str | Path,
    *,
    per_second: float = 12.0,
    most: int = MOST_FRAMES,
    on_message: Callable[[str], None] | None = None,
) -> Path:
    """Draw episodes side by side into a file.

    Parameters
    ----------
    scenes : sequence of Rollout, or of scenes
        Up to four episodes.
    environment : Environment
    path : str or Path
        Its ending says what is made: ``.gif``, ``.mp4`` (where the program ffmpeg is installed) or ``.png``, a strip of
        moments.
    per_second : float
        Moments a second.
    most : int
        Of longer episodes so many moments are drawn, evenly.
    on_message : function of a text, optional
        Is given how many frames are drawn.

    Raises
    ------
    SettingError
        When the ending is unknown, or there are too many episodes.
    LookupFailed
        When there is nothing to draw, or no encoder for MP4.

    Examples
    --------
    >>> import tempfile
    >>> import jokulmist as jm
    >>> import pathlib, tempfile
    >>> ferry, place = jm.gallery.Ferry(), pathlib.Path(tempfile.mkdtemp())
    >>> played = jm.evaluate("brake_in_time", ferry, episodes=2, record=2)
    >>> kept = jm.read_rollouts(played.save_rollouts(place / "log.parquet", ferry))
    >>> jm.pictures.save_replay(kept, ferry, place / "strip.png").name
    'strip.png'
    """
    path = path_of(path, "where a replay is saved")
    wrong = (
        [scene for scene in scenes if not isinstance(scene, (Scene, Rollout))]
        if isinstance(scenes, Iterable)
        else [scenes]
    )
    if wrong:
        raise SettingError(f"a replay takes episodes, as `jm.read_rollouts` gives them; got {wrong[0]!r:.80}.")
    kind = path.suffix.lstrip(".").lower()
    if kind not in KINDS:
        raise SettingError(f"a replay is one of {listed(KINDS)}; got `{path.name}`. Use for instance `replay.gif`.")
    scenes_shown = [
        scene if isinstance(scene, Scene) else scene_of(f"{scene.run}, episode {scene.episode:,}", scene, environment)
        for scene in scenes
    ]
    if not 1 <= len(scenes_shown) <= 4:
        raise SettingError(f"from 1 to 4 episodes stand side by side; got {len(scenes_shown)}.")
    if kind == "mp4" and shutil.which("ffmpeg") is None:
        raise LookupFailed("MP4 needs the program ffmpeg, which is not installed here. Use `.gif`, or install ffmpeg.")
    path.parent.mkdir(parents=True, exist_ok=True)
    if kind == "png":
        return _strip(scenes_shown, environment, path)
    frames = ReplayFrames(scenes_shown, environment)
    moments = _moments(frames.length, most)
    progress_frames = _with_progress(frames, moments, on_message)
    if kind == "mp4":
        return _as_mp4(progress_frames, path, per_second)
    return _as_gif(list(progress_frames), path, per_second)


def _moments(length: int, most: int = MOST_FRAMES) -> list[int]:
    """The moments that are drawn: all, or evenly so many."""
    return [int(k) for k in np.unique(np.linspace(0, length - 1, min(length, most)).round())]


def _with_progress(frames: ReplayFrames, moments: list[int], on_message: Callable[[str], None] | None) -> Iterator[Any]:
    for k, moment in enumerate(moments):
        yield frames.frame(moment)
        if on_message is not None:
            on_message(f"drawing moment {k + 1} of {len(moments)}")


class ReplayFrames:
    """The frames of some episodes side by side."""

    def __init__(self, scenes: list[Scene], environment: Environment) -> None:
        from matplotlib.backends.backend_agg import FigureCanvasAgg
        from matplotlib.figure import Figure

        self.scenes, self.environment = scenes, environment
        self.length = max(scene.rollout.steps for scene in scenes) + 1
        with style.styled():
            self._figure = Figure(figsize=(WIDTH, HEIGHT), dpi=DPI)
            canvas: Any = FigureCanvasAgg
            self._canvas = canvas(self._figure)
            self._panels = [Panel(self._figure, scene, environment, k, len(scenes)) for k, scene in enumerate(scenes)]
            self._canvas.draw()
        self._still: Any = self._canvas.copy_from_bbox(self._figure.bbox)

    def frame(self, moment: int) -> NumpyArray:
        """The frame of a moment, uint8 of shape ``(height, width, 3)``; an episode that is over stays at its end."""
        self._canvas.restore_region(self._still)
        renderer = self._canvas.get_renderer()
        with style.styled():
            for panel in self._panels:
                panel.draw(min(moment, panel.steps), renderer)
        return np.asarray(self._canvas.buffer_rgba())[:, :, :3].copy()


class Panel:
    """One episode's part of a frame: a picture, words beside it, traces under it."""

    def __init__(self, figure: Any, scene: Scene, environment: Environment, place: int, count: int) -> None:
        self.scene, self.environment = scene, environment
        self.description = describe(environment)
        self.steps = scene.rollout.steps
        self._table = scene.rollout.table
        left, width = 0.02 + place * 0.98 / count, 0.98 / count - 0.02
        self._picture = figure.add_axes((left, 0.50, width, 0.39))
        self._words = figure.text(
            left, 0.47, "", va="top", family="monospace", fontsize=10 if count < 3 else 8, animated=True
        )
        self._head = figure.text(
            left, 0.965, "", va="center", fontsize=13 if count < 3 else 10, weight="bold", animated=True
        )
        self._under = figure.text(left, 0.925, "", va="center", fontsize=10 if count < 3 else 8, animated=True)
        self._picture.set_axis_off()
        traces = traces_of(scene, environment)
        room = 0.26 / len(traces)
        self._marks = []
        for k, (name, draw) in enumerate(traces):
            axes = figure.add_axes((left + 0.055, 0.30 - (k + 1) * room + 0.02, width - 0.06, room - 0.035))
            draw(axes)
            axes.set_xlim(-0.5, max(self.steps, 1) + 0.5)
            axes.set_ylabel(name, fontsize=8)
            axes.tick_params(labelsize=7, labelbottom=k == len(traces) - 1)
            self._marks.append(axes.axvline(0, color=style.RUST, linewidth=1.4, animated=True))

    def draw(self, moment: int, renderer: Any) -> None:
        """Draw what moves."""
        self._picture.clear()
        title = self._draw_picture(moment)
        self._picture.set_title("")
        self._picture.draw(renderer)
        caption = f"decision {moment} of {self.steps}"
        closed = f", {self.scene.rollout.closed_by}" if moment == self.steps and self.scene.rollout.closed_by else ""
        self._head.set_text(self.scene.title)
        self._under.set_text(f"{caption}{closed}{f'   ({title})' if title else ''}")
        self._words.set_text(self._terms(moment))
        for artist in (self._head, self._under, self._words):
            self._picture.figure.draw_artist(artist)
        for mark in self._marks:
            mark.set_xdata([moment, moment])
            mark.axes.draw_artist(mark)

    def _draw_picture(self, moment: int) -> str:
        picture = getattr(self.environment, "picture", None)
        if self.scene.images:
            self._picture.imshow(self.scene.images[moment])
            self._picture.set_axis_off()
            return ""
        if picture is not None and self.scene.states:
            picture(self._picture, self.scene.states[moment])
            self._picture.set_axis_off()
            return str(self._picture.get_title() or self._picture.get_title(loc="left"))
        for channel in self.description.spec.images:
            image = np.asarray(self._table[channel.name].iloc[moment], np.uint8).reshape(channel.shape)
            pixels = image[:, :, -3:] if channel.shape[2] % 3 == 0 else np.repeat(image[:, :, -1:], 3, axis=2)
            self._picture.imshow(pixels, interpolation="nearest")
            self._picture.set_axis_off()
            return channel.name
        self._draw_channels(moment)
        return ""

    def _draw_channels(self, moment: int) -> None:
        """Where the class has no picture: what is observed, a bar a number between its bounds."""
        axes = self._picture
        axes.set_axis_off()
        row = self._table.iloc[moment]
        numbers = [c for c in self.description.spec.numbers if c.size == 1 and c.name in self._table]
        channels = numbers[:MOST_BARS]
        for k, channel in enumerate(channels):
            value = float(np.asarray(row[channel.name]).reshape(-1)[0])
            low, high = (float(np.asarray(bound).reshape(-1)[0]) for bound in (channel.low, channel.high))
            share = (value - low) / (high - low) if math.isfinite(high - low) and high > low else 0.0
            axes.barh(k, 1.0, color=style.STYLE["grid.color"], height=0.5)
            axes.barh(k, min(max(share, 0.0), 1.0), color=style.WATER, height=0.5)
            axes.text(-0.02, k, channel.name, ha="right", va="center")
            axes.text(1.02, k, f"{value:.4g} {channel.unit}".rstrip(), va="center")
        if not channels:
            axes.text(0.5, 0.5, "the class has no `picture`", ha="center", transform=axes.transAxes)
        axes.set_xlim(-0.35, 1.25)
        axes.set_ylim(max(len(channels), 3) - 0.5, -0.5)

    def _terms(self, moment: int) -> str:
        """What each term brought in the last decision, and so far."""
        lines = [f"{'reward term':<14}{'last':>9}{'so far':>10}"]
        done = self._table.iloc[:moment]
        total = last_total = 0.0
        weights = self.scene.weights(self.environment)
        for name, weight in weights.items():
            last = weight * float(done[name].iloc[-1]) if moment else 0.0
            amount = weight * float(done[name].sum())
            lines.append(f"{name[:13]:<14}{last + 0.0:>9.3g}{amount + 0.0:>10.4g}")
            total, last_total = total + amount, last_total + last
        if len(weights) > 1:
            lines.append(f"{'together':<14}{last_total:>9.3g}{total:>10.4g}")
        return "\n".join([*lines, self.scene.mean_text])


def traces_of(scene: Scene, environment: Environment) -> list[tuple[str, Callable[[Any], None]]]:
    """The text under the pictures: each part of the action, the return so far, and what the policy said."""
    table, steps = scene.rollout.table, scene.rollout.steps
    action = describe(environment).action
    traces: list[tuple[str, Callable[[Any], None]]] = []
    for name, part in (action.parts if isinstance(action, Actions) else {"": action}).items():
        column = table[f"action.{name}" if name else "action"].iloc[:-1]
        traces.append((name or "action", _action_trace(part, column)))
    total = scene.rewards(environment).cumsum()

    def returned(axes: Any) -> None:
        axes.plot(np.arange(1, steps + 1), total, color=style.WATER, linewidth=1.6)
        axes.axhline(0.0, color=style.STONE, linewidth=0.6)
        if scene.mean is not None:
            axes.axhline(scene.mean, color=style.RUST, linewidth=0.8, linestyle="dashed")

    traces.append((f"return{scene.suffix}", returned))
    judged_columns = [c for c in table.columns if c == "value" or c.startswith(("value.", "probability."))]

    def draw_judgements(axes: Any) -> None:
        for k, name in enumerate(judged_columns):
            label = name.partition(".")[2] or name
            axes.plot(table[name].iloc[:-1], color=style.SERIES[k % len(style.SERIES)], linewidth=1.1, label=label)
        if judged_columns[0].startswith("probability"):
            axes.set_ylim(-0.05, 1.05)
        if len(judged_columns) > 1:
            style.legend_at_corner(axes)

    if any(name.startswith("value.") for name in judged_columns) or judged_columns == ["value"]:
        traces.append(("value", draw_judgements))
    elif judged_columns:
        judged_columns = [name for name in judged_columns if name.startswith("probability.")]
        traces.append(("chance", draw_judgements))
    return traces


def _action_trace(part: Any, column: Any) -> Callable[[Any], None]:
    def chosen(axes: Any) -> None:
        if isinstance(part, Choice):
            index = [part.labels.index(label) for label in column]
            axes.plot([*index, *index[-1:]], drawstyle="steps-post", color=style.INK, linewidth=1.2)
            if part.count <= 6:
                axes.set_yticks(range(part.count), part.labels)
            axes.set_ylim(-0.4, part.count - 0.6)
            return
        values = np.stack([np.asarray(v, float).reshape(-1) for v in column]) if len(column) else np.zeros((0, 1))
        for k in range(values.shape[1]):
            axes.plot(
                [*values[:, k], *values[-1:, k]],
                drawstyle="steps-post",
                color=style.SERIES[k % len(style.SERIES)],
                linewidth=1.2,
            )

    return chosen


def _strip(scenes: list[Scene], environment: Environment, path: Path) -> Path:
    """Some moments of each episode in a row."""
    from matplotlib.figure import Figure

    with style.styled():
        figure = Figure(figsize=(WIDTH, 1.2 + 2.6 * len(scenes)), dpi=100)
        for row, scene in enumerate(scenes):
            moments, rewards = _moments(scene.rollout.steps + 1, STRIP), scene.rewards(environment)
            for column, moment in enumerate(moments):
                axes = figure.add_subplot(len(scenes), len(moments), row * len(moments) + column + 1)
                Still(axes, scene, environment).draw(moment)
                total = float(rewards[:moment].sum())
                ending = f", {scene.rollout.closed_by}" if moment == scene.rollout.steps else ""
                axes.set_title(
                    f"decision {moment}{ending}\nreturn{scene.suffix} {total:.3g}",
                    fontsize=9,
                    weight="normal",
                    loc="left",
                )
            title = figure.text(0.012, 0.99 - row / len(scenes), scene.title, va="top", weight="bold")
            size = title.get_fontsize()
            figure.gca().annotate(
                scene.mean_text, (1, 1), (12, 0), title, textcoords="offset points", va="top", fontsize=size
            )
        figure.subplots_adjust(
            left=0.012, right=0.99, top=0.93 - 0.1 / len(scenes), bottom=0.02, wspace=0.06, hspace=0.45
        )
        return style.save(figure, path)


class Still(Panel):
    """A moment's picture alone, on given axes."""

    def __init__(self, axes: Any, scene: Scene, environment: Environment) -> None:
        self.scene, self.environment, self._picture = scene, environment, axes
        self.description, self._table, self.steps = describe(environment), scene.rollout.table, scene.rollout.steps

    def draw(self, moment: int, renderer: Any = None) -> None:
        self._draw_picture(moment)


def picture_of(still: Still, moment: int, width: int, height: int) -> Any:
    """A moment's picture by itself, uint8 of shape ``(pixels, pixels, 3)``, in the shape of so many cells of a
    terminal."""
    from matplotlib.backends.backend_agg import FigureCanvasAgg
    from matplotlib.figure import Figure

    figure = Figure(figsize=(width / 10, height / 5), dpi=80)
    canvas: Any = FigureCanvasAgg(figure)
    still._picture = figure.add_axes((0.0, 0.0, 1.0, 1.0))
    still.draw(moment)
    still._picture.set_title("")
    canvas.draw()
    return np.asarray(canvas.buffer_rgba())[:, :, :3]


def _as_gif(frames: list[Any], path: Path, per_second: float) -> Path:
    import io

    from PIL import Image

    # One palette for all frames: a palette of its own for each would flicker.
    images = [Image.fromarray(frame) for frame in frames]
    palette = images[len(images) // 2].quantize(colors=128, dither=Image.Dither.NONE)
    small = [image.quantize(palette=palette, dither=Image.Dither.NONE) for image in images]
    pause = round(1000 / per_second)
    pauses = [pause] * (len(small) - 1) + [round(1000 * LAST_SECONDS)]
    sink = io.BytesIO()
    small[0].save(sink, "GIF", save_all=True, append_images=small[1:], duration=pauses, loop=0, optimize=False)
    replace_file(path, sink.getvalue())
    return path


def _as_mp4(frames: Iterator[Any], path: Path, per_second: float) -> Path:
    import subprocess

    size = f"{round(WIDTH * DPI)}x{round(HEIGHT * DPI)}"
    words = [
        "ffmpeg",
        "-y",
        "-loglevel",
        "error",
        "-f",
        "rawvideo",
        "-pix_fmt",
        "rgb24",
        "-s",
        size,
        "-r",
        str(per_second),
        "-i",
        "-",
        "-pix_fmt",
        "yuv420p",
        str(path),
    ]
    process = subprocess.Popen(words, stdin=subprocess.PIPE, stderr=subprocess.PIPE)
    assert process.stdin is not None
    for frame in frames:
        process.stdin.write(frame.tobytes())
    error_text = process.communicate()[1].decode()
    if process.returncode:
        raise LookupFailed(f"ffmpeg could not write {path}: {error_text.strip()}. Use `.gif` instead.")
    return path
