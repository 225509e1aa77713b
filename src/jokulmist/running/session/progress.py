"""What the observers of a session share: what the run knows of itself so far."""

from __future__ import annotations

import math
from collections import deque
from pathlib import Path
from typing import Any

import numpy as np

from jokulmist.environments.declaration.description import Description
from jokulmist.environments.spaces.player_actions import own_name, owner_of
from jokulmist.loops.contract import Loop
from jokulmist.loops.policy import Policy
from jokulmist.plans.plan import Plan
from jokulmist.plans.progress import ProgressDisplay
from jokulmist.records.checkpoints import ARRAYS, best_checkpoint
from jokulmist.records.episodes import telling_return
from jokulmist.records.run_index import LAST
from jokulmist.running.session.checkpointing import keep_best


class SessionProgress:
    """What a run knows of itself so far.

    Attributes
    ----------
    recent : deque of float
        Returns of the last 100 episodes.
    recorded : int
        Episodes that were recorded.
    readings : dict of str to float
        Those of the last report.
    good : Policy, optional
        What was learned at the last report whose readings were all numbers.
    best : BestPolicy
    elapsed : float
        Seconds of training.
    """

    def __init__(
        self, plan: Plan, description: Description, recorder: Any, path: Path | None, display: ProgressDisplay
    ) -> None:
        self.plan, self.description, self.recorder, self.path, self.display = plan, description, recorder, path, display
        self.recent: deque[float] = deque(maxlen=LAST)
        self.recent_of = {player: deque[float](maxlen=LAST) for player in description.players}
        self.recorded = 0
        self.readings: dict[str, float] = {}
        self.good: Policy | None = None
        self.best = BestPolicy(plan.training.best_by)
        self.elapsed = 0.0

    @property
    def mean_return(self) -> float:
        """Of the last 100 episodes; of a game in which one gets what the other loses that of the first player."""
        return float(np.mean(self._recent_columns[self._telling])) if self.recent else math.nan

    @property
    def return_of(self) -> str:
        """The player whose return that is; empty where it is everybody's."""
        return owner_of(self._telling)

    @property
    def best_is_nobodys(self) -> bool:
        """Whether the best policy would be judged by a mean over players that has not changed in 100 episodes, because
        what one gets the other loses."""
        return self.plan.training.best_by == "return" and len(self.recent) >= LAST and bool(self.return_of)

    @property
    def _recent_columns(self) -> dict[str, list[float]]:
        native = {own_name(player, "return"): list(returns) for player, returns in self.recent_of.items()}
        return {"return": list(self.recent), **native}

    @property
    def _telling(self) -> str:
        return telling_return(self._recent_columns)

    def policy(self, loop: Loop) -> Policy:
        """What was learned up to now."""
        return Policy(self.plan.agent, self.description.spec, loop.learner(), loop.decisions)

    def announce(self, text: str) -> None:
        """One line for the log and for who watches; nothing where it is empty."""
        if text:
            self.recorder.log(text)
            self.display.message(text)

    def take(self, columns: dict[str, Any]) -> None:
        """Take finished episodes, as the columns of episodes.csv."""
        self.recent.extend(columns["return"].tolist())
        for player, native in self.recent_of.items():
            native.extend(columns[own_name(player, "return")].tolist())
        self.best.take(columns)

    def saved(self) -> dict[str, Any]:
        return {
            "recorded": self.recorded,
            "recent": list(self.recent),
            **(
                {"recent_of": {player: list(native) for player, native in self.recent_of.items()}}
                if self.recent_of
                else {}
            ),
            "seconds": round(self.elapsed, 3),
            "best": self.best.saved(),
        }

    def restore(self, saved: dict[str, Any]) -> None:
        self.recorded, self.elapsed = saved["recorded"], saved["seconds"]
        self.recent.extend(saved["recent"])
        for player, native in self.recent_of.items():
            native.extend(saved["recent_of"][player])
        self.best.restore(saved["best"], self.path)


class BestPolicy:
    """The best policy so far, by the mean of a column over the last 100 episodes, or by evaluation."""

    def __init__(self, criterion: str) -> None:
        self._criterion = criterion
        self._scores: deque[float] = deque(maxlen=LAST)
        self._best: tuple[float, Policy] | None = None

    @property
    def by_evaluation(self) -> bool:
        return self._criterion in ("evaluation", "panel")

    @property
    def by_panel(self) -> bool:
        return self._criterion == "panel"

    def take(self, columns: dict[str, Any]) -> None:
        if self._criterion in columns:
            self._scores.extend(columns[self._criterion].tolist())

    def judge(self, score: float, policy: Policy) -> None:
        """Hold the policy if its score is above all before; it is written with the next checkpoint."""
        if math.isfinite(score) and (self._best is None or score > self._best[0]):
            self._best = (score, policy)

    def judge_recent(self, policy: Policy) -> None:
        """Judge by the last 100 episodes, once there are so many."""
        if len(self._scores) >= LAST:
            self.judge(float(np.mean(self._scores)), policy)

    def write(self, path: Path) -> None:
        if self._best is not None:
            keep_best(path, self._best[1], self._best[0], self._criterion)

    def saved(self) -> dict[str, Any]:
        return {"scores": list(self._scores), "score": None if self._best is None else self._best[0]}

    def restore(self, saved: dict[str, Any], path: Path | None) -> None:
        self._scores.extend(saved["scores"])
        result = None if saved["score"] is None or path is None else best_checkpoint(path)
        if result is not None:
            self._best = (saved["score"], Policy.open(result / ARRAYS, path))
