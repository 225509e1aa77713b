"""Cross-play: do policies that were trained apart fit each other?

Every run's policy plays every player with every other run's. Partners that were trained together are on the diagonal of
the matrix. Whether they do better than partners that were exchanged is asked by a permutation test: if it did not
matter, any other pairing of the same policies would be as good.
"""

from __future__ import annotations

import itertools
import math
from collections.abc import Callable, Collection, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from jokulmist.arrays import NumpyArray
from jokulmist.environments.declaration.instance import describe
from jokulmist.environments.environment import Environment
from jokulmist.errors import SettingError, listed
from jokulmist.judging.evaluate import evaluate, interval_of
from jokulmist.loops.acting import Act
from jokulmist.loops.policy import Policy
from jokulmist.pictures import style
from jokulmist.running.runs.run import Run
from jokulmist.studies.ratings import Ratings, rated, save_with_table
from jokulmist.studies.statistics import ALPHA

if TYPE_CHECKING:
    import pandas as pd
    from matplotlib.axes import Axes

FEWEST_RUNS = 4
MOST_PAIRINGS = 10_000
# The picture of a matrix, beside its runs; the table beside it has the same name.
FILE = "cross-play.png"
ALL = "all players"


@dataclass(frozen=True)
class CrossPlay:
    """The returns of all policies with all others.

    Attributes
    ----------
    names : tuple of str
        Of the runs.
    players : tuple of str
        The rows are the policies of the first, the columns those of the others.
    means, lows, highs : float64, shape ``(runs, runs)``
        Mean return and its 95 % interval over episodes: of all players, or where what all get together never changes,
        of the first.
    subject : str
        Whose returns these are: ``"all players"``, or the first player's name.
    returns : dict of str to float64, shape ``(runs, runs)``
        Mean return of each player.
    wins : float64, shape ``(runs, runs)``
        Episodes in which the first player got more than the second; where both got the same, half an episode.
    p : float
        Chance of a pairing at least as good as the own one, if partners did not matter; not a number with fewer than
        four runs.
    all_the_same : bool
        Whether in each pairing every episode was the first again, so that its interval has no width.
    """

    environment: str
    names: tuple[str, ...]
    players: tuple[str, ...]
    means: NumpyArray
    lows: NumpyArray
    highs: NumpyArray
    subject: str
    returns: dict[str, NumpyArray]
    wins: NumpyArray
    episodes: int
    seed: int
    p: float
    all_the_same: bool = False

    @property
    def groups(self) -> tuple[tuple[str, ...], ...]:
        """The policies that play together as well as partners that were trained together, group by group; the largest
        first.

        Two fit where their exchanged pairings return at least as much as the middle between own partners and the worst
        exchange, and where that gap is wider than chance makes it. Groups are joined as long as all their members fit
        (complete linkage).
        """
        from scipy.cluster import hierarchy
        from scipy.spatial import distance

        count = len(self.names)
        off_diagonal = ~np.eye(count, dtype=bool)
        own_mean, worst_mean = self.own_mean, float(self.means[off_diagonal].min())
        noise = float(np.nanmax(np.append(self.highs - self.lows, 0.0)))
        if self.subject != ALL or own_mean - worst_mean <= noise:
            return (self.names,)
        lost = own_mean - 0.5 * (self.means + self.means.T)
        np.fill_diagonal(lost, 0.0)
        tree = hierarchy.linkage(distance.squareform(np.maximum(lost, 0.0), checks=False), "complete")
        clusters = hierarchy.fcluster(tree, 0.5 * (own_mean - worst_mean), "distance")
        groups = [
            tuple(name for name, k in zip(self.names, clusters, strict=True) if k == label)
            for label in np.unique(clusters)
        ]
        return tuple(sorted(groups, key=lambda group: -len(group)))

    @property
    def least_p(self) -> float:
        """The smallest p that so many runs in such groups could give: exchanging partners within a group changes
        nothing."""
        same = math.prod(math.factorial(len(group)) for group in self.groups) if len(self.groups) > 1 else 1
        return same / math.factorial(len(self.names))

    @property
    def own_mean(self) -> float:
        """Mean return of partners that were trained together."""
        return float(np.diag(self.means).mean())

    @property
    def swapped(self) -> float:
        """Mean return of partners that were not; not a number with one run."""
        off_diagonal = ~np.eye(len(self.names), dtype=bool)
        return float(self.means[off_diagonal].mean()) if off_diagonal.any() else math.nan

    @property
    def verdict(self) -> str:
        """Whether own partners are better than exchanged ones, in words."""
        if self.subject != ALL:
            return "what one gets the other loses, so nobody has a partner here"
        if math.isnan(self.p):
            return f"{len(self.names)} runs are too few to tell; {FEWEST_RUNS} are the least"
        if self.p <= ALPHA:
            return "own partners are better"
        if len(self.groups) > 1 and self.least_p > ALPHA:
            return (
                f"{len(self.names)} runs in {len(self.groups)} groups that play together are too few for the test: its "
                f"p cannot fall below {self.least_p:.2g}"
            )
        return "no difference was shown"

    def ratings(self) -> Ratings:
        """How strong each policy is where one of two players wins: who got more has won.

        Raises
        ------
        SettingError
            When there are more than two players, or both get the same in every episode.
        """
        if len(self.players) != 2:
            raise SettingError(
                f"ratings are of games of two, and `{self.environment}` has {len(self.players)} players."
            )
        first, second = self.returns.values()
        if np.array_equal(first, second) and (self.wins == 0.5 * self.episodes).all():
            raise SettingError(f"both players of `{self.environment}` got the same in every episode, so nobody won.")
        return rated(self.names, self.wins, self.episodes, self.seed)

    @property
    def table(self) -> pd.DataFrame:
        """One row a pairing: who played whom, the mean return with its interval, the return of each player, and how
        often the first won if anybody did."""
        import pandas as pd

        first, other_players = self.players[0], "+".join(self.players[1:])
        won = bool((self.wins != 0.5 * self.episodes).any())  # else all got the same, as where they work together
        rows = [
            {
                first: self.names[i],
                other_players: self.names[j],
                "mean_return": self.means[i, j],
                "ci95_low": self.lows[i, j],
                "ci95_high": self.highs[i, j],
                **{f"{player}.return": returns[i, j] for player, returns in self.returns.items()},
                **({f"{first}.wins": self.wins[i, j]} if won else {}),
            }
            for i, j in itertools.product(range(len(self.names)), repeat=2)
        ]
        return pd.DataFrame(rows)

    def as_json(self) -> dict[str, Any]:
        """For other programs: the pairings, and what is said of them."""
        return {
            "environment": self.environment,
            "players": list(self.players),
            "returns_of": self.subject,
            "runs": list(self.names),
            "episodes": self.episodes,
            "seed": self.seed,
            "pairings": self.table.to_dict("records"),
            "own": self.own_mean,
            "swapped": self.swapped,
            "p": self.p,
            "verdict": self.verdict,
            "groups": [list(group) for group in self.groups],
            "all_the_same": self.all_the_same,
        }

    def plot(self, axes: Axes | None = None) -> Axes:
        """Draw the matrix, with the own partners framed."""
        with style.styled():
            axes = style.axes_or_new(axes)
            # What one gets the other loses: the colours are centred at 0, which nobody wins.
            most = float(np.abs(self.means).max())
            colours = {"cmap": "cividis"} if self.subject == ALL else {"cmap": "BrBG", "vmin": -most, "vmax": most}
            image = axes.imshow(self.means, aspect="auto", **colours)
            count = len(self.names)
            for i, j in itertools.product(range(count), repeat=2):
                color = style.ink_on(image, self.means[i, j])
                half = 0.5 * (self.highs[i, j] - self.lows[i, j])
                axes.text(
                    j, i, f"{self.means[i, j]:.3g}\n± {half:.2g}", ha="center", va="center", color=color, fontsize=9.5
                )
                if i == j:
                    axes.add_patch(_frame(i))
            axes.set_xticks(range(count), self.names, rotation=20, ha="right")
            axes.set_yticks(range(count), self.names)
            axes.set_xlabel(f"plays {' and '.join(self.players[1:])}")
            axes.set_ylabel(f"plays {self.players[0]}")
            axes.grid(False)
            axes.figure.colorbar(image, ax=axes, label=f"mean return, {self.subject}")
            title = (
                f"{self.environment}: own partners (framed) {self.own_mean:.3g}, exchanged ones {self.swapped:.3g}; "
                f"{self.verdict}"
            )
            if self.subject != ALL:
                title = (
                    f"{self.environment}: return of {self.subject}; what one gets the other loses (trained together: "
                    "framed)"
                )
            style.titled(axes, title if math.isnan(self.p) else f"{title} (p = {self.p:.3f})")
        return axes

    def save(self, path: str | Path) -> list[Path]:
        """Write the picture, and the pairings as CSV beside it."""
        return save_with_table(self, Path(path))

    def __repr__(self) -> str:
        return (
            f"<cross-play of {len(self.names)} runs: own {self.own_mean:.4g}, exchanged {self.swapped:.4g}, "
            f"{self.verdict}>"
        )


