"""Search by a Gaussian process: where a model of the scores promises the most, by expected improvement."""

from __future__ import annotations

import math
import warnings
from typing import Any

import numpy as np

from jokulmist.arrays import NumpyArray
from jokulmist.studies.search.candidates import Board, Candidate, Instalment
from jokulmist.studies.search.methods.simple import Random
from jokulmist.studies.search.space import Settings

FIRST = 6
RANDOM_TRIES, NEAR_TRIES = 1500, 500
STEPS = (0.02, 0.1, 0.3)
ONE_AT_RANDOM = 8


class GaussianProcess(Random):
    """The next candidate has the highest expected improvement over the best so far, under a Gaussian process on the
    scores.

    Jones, Schonlau and Welch (1998), "Efficient global optimization of expensive black-box functions", equation 15; the
    process with a Matern 5/2 kernel, a length a column, after Snoek, Larochelle and Adams (2012), "Practical Bayesian
    optimization of machine learning algorithms".

    Notes
    -----
    Settings that do not matter are in the middle of their range for the model; values without order have a column
    each. What improvement is measured from is the highest mean of the model at a candidate, for scores are noisy.
    Candidates that are still being trained count as having scored what the model expects of them. Scores far below the
    middle are drawn up to three spreads below it, failures too: how bad a bad candidate is says nothing of the good
    ones. One candidate in eight is drawn at random. The winner is the candidate of which the model expects most, not
    the one with the luckiest score. Fails with more than about 20 settings, where a model of few points knows nothing.
    """

    @property
    def first(self) -> int:
        """How many are drawn at random before a model is asked."""
        return max(FIRST, 2 * len(self.problem.space.names))

    def next(self, board: Board) -> Instalment | None:
        number = len(board.candidates)
        if number >= self.problem.candidates:
            return None
        scored = [c for merit, c in board.ranked(0)]
        draw = self.problem.draw(number)
        random = self.problem.space.sample(draw)
        if len(scored) < min(self.first, self.problem.candidates) or number % ONE_AT_RANDOM == ONE_AT_RANDOM - 1:
            return Instalment(board.add(random).number)
        return Instalment(board.add(self._promising(board, scored, draw)).number)

    def best(self, board: Board) -> tuple[Candidate, int] | None:
        """The candidate of which the model expects most: a single lucky score weighs less than a good neighbourhood."""
        scored = [c for merit, c in board.ranked(0) if math.isfinite(merit)]
        if len(scored) < FIRST:
            return board.best(self.untils)
        places, scores = self._encode_scored(board, scored)
        mean = fitted(places, scores, self.problem.seed % (1 << 31)).predict(places)
        return scored[int(np.argmax(mean))], 0

    def _encode_scored(self, board: Board, scored: list[Candidate]) -> tuple[NumpyArray, NumpyArray]:
        """Places and scores of candidates, as the model takes them."""
        places = np.stack([self.problem.space.encoded(c.settings) for c in scored])
        return places, tamed([float(board.merit(c, 0) or 0.0) for c in scored])

    def _promising(self, board: Board, scored: list[Candidate], draw: np.random.Generator) -> Settings:
        space = self.problem.space
        places, scores = self._encode_scored(board, scored)
        model = fitted(places, scores, int(draw.integers(1 << 31)))
        pending = [space.encoded(c.settings) for c in board.candidates if c not in scored]
        if pending:
            expected = model.predict(np.stack(pending))
            scores = np.concatenate([scores, expected])
            model = refitted(model, np.vstack([places, pending]), scores)
        mean = model.predict(places)
        best = float(mean.max())
        good = [scored[k].settings for k in np.argsort(-mean)[:5]]
        tries = [space.sample(draw) for _ in range(RANDOM_TRIES)]
        tries += [
            space.neighbour(good[k % len(good)], draw, STEPS[k % len(STEPS)], share=0.6) for k in range(NEAR_TRIES)
        ]
        seen = {repr(c.settings) for c in board.candidates}
        tries = [settings for settings in tries if repr(settings) not in seen] or tries
        mean, spread = function_at(model, np.stack([space.encoded(settings) for settings in tries]), scores)
        chosen: Settings = tries[int(np.argmax(expected_improvement(mean, spread, best)))]
        return chosen


def expected_improvement(mean: NumpyArray, spread: NumpyArray, best: float) -> NumpyArray:
    """E[max(y - best, 0)] for y normal: (mean - best) Phi(z) + spread phi(z), z = (mean - best) / spread.

    Examples
    --------
    >>> float(expected_improvement(np.array(1.0), np.array(1.0), 1.0).round(6))  # the density of the normal at 0
    0.398942
    """
    from scipy import stats

    spread = np.maximum(spread, 1e-9)
    gain = mean - best
    z = gain / spread
    improvement: NumpyArray = gain * stats.norm.cdf(z) + spread * stats.norm.pdf(z)
    return improvement


def tamed(merits: list[float]) -> NumpyArray:
    """Scores in spreads from their median; what is lower than three spreads, or failed, stands there."""
    values = np.array(merits, np.float64)
    finite = values[np.isfinite(values)]
    if not len(finite):
        return np.zeros(len(values))
    low, middle, high = np.quantile(finite, [0.25, 0.5, 0.75])
    spread = max(float(high - low) / 1.349, float(finite.std()) / 10.0, 1e-12)
    progress: NumpyArray = np.maximum((values - middle) / spread, -3.0)
    return progress


def fitted(places: NumpyArray, scores: NumpyArray, seed: int) -> Any:
    """A Gaussian process whose lengths, height and noise are the likeliest."""
    from sklearn.exceptions import ConvergenceWarning
    from sklearn.gaussian_process import GaussianProcessRegressor
    from sklearn.gaussian_process.kernels import ConstantKernel, Matern, WhiteKernel

    width = places.shape[1]
    kernel = ConstantKernel(1.0, (0.05, 20.0)) * Matern([0.5] * width, [(0.05, 10.0)] * width, nu=2.5)
    kernel += WhiteKernel(0.1, (1e-4, 3.0))
    model = GaussianProcessRegressor(kernel, normalize_y=True, n_restarts_optimizer=1, random_state=seed)
    with warnings.catch_warnings():
        warnings.simplefilter("ignore", ConvergenceWarning)  # a length at its bound is one that does not matter
        model.fit(places, scores)
    return model


def function_at(model: Any, places: NumpyArray, scores: NumpyArray) -> tuple[NumpyArray, NumpyArray]:
    """Mean and spread of the function itself, without the noise of a score: noise can be had again at any place, and is
    no improvement."""
    mean, spread = model.predict(places, return_std=True)
    noise = model.kernel_.k2.noise_level * (float(np.var(scores)) or 1.0)
    return mean, np.sqrt(np.maximum(spread**2 - noise, 0.0))


def refitted(model: Any, places: NumpyArray, scores: NumpyArray) -> Any:
    """The same process with more points."""
    from sklearn.gaussian_process import GaussianProcessRegressor

    model_again = GaussianProcessRegressor(model.kernel_, normalize_y=True, optimizer=None)
    model_again.fit(places, scores)
    return model_again
