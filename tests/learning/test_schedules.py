"""Schedules: one formula, the same for numbers and arrays, through TOML and back."""

import math
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

import jokulmist as jm
from jokulmist.errors import SettingError
from jokulmist.learning.schedules import Progress, coefficients, columns, mover, number_at, read, value_at, written
from jokulmist.plans.plan import read_plan
from jokulmist.running.train import train_plan

starts = st.floats(0.01, 10.0)
counts = st.integers(0, 10**7)


@given(starts, starts, st.floats(0.01, 1.0), counts, st.sampled_from([jm.linear, jm.geometric]))
def test_a_share_of_the_run(start, end, over, decisions, form):
    planned = 10**6
    share = min(decisions / planned, 1.0)
    c = coefficients(form(start, end, over=over))
    x = min(share / over, 1.0)
    expected = start + (end - start) * x if form is jm.linear else start * (end / start) ** x
    progress = Progress(decisions, 0, share)
    assert number_at(c, progress) == pytest.approx(expected, rel=1e-6)
    assert float(value_at(c, progress, np)) == pytest.approx(expected, rel=1e-6)
    assert mover(c, 1.0 / planned, 0.0)(min(decisions, planned), 0) == pytest.approx(expected, rel=1e-6)


@given(counts, counts)
def test_decisions_episodes_rates_and_floors(decisions, episodes):
    progress = Progress(decisions, episodes, 0.5)
    by_rate = jm.geometric(1.0, rate=0.999, of="episodes", floor=0.1)
    assert number_at(coefficients(by_rate), progress) == pytest.approx(max(0.999**episodes, 0.1))
    by_count = jm.linear(1.0, 0.0, over=20_000)
    assert number_at(coefficients(by_count), progress) == pytest.approx(max(1 - decisions / 20_000, 0.0))
    floored = jm.linear(1.0, 0.0, over=1.0, floor=0.3)
    assert number_at(coefficients(floored), Progress(0, 0, 0.9)) == 0.3
    assert number_at(coefficients(0.25), progress) == 0.25


def test_pieces_and_functions_are_straight_lines_between_points():
    pieces = jm.piecewise((0.0, 1.0), (0.25, 0.2), (0.75, 0.4))
    by_count = jm.piecewise((0, 3.0), (100, 1.0), of="episodes")
    wave = read(lambda share: 2.0 + math.sin(6.0 * share))
    each = [coefficients(item) for item in (0.7, pieces, jm.linear(1.0, 0.0, over=1.0), by_count, wave)]
    for share, episodes in ((0.0, 0), (0.1, 30), (0.25, 99), (0.5, 100), (0.9, 400)):
        progress = Progress(share * 1e4, episodes, share)
        expected = [
            0.7,
            float(np.interp(share, [0, 0.25, 0.75], [1, 0.2, 0.4])),
            1.0 - share,
            max(3.0 - 0.02 * episodes, 1.0),
            2.0 + math.sin(6.0 * share),
        ]
        assert value_at(columns(each), progress, np) == pytest.approx(expected, abs=1e-4)
        assert [number_at(c, progress) for c in each] == pytest.approx(expected, abs=1e-4)
        assert [mover(c, 1e-4, 0.0)(int(share * 1e4), episodes) for c in each] == pytest.approx(expected, abs=1e-4)
    assert (wave.least, wave.greatest) == pytest.approx((1.0, 3.0), abs=1e-3)


@pytest.mark.slow
def test_a_function_of_ones_own_is_a_setting_on_both_lanes_and_in_a_plan(tmp_path):
    Path("rates.py").write_text("def rate(share):\n    return 0.5 - 0.4 * share * share\n")
    Path("plan.toml").write_text(
        '[environment]\nuse = "tarn"\n[agent]\nuse = "QLearning"\nlearning_rate = { function = "rates.py:rate" }\n'
        "exploration = { piecewise = [[0, 1.0], [300, 0.1]] }\n[training]\nsteps = 600\ncopies = 2\n"
    )
    lanes = [["training.lane=plain"], ["training.lane=compiled"]]
    runs = [train_plan(read_plan(Path("plan.toml"), lane), folder=Path("runs"))[0] for lane in lanes]
    for name, last in (("learning_rate", 0.1), ("exploration", 0.1)):
        first, second = (run.readings[name].to_numpy() for run in runs)
        assert first == pytest.approx(second, abs=7e-3)
        assert first[-1] == pytest.approx(last, abs=6e-3)
    Path("rates.py").unlink()
    assert jm.redo(runs[0].path).same  # from the source that the run kept


@pytest.mark.parametrize(
    "schedule",
    [
        0.5,
        jm.linear(1.0, 0.05, over=0.5),
        jm.linear(1.0, 0.0, over=500, of="episodes", floor=0.1),
        jm.geometric(1.0, rate=0.99, of="episodes"),
        jm.geometric(0.5, 0.01, over=20_000),
        jm.piecewise((0.0, 1.0), (0.2, 0.1), (1.0, 0.02)),
        jm.piecewise((0, 1.0), (500, 0.1), of="episodes"),
    ],
)
def test_a_schedule_goes_to_toml_and_back(schedule):
    import tomllib

    import tomli_w

    text = tomli_w.dumps({"rate": written(schedule)})
    assert read(tomllib.loads(text)["rate"]) == schedule


@pytest.mark.parametrize(
    ("make", "message"),
    [
        (lambda: jm.linear(1.0, 0.0, over=1), "`over=1` is unclear"),
        (lambda: jm.piecewise((0.0, 1.0)), "two points or more"),
        (lambda: jm.piecewise((0.0, 1.0), (0.5, 0.1), (0.4, 0.2)), "places rise from 0"),
        (lambda: jm.piecewise((0.0, 1.0), (0.5, 0.1), (900, 0.2)), "but not both"),
        (lambda: jm.piecewise((0.0, 1.0), (1.5, 0.1)), "up to 1.0; got 1.5"),
        (lambda: jm.DQN(learning_rate=lambda share: 1 / share), "failed at the share 0: ZeroDivisionError"),
        (lambda: jm.DQN(exploration=lambda share: 2 * share), r"must lie in \[0, 1\]"),
        (lambda: jm.linear(1.0, 0.0, over=1.5), r"up to 1.0; got 1.5.*over=2"),
        (lambda: jm.linear(1.0, 0.0, over=0), "must be above 1"),
        (lambda: jm.linear(1.0, 0.0, over="half"), "is a number"),
        (lambda: jm.linear(math.nan, 0.0, over=0.5), "finite number"),
        (lambda: jm.linear(1.0, 0.0, over=0.5, of="days"), "`decisions` or `episodes`"),
        (lambda: jm.geometric(1.0, 0.0, over=0.5), "values above 0"),
        (lambda: jm.geometric(1.0, 0.5), "`end` with `over`, or `rate` alone"),
        (lambda: jm.geometric(1.0, 0.5, over=0.5, rate=0.9), "`end` with `over`, or `rate` alone"),
        (lambda: read({"linear": [1.0]}), "a number or a schedule"),
        (lambda: read({"bent": [1.0, 0.5]}), "a number or a schedule"),
    ],
)
def test_an_unclear_schedule_is_refused(make, message):
    with pytest.raises(SettingError, match=message):
        make()
