"""What a few scores allow to say: the middle of a group with its interval, and whether two groups differ.

Scores come in *strata*: one array an environment, of one score a seed. With one environment there is one stratum.
Intervals are to be looked at; what decides is one test, `max_t_test`: a permutation test of studentised differences
over all pairs at once. Where groups have one distribution its level is exact; where only their means are equal, it is
right in the limit of many seeds (Janssen, 1997). How well both do is measured by ``benchmarks/chance.py`` and told in
docs/comparing.md.

SciPy's statistics take a second to import, so they are imported where they are used: a search begins without them.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from itertools import combinations
from typing import Any

import numpy as np

from jokulmist.arrays import NumpyArray

Strata = Sequence[NumpyArray]

ALPHA = 0.05
FEWEST = 4  # three against three can be dealt in 20 ways: no p below 0.1
POWER = 0.8
RESAMPLES = 4_000
ARRANGEMENTS = 9_999
MOST_SEEDS = 1_000
TRIM = 0.25
NORMAL = 1.959964
FEW = 9


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


def mean(scores: NumpyArray) -> NumpyArray:
    """The mean along the last axis."""
    means: NumpyArray = np.mean(scores, axis=-1)
    return means


def resampled(strata: Strata, draw: np.random.Generator, count: int = RESAMPLES) -> NumpyArray:
    """Scores drawn again with replacement within each stratum, shape ``(count, all scores)``."""
    parts = [np.asarray(s, np.float64)[draw.integers(0, len(s), (count, len(s)))] for s in strata]
    return np.concatenate(parts, axis=1)


def interval_ends(resamples: NumpyArray, estimate: Any, strata: Strata, share: float = 0.95) -> NumpyArray:
    """Both ends of the interval of an estimate, from its bootstrap distribution along the first axis; shape ``(2,
    ...)``.

    Resampling n scores in k strata understates their spread by (n - k) / n, and a normal quantile is short of Student's
    t; both are taken into account. With `FEW` degrees of freedom and more by the *expanded* percentiles (Hesterberg,
    2015, "What teachers should know about the bootstrap", The American Statistician 69, section 4.3). With fewer,
    no percentile reaches beyond the outermost scores: there it is the estimate and Student's t times the corrected
    standard error, which for the mean of one stratum is Student's interval itself.
    """
    from scipy import stats

    total = sum(map(len, strata))
    free = total - len(strata)
    reach = float(stats.t.ppf(0.5 + share / 2.0, free)) * math.sqrt(total / free)
    if free < FEW:
        half = reach * np.std(resamples, axis=0, ddof=1)
        return np.stack([estimate - half, estimate + half])
    tail = max(float(stats.norm.cdf(-reach)), 1.0 / len(resamples))
    ends: NumpyArray = np.quantile(resamples, [tail, 1.0 - tail], axis=0)
    return ends


def interval(
    strata: Strata, statistic: Callable[[NumpyArray], NumpyArray], draw: np.random.Generator, share: float = 0.95
) -> tuple[float, float]:
    """A stratified bootstrap interval of a statistic."""
    if min(map(len, strata)) < 2:
        return math.nan, math.nan
    estimate = float(np.ravel(statistic(np.concatenate(list(strata))[None]))[0])
    low, high = interval_ends(statistic(resampled(strata, draw)), estimate, strata, share)
    return float(low), float(high)


def chance_of_improvement(first: Strata, second: Strata) -> float:
    """The chance that a seed of the first group beats one of the second, ties counted half; the mean over the strata.

    The Mann-Whitney U of each stratum, divided by the number of its pairs.
    """
    chances = []
    for first_scores, second_scores in zip(first, second, strict=True):
        difference = np.asarray(first_scores)[:, None] - np.asarray(second_scores)[None, :]
        chances.append(float(np.mean((difference > 0) + 0.5 * (difference == 0))))
    return float(np.mean(chances))


def chance_interval(first: Strata, second: Strata) -> tuple[float, float]:
    """The 95 % interval of `chance_of_improvement`, also where every seed of one group beats every seed of the other.

    Those probabilities from which the observed one lies at most 1.96 standard errors away, each with the error that it
    would have itself (Newcombe, 2006, "Confidence intervals for an effect size measure based on the Mann-Whitney
    statistic. Part 2", method 5). Resampling five scores that do not overlap would give 0 % to 0 %.

    Examples
    --------
    >>> low, high = chance_interval([np.arange(5.0)], [np.arange(5.0) + 9.0])
    >>> round(low, 2), round(high, 2)
    (0.0, 0.36)
    """
    from scipy import optimize

    if min(map(len, [*first, *second])) < 2:
        return math.nan, math.nan
    estimate = chance_of_improvement(first, second)

    def error(chance: float) -> float:
        squares = 0.0
        for first_scores, second_scores in zip(first, second, strict=True):
            many = 0.5 * (len(first_scores) + len(second_scores)) - 1.0
            more = many * ((1.0 - chance) / (2.0 - chance) + chance / (1.0 + chance))
            squares += chance * (1.0 - chance) * (1.0 + more) / (len(first_scores) * len(second_scores))
        return NORMAL * math.sqrt(squares) / len(first)

    def end(outwards: float, bound: float) -> float:
        beyond = outwards * (bound - estimate)
        inside = estimate + outwards * min(1e-9, beyond)
        if beyond <= 1e-9 or beyond <= error(bound - outwards * 1e-12):
            return bound
        return float(optimize.brentq(lambda chance: outwards * (chance - estimate) - error(chance), inside, bound))

    return end(-1.0, 0.0), end(1.0, 1.0)


def difference_of_means(first: Strata, second: Strata) -> float:
    """How much higher the first group's mean is; the mean over the strata."""
    return float(np.mean([np.mean(a) - np.mean(b) for a, b in zip(first, second, strict=True)]))


def least_p(groups: Sequence[Strata]) -> float:
    """The smallest p that `max_t_test` could give with so many scores: that of a pair which lies apart from all others.

    Examples
    --------
    >>> round(least_p([[np.zeros(4)], [np.zeros(4)]]), 4)  # 2 of 70 deals
    0.0286
    """
    dealt = 1.0
    for strata in zip(*groups, strict=True):
        sizes = sorted(map(len, strata))
        total = sum(sizes)
        # Two groups hold their own scores, and the others are dealt in any way.
        dealt *= math.comb(total, sizes[0]) * math.comb(total - sizes[0], sizes[1])
    pairs = len(groups) * (len(groups) - 1)
    return max(min(pairs / dealt, 1.0), 1.0 / (ARRANGEMENTS + 1))


def studentised(first: Strata, second: Strata) -> NumpyArray:
    """The difference of means over its standard error, along the last axis of each stratum; infinite where nothing
    spreads."""
    difference: Any = 0.0
    squares: Any = 0.0
    for first_scores, second_scores in zip(first, second, strict=True):
        difference = difference + first_scores.mean(axis=-1) - second_scores.mean(axis=-1)
        squares = (
            squares
            + first_scores.var(axis=-1, ddof=1) / first_scores.shape[-1]
            + second_scores.var(axis=-1, ddof=1) / second_scores.shape[-1]
        )
    with np.errstate(divide="ignore", invalid="ignore"):
        t_values = difference / np.sqrt(squares)
    return np.where(np.abs(difference) < 1e-12, 0.0, t_values)


def max_t_test(groups: Sequence[Strata], pairs: Sequence[tuple[int, int]], draw: np.random.Generator) -> list[float]:
    """The two-sided p of each pair, corrected for their number, under "it makes no difference which group a seed
    belongs to".

    Scores are dealt again among the groups of each stratum, and each pair's studentised difference is held against the
    largest of all pairs in each deal, step down: a pair that was told apart leaves the others to themselves, and from
    then on scores are dealt only among groups that pairs still connect (Westfall and Young, 1993, section 2.6;
    studentised as Janssen, 1997, so that groups of other sizes and spreads are not called different for that). Two
    groups are dealt in all ways where there are at most 9,999; else so many are drawn, the observed one counted among
    them (Phipson and Smyth, 2010).

    Examples
    --------
    >>> draw = np.random.default_rng(0)
    >>> max_t_test([[np.array([1.0, 2, 3, 4])], [np.array([5.0, 6, 7, 8])]], [(0, 1)], draw)  # 2 of 70 deals are as uneven
    [0.02857142857142857]
    """
    groups = [[np.asarray(stratum, np.float64) for stratum in strata] for strata in groups]
    observed = [abs(float(studentised(groups[a], groups[b]))) for a, b in pairs]
    left = sorted(range(len(pairs)), key=lambda k: -observed[k])
    p_values, highest = [1.0] * len(pairs), 0.0
    connected: list[list[int]] | None = None
    while left:
        components = _components([pairs[k] for k in left])
        if components != connected:
            connected, deals = (
                components,
                [_dealt(groups, members, draw, alone=len(components) == 1) for members in components],
            )
            each = {pairs[k]: _differences(deals, components, *pairs[k]) for k in left}
        most = np.max([each[pairs[k]] for k in left], axis=0)
        highest = max(highest, _share_above(most, observed[left[0]]))
        p_values[left[0]] = highest
        if highest > ALPHA:  # the rest cannot be told apart either; they share what is known by now
            for k in left[1:]:
                p_values[k] = max(highest, _share_above(most, observed[k]))
            break
        left.pop(0)
    return p_values


def _share_above(deals: NumpyArray, observed: float) -> float:
    """The share of deals at least as uneven as the observed one, which is counted among them where they are drawn."""
    hits = int(np.sum(deals >= observed * (1.0 - 1e-9)))
    return hits / len(deals) if len(deals) < ARRANGEMENTS else (hits + 1) / (len(deals) + 1)


def _components(pairs: Sequence[tuple[int, int]]) -> list[list[int]]:
    """The groups that pairs connect, component by component."""
    components: list[set[int]] = []
    for pair in pairs:
        touched = [component for component in components if component & set(pair)]
        components = [component for component in components if component not in touched] + [set(pair).union(*touched)]
    return sorted(sorted(component) for component in components)


def _dealt(
    groups: Sequence[Strata], members: Sequence[int], draw: np.random.Generator, alone: bool
) -> list[list[NumpyArray]]:
    """Deals of the scores of some groups among them: by group and stratum, shape ``(deals, scores)``; all there are
    only of two groups that are `alone`."""
    deals: list[list[NumpyArray]] = [[] for _ in members]
    strata = list(zip(*(groups[k] for k in members), strict=True))
    for parts in strata:
        pool, sizes = np.concatenate(parts), [len(part) for part in parts]
        if alone and len(members) == 2 and len(strata) == 1 and math.comb(len(pool), sizes[0]) <= ARRANGEMENTS:
            firsts = np.array(list(combinations(range(len(pool)), sizes[0])))
            is_other = np.ones((len(firsts), len(pool)), bool)
            np.put_along_axis(is_other, firsts, False, axis=1)
            rest = np.nonzero(is_other)[1].reshape(len(firsts), -1)
            mixed = pool[np.concatenate([firsts, rest], axis=1)]
        else:
            mixed = draw.permuted(np.broadcast_to(pool, (ARRANGEMENTS, len(pool))), axis=1)
        start = 0
        for deal, size in zip(deals, sizes, strict=True):
            deal.append(mixed[:, start : start + size])
            start += size
    return deals


def _differences(deals: list[list[list[NumpyArray]]], members: list[list[int]], a: int, b: int) -> NumpyArray:
    """The studentised differences of a pair in each deal."""
    component = next(k for k, member_names in enumerate(members) if a in member_names)
    places = [members[component].index(group) for group in (a, b)]
    return np.abs(studentised(*(deals[component][place] for place in places)))


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


def attained(seeds: int, alpha: float = ALPHA, pairs: int = 1) -> float:
    """The level that the test really has with so many seeds a side: the scores of two groups can be dealt in few ways
    only."""
    if pairs > 1:
        return alpha
    ways = math.comb(2 * seeds, seeds)
    return alpha if ways > ARRANGEMENTS else 2.0 * math.floor(alpha * ways / 2.0 + 1e-9) / ways


def seeds_needed(effect: float, pairs: int = 1) -> int | None:
    """Seeds a side with which a difference of so many standard deviations is found four times in five."""
    alpha = ALPHA / pairs
    fewest = FEWEST
    if not math.isfinite(effect) or effect == 0.0:
        return fewest if math.isinf(effect) else None
    low, high = fewest, MOST_SEEDS
    if power_of(abs(effect), high, attained(high, alpha, pairs)) < POWER:
        return None
    while low < high:
        middle = (low + high) // 2
        low, high = (
            (low, middle)
            if power_of(abs(effect), middle, attained(middle, alpha, pairs)) >= POWER
            else (middle + 1, high)
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

    interval = stats.binomtest(hits, count).proportion_ci(method="wilson")
    return float(interval.low), float(interval.high)
