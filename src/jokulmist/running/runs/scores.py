"""What a run is worth: of its last policy over fixed evaluation episodes, or of its last training episodes.

The evaluation episodes are kept in the run's evaluated.csv and read from there the next time. They hold the unweighted
amounts of the reward terms, so that policies which learned under different weights can be judged by the same.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import asdict, dataclass
from typing import TYPE_CHECKING, Any

import numpy as np

from jokulmist.arrays import NumpyArray
from jokulmist.environments.declaration.instance import describe
from jokulmist.environments.environment import Environment
from jokulmist.errors import SettingError, listed, nearest
from jokulmist.judging.evaluate import evaluate, weights_of
from jokulmist.records.run_folder import EVALUATED
from jokulmist.records.run_index import LAST, last_returns
from jokulmist.records.tables import append_rows
from jokulmist.running.runs.run import Run

if TYPE_CHECKING:
    import pandas as pd

RETURN, EVALUATION = "return", "evaluation"
EPISODES, SEED = 100, 0


@dataclass(frozen=True)
class Score:
    """How runs are judged."""

    by: str = EVALUATION
    episodes: int = EPISODES
    seed: int = SEED
    weights: Mapping[str, float] | None = None

    def refuse(self, environment: Environment) -> None:
        """Raise `SettingError` where an environment does not have what runs are judged by."""
        names = (RETURN, EVALUATION, *(m.name for m in describe(environment).measures))
        if self.by not in names:
            raise SettingError(
                f"`score` is {self.by!r}; of `{describe(environment).name}` it can be {listed(names)}."
                f"{nearest(self.by, names)}"
            )

    def written(self) -> dict[str, Any]:
        """As JSON holds it."""
        return {**asdict(self), "weights": None if self.weights is None else dict(self.weights)}


def full_weights(environment: Environment, weights: Mapping[str, float] | None = None) -> dict[str, float]:
    """The weight of each reward term; those not named are the environment's own."""
    declared = weights_of(describe(environment))
    for name in weights or {}:
        if name not in declared:
            raise SettingError(f"`weights` names `{name}`, which is no reward term; the terms are {listed(declared)}.")
    return {**declared, **(weights or {})}


def returns_under(frame: pd.DataFrame, weights: Mapping[str, float]) -> NumpyArray:
    """The return of each episode under some weights, from the unweighted amounts of the terms."""
    total = np.zeros(len(frame))
    for name, weight in weights.items():
        total += weight * frame[name].to_numpy(np.float64)
    return total


def score_of(run: Run, score: Score) -> float:
    """A run's score; not a number where no episode closed."""
    values = values_of(run, score)
    return float(np.mean(values)) if len(values) else float("nan")


def score_within(run: Run, environment: Environment, score: Score) -> float:
    """The score of a run's last policy in an environment other than its own, played now."""
    score.refuse(environment)
    frame = evaluate(run.policy, environment, episodes=score.episodes, seed=score.seed).episodes
    if score.by not in (EVALUATION, RETURN):
        return float(frame[score.by].mean())
    return float(returns_under(frame, full_weights(environment, score.weights)).mean())


def values_of(run: Run, score: Score) -> NumpyArray:
    """What each of the episodes came to that a run is judged by."""
    score.refuse(run.environment)
    if score.by == RETURN and score.weights is None and run.path is not None:
        return last_returns(run.path)
    if score.by == RETURN:
        frame = run.episodes.tail(LAST)
        values = _weighted(run, frame, score) if len(frame) else np.zeros(0)
    else:
        frame = final_episodes(run, score.episodes, score.seed)
        values = _weighted(run, frame, score) if score.by == EVALUATION else frame[score.by].to_numpy(np.float64)
    return np.asarray(values, np.float64)


def _weighted(run: Run, frame: pd.DataFrame, score: Score) -> NumpyArray:
    if score.weights is None:
        return frame["return"].to_numpy(np.float64)
    return returns_under(frame, full_weights(run.environment, score.weights))


def final_episodes(run: Run, episodes: int = EPISODES, seed: int = SEED) -> pd.DataFrame:
    """Evaluation episodes of a run's last policy, from its records or played now, and then kept there."""
    policy = run.policy
    frame = run.evaluated
    if len(frame) and not run.current:
        is_policy = (frame["policy"] == "policy") & (frame["act"] == "greedy")
        rows = frame[is_policy & (frame["seed"] == seed) & (frame["learned"] == policy.decisions)].tail(episodes)
        if rows["episode"].tolist() == list(range(episodes)):
            return rows
    result = evaluate(policy, run.environment, episodes=episodes, seed=seed)
    if run.path is None or run.current:  # a record is about the code that made it
        return result.episodes
    append_rows(run.path / EVALUATED, result.columns)
    return run.evaluated.tail(episodes)  # as it will be read the next time, to the last digit
