"""The value of a policy by fitted Q evaluation of records, and how far it differs over resampled episodes.

Le, Voloshin and Yue (2019), "Batch policy learning under constraints", algorithm 3; the interval by Hao et al. (2021),
"Bootstrapping fitted Q-evaluation for off-policy inference". The regression is onto random features of what is seen
(Rahimi and Recht, 2007), one set of weights an action.
"""

from __future__ import annotations

from typing import Any

import numpy as np
from scipy import linalg

from jokulmist.arrays import NumpyArray

FEATURES = 200
# With a hundredth of it values grew to the bounds of what can be returned where a policy goes beyond the records.
RIDGE = 1e-4
RESAMPLES = 40
MOST_PAIRS = 2_000
# How far beyond what can be returned a value may lie, as a share of that range, before it counts as beyond.
SLACK = 0.05
# A feature turns once over some of the typical distance between two observations.
REACHES = (1.0, 2.5)


def features_of(numbers: Any, observed: Any, chance: Any) -> Any:
    """Random Fourier features of rows: of Gaussian kernels as wide as two observations lie apart, of two widths, each
    number over its spread; a constant, and the numbers themselves."""
    mean, spread = observed.mean(axis=0), observed.std(axis=0)
    moving = spread > 1e-9
    rows, observed_rows = ((x - mean)[:, moving] / spread[moving] for x in (numbers, observed))
    parts = [np.ones((len(rows), 1)), rows]
    if not moving.any():
        return parts[0]
    pairs = observed_rows[chance.integers(0, len(observed_rows), (2, MOST_PAIRS))]
    distance = np.median(np.linalg.norm(pairs[0] - pairs[1], axis=1)) or 1.0
    for reach in REACHES:
        count = FEATURES // len(REACHES)
        turning = chance.normal(size=(rows.shape[1], count)) * reach / distance
        parts.append(np.sqrt(2.0 / count) * np.cos(rows @ turning + chance.uniform(0.0, 2.0 * np.pi, count)))
    return np.concatenate(parts, axis=1)


def fitted(
    features: NumpyArray,
    after: NumpyArray,
    index: NumpyArray,
    probabilities: NumpyArray,
    rewards: NumpyArray,
    going: NumpyArray,
    weights: NumpyArray,
    discount: float,
    steps: int,
) -> tuple[NumpyArray, float]:
    """The weights of the values of so many decisions, shape ``(features, actions)``; and the share of the rows whose
    successor was valued beyond what can be returned.

    Each pass fits ``r + discount sum_a p(a|s') Q(s', a)`` again, beginning with Q = 0, so that after so many passes Q
    is the return of so many decisions. The value of what follows is held between what so many decisions can return at
    least and at most (`bounds_of`): else an error of the regression grows from pass to pass.
    """
    count, size = probabilities.shape[1], features.shape[1]
    values = np.zeros((size, count))
    maps = []
    for action in range(count):
        rows = np.flatnonzero((index == action) & (weights > 0.0))
        weighted = features[rows] * weights[rows, None]
        square = weighted.T @ features[rows] + RIDGE * max(len(rows), 1) * np.eye(size)
        maps.append((rows, weighted, linalg.cho_factor(square)))
    beyond = 0.0
    for done in range(steps):
        low, high = bounds_of(rewards, discount, done)
        next_values = ((after @ values) * probabilities).sum(axis=1)
        slack = SLACK * (high - low)
        beyond = float(np.mean((next_values < low - slack) | (next_values > high + slack)))
        wanted = rewards + discount * going * np.clip(next_values, low, high)
        values = np.stack(
            [linalg.cho_solve(square, wanted[rows] @ weighted) for rows, weighted, square in maps], axis=1
        )
    return values, beyond


def bounds_of(rewards: NumpyArray, discount: float, steps: int) -> tuple[float, float]:
    """The least and the most that up to so many decisions can return, by the rewards that were met.

    Examples
    --------
    >>> bounds_of(np.array([-2.0, -0.5]), 1.0, 10)  # one decision at least, ten at most
    (-20.0, -0.5)
    """
    if not steps:
        return 0.0, 0.0
    longest = float(np.sum(discount ** np.arange(steps)))
    low, high = float(rewards.min()), float(rewards.max())
    return low * (longest if low < 0.0 else 1.0), high * (longest if high > 0.0 else 1.0)


def fitted_returns(
    records: Any, begins: Any, probabilities: Any, index: Any, discount: float, seed: int
) -> tuple[float, list[float], float]:
    """The mean return of a policy from where the recorded episodes began, the same of resampled episodes, and the
    share of the rows whose successor was valued beyond what can be returned.
    """
    chance = np.random.default_rng(seed)
    rows, episode = records.rows, records.episode
    numbers = [np.asarray(seen.numbers, np.float64) for seen in (rows.observed, rows.last)]
    both = features_of(np.concatenate(numbers), numbers[0], chance)
    now_features, after = both[: len(index)], both[len(index) :]
    rewards, going = np.asarray(rows.rewards, np.float64), 1.0 - np.asarray(rows.ended, np.float64)
    steps = int(np.bincount(episode).max())

    def mean_of(times: Any) -> tuple[float, float]:
        values, beyond = fitted(
            now_features, after, index, probabilities[1], rewards, going, times[episode], discount, steps
        )
        first = ((now_features[begins] @ values) * probabilities[0][begins]).sum(axis=1)
        return float(np.clip(first, *bounds_of(rewards, discount, steps)) @ times / times.sum()), beyond

    count = len(begins)
    resampled = [mean_of(np.bincount(chance.integers(0, count, count), minlength=count))[0] for _ in range(RESAMPLES)]
    mean, beyond = mean_of(np.ones(count))
    return mean, resampled if count > 1 else [float("nan")], beyond
