"""What a few scores allow to say, held against counting by hand, theory, and made-up scores whose truth is known."""

import math
from itertools import combinations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy import integrate, stats

from jokulmist.errors import LookupFailed
from jokulmist.studies import statistics as stat
from jokulmist.studies.comparison.verdicts import DIFFERENT, NOT_SHOWN, TOO_FEW, judged_pairs

DRAW = np.random.default_rng(5)
scores = st.lists(st.integers(-3, 3).map(float), min_size=2, max_size=5)


def by_counting(ours, theirs):
    """The two-sided p of the studentised difference, by dealing the scores out in every way."""

    def studentised(a, b):
        difference, error = np.mean(a) - np.mean(b), math.sqrt(np.var(a, ddof=1) / len(a) + np.var(b, ddof=1) / len(b))
        return 0.0 if abs(difference) < 1e-12 else abs(difference) / error if error else math.inf

    pool = np.array([*ours, *theirs])
    dealt = [studentised(pool[list(hand)], np.delete(pool, hand)) for hand in combinations(range(len(pool)), len(ours))]
    return float(np.mean(np.array(dealt) >= studentised(ours, theirs) * (1 - 1e-9)))


def one_p(ours, theirs):
    return stat.max_t_test([[np.array(ours)], [np.array(theirs)]], [(0, 1)], np.random.default_rng(0))[0]


@settings(max_examples=30)
@given(ours=scores, theirs=scores)
def test_the_permutation_test_is_that_of_counting_all_deals(ours, theirs):
    p = one_p(ours, theirs)
    assert p == pytest.approx(by_counting(ours, theirs), abs=1e-12)
    assert (
        p >= stat.least_p([[np.array(ours)], [np.array(theirs)]]) / 2 - 1e-12
    )  # with unequal sizes no deal is the mirror of another
    assert p == pytest.approx(one_p(theirs, ours))


def test_drawn_deals_come_to_the_p_of_all_deals():
    first, second = DRAW.normal(0.9, 1.0, 9), DRAW.normal(0.0, 1.0, 9)  # 48,620 deals: drawn, not counted
    exact = by_counting(first, second)
    assert one_p(first, second) == pytest.approx(exact, abs=4 * math.sqrt(exact / stat.ARRANGEMENTS) + 1e-3)


def test_seeds_are_dealt_anew_within_their_environment_only():
    # In each environment the first group is ahead by one, and the environments lie far apart: pooled, nothing would
    # show.
    first = [np.array([11.0, 11.1, 11.2, 11.3]), np.array([1.0, 1.1, 1.2, 1.3])]
    second = [s - 1.0 for s in first]
    assert stat.max_t_test([first, second], [(0, 1)], np.random.default_rng(0))[0] < 0.002
    assert by_counting(np.concatenate(first), np.concatenate(second)) > 0.5
    assert stat.chance_of_improvement(first, second) == 1.0


def test_many_values_with_five_seeds_can_be_told_apart():
    """Six values of a setting, five seeds each: one that is far better is told from all others, and these not from each
    other."""
    draw = np.random.default_rng(3)
    groups = {f"v{k}": [draw.normal(-499.0 if k else -19.0, 5.0, 5)] for k in range(6)}
    result = {(row["first"], row["second"]): row for row in judged_pairs(groups)}
    assert all((row["verdict"] == DIFFERENT) == ("v0" in pair) for pair, row in result.items())
    assert result["v0", "v1"]["p_adjusted"] < 0.01


def wrong_of_fifty(draw, make):
    return sum(any(row["verdict"] == DIFFERENT for row in make(draw)) for _ in range(50))


