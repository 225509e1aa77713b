"""What is chosen before a session begins: the run's folder, and the lane."""

from __future__ import annotations

from pathlib import Path
from typing import Literal

from jokulmist.agents.players import kinds_of, method_names
from jokulmist.errors import SettingError
from jokulmist.plans.fingerprint import known_to_compile, note_that_it_compiles
from jokulmist.plans.plan import Plan
from jokulmist.plans.sources import REMOTE, use_of
from jokulmist.records import run_folder as files

LaneName = Literal["plain", "compiled"]


def run_folder(plan: Plan, folder: Path, name: str | None) -> Path:
    """Make a run's directory: its name, or environment, method and the next free number."""
    use = use_of(type(plan.environment)).rpartition(":")[2].lower()
    if use == REMOTE:
        use = type(plan.environment).__name__.lower()
    methods = dict.fromkeys(kind.__name__.lower() for kind in kinds_of(plan.agent))
    return files.take_folder(folder, name, f"{use}-{'-'.join(methods)}")


def chosen_lane(plan: Plan) -> tuple[LaneName, str]:
    """How the copies of a plan are stepped; and where they might have been compiled and are not, why."""
    if plan.training.lane == "plain":
        return "plain", ""
    if plan.training.records is not None:  # its updates are compiled, and nothing is stepped
        return "compiled", ""
    if not plan.agent.traced:
        if plan.training.lane == "compiled":
            raise SettingError(
                f'`{method_names(plan.agent)}` is not traced, so it trains on plain lanes. Use `lane="plain"`.'
            )
        return "plain", ""
    from jokulmist.lanes.compiled.compilability import find

    if known_to_compile(plan.stage):
        return "compiled", ""
    finding = find(plan.stage)
    if finding.compiles:
        note_that_it_compiles(plan.stage)
        return "compiled", ""
    if plan.training.lane == "compiled":
        raise SettingError(f"the environment cannot be compiled: {finding.why}")
    if not finding.why:
        return "plain", ""
    return "plain", f"training plain, because {finding.why}"


def same_lane(plan: Plan, lane: str | None) -> tuple[LaneName, str]:
    """The lane that a run was trained on before, by its plan; an error where it cannot be."""
    if lane == "plain":
        return "plain", ""
    chosen, why = chosen_lane(plan)
    if lane == "compiled" and chosen != "compiled":
        raise SettingError(f"the run was trained compiled, and now it could not be: {why}")
    return chosen, why
