"""The pictures that a run keeps in its folder."""

from __future__ import annotations

import io
from pathlib import Path

from jokulmist.environments.declaration.instance import describe
from jokulmist.errors import LookupFailed, RecordError, SettingError
from jokulmist.pictures import style
from jokulmist.pictures.figures.curve import Levels, plot
from jokulmist.pictures.figures.ledger import ledger
from jokulmist.running.runs.run import Run


def save_pictures(run: Run | str | Path, levels: Levels | None = None) -> list[Path]:
    """Draw the learning curve and the ledger of a run into its folder, as `jokulmist train` does; and of a run with
    recorded episodes what was done.

    Parameters
    ----------
    run : Run, or path of its folder
    levels : dict of str to Evaluation, optional
        What random play and the references reach, as `evaluate_references` gives it; measured again by default.

    Returns
    -------
    list of Path

    Raises
    ------
    SettingError
        When the run is in memory.

    Examples
    --------
    >>> import jokulmist as jm
    >>> import tempfile
    >>> run = jm.train(jm.gallery.Tarn(), jm.QLearning(bins=8), steps=2000, lane="plain", folder=tempfile.mkdtemp())
    >>> [path.name for path in jm.pictures.save_pictures(run)]
    ['learning-curve.png', 'ledger.png']
    """
    run = Run.as_run(run)
    if run.path is None:
        raise SettingError("a run in memory has no folder for pictures. Draw it with `jm.plot(run)`.")
    return [*save_curve(run, levels), *save_others(run)]


def save_curve(run: Run, levels: Levels | None = None) -> list[Path]:
    """The learning curve alone, into a run's folder."""
    assert run.path is not None
    with style.styled():
        figure = style.fitted_figure()
        plot(run, figure.add_subplot(), levels=levels)
        return [style.save(figure, run.path / "pictures" / "learning-curve.png")]


def save_others(run: Run) -> list[Path]:
    """All but the learning curve."""
    assert run.path is not None
    with style.styled():
        figure = style.fitted_figure()
        ledger(run, figure.add_subplot())
        paths = [style.save(figure, run.path / "pictures" / "ledger.png")]
    return paths if run.plan.training.record_every is None else [*paths, *_of_behaviour(run)]


def load() -> None:
    """Load what draws."""
    style.fitted_figure()


def warm_up() -> None:
    """Draw something with fonts, so that the first picture takes no longer than the next."""
    with style.styled():
        figure = style.fitted_figure()
        axes = figure.add_subplot()
        axes.plot([0.0, 1.0], label="all")
        axes.legend()
        figure.savefig(io.BytesIO(), format="png")


def _of_behaviour(run: Run) -> list[Path]:
    """What was done over training, and the last recorded episode against time."""
    from jokulmist.pictures.figures.behaviour import plot_choices, plot_rollout
    from jokulmist.records.rollouts import ROLLOUTS, read_rollouts

    assert run.path is not None
    try:
        last = read_rollouts(run.path / ROLLOUTS / "last.parquet")[0]
        with style.styled():
            figure = style.fitted_figure()
            action = describe(run.environment).action
            plot_choices(run, figure.add_subplot(), part=next(iter(getattr(action, "parts", [""]))))
            paths = [style.save(figure, run.path / "pictures" / "choices.png")]
            return [*paths, style.save(plot_rollout(last, run.environment), run.path / "pictures" / "last-episode.png")]
    except (LookupFailed, RecordError):  # nothing was recorded yet
        return []