@pytest.mark.parametrize(
    "case",
    [pytest.param("one of six is far off", marks=pytest.mark.slow), "sizes and spreads differ", "six are equal"],
)
def test_equal_groups_are_called_different_in_one_case_of_twenty_at_most(case):
    def make(draw):
        if case == "sizes and spreads differ":  # a plain difference is called different in 12 % here
            return judged_pairs({"a": [draw.normal(0, 5, 5)], "b": [draw.normal(0, 1, 15)]})
        shift = 100.0 * (case == "one of six is far off")
        rows = judged_pairs({f"v{k}": [draw.normal(shift * (k == 0), 1.0, 5)] for k in range(6 if shift else 4)})
        return [row for row in rows if not shift or "v0" not in (row["first"], row["second"])]

    assert wrong_of_fifty(np.random.default_rng(11), make) <= stats.binom.ppf(0.999, 50, 0.05)


def test_three_seeds_a_side_cannot_decide_and_many_pairs_need_more():
    far = {"a": [np.array([9.0, 9.1, 9.2])], "b": [np.array([0.0, 0.1, 0.2])]}
    row = judged_pairs(far)[0]
    assert row["verdict"] == TOO_FEW
    assert math.isnan(row["p"])
    assert row["more_seeds"] == 1
    four = {name: [np.append(s[0], s[0].mean())] for name, s in far.items()}
    row = judged_pairs(four)[0]
    assert (row["verdict"], row["p"]) == (DIFFERENT, pytest.approx(2 / 70))
    crowd = {f"g{k}": [np.array([0.0, 0.1, 0.2, 0.3]) + 5.0 * k] for k in range(4)}
    against = judged_pairs({k: crowd[k] for k in ("g0", "g1")}, against="g0")
    assert [(r["first"], r["second"], r["verdict"]) for r in against] == [("g1", "g0", DIFFERENT)]
    with pytest.raises(LookupFailed, match=r"no group 'g9'; there are `g0`"):
        judged_pairs(crowd, against="g9")
    same = judged_pairs({"a": [np.ones(5)], "b": [np.ones(5)]})[0]
    assert (same["verdict"], same["p"]) == (NOT_SHOWN, 1.0)
    assert math.isnan(same["more_seeds"])


KINDS = {
    "normal": lambda draw, n: draw.normal(size=n),
    "two-humped": lambda draw, n: np.where(draw.random(n) < 0.4, 0.0, 5.0) + 0.5 * draw.normal(size=n),
    "tied": lambda draw, n: draw.integers(0, 3, n).astype(float),
}


@pytest.mark.slow
@pytest.mark.parametrize("kind", KINDS)
@pytest.mark.parametrize("seeds", [4, 10])
def test_where_nothing_differs_it_says_different_in_at_most_one_case_of_twenty(kind, seeds):
    draw, times = np.random.default_rng([seeds, len(kind)]), 100
    reply = sum(
        judged_pairs({"a": [KINDS[kind](draw, seeds)], "b": [KINDS[kind](draw, seeds)]})[0]["verdict"] == DIFFERENT
        for _ in range(times)
    )
    assert reply <= stats.binom.ppf(0.999, times, 0.05)


@pytest.mark.slow
@pytest.mark.parametrize(("seeds", "shift"), [(5, 2.0), (10, 1.0), (10, 2.0)])
def test_a_known_difference_is_found_as_often_as_theory_says(seeds, shift):
    draw, times = np.random.default_rng(seeds), 200
    result = 0
    for _ in range(times):
        scores = {"a": [draw.normal(size=seeds) + shift], "b": [draw.normal(size=seeds)]}
        result += judged_pairs(scores)[0]["verdict"] == DIFFERENT
    theory = stat.power_of(shift, seeds, stat.attained(seeds))
    assert abs(result / times - theory) < 3.3 * math.sqrt(theory * (1 - theory) / times) + 0.02


