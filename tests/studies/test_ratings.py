"""Ratings of policies in games of two: against their equations, against made-up strengths, and where there are none."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from jokulmist.studies import ratings
from jokulmist.studies.ratings import rated

NAMES = ("gull", "tern", "skua", "auk")
STRENGTHS, ADVANTAGE = np.array([0.8, 0.1, -0.3, -0.6]), 0.3


def probabilities():
    return 1.0 / (1.0 + np.exp(-(STRENGTHS[:, None] - STRENGTHS[None, :] + ADVANTAGE)))


@settings(max_examples=25)
@given(won=st.lists(st.integers(0, 12), min_size=9, max_size=9))
def test_at_the_greatest_likelihood_each_has_won_as_often_as_expected(won):
    wins = np.array(won, float).reshape(3, 3)
    rows = [[float(k == i) - float(k == j) for k in range(3)] + [1.0] for i in range(3) for j in range(3)]
    fit = ratings._fitted(np.array(rows), wins.reshape(1, -1), 12)[0]
    chance = 1.0 / (1.0 + np.exp(-(fit[:3, None] - fit[None, :3] + fit[3])))
    prior = 1.0 / (1.0 + np.exp(-fit))  # in one meeting with an average policy, half of which was won
    for k in range(3):
        counted = wins[k].sum() + (12 - wins[:, k]).sum() + 0.5
        assert counted == pytest.approx(12 * (chance[k].sum() + (1 - chance[:, k]).sum()) + prior[k], abs=1e-6)
    assert wins.sum() + 0.5 == pytest.approx(12 * chance.sum() + prior[3], abs=1e-6)


@pytest.mark.slow
def test_intervals_hold_what_is_true_at_their_rate(monkeypatch):
    monkeypatch.setattr(ratings, "SIMULATED", 100)
    draw, inside, rejected = np.random.default_rng(5), 0, 0
    for k in range(400):
        result = rated(NAMES, draw.binomial(30, probabilities()).astype(float), 30, seed=k)
        inside += np.sum((result.lows <= STRENGTHS) & (result.highs >= STRENGTHS))
        rejected += result.p <= 0.05
    assert inside / 1600 == pytest.approx(0.95, abs=0.02)
    assert rejected / 400 < 0.09


def test_who_wins_in_a_circle_has_no_rating():
    wins = np.array([[15.0, 24.0, 6.0], [6.0, 15.0, 24.0], [24.0, 6.0, 15.0]])
    result = rated(("rock", "net", "kelp"), wins, 30)
    assert result.p < 0.05
    assert result.verdict.endswith("rock beats net beats kelp beats rock")
    np.testing.assert_allclose(result.ratings, 0.0, atol=1e-9)
    always = rated(NAMES[:3], np.triu(np.full((3, 3), 30.0)) - np.diag([15.0] * 3), 30)  # no finite maximum by itself
    assert always.table["run"].tolist() == ["gull", "tern", "skua"]
    assert (always.cycle, always.p > 0.05, bool(np.isfinite(always.highs).all())) == ((), True, True)
    assert [text.get_text() for text in always.plot().get_yticklabels()] == ["skua", "tern", "gull"]
