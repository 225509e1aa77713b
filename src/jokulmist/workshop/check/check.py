"""Looks for the mistakes that people make in an environment, and says how to fix each.

Random play on a plain lane finds most of them (`random_play.py`), others are in what it left behind (`records.py`),
or show when single methods are asked again and it is noted what they read (`methods.py`), or when players exchange
places (`players.py`). Whether the class compiles, and how fast it runs each way, is asked of the lanes.
"""

from __future__ import annotations

import re
import time
from typing import Any

from jokulmist.agents.random_play import RandomPlay
from jokulmist.environments.declaration.instance import describe
from jokulmist.environments.environment import Environment
from jokulmist.environments.simulator import Simulator
from jokulmist.errors import BrokenEnvironment, SettingError
from jokulmist.judging.evaluate import RANDOM, evaluate, sees_more
from jokulmist.lanes.compiled.compilability import find
from jokulmist.learning.networks.layout import told_of_images
from jokulmist.loops.contract import Planned
from jokulmist.loops.plain import PlainLoop
from jokulmist.workshop.check.methods import look_at_methods
from jokulmist.workshop.check.players import earned_by_one, look_at_players
from jokulmist.workshop.check.random_play import RandomPlayTrial
from jokulmist.workshop.check.records import look_at_levels, look_at_records
from jokulmist.workshop.check.report import CheckReport, Finding
from jokulmist.workshop.check.simulators import look_at_simulator

STEPS = 3000
LEVEL_EPISODES = 50
SPEED_SECONDS = 0.3


def check(environment: Environment, *, steps: int = STEPS, speed: bool = True) -> CheckReport:
    """Look for mistakes in an environment under random play.

    Parameters
    ----------
    environment : Environment
    steps : int
        Advances of random play.
    speed : bool
        Whether to measure how fast it runs each way.

    Returns
    -------
    CheckReport
        Printing it shows the findings and a table of what was seen.

    Examples
    --------
    >>> import jokulmist as jm
    >>> jm.check(jm.gallery.Ferry(), steps=300, speed=False).ok
    True
    """
    if not isinstance(environment, Environment):
        raise SettingError(f"`check` takes an environment, e.g. `jm.check(Tarn())`; got {environment!r}.")
    if isinstance(steps, bool) or not isinstance(steps, int) or steps < 10:
        raise SettingError(f"`steps` must be a whole number of at least 10; got {steps!r}.")
    report = CheckReport(describe(environment).name)
    if not describe(environment).players:
        report.seen_of_images = told_of_images(None, describe(environment).spec)
    play: RandomPlayTrial | None = None
    report.images = {c.name: f"image {' x '.join(map(str, c.shape))}" for c in describe(environment).spec.images}
    try:
        if isinstance(environment, Simulator):
            look_at_simulator(environment, report, steps)
            report.findings += earned_by_one(report, describe(environment))
        else:
            play = RandomPlayTrial(environment, report)
            play.play(steps)
            look_at_records(play)
            look_at_methods(play)
            look_at_players(play)
        if report.closed_by:
            names = [RANDOM, *describe(environment).outline.references]
            report.levels = {n: evaluate(n, environment, episodes=LEVEL_EPISODES) for n in names}
            report.sees_more = {n: sees_more(environment, n) for n in names[1:]}
            if play is not None:
                look_at_levels(play)
    except BrokenEnvironment as failure:
        report.findings.append(
            Finding("error", str(failure), "", "Nothing can be trained until it runs.", _suggest_fix(str(failure)))
        )
        return report
    if isinstance(environment, Simulator):
        return report
    finding = find(environment)
    report.compiles, report.why_plain = finding.compiles, finding.why
    if finding.differs and play is not None:
        inverted = play.line_of_invert(finding.differs)
        play.find(
            "error",
            "lanes differ",
            finding.why,
            finding.differs,
            "One of the two is not what was meant; training and evaluation would pay different rewards.",
            f"Line {inverted} has `~` on a truth value of Python, which gives -1 or -2. Use `self.xp.logical_not(...)`."
            if inverted
            else "Write it with `self.xp` alone, and look for what Python and arrays do differently: `~`, `and`, `or`, "
            "`not`, `round`, whole numbers beyond 2^31.",
        )
    if speed and report.ok:
        report.speeds = _speeds(environment, report.compiles)
    return report


def _suggest_fix(failure: str) -> str:
    """What to do about a class that fails, by what its message names."""
    if re.search(r"\.py:\d+", failure):
        return "Fix the line that is named."
    return "Do what the message says, and check again."


def _speeds(environment: Environment, compiles: bool) -> dict[str, float]:
    """Steps per second of random play on each lane, without what starting costs."""
    planned = Planned(steps=1 << 40)
    loop: Any = PlainLoop(environment, RandomPlay(), 0, 1, planned)
    speeds = {"plain, 1 copy": _speed(loop, 100)}
    if compiles:
        from jokulmist.loops.compiled import CompiledLoop

        for copies in (1, 64):
            loop = CompiledLoop(environment, RandomPlay(), 0, copies, planned)
            word = "copy" if copies == 1 else "copies"
            speeds[f"compiled, {copies} {word}"] = _speed(loop, 512)
    return speeds


def _speed(loop: Any, turns: int) -> float:
    """Decisions a second of the quickest piece: another one may be compiled first, or wait for another process."""
    loop.advance(turns)
    began, best = time.perf_counter(), 0.0
    while time.perf_counter() - began < SPEED_SECONDS:
        first, before = loop.decisions, time.perf_counter()
        loop.advance(turns)
        best = max(best, (loop.decisions - first) / max(time.perf_counter() - before, 1e-9))
        turns = min(2 * turns, loop.most_turns)
    return best
