"""What can be set, as fields of a form: made from what environments and methods declare."""

from __future__ import annotations

import ast
import copy
import tomllib
from collections.abc import Mapping
from pathlib import Path
from typing import Any, get_args, get_origin

import tomli_w

from jokulmist.agents.contract import Agent
from jokulmist.agents.registry import AGENTS
from jokulmist.environments.declaration.instance import outline_of
from jokulmist.environments.modifiers.kinds import KINDS
from jokulmist.environments.spaces.player_actions import name_in
from jokulmist.errors import JokulmistError, SettingError
from jokulmist.gallery import SHIPPED
from jokulmist.learning.schedules import Schedule
from jokulmist.plain_files import plain_file
from jokulmist.plans.plan import SECTIONS, Plan, plan_of
from jokulmist.plans.sources import environment_class
from jokulmist.records.files import read_toml
from jokulmist.records.run_folder import PLAN
from jokulmist.settings import described_settings
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
CHECKED_STEPS, ENOUGH_STEPS = 500, 1_000_000
# Files of the working folder that are read for classes, and how long one may be.
MOST_FILES, MOST_SOURCE = 300, 1 << 20
MOST_WRONG = 40


def choices(base: Path, runs: Mapping[str, Path]) -> dict[str, Any]:
    """The environments and methods that may be chosen: of the gallery, of files of a folder, and what only a run keeps,
    given one run for each name of an environment. No code runs for it."""
    shipped = [
        {"name": name, "about": (environment_class(name).__doc__ or "").strip().partition("\n")[0], "origin": "gallery"}
        for name in SHIPPED
    ]
    classes = own_classes(base)
    environments = [*classes, *_kept_classes(runs, {entry["name"] for entry in classes}, base), *shipped]
    methods = [
        {"name": name, "about": (kind.__doc__ or "").strip().partition("\n")[0]}
        for name, kind in AGENTS.items()
        if name not in LEFT_OUT
    ]
    return {"environments": environments, "methods": methods, "training": list(TRAINING)}


def own_classes(base: Path) -> list[dict[str, str]]:
    """The environments that files of a folder and of its subfolders declare, read without running them."""
    entries = []
    paths = [path for pattern in ("*.py", "*/*.py") for path in sorted(base.glob(pattern))]
    for path in [path for path in paths if not path.relative_to(base).as_posix().startswith((".", "_"))][:MOST_FILES]:
        try:
            if path.stat().st_size > MOST_SOURCE:
                continue
            nodes = [
                node for node in ast.parse(path.read_text(encoding="utf-8")).body if isinstance(node, ast.ClassDef)
            ]
        except (OSError, SyntaxError, ValueError, RecursionError):
            continue
        environments = {"Environment", "Simulator"}
        for node in nodes:
            if environments & {ast.unparse(name).rpartition(".")[2] for name in node.bases}:
                environments.add(node.name)
                use = f"{path.relative_to(base).as_posix()}:{node.name}"
                about = (ast.get_docstring(node) or "").partition("\n")[0]
                entries.append({"name": use, "about": about, "origin": "file"})
    return entries


def _kept_classes(runs: Mapping[str, Path], uses: set[str], base: Path) -> list[dict[str, str]]:
    """The classes that runs used and keep, and that are in no file of the working folder."""
    entries = {}
    for path in runs.values():
        try:
            use = _use_below(read_toml(plain_file(path / PLAN))["environment"]["use"], base)
        except (JokulmistError, OSError, KeyError, TypeError):
            continue
        if ":" in use and use not in uses:
            label = Path(use).name
            entries[use] = {
                "name": use,
                "label": label,
                "about": f"as {path.name} keeps it",
                "origin": "run",
                "run": path.name,
            }
    return list(entries.values())


def _use_below(use: Any, base: Path) -> str:
    """The text that names a class, with its file as `own_classes` names it where that is below the folder and there."""
    place, colon, name = str(use).rpartition(":")
    path = Path(place)
    return (
        f"{path.relative_to(base).as_posix()}:{name}"
        if colon and path.is_relative_to(base) and path.is_file()
        else str(use)
    )


def fields_of_environment(use: str, base: Path) -> list[dict[str, Any]]:
    """The parameters of a class, the weights of its reward terms, what may vary, and modifiers."""
    outline = outline_of(environment_class(use, base))
    weights = {name_in(term.name): term.weight for term in outline.terms}
    return [
        *_parameters(outline),
        *(
            {"name": f"weights.{name}", "default": weight, "kind": "number", "group": "weights of the rewards"}
            for name, weight in weights.items()
        ),
        *(
            {
                "name": f"vary.{p.name}",
                "default": "",
                "kind": "pair",
                "group": "drawn anew for each episode: from, to",
            }
            for p in outline.parameters
            if not p.fixed and type(p.default) in (int, float)
        ),
        {
            "name": "modify",
            "default": "",
            "kind": "lines",
            "group": "modifiers",
            "help": f'one a line, e.g. {{ use = "Stack", count = 3 }}; there are {", ".join(KINDS)}',
        },
    ]


def _parameters(outline: Any) -> list[dict[str, Any]]:
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
        for p in outline.parameters
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
    """The first sentence that a class's docstring has of each setting."""
    return {
        name: setting.meaning.partition(". ")[0].rstrip(".").replace("``", "`")
        for name, setting in described_settings(kind).items()
    }


def _kind(kind: type) -> str:
    return {bool: "flag", int: "whole", float: "number"}.get(kind, "text")


