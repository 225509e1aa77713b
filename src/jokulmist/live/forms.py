"""What can be set, as fields of a form: made from what environments and methods declare."""

from __future__ import annotations

import inspect
import re
from pathlib import Path
from typing import Any, get_args, get_origin

from jokulmist.agents.contract import Agent
from jokulmist.agents.registry import AGENTS
from jokulmist.environments.declaration.environment import outline_of
from jokulmist.errors import SettingError
from jokulmist.gallery import SHIPPED
from jokulmist.learning.schedules import Schedule
from jokulmist.training.plans.plan import Plan, plan_of
from jokulmist.training.plans.sources import environment_class
from jokulmist.workshop.check.check import check

# Not methods that train by themselves on an environment.
LEFT_OUT = ("Fixed", "Roster", "Cloning", "ImplicitQ", "RandomPlay")
TRAINING: tuple[dict[str, Any], ...] = (
    {"name": "steps", "default": 100_000, "kind": "whole", "help": "decisions, over all copies"},
    {"name": "seeds", "default": "0", "kind": "list", "help": "one run a seed, e.g. 0, 1, 2"},
    {"name": "copies", "default": "", "kind": "whole", "help": "side by side; by default what suits the method"},
    {"name": "evaluate_every", "default": "", "kind": "whole", "help": "decisions between evaluations; empty for none"},
    {
        "name": "record_every",
        "default": "",
        "kind": "whole",
        "help": "one episode in so many is kept step by step; empty for none",
    },
)
CHECKED_STEPS = 500


def choices() -> dict[str, Any]:
    """The environments and methods that may be chosen."""
    environments = [
        {"name": name, "about": (environment_class(name).__doc__ or "").strip().partition("\n")[0]} for name in SHIPPED
    ]
    methods = [
        {"name": name, "about": (kind.__doc__ or "").strip().partition("\n")[0]}
        for name, kind in AGENTS.items()
        if name not in LEFT_OUT
    ]
    return {"environments": environments, "methods": methods, "training": list(TRAINING)}


def fields_of_environment(use: str, base: Path) -> list[dict[str, Any]]:
    """The parameters of a class."""
    cls = environment_class(use, base)
    outline_of(cls)
    return [
        {
            "name": p.name,
            "default": p.default,
            "kind": _kind(type(p.default)),
            "low": p.low,
            "high": p.high,
            "unit": p.unit,
            "help": p.help,
        }
        for p in outline_of(cls).parameters
    ]


def fields_of_method(name: str) -> list[dict[str, Any]]:
    """The settings of a method."""
    if name not in AGENTS:
        raise SettingError(f"there is no method `{name:.60}`.")
    kind, helps = AGENTS[name], helps_of(AGENTS[name])
    fields = []
    for setting, field in kind.model_fields.items():
        default = field.default
        if not (default is None or isinstance(default, (bool, int, float, str, Schedule))):
            continue  # networks and the like are written in a plan
        fields.append(
            {
                "name": setting,
                "default": "" if default is None else str(default) if isinstance(default, Schedule) else default,
                "kind": _kind_of(field.annotation, default),
                "choices": _literals(field.annotation),
                "help": helps.get(setting, ""),
            }
        )
    return fields


def helps_of(kind: type[Agent]) -> dict[str, str]:
    """What the docstrings of a class and of those it is made from say of each setting."""
    helps: dict[str, str] = {}
    for cls in reversed(kind.__mro__):
        doc = inspect.cleandoc(cls.__dict__.get("__doc__") or "")
        section = re.search(r"^Parameters\n-+\n(.*?)(?=^\w+\n-+\n|\Z)", doc, re.S | re.M)
        if section is None:
            continue
        names: list[str] = []
        for line in section.group(1).splitlines():
            if line and not line.startswith(" "):
                names = [name.strip() for name in line.partition(":")[0].split(",")]
                if ":" in line:
                    helps.update(dict.fromkeys(names, ""))
                else:
                    names = []
            elif line.strip() and names:
                helps.update({name: f"{helps[name]} {line.strip()}".strip() for name in names})
    return {name: text.partition(". ")[0].rstrip(".") for name, text in helps.items()}


def _kind(kind: type) -> str:
    return {bool: "flag", int: "whole", float: "number"}.get(kind, "text")


def _kind_of(annotation: Any, default: Any) -> str:
    if _literals(annotation):
        return "choice"
    if isinstance(default, Schedule):
        return "text"
    if default is None:
        return "number" if float in _all(annotation) else "whole" if int in _all(annotation) else "text"
    return _kind(type(default))


def _all(annotation: Any) -> set[Any]:
    members = {annotation}
    for part in get_args(annotation):
        members |= _all(part) if not isinstance(part, (str, int, float)) else set()
    return members


def _literals(annotation: Any) -> list[str]:
    from typing import Literal

    if get_origin(annotation) is Literal:
        return [str(literal) for literal in get_args(annotation)]
    for part in get_args(annotation):
        if literals := _literals(part):
            return literals
    return []


def plan_from(content: dict[str, Any], base: Path) -> Plan:
    """A plan from a form's fields, or from a plan's text."""
    import tomllib

    text = content.get("text")
    if isinstance(text, str):
        try:
            sections = tomllib.loads(text)
        except tomllib.TOMLDecodeError as wrong:
            raise SettingError(f"the plan is no TOML: {wrong}.") from None
        sections.pop("tuning", None)
        return plan_of(sections, base)
    sections = {name: content.get(name) for name in ("environment", "agent", "training")}
    for name, part in sections.items():
        if not isinstance(part, dict):
            raise SettingError(f"the form has no section `{name}`.")
    return plan_of(sections, base)


def checked(plan: Plan) -> list[dict[str, str]]:
    """What `check` finds in a plan's environment, shortly; empty where nothing is wrong."""
    report = check(plan.measured, steps=CHECKED_STEPS, speed=False)
    return [
        {"level": str(finding.level), "problem": finding.problem, "fix": finding.fix} for finding in report.findings
    ]
