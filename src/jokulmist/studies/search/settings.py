"""What a search is asked: its settings, checked, in Python and as ``[tuning]`` of a plan."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from typing import Annotated, Any, Literal

from pydantic import Field

from jokulmist.agents.contract import Count
from jokulmist.agents.players import PlayerAgents
from jokulmist.environments.declaration.instance import describe
from jokulmist.errors import SettingError, listed
from jokulmist.plans.budget import refuse_memory
from jokulmist.plans.plan import TUNING, Plan, Seed
from jokulmist.records.files import as_lists
from jokulmist.running.runs.scores import RETURN, Score, full_weights
from jokulmist.settings import Settings
from jokulmist.studies.search.methods import Method, method_named, method_use
from jokulmist.studies.search.methods.protocol import SearchProblem
from jokulmist.studies.search.space import (
    AGENT,
    AGENT_USE,
    ENVIRONMENT,
    PLAYERS,
    WEIGHTS,
    Among,
    Dimension,
    Space,
    over_from,
    refuse_space,
)

OVER = "over"


class Tuning(Settings):
    """How a search goes."""

    name_in_messages = "tuning"

    method: str = "random"
    candidates: Count = 24
    score: str = RETURN
    better: Literal["higher", "lower"] = "higher"
    evaluation_episodes: Count = 100
    again: Annotated[int, Field(ge=0, strict=True)] = 5
    seed: Seed = 0
    points: Annotated[int, Field(ge=2, strict=True)] = 5
    one_in: Annotated[int, Field(ge=2, strict=True)] = 3
    rungs: Annotated[int, Field(ge=2, strict=True)] = 3
    looks: Annotated[int, Field(ge=2, strict=True)] = 10

    def __init__(self, **settings: Any) -> None:
        if "method" in settings:
            settings["method"] = method_use(settings["method"])
        super().__init__(**settings)


class SearchSettings:
    """A whole search as it is asked: the plan that candidates change, what is searched over, and how."""

    def __init__(self, plan: Plan, tuning: Tuning, over: Mapping[str, Dimension], base: Path | None = None) -> None:
        self.plan, self.tuning = plan, tuning
        self.space = Space(over)
        refuse_space(self.space, plan)
        if AGENT_USE not in over:  # what does not fit is told before anything is made
            plan.agent.config(describe(plan.environment).spec, plan.copies)
            if plan.training.records is None:
                refuse_memory(plan)
        weights = [name for name in self.space.names if name.startswith(WEIGHTS)]
        if weights and tuning.score == RETURN:
            raise SettingError(
                f"{listed(weights)} cannot be searched over by the return: the weight is a part of it, so the search "
                "would find the weight that pays most and not the agent that does best. Score by `evaluation`, which "
                f"counts by the weights of the plan, or by a measure{_measures(plan)}."
            )
        if plan.training.records is not None and tuning.score == RETURN:
            raise SettingError(
                'a plan that learns from records has no training episodes to score by. Write `score = "evaluation"` '
                "in `[tuning]`."
            )
        # What training is rewarded by may be searched over; what candidates are judged by is the plan's own for all.
        self.score = Score(
            tuning.score, tuning.evaluation_episodes, weights=full_weights(plan.environment) if weights else None
        )
        self.score.refuse(plan.environment)
        if tuning.better == "lower" and tuning.score in (RETURN, "evaluation"):
            raise SettingError('`better = "lower"` is for a measure: a return is better when it is higher.')
        self.method: Method = method_named(tuning.method, base)(self.problem)

    @property
    def problem(self) -> SearchProblem:
        """What the method goes by."""
        tuning = self.tuning
        return SearchProblem(
            self.space,
            self.plan,
            tuning.candidates,
            tuning.seed,
            tuning.points,
            tuning.one_in,
            tuning.rungs,
            tuning.looks,
        )

    @property
    def alone(self) -> bool:
        """Whether each candidate trains with one seed of its own, as the members of a population do."""
        return self.tuning.method == "population"

    @property
    def seeds_each(self) -> int:
        """With how many seeds each candidate is trained."""
        return 1 if self.alone else len(self.plan.training.seeds)

    @property
    def new_seeds(self) -> list[int]:
        """Seeds for the rerun, that no candidate was trained with."""
        used = set(self.plan.training.seeds)
        first = max(used) + 1_000
        return [first + k for k in range(self.tuning.again)]

    def written(self) -> dict[str, Any]:
        """As a plan holds it, ``[tuning]`` last."""
        tuning: dict[str, Any] = {**self.tuning.model_dump(), OVER: self._dimensions()}
        return {**self.plan.written(), TUNING: tuning}

    def _dimensions(self) -> dict[str, Any]:
        """What is searched over; objects by what a plan holds of them."""
        dimensions = {}
        for name, dimension in self.space.over.items():
            entry = dimension.written()
            if isinstance(dimension, Among) and name.startswith((AGENT, PLAYERS)):
                entry["among"] = [self._current_value(name, value) for value in dimension.values]
            dimensions[name] = as_lists(entry)
        return dimensions

    def _current_value(self, name: str, value: Any) -> Any:
        if isinstance(value, (bool, int, float, str)):
            return value
        agent, setting = self.plan.agent, name.rpartition(".")[2]
        if isinstance(agent, PlayerAgents):
            player = name.removeprefix(PLAYERS).partition(".")[0]
            agent = agent.agents.get(player) or next(iter(agent.agents.values()))
        settings = {**dict(agent), setting: value}
        return type(agent)(**settings).written().get(setting, value)


def _measures(plan: Plan) -> str:
    names = [m.name for m in describe(plan.environment).measures]
    return f", {listed(names)}" if names else ""


def settings_of(content: Mapping[str, Any], plan: Plan, base: Path | None = None) -> SearchSettings:
    """The search that a plan's ``[tuning]`` asks for."""
    settings = dict(content)
    over = settings.pop(OVER, None)
    if not isinstance(over, Mapping) or not over:
        raise SettingError(
            "`[tuning.over]` says what to search over, and is missing. Write, for instance, "
            '`"agent.learning_rate" = { between = [1e-4, 1e-2], scale = "log" }` below `[tuning.over]`.'
        )
    flat = dict(_names(over))
    return SearchSettings(plan, Tuning(**settings), over_from(flat), base)


def _names(over: Mapping[str, Any], prefix: str = "") -> list[tuple[str, Any]]:
    """Names with points in them may be quoted or not: ``agent.bins = {...}`` is a table in a table."""
    names: list[tuple[str, Any]] = []
    for name, entry in over.items():
        inner = isinstance(entry, Mapping) and not {"among", "between"} & set(entry)
        if inner and f"{prefix}{name}.".startswith((AGENT, PLAYERS, ENVIRONMENT, "training.")):
            names += _names(entry, f"{prefix}{name}.")
        else:
            names.append((f"{prefix}{name}", entry))
    return names
