"""Which pairs of groups differ, by one test; and where it cannot say, how many more seeds it would take."""

from __future__ import annotations

import math
from collections.abc import Mapping
from itertools import combinations
from typing import Any

import numpy as np

from jokulmist.errors import LookupFailed, listed, nearest
from jokulmist.studies import statistics as stat

DIFFERENT, NOT_SHOWN, TOO_FEW = "different", "no difference shown", "too few seeds to say"
DRAW_SEED = 20_011


def judged_pairs(groups: Mapping[str, stat.Strata], against: str | None = None) -> list[dict[str, Any]]:
    """Every pair of groups, or every pair with one of them: the difference, and whether the test tells it from luck."""
    if against is not None:  # the end of a label will do: the value alone
        fits = [name for name in groups if name.endswith(f" {against}")]
        against = fits[0] if against not in groups and len(fits) == 1 else against
    if against is not None and against not in groups:
        raise LookupFailed(f"there is no group {against!r}; there are {listed(groups)}.{nearest(against, groups)}")
    names = list(combinations(groups, 2)) if against is None else [(n, against) for n in groups if n != against]
    draw = np.random.default_rng(DRAW_SEED)
    rows: list[dict[str, Any]] = []
    able = [
        name for name, scores in groups.items() if sum(map(len, scores)) >= stat.FEWEST and min(map(len, scores)) >= 2
    ]
    tested = [pair for pair in names if set(pair) <= set(able)]
    places = [(able.index(first), able.index(second)) for first, second in tested]
    p_values = dict(zip(tested, stat.max_t_test([groups[name] for name in able], places, draw), strict=True))
    # Where even the most uneven deal could not be told from luck, no test can decide.
    decides = bool(tested) and stat.least_p([groups[name] for name in able]) <= stat.ALPHA
    for first, second in names:
        first_scores, second_scores = groups[first], groups[second]
        low, high = stat.chance_interval(first_scores, second_scores)
        corrected = p_values.get((first, second), math.nan)
        # Two groups alone were tested as a pair already.
        alone = (
            corrected
            if len(able) <= 2 or (first, second) not in p_values
            else stat.max_t_test([first_scores, second_scores], [(0, 1)], draw)[0]
        )
        row: dict[str, Any] = {
            "first": first,
            "second": second,
            "difference": stat.difference_of_means(first_scores, second_scores),
            "chance": stat.chance_of_improvement(first_scores, second_scores),
            "low": low,
            "high": high,
            "p": alone,
            "p_adjusted": corrected,
        }
        could = (first, second) in p_values and decides
        row["verdict"] = DIFFERENT if corrected <= stat.ALPHA else NOT_SHOWN if could else TOO_FEW
        row["more_seeds"] = _more(row["verdict"], first_scores, second_scores, len(names))
        rows.append(row)
    return rows


def _more(verdict: str, first_scores: stat.Strata, second_scores: stat.Strata, pairs: int) -> float:
    """Seeds a side that are still needed to find a difference such as this one four times in five."""
    if verdict == DIFFERENT:
        return 0.0
    needed = stat.seeds_needed(stat.standardised(first_scores, second_scores), pairs)
    return (
        math.nan
        if needed is None
        else float(max(needed - min(sum(map(len, first_scores)), sum(map(len, second_scores))), 1))
    )


def verdict_lines(pairs: list[dict[str, Any]], strata: Mapping[str, stat.Strata]) -> list[str]:
    """What the verdicts come to, in words."""
    words = []
    few = [row for row in pairs if row["verdict"] == TOO_FEW]
    if few:
        smallest = min(sum(map(len, s)) for s in strata.values())
        if smallest < stat.FEWEST:
            why = (
                f"{smallest} seed{'s' if smallest > 1 else ''} a side: with fewer than {stat.FEWEST} no test can decide"
            )
        else:
            why = f"{smallest} seeds a side are too few for {len(pairs)} pairs at once (`against` shows fewer)"
        words.append(f"too few seeds to say for {len(few)} of {len(pairs)} pairs: {why}")
    open_ones = [row for row in pairs if row["verdict"] != DIFFERENT]
    finite = [row for row in open_ones if math.isfinite(row["more_seeds"])]
    if finite:
        row = min(finite, key=lambda row: row["more_seeds"])
        words.append(
            f"{row['first']} and {row['second']}: about {row['more_seeds']:.0f} more "
            f"seed{'s' if row['more_seeds'] > 1 else ''} a side would be needed to find a difference "
            f"such as the one seen ({row['difference']:+.3g}) four times in five"
        )
    return words
