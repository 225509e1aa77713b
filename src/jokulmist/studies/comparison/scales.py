"""A common scale for the returns of several runs: the same weights for all, and over several environments a normalised
score."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping, Sequence
from typing import Any

import numpy as np

from jokulmist.environments.declaration.instance import describe
from jokulmist.environments.environment import Environment
from jokulmist.errors import SettingError, listed, nearest
from jokulmist.judging.evaluate import RANDOM, evaluate_references
from jokulmist.running.runs.run import Run
from jokulmist.running.runs.scores import EVALUATION, RETURN, full_weights, returns_under
from jokulmist.studies.comparison.versions import environment_name, shared_weights

Message = Callable[[str], Any]


def common_weights(runs: Sequence[Run], score: str, weights: Mapping[str, float] | None) -> Mapping[str, float] | None:
    """The weights to judge by; an error where those of the runs differ and no others are given."""
    if weights is not None:
        declared = full_weights(type(runs[0].environment)())
        if any(set(full_weights(run.environment)) != set(declared) for run in runs):
            return shared_weights(runs, weights)  # of versions with other terms: those that are named, and no others
        for name in weights:
            if name not in declared:
                raise SettingError(
                    f"`weights` names `{name}`, which is no reward term; the terms are {listed(declared)}."
                    f"{nearest(name, declared)}"
                )
        return {**declared, **weights}
    seen: dict[type, dict[str, float]] = {}
    for run in runs:
        weights_of_run = full_weights(run.environment)
        first = seen.setdefault(type(run.environment), weights_of_run)
        if weights_of_run != first and score in (RETURN, EVALUATION):
            name = next(term for term in weights_of_run if weights_of_run[term] != first.get(term))
            raise SettingError(
                f"the runs were rewarded by different weights (`{name}`: {first.get(name):g} and "
                f"{weights_of_run[name]:g}), so "
                "their returns are no common scale: a weight would be judged by the return that it changes. Judge all "
                "by one weighting, "
                f'`weights={{"{name}": {first.get(name):g}}}` (`--weights {name}={first.get(name):g}`), or by a '
                "measure, `score=`."
            )
    return None


class Scales:
    """From returns to what is compared: as they are in one environment, normalised over several."""

    def __init__(
        self,
        runs: Sequence[Run],
        score: str,
        weights: Mapping[str, float] | None,
        episodes: int,
        seed: int,
        on_message: Message,
        within: Environment | None = None,
    ) -> None:
        uses = {environment_name(run): run for run in runs} if within is None else {}
        self.normalised = len(uses) > 1
        self.plain = score not in (RETURN, EVALUATION)
        self.by_run: dict[int, dict[str, float]] = {}
        same: dict[Any, dict[str, float]] = {}
        several = within is None and len({run.environment for run in runs}) > 1
        if self.plain and self.normalised:
            raise SettingError(f"several environments have no common scale by `{score}`; use the return.")
        for run in runs:
            environment = within or run.environment
            if environment not in same:
                on_message(f"measuring random play and the references of {describe(environment).name}")
                references = evaluate_references(environment, episodes, seed)
                same[environment] = {
                    name: float(
                        np.mean(evaluation.returns if weights is None else returns_under(evaluation.episodes, weights))
                    )
                    for name, evaluation in references.items()
                }
                if self.normalised and len(references) < 2:
                    raise SettingError(
                        f"runs on several environments are normalised between random play and a reference, and "
                        f"`{describe(environment).name}` has no `@jm.reference`. Write one, or compare one "
                        "environment at a time."
                    )
            self.by_run[id(run)] = same[environment]
        self.levels = {} if self.normalised or several or self.plain else next(iter(same.values()))

    def scaled(self, run: Run, value: Any) -> Any:
        """A value of a run on the common scale."""
        if not self.normalised:
            return value
        scale = self.by_run[id(run)]
        best = max(mean for name, mean in scale.items() if name != RANDOM)
        if best <= scale[RANDOM]:
            raise SettingError(
                f"the references of `{describe(run.environment).name}` are no better than random play, so scores "
                "cannot be normalised."
            )
        return (value - scale[RANDOM]) / (best - scale[RANDOM])

    def usual_level(self, scores: Sequence[float]) -> float | None:
        """Halfway from random play to the best reference, or to the best seed."""
        if self.normalised:
            return 0.5
        finite = [score for score in scores if math.isfinite(score)]
        if not self.levels or not finite:
            return None
        references = [mean for name, mean in self.levels.items() if name != RANDOM]
        return (self.levels[RANDOM] + (max(references) if references else max(finite))) / 2.0

    @property
    def value(self) -> str:
        return "normalised return" if self.normalised else "return"

    def lines(self) -> dict[str, float]:
        """What to draw beside the curves."""
        if self.normalised:
            return {"random play": 0.0, "best reference": 1.0}
        return {("random play" if name == RANDOM else f"reference {name}"): mean for name, mean in self.levels.items()}
