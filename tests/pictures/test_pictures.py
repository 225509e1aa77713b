"""Pictures tell what the records hold."""

from dataclasses import astuple

import numpy as np
import pytest
from matplotlib.figure import Figure
from places import Corridor

import jokulmist as jm
from jokulmist.errors import RecordError, RunNotice, SettingError
from jokulmist.pictures.saved import save_pictures
from jokulmist.records import tables
from jokulmist.running.runs import course

pytestmark = pytest.mark.draws


@pytest.fixture(scope="module")
def drawn(trained):
    figure = Figure(figsize=(12.8, 8.0), layout="constrained")
    axes = jm.plot(trained, figure.add_subplot())
    figure.canvas.draw()
    return axes


def labels(axes):
    return [text.get_text() for text in axes.get_legend().get_texts()]


@pytest.mark.slow
def test_the_curve_is_the_mean_of_the_last_episodes(trained, drawn):
    curve = next(line for line in drawn.lines if line.get_label().startswith("mean of the last "))
    returns = trained.episodes["return"].to_numpy()
    assert curve.get_ydata()[-1] == pytest.approx(returns[-course.window_of(len(returns)) :].mean(), rel=1e-5)
    assert curve.get_xdata()[-1] == trained.episodes["decisions"].iloc[-1]
    assert "Tarn: what QLearning learned, seed 0" in drawn.get_title(loc="left")
    assert "return" in drawn.get_ylabel()


def test_levels_of_random_play_and_references_are_lines(trained, drawn):
    random, rule = (jm.evaluate(player, trained.environment).mean for player in ("random", "sell_high"))
    output = labels(drawn)
    assert f"random play, {random:.3g}" in output
    assert f"reference sell_high, {rule:.3g}" in output


def test_the_band_of_closings_adds_to_one(trained, drawn):
    band = next(a for a in drawn.child_axes)
    top = np.max([patch.get_data().values for patch in band.patches], axis=0)
    np.testing.assert_allclose(top, 1.0)
    shares = trained.episodes["closed_by"].value_counts(normalize=True)
    assert any(f"deadline ({shares['deadline']:.1%})" == text for text in labels(band))
    assert "decisions" in band.get_xlabel()


def test_the_ledger_adds_up_to_the_return(trained):
    axes = jm.ledger(trained, Figure().add_subplot())
    steps = {patch.get_label().split(" ")[0]: patch.get_data() for patch in axes.patches}
    frame = trained.episodes
    edges = steps["return"].edges
    place = np.searchsorted(edges, frame["decisions"], side="left") - 1
    mean = np.bincount(place, weights=frame["return"]) / np.bincount(place)
    np.testing.assert_allclose(steps["return"].values, mean, rtol=1e-4)
    terms = [steps[name].values - steps[name].baseline for name in ("sales", "flooding")]
    np.testing.assert_allclose(np.sum(terms, axis=0), mean, rtol=1e-3, atol=1e-3)
    assert any("flooding x -2" in text for text in labels(axes))


@pytest.mark.slow
def test_several_runs_are_laid_side_by_side_and_pictures_are_kept(tmp_path):
    runs = jm.train_seeds(Corridor(slip=0.2), jm.QLearning(), steps=400, seeds=range(2), lane="plain", folder=tmp_path)
    axes = jm.plot(runs, Figure().add_subplot())
    assert sum(f"{run.name}, mean of" in text for run in runs for text in labels(axes)) == 2
    paths = save_pictures(runs[0])
    assert [path.name for path in paths] == ["learning-curve.png", "ledger.png"]
    assert all(path.read_bytes().startswith(b"\x89PNG") for path in paths)
    with pytest.raises(SettingError, match="no run to plot"):
        jm.plot([])


def test_a_curve_over_episodes_marks_what_short_episodes_have_to_themselves(trained, tmp_path):
    axes = jm.plot(trained, Figure(figsize=(10, 7), layout="constrained").add_subplot(), over="episodes")
    curve = next(line for line in axes.lines if line.get_label().startswith("mean of the last "))
    assert curve.get_xdata().tolist() == list(range(1, len(trained.episodes) + 1))
    first = trained.episodes.groupby("copy")["episode"].first().max() + 1
    marked = [patch for patch in axes.patches if "short ones come first" in patch.get_label()]
    assert len(marked) == (first > 0.01 * len(trained.episodes))
    assert all(patch.get_x() + patch.get_width() == first for patch in marked)
    axes.figure.savefig(tmp_path / "curve.png")
    box = axes.get_legend().get_window_extent()
    assert box.y0 >= axes.get_window_extent().y1  # above the data, whatever is drawn
    assert axes.get_tightbbox().y1 <= axes.figure.bbox.y1
    with pytest.raises(SettingError, match="`over` is 'time'; allowed: `steps`, `episodes`"):
        jm.plot(trained, over="time")
    with pytest.raises(SettingError, match="`over` is nan; allowed"):
        jm.plot(trained, over=float("nan"))


