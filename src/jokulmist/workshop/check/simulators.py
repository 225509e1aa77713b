"""What `check` looks for in a simulator: its state cannot be looked into, so it is played, and played again."""

from __future__ import annotations

import math
import time
from typing import Any

import numpy as np

from jokulmist.environments.chance.draws import PlainDraw
from jokulmist.environments.chance.noise import Domain, Noise, Stream
from jokulmist.environments.declaration.description import Description
from jokulmist.environments.declaration.instance import describe
from jokulmist.environments.simulator import Simulator
from jokulmist.environments.spaces.channels import Spec
from jokulmist.environments.transition.simulator_stepping import SimulatorStepper
from jokulmist.remote.environment import RemoteSimulator
from jokulmist.workshop.check.report import CheckReport, Finding, Level, Reach

LONGEST = 20_000
COMPARED = 60
MOST_SECONDS = 20.0


def look_at_simulator(environment: Simulator, report: CheckReport, steps: int) -> None:
    """Play a simulator at random and add what that tells."""
    description = describe(environment)
    spec = description.bare
    report.channels = [
        Reach(c.name, f"{c.low:g} to {c.high:g} {c.unit}".strip() if c.bounded else "no bounds") for c in spec.numbers
    ]
    report.terms = [
        Reach(t.name, f"weight {w:g}") for t, w in zip(description.terms, description.own_weights, strict=True)
    ]
    step = SimulatorStepper(environment)
    draws = _draws()
    began, done, advances, number = time.perf_counter(), 0, 0, 0
    state: Any = step.begin(draws[Stream.BEGIN].for_step(0, 0))
    _met(report, spec, state.row)
    while done < steps and time.perf_counter() - began < MOST_SECONDS:
        action = description.action.random(draws[Stream.PLAY].for_step(done, 0), step.decidable(state) or None)
        state = step.advance(state, action, None)
        done, advances = done + 1, advances + 1
        _met(report, spec, state.row)
        for reach, amount in zip(report.terms, state.terms, strict=True):
            reach.least, reach.most = min(reach.least, amount), max(reach.most, amount)
            reach.total, reach.count = reach.total + amount, reach.count + 1
        satisfied = step.satisfied(state, action, state, advances)
        if satisfied:
            name = description.held_names(satisfied)[0]
            report.closed_by[name] = report.closed_by.get(name, 0) + 1
            advances, number = 0, number + 1
            state = step.begin(draws[Stream.BEGIN].for_step(number, 0))
        elif advances > LONGEST:
            break
    seconds = time.perf_counter() - began
    step.environment.close()
    report.steps = done
    report.speeds = {"plain, 1 copy": done / max(seconds, 1e-9)}
    report.simulated = True
    report.stepped = "stepped as it is: in this process, or each copy in one of its own"
    if isinstance(environment, RemoteSimulator):
        arenas = environment.described.get("arenas", 1)
        report.stepped = (
            f"a program at {environment.program}, with {arenas} arena{'s' if arenas != 1 else ''} a connection"
        )
    _check_values(report, description, advances)
    _same_again(environment, report)


def _draws() -> dict[Stream, PlainDraw]:
    noise = Noise(1, 1, Domain.CHECK)
    return {stream: PlainDraw(noise, stream) for stream in (Stream.BEGIN, Stream.PLAY)}


def _met(report: CheckReport, spec: Spec, row: list[float]) -> None:
    for reach, channel in zip(report.channels, spec.numbers, strict=True):
        values = np.asarray(row[spec.slices[channel.name]])
        slack = 1e-5 * (channel.high - channel.low) if channel.bounded else 0.0
        reach.least, reach.most = min(reach.least, float(values.min())), max(reach.most, float(values.max()))
        reach.outside += bool(values.min() < channel.low - slack or values.max() > channel.high + slack)


def _check_values(report: CheckReport, description: Description, open_advances: int) -> None:
    """Findings from what random play met."""

    def find(level: Level, text: str, why: str, fix: str) -> None:
        report.findings.append(Finding(level, text, f"{description.name}.advance", why, fix))

    for reach, channel in zip(report.channels, description.bare.numbers, strict=True):
        if reach.outside:
            find(
                "error",
                f"channel `{reach.name}` ranged from {reach.least:.4g} to {reach.most:.4g}, outside its bounds "
                f"{channel.low:g} to {channel.high:g}, in {reach.outside} of {report.steps} steps.",
                "Tables clip it into the last bin, and networks meet inputs beyond their scale.",
                f"Declare `low={min(channel.low, math.floor(reach.least)):g}, "
                f"high={max(channel.high, math.ceil(reach.most)):g}`.",
            )
        elif reach.least == reach.most:
            find(
                "warning",
                f"channel `{reach.name}` was {reach.least:g} all the time.",
                "It tells the agent nothing.",
                "See whether the simulator sets it; else leave it out.",
            )
    for reach in report.terms:
        if reach.least == reach.most == 0.0:
            find(
                "warning",
                f"reward term `{reach.name}` was 0 in every step of random play.",
                "It may never be told, and a reward that chance does not find is hard to learn from.",
                f"See that `terms` of the outcome names `{reach.name}`.",
            )
    closings = [c for c in description.closings if not description.lost_bit or c != description.closings[-1]]
    if open_advances > LONGEST or not closings:
        find(
            "error",
            f"an episode did not close within {min(open_advances, LONGEST):,} advances.",
            "Without an end or a cut no return is ever known.",
            "Declare `time_limit = 1000` on the class.",
        )
    for name in closings:
        if report.closed_by and name not in report.closed_by and name not in ("deadline", "time limit"):
            find(
                "warning",
                f"random play never met `{name}`.",
                "It may be unreachable, or misspelt where it is told.",
                f"See when an outcome has `closed_by={name!r}`.",
            )


def _same_again(environment: Simulator, report: CheckReport) -> None:
    """The same seed and actions on a fresh instance, and on one that was used before."""
    description = describe(environment)

    def played(step: SimulatorStepper) -> list[list[float]]:
        draws = _draws()
        state: Any = step.begin(draws[Stream.BEGIN].for_step(0, 0))
        rows, advances = [state.row], 0
        while advances < COMPARED:
            action = description.action.random(draws[Stream.PLAY].for_step(advances, 0), step.decidable(state) or None)
            state, advances = step.advance(state, action, None), advances + 1
            rows.append(state.row)
            if step.satisfied(state, action, state, advances):
                break
        return rows

    first, second = SimulatorStepper(environment), SimulatorStepper(environment)
    before, fresh, used = played(first), played(second), played(first)
    first.environment.close()
    second.environment.close()
    for rows, case in ((fresh, "on another instance"), (used, "on an instance that had played an episode before")):
        index = next((k for k, (a, b) in enumerate(zip(before, rows, strict=False)) if a != b), None)
        if index is not None or len(rows) != len(before):
            report.findings.append(
                Finding(
                    "error",
                    f"the same seed and actions gave another episode {case}, from step "
                    f"{index if index is not None else len(rows)} on.",
                    f"{description.name}.begin",
                    "A run could not be done again, and copies would not be alike.",
                    "Take all chance from `seed` (e.g. `numpy.random.default_rng(seed)`), and set everything again in "
                    "`begin`.",
                )
            )
            return