def _frame(place: int) -> Any:
    from matplotlib.patches import Rectangle

    return Rectangle((place - 0.47, place - 0.47), 0.94, 0.94, fill=False, edgecolor=style.RUST, linewidth=2.5)


def cross_play(
    runs: Sequence[Run | Policy | str | Path],
    environment: Environment | None = None,
    *,
    episodes: int = 100,
    seed: int = 0,
    act: Act = "sampled",
    on_message: Callable[[str], None] | None = None,
) -> CrossPlay:
    """Let the policies of several runs play with each other.

    Parameters
    ----------
    runs : sequence of Run, Policy or path
        Of an environment with players; two or more.
    environment : Environment, optional
        By default that of the first run.
    episodes : int
        Of each pairing; the same for all.
    seed : int
    act : {"greedy", "sampled"}
        Sampled by default, as in training: of a game without chance greedy policies play one episode, again and again.
    on_message : function of a text, optional
        Told what is being done.

    Returns
    -------
    CrossPlay
        With more than two players the rows are the policies of the first, and all others are played by the run of the
        column.

    Raises
    ------
    SettingError
        When the environment has no players, or a policy does not fit.

    Notes
    -----
    The test takes every pairing of rows with columns (with more than seven runs, 10,000 drawn ones): its p is the share
    of pairings whose mean return is at least that of the own one.

    Examples
    --------
    >>> import jokulmist as jm
    >>> agents = {"elder": jm.QLearning(), "younger": jm.QLearning()}
    >>> runs = jm.train_seeds(jm.gallery.Lots(), agents, steps=200, seeds=[0, 1], workers=1, lane="plain", folder=None)
    >>> jm.cross_play(runs, episodes=5).means.shape
    (2, 2)
    """
    if isinstance(runs, (str, Path, Run, Policy)) or not isinstance(runs, Collection) or len(runs) < 2:
        raise SettingError(
            f"cross-play takes two runs or more, e.g. `jm.cross_play([run_a, run_b])`; got {runs!r:.80}."
        )
    opened = [run if isinstance(run, (Run, Policy)) else Run.open(run) for run in runs]
    if environment is None:
        first = opened[0]
        if isinstance(first, Policy):
            raise SettingError("say by `environment` what the policies play: a policy does not know it.")
        environment = first.environment
    players = describe(environment).players
    if not players:
        raise SettingError(
            f"`{describe(environment).name}` has no players, so nobody can be exchanged. To lay runs "
            "side by side use `jm.compare` (`jokulmist compare`)."
        )
    policies = [run if isinstance(run, Policy) else run.policy for run in opened]
    parts = [{player: policy.player(player) for player in players} for policy in policies]
    names = tuple(run.name if isinstance(run, Run) else f"policy {k}" for k, run in enumerate(opened))
    if len(set(names)) < len(names):
        raise SettingError(f"a run is named twice: {listed(names)}. Give each once.")
    count = len(names)
    means, lows, highs = (np.zeros((count, count)) for _ in range(3))
    returns = {player: np.zeros((count, count)) for player in players}
    wins, firsts, same = np.zeros((count, count)), np.zeros((count, count, 2)), True
    for i, j in itertools.product(range(count), repeat=2):
        if on_message is not None:
            on_message(f"{names[i]} with {names[j]}, pairing {i * count + j + 1} of {count * count}")
        partners = {player: parts[i if k == 0 else j][player] for k, player in enumerate(players)}
        evaluation = evaluate(partners, environment, episodes=episodes, seed=seed, act=act)  # type: ignore[arg-type]
        means[i, j], same = evaluation.mean, same and evaluation.all_the_same
        lows[i, j], highs[i, j] = evaluation.interval
        for player in players:
            returns[player][i, j] = float(np.mean(evaluation.columns[f"{player}.return"]))
        firsts[i, j] = interval_of(
            returns[players[0]][i, j],
            float(np.std(evaluation.columns[f"{players[0]}.return"], ddof=1)) if episodes > 1 else math.nan,
            episodes,
        )
        more = np.subtract(*(evaluation.columns[f"{player}.return"] for player in players[:2]))
        wins[i, j] = np.sum(more > 0) + 0.5 * np.sum(more == 0)
    subject, p = ALL, math.nan
    if len(players) == 2 and np.ptp(means) <= 1e-6 and (wins != 0.5 * episodes).any():
        subject, means, lows, highs = players[0], returns[players[0]], firsts[..., 0], firsts[..., 1]
    else:
        p = chance_of_pairing(means, seed)
    return CrossPlay(
        describe(environment).name, names, players, means, lows, highs, subject, returns, wins, episodes, seed, p, same
    )


def chance_of_pairing(means: NumpyArray, seed: int = 0) -> float:
    """The share of pairings of rows with columns whose mean is at least that of the diagonal; not a number with fewer
    than four."""
    count = len(means)
    if count < FEWEST_RUNS:
        return math.nan
    rows = np.arange(count)
    own_mean = means[rows, rows].mean()
    if math.factorial(count) <= MOST_PAIRINGS:
        pairings: Any = itertools.permutations(range(count))
    else:
        draw = np.random.default_rng(seed)
        pairings = [rows, *(draw.permutation(count) for _ in range(MOST_PAIRINGS - 1))]
    at_least = [means[rows, list(pairing)].mean() >= own_mean - 1e-12 * abs(own_mean) for pairing in pairings]
    return float(np.mean(at_least))
