"""What a few scores allow to say: the middle of a group with its interval, and whether two groups differ.

Scores come in *strata*: one array an environment, of one score a seed. With one environment there is one stratum. Intervals are
to be looked at; what decides is one test, `permutation_test`, whose level holds for any distribution of scores.
How well both do is measured by ``benchmarks/chance.py`` and told in docs/comparing.md.

SciPy's statistics take a second to import, so they are imported where they are used: a search begins without them.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from typing import Any

import numpy as np

Array = np.ndarray[Any, Any]
Strata = Sequence[Array]

ALPHA = 0.05
FEWEST = 4  # three against three can be dealt in 20 ways: no p below 0.1
POWER = 0.8
RESAMPLES = 4_000
ARRANGEMENTS = 9_999
MOST_SEEDS = 1_000
TRIM = 0.25


def interquartile_mean(scores: Any, axis: int = -1) -> Any:
    """The mean of the middle half: a quarter of the scores, rounded down, is left out at each end.

    Parameters
    ----------
    scores : array
    axis : int

    Returns
    -------
    array without that axis

    Examples
    --------
    >>> float(interquartile_mean([1.0, 2.0, 3.0, 100.0]))
    2.5
    """
    from scipy import stats

    return stats.trim_mean(np.asarray(scores, np.float64), TRIM, axis=axis)


def mean(scores: Any) -> Array:
    """The mean along the last axis."""
    found: Array = np.mean(scores, axis=-1)
    return found


def resampled(strata: Strata, draw: np.random.Generator, count: int = RESAMPLES) -> Array:
    """Scores drawn again with replacement within each stratum, shape ``(count, all scores)``."""
    parts = [np.asarray(s, np.float64)[draw.integers(0, len(s), (count, len(s)))] for s in strata]
    return np.concatenate(parts, axis=1)


def widened(strata: Strata, share: float = 0.95) -> float:
    """The tail of the bootstrap distribution to cut at each end, so that few seeds do not give intervals that are too short.

    Resampling n scores in k strata understates their spread by (n - k) / n, and a normal quantile is short of Student's t:
    the *expanded* percentile interval takes both into account (Hesterberg, 2015, "What teachers should know about the
    bootstrap", The American Statistician 69, section 4.3).
    """
    from scipy import stats

    total = sum(map(len, strata))
    free = total - len(strata)
    if free < 1:
        return (1.0 - share) / 2.0
    reach = float(stats.t.ppf(0.5 + share / 2.0, free)) * math.sqrt(total / free)
    return float(stats.norm.cdf(-reach))


def interval(
    strata: Strata, statistic: Callable[[Array], Array], draw: np.random.Generator, share: float = 0.95
) -> tuple[float, float]:
    """A stratified bootstrap interval of a statistic, by the expanded percentiles.

    Parameters
    ----------
    strata : sequence of array
    statistic : function of an array of shape (count, scores), giving shape (count,)
    draw : numpy.random.Generator
    share : float
        What the interval is meant to cover.

    Returns
    -------
    low, high : float
        Not numbers where a stratum has a single score.
    """
    if min(map(len, strata)) < 2:
        return math.nan, math.nan
    tail = widened(strata, share)
    low, high = np.quantile(statistic(resampled(strata, draw)), [tail, 1.0 - tail])
    return float(low), float(high)


def chance_of_improvement(first: Strata, second: Strata) -> float:
    """The chance that a seed of the first group beats one of the second, ties counted half; the mean over the strata.

    The Mann-Whitney U of each stratum, divided by the number of its pairs.
    """
    found = []
    for ours, theirs in zip(first, second, strict=True):
        difference = np.asarray(ours)[:, None] - np.asarray(theirs)[None, :]
        found.append(float(np.mean((difference > 0) + 0.5 * (difference == 0))))
    return float(np.mean(found))


def chance_interval(first: Strata, second: Strata, draw: np.random.Generator) -> tuple[float, float]:
    """The interval of `chance_of_improvement`, by resampling both groups."""
    if min(map(len, [*first, *second])) < 2:
        return math.nan, math.nan
    total = np.zeros(RESAMPLES)
    for ours, theirs in zip(first, second, strict=True):
        a, b = resampled([ours], draw), resampled([theirs], draw)
        difference = a[:, :, None] - b[:, None, :]
        total += np.mean((difference > 0) + 0.5 * (difference == 0), axis=(1, 2))
    tail = max(widened(first), widened(second))
    low, high = np.quantile(total / len(first), [tail, 1.0 - tail])
    return float(low), float(high)


def difference_of_means(first: Strata, second: Strata) -> float:
    """How much higher the first group's mean is; the mean over the strata."""
    return float(np.mean([np.mean(a) - np.mean(b) for a, b in zip(first, second, strict=True)]))


def arrangements(first: Strata, second: Strata) -> int:
    """In how many ways the scores could have been dealt to the two groups."""
    return math.prod(math.comb(len(a) + len(b), len(a)) for a, b in zip(first, second, strict=True))


def least_p(first: Strata, second: Strata) -> float:
    """The smallest p that `permutation_test` could give with so many scores."""
    return max(min(2.0 / arrangements(first, second), 1.0), 2.0 / (ARRANGEMENTS + 1))


def permutation_test(first: Strata, second: Strata, draw: np.random.Generator) -> float:
    """The two-sided p of the difference of means under "it makes no difference which group a seed belongs to".

    The scores of each stratum are dealt to the groups anew: in all ways where there are at most 9,999, else in so many ways
    drawn at random, the observed one counted among them, so that the level holds exactly (Phipson and Smyth, 2010).

    Examples
    --------
    >>> draw = np.random.default_rng(0)
    >>> permutation_test([np.array([1.0, 2, 3, 4])], [np.array([5.0, 6, 7, 8])], draw)  # 2 of 70 deals are as uneven
    0.02857142857142857
    """
    from scipy import stats

    if len(first) == 1 and arrangements(first, second) <= ARRANGEMENTS:
        pair = (np.asarray(first[0], np.float64), np.asarray(second[0], np.float64))
        result = stats.permutation_test(
            pair, lambda a, b, axis: np.mean(a, axis=axis) - np.mean(b, axis=axis), vectorized=True, n_resamples=ARRANGEMENTS,
        )  # fmt: skip
        return float(result.pvalue)
    observed = difference_of_means(first, second)
    dealt = np.zeros(ARRANGEMENTS)
    for ours, theirs in zip(first, second, strict=True):
        pool = np.concatenate([ours, theirs]).astype(np.float64)
        mixed = draw.permuted(np.broadcast_to(pool, (ARRANGEMENTS, len(pool))), axis=1)
        dealt += mixed[:, : len(ours)].mean(axis=1) - mixed[:, len(ours) :].mean(axis=1)
    dealt /= len(first)
    slack = 1e-12 * max(abs(observed), 1e-300)
    above, below = (1 + np.sum(dealt >= observed - slack)), (1 + np.sum(dealt <= observed + slack))
    return float(min(1.0, 2.0 * min(above, below) / (ARRANGEMENTS + 1)))


def holm(values: Sequence[float]) -> list[float]:
    """Values of p corrected for their number (Holm, 1979): the smallest by all of them, the next by one less, never falling.

    Examples
    --------
    >>> holm([0.01, 0.04, 0.03])
    [0.03, 0.06, 0.06]
    """
    order = np.argsort(values, kind="stable")
    corrected, highest = [0.0] * len(values), 0.0
    for rank, k in enumerate(order):
        highest = max(highest, min(1.0, (len(values) - rank) * values[k]))
        corrected[k] = round(highest, 12)
    return corrected


def power_of(effect: float, seeds: int, alpha: float = ALPHA) -> float:
    """The chance to find a difference of so many standard deviations with so many seeds a side, by the noncentral t.

    A permutation test of means has the power of Student's test for all but very few scores (Hoeffding, 1952).
    """
    from scipy import stats

    free = 2 * seeds - 2
    reach = float(stats.t.ppf(1.0 - alpha / 2.0, free))
    shift = effect * math.sqrt(seeds / 2.0)
    above, below = float(stats.nct.sf(reach, free, shift)), float(stats.nct.cdf(-reach, free, shift))
    if not math.isfinite(above):  # the noncentral distribution cannot be computed far out; there it is normal
        above = float(stats.norm.sf(reach - shift))
    return above + (below if math.isfinite(below) else 0.0)


def attained(seeds: int, alpha: float = ALPHA) -> float:
    """The level that the test really has with so many seeds a side: a few scores can be dealt in few ways only."""
    ways = math.comb(2 * seeds, seeds)
    return alpha if ways > ARRANGEMENTS else 2.0 * math.floor(alpha * ways / 2.0 + 1e-9) / ways


def seeds_needed(effect: float, pairs: int = 1) -> int | None:
    """Seeds a side with which a difference of so many standard deviations is found four times in five.

    Parameters
    ----------
    effect : float
        The difference of the means over the spread of a group.
    pairs : int
        How many comparisons share the 5 %.

    Returns
    -------
    int, or None where more than a thousand would be needed
    """
    alpha = ALPHA / pairs
    fewest = FEWEST
    while max(2.0 / math.comb(2 * fewest, fewest), 2.0 / (ARRANGEMENTS + 1)) > alpha and fewest < MOST_SEEDS:
        fewest += 1
    if not math.isfinite(effect) or effect == 0.0:
        return fewest if math.isinf(effect) else None
    low, high = fewest, MOST_SEEDS
    if power_of(abs(effect), high, attained(high, alpha)) < POWER:
        return None
    while low < high:
        middle = (low + high) // 2
        low, high = (
            (low, middle) if power_of(abs(effect), middle, attained(middle, alpha)) >= POWER else (middle + 1, high)
        )
    return low


def standardised(first: Strata, second: Strata) -> float:
    """The difference of means over the spread within the groups (Cohen's d); infinite where nothing spreads."""
    squares = sum(float(np.var(s) * len(s)) for s in (*first, *second))
    free = sum(len(s) - 1 for s in (*first, *second))
    difference = difference_of_means(first, second)
    if free < 1:
        return math.nan
    spread = math.sqrt(squares / free)
    if spread == 0.0:
        return math.copysign(math.inf, difference) if difference else 0.0
    return difference / spread


def wilson(hits: int, count: int) -> tuple[float, float]:
    """The 95 % interval of a share (Wilson, 1927)."""
    from scipy import stats

    found = stats.binomtest(hits, count).proportion_ci(method="wilson")
    return float(found.low), float(found.high)
