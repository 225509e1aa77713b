"""How strong each of several policies is in a game of two that somebody wins, from one set of meetings.

The model is that of Bradley and Terry (1952), "Rank analysis of incomplete block designs", Biometrika 39, with an
advantage for the first player as in Davidson and Beaver (1977): of two policies i, as first, wins against j with the
chance 1 / (1 + exp(-(r_i - r_j + a))). One number a policy can only tell who beats whom where beating is transitive, so
that is asked too.
"""

from __future__ import annotations

import itertools
import math
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from jokulmist.arrays import NumpyArray
from jokulmist.pictures import style
from jokulmist.records.files import replace_file
from jokulmist.studies.statistics import ALPHA, NORMAL

if TYPE_CHECKING:
    import pandas as pd
    from matplotlib.axes import Axes

SIMULATED = 400
MOST_STEPS = 60


@dataclass(frozen=True)
class Ratings:
    """The strength of policies, from who won how often against whom.

    Attributes
    ----------
    names : tuple of str
    ratings, lows, highs : float64, shape ``(policies,)``
        In units of log odds, with their 95 % intervals; their mean is 0. A difference of 1 means 73 wins in 100.
    advantage : tuple of float
        Of who plays the first player: log odds, and its 95 % interval.
    p : float
        Chance of meetings that fit the ratings as badly as these, if one number a policy told all; not a number with
        two policies.
    cycle : tuple of str
        Three policies of which each wins more often against the next, and the last against the first; empty where there
        are none.
    """

    names: tuple[str, ...]
    ratings: NumpyArray
    lows: NumpyArray
    highs: NumpyArray
    advantage: tuple[float, float, float]
    p: float
    cycle: tuple[str, ...]

    @property
    def verdict(self) -> str:
        """Whether one number a policy tells who wins, in words."""
        if math.isnan(self.p):
            return "two policies are too few to ask whether one number a policy tells who wins"
        if self.p > ALPHA:
            return "one number a policy tells who wins as far as these meetings show"
        return "one number a policy does not tell who wins" + (
            f": {' beats '.join((*self.cycle, self.cycle[0]))}" if self.cycle else ""
        )

    @property
    def table(self) -> pd.DataFrame:
        """One row a policy, the strongest first: its rating with its interval, and its chance to win against an average
        one."""
        import pandas as pd

        order = np.argsort(-self.ratings, kind="stable")
        return pd.DataFrame(
            {
                "run": [self.names[k] for k in order],
                "rating": self.ratings[order],
                "ci95_low": self.lows[order],
                "ci95_high": self.highs[order],
                "wins_against_average": 1.0 / (1.0 + np.exp(-self.ratings[order])),
            }
        )

    def as_json(self) -> dict[str, Any]:
        """For other programs: the table, the first player's advantage, and what is said of it."""
        return {
            "ratings": self.table.to_dict("records"),
            "advantage_of_first": list(self.advantage),
            "p": self.p,
            "cycle": list(self.cycle),
            "verdict": self.verdict,
        }

    def plot(self, axes: Axes | None = None) -> Axes:
        """Draw each rating with its interval, the strongest on top."""
        with style.styled():
            axes = style.axes_or_new(axes)
            order = np.argsort(self.ratings, kind="stable")
            places = np.arange(len(order))
            ends = np.stack([self.ratings - self.lows, self.highs - self.ratings])[:, order]
            axes.errorbar(
                self.ratings[order], places, xerr=ends, fmt="o", color=style.WATER, markersize=8, elinewidth=2.0
            )
            axes.axvline(0.0, color=style.STONE, linewidth=1.0)
            axes.set_yticks(places, [self.names[k] for k in order])
            axes.set_xlabel("rating, log odds to win against an average policy, with its 95 % interval")
            style.titled(axes, f"Ratings: {self.verdict}" + ("" if math.isnan(self.p) else f" (p = {self.p:.3f})"))
        return axes

    def save(self, path: str | Path) -> list[Path]:
        """Write the picture, and the table as CSV beside it."""
        return save_with_table(self, Path(path))


def save_with_table(result: Any, target: Path) -> list[Path]:
    """Write the picture of a result, and its table as CSV beside it."""
    with style.styled():
        figure = style.fitted_figure()
        result.plot(figure.add_subplot())
        saved = style.save(figure, target)
    beside = target.with_suffix(".csv")
    replace_file(beside, result.table.to_csv(index=False, float_format="%.7g"))
    return [saved, beside]


