"""What is told of a plan before anything is made of it."""

from __future__ import annotations

from pathlib import Path

from jokulmist.agents.foreign import refuse_foreign
from jokulmist.environments.declaration.instance import describe
from jokulmist.errors import SettingError
from jokulmist.loops.partners import with_partners
from jokulmist.plans.budget import refuse_budget, refuse_endless, refuse_memory
from jokulmist.plans.plan import Plan
from jokulmist.running.session.judging import JudgingPanel
from jokulmist.running.session.recorded import records_of
from jokulmist.running.session.start import start_of


def ready(plan: Plan) -> Plan:
    """The plan with its partners."""
    plan = with_partners(plan)
    start_of(plan)
    JudgingPanel.of(plan)
    refuse_foreign(plan.agent, plan.agent.config(describe(plan.environment).spec, plan.copies))
    refuse_endless(plan)
    if records_of(plan) is not None:
        return plan
    refuse_budget(plan)
    refuse_memory(plan)
    return plan


def free_names(plan: Plan, folder: Path | None, name: str | None) -> dict[int, str | None]:
    """The names of a plan's runs by seed; None for the next free one."""
    seeds = plan.training.seeds
    names = {seed: name if name is None or len(seeds) == 1 else f"{name}-seed{seed}" for seed in seeds}
    for own_name in names.values():
        if folder is not None and own_name is not None and (folder / own_name).exists():
            raise SettingError(f"there is a run {folder / own_name} already. Choose another `name`, or leave it out.")
    return names
