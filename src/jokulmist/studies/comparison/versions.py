"""Runs on several versions of one environment: what differs, and what their returns share."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from jokulmist.environments.declaration.instance import describe
from jokulmist.errors import SettingError, listed
from jokulmist.gallery import SHIPPED
from jokulmist.judging.evaluate import weights_of
from jokulmist.plans.setting_differences import Flat, flat
from jokulmist.plans.sources import version_changes
from jokulmist.running.runs.run import Run
from jokulmist.sources.snapshot import source_snapshot

VERSION = "environment.version"


def environment_name(run: Run) -> str:
    """The environment's class, wherever it stands: one that is edited, or read another way, stays the same
    environment."""
    use = str(run.written_plan["environment"].get("use"))
    return use.rpartition(":")[2]


def version(run: Run, section: str = "environment") -> str | None:
    """Six digits of the code of a run's environment or agent; None where it kept none."""
    use = str(run.written_plan[section].get("use"))
    name = SHIPPED[use][1] if use in SHIPPED else use.rpartition(":")[2]
    versions: dict[str, str] = (run.origin.get("code") or {}).get("versions", {})
    return versions.get(name)


def settings_of(run: Run) -> Flat:
    """A run's settings, with the versions of its code among them."""
    settings = flat(run.written_plan)
    settings["environment.use"] = environment_name(run)
    if version(run) is not None:
        settings[VERSION] = version(run)
    if ":" in str(settings.get("agent.use")):
        settings["agent.use"] = str(settings["agent.use"]).rpartition(":")[2]
        if version(run, "agent") is not None:
            settings["agent.version"] = version(run, "agent")
    return settings


def changes_told(runs: Sequence[Run]) -> list[str]:
    """For each environment of which there are several versions, how each differs from the first."""
    lines = []
    for versions in _by_environment(runs).values():
        first, *later = list(versions.items())
        for number, run in later:
            lines.append(f"{environment_name(run)}, version {first[0]} and {number}: {_difference(first[1], run)}")
    return lines


def _by_environment(runs: Sequence[Run]) -> dict[str, dict[str, Run]]:
    """One run of each version, by environment."""
    by_name: dict[str, dict[str, Run]] = {}
    for run in sorted(runs, key=lambda run: (str(run.origin.get("began")), run.name)):
        number = version(run)
        if number is not None:
            by_name.setdefault(environment_name(run), {}).setdefault(number, run)
    return by_name


def _difference(first: Run, second: Run) -> str:
    codes = [source_snapshot(run.path) for run in (first, second)]
    if codes[0] is None or codes[1] is None:
        return "their code was not kept"
    return version_changes(
        codes[0],
        codes[1],
        str(first.written_plan["environment"]["use"]),
        str(second.written_plan["environment"]["use"]),
    )


def refuse_returns(runs: Sequence[Run], weights: Mapping[str, float] | None) -> None:
    """Raise `SettingError` where returns of different versions are no common scale: their terms or weights differ."""
    for name, versions in _by_environment(runs).items():
        first, *later = list(versions.items())
        for number, run in later:
            difference = _difference(first[1], run)
            first_weights, second_weights = (weights_of(describe(each_run.environment)) for each_run in (first[1], run))
            # Weights may be given for terms of the same names; what a term says may not have changed.
            if "term `" not in difference and (first_weights == second_weights or weights is not None):
                continue
            shared = [
                term for term in first_weights if term in second_weights and f"term `{term}` changed" not in difference
            ]
            measures = {m.name for m in describe(first[1].environment).measures} & {
                m.name for m in describe(run.environment).measures
            }
            if weights is not None and set(weights) <= set(shared) and weights:
                continue
            ways = []
            if measures:
                ways.append(f"by a measure that both have, `score=` one of {listed(sorted(measures))}")
            if shared:
                ways.append(
                    f"by the terms that are the same, e.g. `weights={{{shared[0]!r}: 1.0}}` (`--weights {shared[0]}=1`)"
                )
            ways.append(
                f"in one version, `within=` a run or an environment (`--in {run.path or run.name}`), which plays all "
                "policies there"
            )
            raise SettingError(
                f"the runs were trained on versions {first[0]} and {number} of `{name}` ({difference}), so their "
                "returns "
                f"are no common scale. Judge all {'; or '.join(ways)}."
            )


def shared_weights(runs: Sequence[Run], weights: Mapping[str, float]) -> dict[str, float]:
    """Weights for all terms that any version has: those that are named, and nothing for the others."""
    every: dict[str, Any] = {}
    for run in runs:
        every.update(dict.fromkeys(weights_of(describe(run.environment)), 0.0))
    return {**every, **weights}
