"""A run that waits to be trained: its folder is taken, and holds the plan and the code as they are now, so that what is
edited meanwhile does not reach it."""

from __future__ import annotations

from pathlib import Path

from jokulmist.agents.players import classes_of
from jokulmist.loops.partners import keep_partners
from jokulmist.plans.plan import Plan
from jokulmist.plans.sources import plan_code
from jokulmist.records import run_folder as files
from jokulmist.records.files import write_json, write_toml
from jokulmist.records.origin import ORIGIN
from jokulmist.records.run_index import uses_of
from jokulmist.running.session.choices import run_folder
from jokulmist.running.session.judging import JudgingPanel
from jokulmist.running.session.readiness import free_names, ready
from jokulmist.running.session.recorded import told_of
from jokulmist.running.session.start import start_of

WAITING = "waiting"


def queue_runs(plan: Plan, folder: Path, name: str | None, command: list[str]) -> list[Path]:
    """Make the folders of a plan's runs, one a seed, without training them; `resume` begins them."""
    ready_plan = ready(plan)
    names = free_names(plan, folder, name)
    return [_laid(ready_plan.for_seed(seed), seed, run_folder(plan, folder, names[seed]), command) for seed in names]


def _laid(plan: Plan, seed: int, path: Path, command: list[str]) -> Path:
    code = plan_code(plan.environment, *classes_of(plan.agent), *plan.functions())
    origin = files.origin_of(command, seed, files.current_time(), Path.cwd())
    keep_partners(plan.agent, path)
    JudgingPanel.of(plan).save(path)
    start = start_of(plan)
    if start is not None:
        start.save(path)
        origin["parent"] = start.parent
    if plan.training.records is not None:
        origin["records"] = told_of(plan)
    if plan.training.keep_diff:
        files.keep_diff(path, Path.cwd())
    origin["code"] = code.summary
    files.keep_source(path, code.parts)
    written = plan.written()
    origin.update(
        status=WAITING,
        uses=uses_of(written),
        planned={"steps": plan.training.steps, "episodes": plan.training.episodes},
        updated=origin["began"],
    )
    write_toml(path / files.PLAN, written)
    write_json(path / ORIGIN, origin)
    return path