def test_a_curve_of_few_episodes_does_not_lag_behind():
    assert [course.window_of(count) for count in (20, 300, 1_000, 50_000)] == [10, 30, 100, 100]


@pytest.mark.slow
@pytest.mark.parametrize("over", ["steps", "episodes"])
def test_a_file_read_in_pieces_gives_the_course_of_the_whole_table(over, tmp_path, monkeypatch):
    levels = jm.Levels("slip", [0.0, 0.2, 0.4], score="return", above=-100.0, last=20)
    run = jm.train(Corridor(), jm.QLearning(), steps=20_000, copies=4, curriculum=levels, lane="plain", folder=tmp_path)
    assert len(run.episodes) > 1_300  # enough for the stretches of a large file
    with (run.path / "episodes.csv").open("a") as stream:
        stream.write("77,88")  # torn
    complete = course.course_of(run)
    with monkeypatch.context() as patient:
        patient.setattr(course, "_at_once", lambda run, file: None)
        table = course.course_of(run)
    for name in ("decisions", "numbers", "returns", "means", "moves"):
        assert np.array_equal(getattr(complete, name), getattr(table, name), equal_nan=True)
    for first, second in zip(astuple(complete.stretches(over)), astuple(table.stretches(over)), strict=True):
        assert np.array_equal(first, second)
    monkeypatch.setattr(course, "LARGE_BYTES", 0)
    monkeypatch.setattr(tables, "PIECE_BYTES", 9_000)
    monkeypatch.setattr(course, "MOST_POINTS", 100)
    pieces = course.course_of(run)
    assert (pieces.count, pieces.first_of_copies) == (complete.count, complete.first_of_copies)
    assert pieces.thin == complete.count // 100
    stored = pieces.numbers - 1
    for name in ("decisions", "returns", "means"):
        np.testing.assert_allclose(getattr(pieces, name), getattr(complete, name)[stored], rtol=1e-5)
    for most in (60, 80):
        first, second = pieces.stretches(over, most), complete.stretches(over, most)
        for name in ("edges", "counts", "closings", "terms"):
            np.testing.assert_allclose(getattr(first, name), getattr(second, name), rtol=1e-5, atol=1e-4)
    moved = [result.moves[1][np.argsort(result.moves[0], kind="stable")] for result in (pieces, complete)]
    changes = [places[np.flatnonzero(np.diff(places, prepend=np.nan))].tolist() for places in moved]
    assert changes[0][0] == changes[1][0] == 0.0
    assert changes[0][-1] == changes[1][-1] == np.float32(0.4)


def test_a_damaged_table_is_read_by_the_patient_reader(tmp_path):
    run = jm.train(Corridor(), jm.RandomPlay(), steps=400, lane="plain", folder=tmp_path)
    file = run.path / "episodes.csv"
    head, *rows = file.read_text().splitlines(keepends=True)
    broken = ",".join(["abc"] * len(head.split(","))) + "\n"
    for damaged in ([*rows[:-1], broken], [*rows[:4], broken, *rows[5:]], [*rows[:-1], "1,2\n"]):
        file.write_text(head + "".join(damaged))
        with pytest.warns(RunNotice, match="1 rows hold something else than numbers"):
            assert course.course_of(run).count == len(rows) - 1
    file.write_text(head.replace("return", "retrun") + "".join(rows))
    with pytest.raises(RecordError, match="it has no column `return`"):
        course.course_of(run)


def test_a_run_without_an_episode_is_drawn_too():
    run = jm.train(Corridor(length=50), jm.RandomPlay(), steps=3, lane="plain", folder=None)
    assert len(run.episodes) == 0
    figure = Figure()
    jm.plot(run, figure.add_subplot(211))
    jm.ledger(run, figure.add_subplot(212))
    figure.canvas.draw()


def test_drawing_leaves_the_style_of_the_process_as_it_was(trained):
    import matplotlib

    before = dict(matplotlib.rcParams)
    jm.plot(trained)
    assert dict(matplotlib.rcParams) == before
