"""Schedules: one formula, the same for numbers and arrays, through TOML and back."""

import math

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

import jokulmist as jm
from jokulmist.errors import SettingError
from jokulmist.learning.schedules import Progress, coefficients, mover, number_at, read, value_at, written

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


@pytest.mark.parametrize(
    "schedule",
    [
        0.5,
        jm.linear(1.0, 0.05, over=0.5),
        jm.linear(1.0, 0.0, over=500, of="episodes", floor=0.1),
        jm.geometric(1.0, rate=0.99, of="episodes"),
        jm.geometric(0.5, 0.01, over=20_000),
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
