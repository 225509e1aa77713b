"""Which runs belong together: by the settings in which they differ, found out or named."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from jokulmist.errors import LookupFailed, SettingError, listed, nearest
from jokulmist.plans.setting_differences import USES, differing, short_names
from jokulmist.running.runs.run import Run
from jokulmist.studies.comparison.versions import environment_name, settings_of

MOST_IN_A_LABEL = 4


@dataclass
class RunGroup:
    """Runs that are compared as one: the seeds of one setting.

    Attributes
    ----------
    label : str
    settings : dict
        The values that make the group.
    strata : dict of str to list of Run
        The runs by environment; one entry where there is one environment.
    """

    label: str
    settings: dict[str, Any]
    strata: dict[str, list[Run]] = field(default_factory=dict)

    @property
    def runs(self) -> list[Run]:
        return [run for runs in self.strata.values() for run in runs]


@dataclass(frozen=True)
class Grouping:
    """The groups in the order of their values, the environments that they all have, and what there is to say."""

    by: list[str]
    groups: list[RunGroup]
    environments: list[str]
    notes: list[str]


def grouped(runs: Sequence[Run] | Mapping[str, Sequence[Run]], by: str | Sequence[str] | None = None) -> Grouping:
    """Sort runs into groups."""
    if isinstance(runs, Mapping):
        groups, notes = [], []
        for label, several in runs.items():
            runs_kept, words = _without_twins(list(several))
            groups.append(
                RunGroup(
                    str(label), {}, _strata(runs_kept, _several_environments([r for s in runs.values() for r in s]))
                )
            )
            notes += words
        return _checked([], groups, notes)
    runs_kept, notes = _without_twins(list(runs))
    if len(runs_kept) < 2:
        raise SettingError(
            f"there is nothing to compare: {len(runs_kept)} run was given. Name the runs of two settings at least."
        )
    plans = [settings_of(run) for run in runs_kept]
    all_settings = differing(plans)
    names = (
        _default_names(plans, all_settings)
        if by is None
        else _names_given([by] if isinstance(by, str) else list(by), plans, all_settings)
    )
    if not names:
        lengths = " They differ in their length only." if _lengths_differ(plans) else ""
        raise SettingError(
            f"the {len(runs_kept)} runs have the same settings, so there is one group and nothing to compare.{lengths} "
            f"Train some with another setting{_another_setting(runs_kept[0].plan.agent)}."
        )
    if by is not None:
        other_names = [name for name in all_settings if name not in names and name != USES[0]]
        split = [name for name in other_names if _differs_within(plans, names, name)]
        if split:
            notes.append(f"{listed(split[:6])} {'differ' if len(split) > 1 else 'differs'} within groups, too")
    strata = "environment.use" not in names and _several_environments(runs_kept)
    members: dict[str, RunGroup] = {}
    for run, plan in zip(runs_kept, plans, strict=True):
        settings = {name: plan[name] for name in names if name in plan}
        key = repr(settings)
        group = members.setdefault(key, RunGroup("", settings))
        group.strata.setdefault(str(plan.get("environment.use")) if strata else "", []).append(run)
    groups = sorted(members.values(), key=lambda group: [_order(group.settings.get(name)) for name in names])
    for group, label in zip(groups, _labels([g.settings for g in groups], names), strict=True):
        group.label = label
    return _checked(names, groups, notes)


def _another_setting(agent: Any) -> str:
    """A setting that the method has, as an example."""
    fields = type(agent).model_fields
    name = next((name for name in ("learning_rate", "discount") if name in fields), None)
    value = {"learning_rate": 0.1 if "bins" in fields else 0.0003, "discount": 0.9}.get(name or "")
    return f", e.g. `--set agent.{name}={value}`" if name else ""


def _default_names(plans: list[dict[str, Any]], settings: list[str]) -> list[str]:
    """The settings that make the groups, of those in which the plans differ."""
    other_names = [name for name in settings if not name.startswith("environment.")]
    names = other_names if "environment.use" in settings and other_names else settings
    for use in USES:  # what differs because the method does says nothing more than the method
        if use in names:
            section = use.partition(".")[0] + "."
            alike = [[plan for plan in plans if plan[use] == value] for value in {plan[use] for plan in plans}]
            within = {name for same in alike for name in differing(same)}
            names = [name for name in names if name == use or not name.startswith(section) or name in within]
            if use == "agent.use":
                names = [name for name in names if name != "training.copies" or name in within]
    return sorted(names, key=lambda name: name not in USES)


def _names_given(by: list[str], plans: list[dict[str, Any]], settings: list[str]) -> list[str]:
    """The settings that were asked for by their names or the ends of them."""
    setting_names = list(dict.fromkeys(name for plan in plans for name in plan))
    names = []
    for word in by:
        fits = [word] if word in setting_names else [name for name in setting_names if name.rpartition(".")[2] == word]
        if len(fits) != 1:
            many = f" It could be {listed(fits)}." if fits else nearest(word, setting_names)
            raise LookupFailed(f"no plan here has a setting `{word}`; the runs differ in {listed(settings)}.{many}")
        names.append(fits[0])
    return names


def _differs_within(plans: list[dict[str, Any]], names: list[str], setting: str) -> bool:
    """Whether a setting differs among plans that have the same values of others."""
    seen: dict[str, set[str]] = {}
    for plan in plans:
        seen.setdefault(repr([plan.get(name) for name in names]), set()).add(repr(plan.get(setting)))
    return any(len(values) > 1 for values in seen.values())


def _without_twins(runs: list[Run]) -> tuple[list[Run], list[str]]:
    """The runs, each seed of a setting once: the same plan and seed give the same run, which is no more evidence."""
    runs_kept: dict[str, Run] = {}
    notes = []
    for run in runs:
        plan = {k: v for k, v in settings_of(run).items() if k != "training.seeds"}
        key = repr((sorted(plan.items(), key=lambda item: item[0]), run.seed))
        if key in runs_kept:
            notes.append(
                f"{run.name} has the settings and the seed of {runs_kept[key].name}, so it is the same run and "
                "counted once"
            )
            if run.origin.get("decisions", 0) <= runs_kept[key].origin.get("decisions", 0):
                continue
        runs_kept[key] = run
    return list(runs_kept.values()), notes


def _several_environments(runs: Sequence[Run]) -> bool:
    return len({environment_name(run) for run in runs}) > 1


def _strata(runs: list[Run], several: bool) -> dict[str, list[Run]]:
    strata: dict[str, list[Run]] = {}
    for run in runs:
        strata.setdefault(environment_name(run) if several else "", []).append(run)
    return strata


def _checked(by: list[str], groups: list[RunGroup], notes: list[str]) -> Grouping:
    """The grouping, of the environments that all groups have."""
    if len(groups) < 2:
        raise SettingError(
            f"there is one group only, {groups[0].label if groups else 'and it is empty'}: nothing to compare it with."
        )
    common = [name for name in groups[0].strata if all(name in group.strata for group in groups)]
    if not common:
        raise SettingError("no environment has runs of every group; compare groups that were trained on the same ones.")
    for group in groups:
        left = [name for name in group.strata if name not in common]
        if left:
            notes.append(f"{listed(left)} of {group.label} is left out: not every group was trained on it")
        group.strata = {name: group.strata[name] for name in common}
    return Grouping(by, groups, common, notes)


def _labels(settings: list[dict[str, Any]], names: list[str]) -> list[str]:
    """A short text for each group: the values of what differs, with their names where it takes that. A group without
    any of these settings has them as its class declares them."""
    short = short_names([name for name in names if name not in USES])
    labels = []
    for values in settings:
        words = [str(values[name]).rpartition(":")[2] for name in USES if name in values]
        rest = [f"{short[name]} {_format_value(values[name])}" for name in short if name in values]
        more = [f"and {len(rest) - MOST_IN_A_LABEL} more"] if len(rest) > MOST_IN_A_LABEL else []
        labels.append(" ".join([*words, ", ".join(rest[:MOST_IN_A_LABEL] + more)]).strip() or "as declared")
    return [label if labels.count(label) == 1 else f"{label} ({k + 1})" for k, label in enumerate(labels)]


def _format_value(value: Any) -> str:
    return f"{value:g}" if isinstance(value, float) else str(value)


def _order(value: Any) -> tuple[int, float, str]:
    """Numbers by size, then words; what is absent first."""
    if value is None:
        return (0, 0.0, "")
    if isinstance(value, (int, float)):
        return (1, float(value), "")
    return (2, 0.0, str(value))


def _lengths_differ(plans: list[dict[str, Any]]) -> bool:
    return bool(differing([{k: p.get(k) for k in ("training.steps", "training.episodes")} for p in plans], beside=()))