def test_the_power_is_that_of_students_test_and_the_seeds_needed_follow_from_it():
    # Student's test at 5 %: 64 a side find half a standard deviation four times in five, 17 a whole one (Cohen, 1988,
    # table 2.4.1).
    assert stat.seeds_needed(0.5) == 64
    assert stat.seeds_needed(1.0) == 17
    assert stat.seeds_needed(0.001) is None
    assert stat.seeds_needed(0.0) is None
    assert stat.seeds_needed(math.inf) == 4
    assert stat.seeds_needed(math.inf, pairs=15) == 4
    powers = [stat.power_of(0.7, n) for n in (4, 8, 16, 64, 500, 1000)]
    assert np.all(np.diff(powers) >= 0)
    assert powers[-1] == pytest.approx(1.0)
    assert stat.attained(4) == pytest.approx(2 / 70)


@given(st.lists(st.floats(-1e6, 1e6), min_size=1, max_size=40))
def test_the_middle_lies_between_the_quartiles_and_one_wild_seed_of_many_moves_it_little(values):
    middle = float(stat.interquartile_mean(values))
    assert min(values) - 1e-6 <= middle <= max(values) + 1e-6
    if len(values) >= 4:
        wild = [*sorted(values)[:-1], 1e9]
        assert float(stat.interquartile_mean(wild)) <= max(values) + 1e-6


def test_intervals_hold_what_they_should_about_as_often_as_they_say():
    draw, times = np.random.default_rng(3), 250
    for seeds in (3, 5, 10):
        intervals = [stat.interval([draw.normal(size=seeds)], stat.interquartile_mean, draw) for _ in range(times)]
        assert 0.90 < np.mean([low <= 0.0 <= high for low, high in intervals]) <= 1.0
    scores = np.array([1.0, 2.0, 4.0])
    student = stats.t.interval(0.95, 2, loc=scores.mean(), scale=stats.sem(scores))
    assert stat.interval([scores], stat.mean, draw) == pytest.approx(student, rel=0.05)
    assert all(map(math.isnan, stat.interval([np.array([1.0])], stat.interquartile_mean, draw)))
    # Seeds of two environments are drawn again within each: what lies between the environments is no spread.
    low, high = stat.interval([np.array([0.0, 0.1] * 5), np.array([10.0, 10.1] * 5)], stat.mean, draw)
    assert high - low < 0.1


def test_the_chance_of_improvement_counts_pairs_and_ties_half():
    assert stat.chance_of_improvement([np.array([1.0, 3.0])], [np.array([2.0, 3.0])]) == pytest.approx(3 / 8)
    low, high = stat.chance_interval([np.arange(8.0)], [np.arange(8.0) + 1])
    assert 0.0 <= low < 0.4 < high <= 1.0


def test_expected_improvement_is_the_integral_that_it_stands_for():
    from jokulmist.studies.search.methods.gaussian_process import expected_improvement, tamed

    for mean, spread, best in ((0.3, 0.5, 1.0), (2.0, 0.1, 1.0), (1.0, 2.0, 1.0)):

        def density(y, mean=mean, spread=spread, best=best):
            return max(y - best, 0.0) * stats.norm.pdf(y, mean, spread)

        area, _ = integrate.quad(density, best, best + 40 * spread)
        assert float(expected_improvement(np.array(mean), np.array(spread), best)) == pytest.approx(area, rel=1e-5)
    assert tamed([1.0, 2.0, 3.0, 4.0, -math.inf]).min() == -3.0
    assert np.all(tamed([2.0, 2.0, 2.0]) == 0.0)


def test_the_noise_of_a_score_is_no_improvement_to_be_hoped_for():
    from jokulmist.studies.search.methods.gaussian_process import fitted, function_at

    draw = np.random.default_rng(3)
    places = np.repeat([[0.2], [0.8]], 40, axis=0)
    scores = np.where(places[:, 0] > 0.5, 1.0, 0.0) + draw.normal(0.0, 0.5, 80)
    model = fitted(places, scores, 1)
    _, with_noise = model.predict(places[:1], return_std=True)
    _, spread = function_at(model, places[:1], scores)
    assert 0.4 < with_noise[0] < 0.65  # the score of one more run
    assert spread[0] == pytest.approx(0.5 / math.sqrt(40), rel=0.4)  # the mean of forty