def _kind_of(annotation: Any, default: Any) -> str:
    if _literals(annotation):
        return "choice"
    if isinstance(default, Schedule):
        return "schedule"
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


def plan_from(content: dict[str, Any], base: Path, origin: Mapping[str, Any] | None = None) -> Plan:
    """A plan from a form's fields, or from a plan's text; `origin` is what the form began with."""
    text = content.get("text")
    if isinstance(text, str):
        try:
            sections = tomllib.loads(text)
        except tomllib.TOMLDecodeError as wrong:
            raise SettingError(f"the plan is no TOML: {wrong}.") from None
        sections.pop("tuning", None)
        return plan_of(sections, base)
    return plan_of(sections_of(content, origin or {}), base)


def sections_of(content: Mapping[str, Any], origin: Mapping[str, Any]) -> dict[str, Any]:
    """The sections of a plan from a form: its fields, and of what it began with all that no field shows. Modifiers are
    lines of text there."""
    sections = copy.deepcopy(dict(origin))
    for name in ("environment", "agent", "training"):
        part = content.get(name)
        if not isinstance(part, dict):
            raise SettingError(f"the form has no section `{name}`.")
        if sections.get(name, {}).get("use") != part.get("use"):  # what another one was asked for is not meant
            sections[name] = {}
            if name == "environment":
                sections = {
                    section: part for section, part in sections.items() if section not in ("vary", "curriculum")
                }
    fields = content.get("fields")
    for place in fields if isinstance(fields, list) else []:
        *tables, last = str(place).split(".")
        part = sections
        for name in tables:
            part = part.get(name) if isinstance(part, dict) else None
        if isinstance(part, dict):
            part.pop(last, None)
    _put(sections, {name: content[name] for name in SECTIONS if content.get(name)})
    sections = {name: part for name, part in sections.items() if part}
    lines = sections["environment"].get("modify")
    if isinstance(lines, str):
        try:
            joined = ", ".join(line for line in lines.splitlines() if line.strip())
            sections["environment"]["modify"] = tomllib.loads(f"modify = [{joined}]")["modify"]
        except tomllib.TOMLDecodeError:
            raise SettingError(
                f'`modify` is one table a line, e.g. `{{ use = "Stack", count = 3 }}`; got {lines!r:.80}.'
            ) from None
    return sections


def _put(part: dict[str, Any], values: Mapping[str, Any]) -> None:
    """Put values into a table, and into its tables."""
    for name, value in values.items():
        if isinstance(value, dict) and isinstance(part.get(name), dict):
            _put(part[name], value)
        else:
            part[name] = copy.deepcopy(value)


def content_of(run: Path, base: Path) -> dict[str, Any]:
    """What a run was asked for, as `sections_of` takes it and as a plan's text. No code runs for it."""
    content = read_toml(plain_file(run / PLAN))
    text, environment = tomli_w.dumps(content), content.get("environment", {})
    environment["use"] = _use_below(environment.get("use", ""), base)
    if isinstance(environment.get("modify"), list):
        entries = [entry for entry in environment["modify"] if isinstance(entry, dict)]
        environment["modify"] = "\n".join(map(_inline, entries))
    return {"sections": content, "text": text}


def _inline(table: Mapping[str, Any]) -> str:
    """A table in one line of TOML."""
    entries = (
        f"{name} = {_inline(value)}"
        if isinstance(value, dict)
        else " ".join(tomli_w.dumps({name: value}).split("\n")).strip()
        for name, value in table.items()
    )
    return f"{{ {', '.join(entries)} }}"


def problems_of(
    content: Mapping[str, Any], base: Path, origin: Mapping[str, Any] | None = None
) -> list[dict[str, str]]:
    """All that is wrong in a form, each with its section and field: what is told is left out, and the rest is read
    again. What belongs to no field is told last, with empty names."""
    form = copy.deepcopy(dict(content))
    problems: list[dict[str, str]] = []
    while len(problems) < MOST_WRONG:
        try:
            plan_from(form, base, origin)
            return problems
        except JokulmistError as wrong:
            field = _field_meant(form, str(wrong))
            section, place = field or ("", "")
            if any((problem["section"], problem["name"]) == field for problem in problems):
                return problems
            problems.append({"section": section, "name": place, "text": str(wrong)})
            if field is None:
                return problems
            part = form[section]
            *tables, name = [place] if place in part else place.split(".")
            for key in tables:
                part = part[key]
            del part[name]
            if name == "steps":  # some number is needed
                part[name] = ENOUGH_STEPS
    return problems


def _field_meant(content: Mapping[str, Any], message: str) -> tuple[str, str] | None:
    """The section and the field of a form that a message is about: the first that it names."""
    places = []
    for section in SECTIONS:
        part = content.get(section)
        if "text" in content or not isinstance(part, dict):
            continue
        names = [name for name in part if name != "use"]
        weights = part.get("weights")
        names += [f"weights.{name}" for name in weights] if isinstance(weights, dict) else []
        for name in names:
            last = name.rpartition(".")[2]
            hits = [message.find(f"{mark}{last}`") for mark in ("`", ".")]
            places += [(place, section, name) for place in hits if place >= 0]
    return min(places)[1:] if places else None


def checked(plan: Plan) -> list[dict[str, str]]:
    """What `check` finds in a plan's environment, shortly; empty where nothing is wrong."""
    report = check(plan.measured, steps=CHECKED_STEPS, speed=False)
    return [
        {"level": str(finding.level), "problem": finding.problem, "fix": finding.fix} for finding in report.findings
    ]
