"""A curriculum while a run goes on: which level holds, and when it moves.

Only episodes that began at the level count towards it; those that were open when it moved are left out.
"""

from __future__ import annotations

from collections import deque
from typing import Any

import numpy as np

from jokulmist.environments.varying import Levels


class CurriculumProgress:
    """The level that a run is at.

    Attributes
    ----------
    level : int
        Its index among the values.
    """

    def __init__(self, levels: Levels) -> None:
        self.levels = levels
        self.level = 0
        self._scores: deque[float] = deque(maxlen=levels.last)
        self._episodes = self._decisions = 0

    @property
    def value(self) -> float:
        """The parameter's value at the level."""
        return self.levels.values[self.level]

    def take(self, columns: dict[str, Any]) -> None:
        """Take finished episodes, as the columns of episodes.csv."""
        at_level = columns[self.levels.parameter] == np.float32(self.value)
        self._scores.extend(columns[self.levels.score][at_level].tolist())
        self._episodes += int(at_level.sum())
        self._decisions += int(columns["steps"][at_level].sum())

    def moved(self) -> bool:
        """Whether another level holds from now on."""
        if not self._scores:
            return False
        level = self.levels.moved(self.level, float(np.mean(self._scores)), self._episodes, self._decisions)
        if level == self.level:
            return False
        self.level = level
        self._scores.clear()
        self._episodes = self._decisions = 0
        return True

    def saved(self) -> dict[str, Any]:
        counts = {"episodes": self._episodes, "decisions": self._decisions}
        return {"level": self.level, "scores": list(self._scores), **counts}

    def restore(self, saved: dict[str, Any]) -> None:
        self.level, self._episodes, self._decisions = saved["level"], saved["episodes"], saved["decisions"]
        self._scores.extend(saved["scores"])

    def __str__(self) -> str:
        values = ", ".join(f"`{name}` is {value:g}" for name, value in self.levels.values_at(self.value).items())
        return f"{values}, level {self.level + 1} of {len(self.levels.values)}"