def rated(names: tuple[str, ...], wins: NumpyArray, episodes: int, seed: int = 0) -> Ratings:
    """Rate policies by their meetings.

    Parameters
    ----------
    names : tuple of str
    wins : float64, shape ``(policies, policies)``
        Episodes that the row's policy, as first player, won against the column's; one without a winner counts as half.
    episodes : int
        Of each meeting.
    seed : int
        Of the simulated meetings that the fit is judged by.

    Returns
    -------
    Ratings

    Notes
    -----
    Maximum likelihood by Newton's method. So that a policy that won always has a rating at all, each has also won half
    an episode against an average policy and lost half an episode, and so has the first player. Intervals are those of
    the normal approximation. p is by simulation from the fit, 400 times, of the deviance.

    Examples
    --------
    >>> found = rated(("a", "b"), np.array([[5.0, 8.0], [2.0, 5.0]]), 10)
    >>> found.table["run"].tolist(), bool(found.lows[0] < 0 < found.highs[0])
    (['a', 'b'], False)
    """
    count = len(names)
    design = np.zeros((count, count, count + 1))
    for i, j in itertools.product(range(count), repeat=2):
        design[i, j, i] += 1.0
        design[i, j, j] -= 1.0
        design[i, j, count] = 1.0
    rows = design.reshape(-1, count + 1)
    won = np.asarray(wins, float).reshape(-1)
    fit = _fitted(rows, won[None], episodes)[0]
    chance = _chance(rows @ fit)
    spread = np.linalg.inv(_curvature(rows, chance[None], episodes, fit[None])[0])
    middle = np.eye(count + 1)
    middle[:count, :count] -= 1.0 / count
    spread = middle @ spread @ middle.T
    half = NORMAL * np.sqrt(np.diag(spread))
    ratings = fit[:count] - fit[:count].mean()
    p, cycle = math.nan, tuple[str, ...]()
    if count > 2:
        simulated = np.random.default_rng(seed).binomial(episodes, chance, (SIMULATED, len(rows))).astype(float)
        fitted_chances = _chance(_fitted(rows, simulated, episodes) @ rows.T)
        observed_deviance = _deviance(won[None], chance[None], episodes)[0]
        simulated_deviances = _deviance(simulated, fitted_chances, episodes)
        p = float((1 + np.sum(simulated_deviances >= observed_deviance - 1e-9)) / (1 + SIMULATED))
        cycle = _cycle(names, wins, episodes)
    return Ratings(
        names,
        ratings,
        ratings - half[:count],
        ratings + half[:count],
        (float(fit[count]), float(fit[count] - half[count]), float(fit[count] + half[count])),
        p,
        cycle,
    )


def _chance(logits: NumpyArray) -> NumpyArray:
    chance: NumpyArray = 1.0 / (1.0 + np.exp(-np.clip(logits, -30.0, 30.0)))
    return chance


def _curvature(rows: NumpyArray, chance: NumpyArray, episodes: int, ratings: NumpyArray) -> NumpyArray:
    """Minus the second derivative of the log likelihood, by set of meetings."""
    inside = np.einsum("sk,ki,kj->sij", episodes * chance * (1.0 - chance), rows, rows)
    variances = _chance(ratings) * (1.0 - _chance(ratings))
    curvature: NumpyArray = inside + np.einsum("si,ij->sij", variances, np.eye(rows.shape[1]))
    return curvature


def _fitted(rows: NumpyArray, won: NumpyArray, episodes: int) -> NumpyArray:
    """The parameters of greatest likelihood, by set of meetings, shape ``(sets, parameters)``."""
    ratings = np.zeros((len(won), rows.shape[1]))
    for _ in range(MOST_STEPS):
        chance = _chance(ratings @ rows.T)
        slope = (won - episodes * chance) @ rows + (0.5 - _chance(ratings))
        step = np.linalg.solve(_curvature(rows, chance, episodes, ratings), slope[..., None])[..., 0]
        ratings = ratings + np.clip(step, -2.0, 2.0)
        if np.abs(step).max() < 1e-10:
            break
    return ratings


def _deviance(won: NumpyArray, chance: NumpyArray, episodes: int) -> NumpyArray:
    """Twice the log likelihood that is lost against a chance of its own for each meeting, by set."""
    lost = episodes - won
    with np.errstate(divide="ignore", invalid="ignore"):
        terms = np.where(won > 0, won * np.log(won / (episodes * chance)), 0.0)
        terms += np.where(lost > 0, lost * np.log(lost / (episodes * (1.0 - chance))), 0.0)
    deviance: NumpyArray = 2.0 * terms.sum(axis=1)
    return deviance


def _cycle(names: tuple[str, ...], wins: NumpyArray, episodes: int) -> tuple[str, ...]:
    """The three that win most clearly in a circle, each over both seats."""
    share = 0.5 * (np.asarray(wins) + (episodes - np.asarray(wins).T)) / episodes
    best, cycle = 0.5, tuple[str, ...]()
    for a, b, c in itertools.permutations(range(len(names)), 3):
        least = min(share[a, b], share[b, c], share[c, a])
        if a == min(a, b, c) and least > best:
            best, cycle = least, (names[a], names[b], names[c])
    return cycle
