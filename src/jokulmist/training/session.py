"""One seed's training while it goes on: what is recorded when, what is shown, how it ends."""

from __future__ import annotations

import logging
import math
import signal
import sys
import threading
import time
from collections import deque
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from types import FrameType
from typing import Any

import numpy as np

from jokulmist.environments.environment import describe
from jokulmist.errors import BrokenEnvironment, DivergedTraining, JokulmistError, SettingError
from jokulmist.lanes.finding import find
from jokulmist.records import folder as files
from jokulmist.records.checkpoints import save_checkpoint
from jokulmist.records.episodes import Episodes, Memory, columns_of
from jokulmist.training.climbing import Climb
from jokulmist.training.evaluation import evaluate
from jokulmist.training.loop import Loop, Planned
from jokulmist.training.plain_loop import PlainLoop
from jokulmist.training.plans import Plan
from jokulmist.training.policy import Policy
from jokulmist.training.run import LAST, Run
from jokulmist.training.showing import Show, Standing
from jokulmist.training.sources import source_files, use_of

log = logging.getLogger(__name__)
REPORTS = 200
EPISODES_A_REPORT = 20
PIECE_SECONDS = 0.25
EVALUATION_SEED = 1_000_003
DECISIONS_A_LOOK = 1_000


def run_folder(plan: Plan, folder: Path, name: str | None) -> Path:
    """Make a run's directory: its name, or environment, method and the next free number."""
    use = use_of(type(plan.environment)).rpartition(":")[2].lower()
    return files.take_folder(folder, name, f"{use}-{type(plan.agent).__name__.lower()}")


def chosen_lane(plan: Plan) -> tuple[bool, str]:
    """Whether the plan runs compiled, and if not although it might have, why."""
    if plan.training.lane == "plain":
        return False, ""
    if not plan.agent.traced:
        if plan.training.lane == "compiled":
            raise SettingError(
                f'`{type(plan.agent).__name__}` is not traced, so it trains on plain lanes. Use `lane="plain"`.'
            )
        return False, ""
    finding = find(plan.stage)
    if finding.compiles:
        return True, ""
    if plan.training.lane == "compiled":
        raise SettingError(f"the environment cannot be compiled: {finding.why}")
    return False, f"training plain, because {finding.why}"


class Session:
    """One seed's training while it goes on."""

    def __init__(
        self,
        plan: Plan,
        seed: int,
        compiled: bool,
        why_plain: str,
        path: Path | None,
        show: Show,
        command: list[str],
    ) -> None:
        self.plan, self.seed, self.compiled, self.show = plan, seed, compiled, show
        self.environment, self.agent, self.training = plan.stage, plan.agent, plan.training
        self.description = describe(self.environment)
        origin = files.origin_of(command, seed, files.now(), None if path is None else Path.cwd())
        origin.update(lane="compiled" if compiled else "plain", status="running")
        self.memory = Memory() if path is None else None
        self.path = path
        self.recorder: Any
        if self.path is None:
            self.recorder = self.memory
        else:
            self.recorder = files.FolderRecorder(self.path, plan.written(), origin)
            self.recorder.source(source_files(type(self.environment), type(self.agent), *plan.functions()))
        self.origin = origin
        self.recorder.log(f"lane: {origin['lane']}{f' ({why_plain})' if why_plain else ''}")
        self.recent: deque[float] = deque(maxlen=LAST)
        self.climb = None if plan.curriculum is None else Climb(plan.curriculum)
        self.recorded = 0
        self.stop = False
        self.good: Policy | None = None

    def run(self) -> Run:
        planned = Planned(self.training.steps, self.training.episodes)
        title = self.path.name if self.path is not None else f"{self.description.name} seed {self.seed}"
        self.show.begin(title)
        began = time.perf_counter()
        status, failure = "done", None
        loop = None
        try:
            with interrupted_by_ctrl_c(self._asked_to_stop):
                loop = self._loop(planned)
                status = self._drive(loop, planned, began)
        except BaseException as problem:  # told below, after everything is saved
            status, failure = "failed", problem
            if isinstance(problem, KeyboardInterrupt):
                status = "stopped"
        return self._finished(loop, status, failure, time.perf_counter() - began)

    def _asked_to_stop(self) -> None:
        self.stop = True
        self.show.say("stopping: everything is being saved (Ctrl-C again ends at once)")

    def _loop(self, planned: Planned) -> Loop:
        if self.compiled:
            from jokulmist.training.compiled_loop import CompiledLoop

            return CompiledLoop(self.environment, self.agent, self.seed, self.plan.copies, planned)
        processes = self.training.processes
        return PlainLoop(self.environment, self.agent, self.seed, self.plan.copies, planned, processes)

    def _drive(self, loop: Loop, planned: Planned, began: float) -> str:
        """Train to the end in pieces. What is recorded happens at turns that the plan fixes; the clock decides only
        how finely the way between them is cut."""
        copies, per_update = self.plan.copies, loop.turns_per_update

        def turns(decisions: int) -> int:
            whole = -(-decisions // copies)
            return -(-whole // per_update) * per_update

        last = turns(planned.steps) if planned.steps is not None else sys.maxsize
        report = turns(max(1, planned.steps // REPORTS)) if planned.steps is not None else None
        every = self.training.evaluate_every
        evaluation = None if every is None else turns(every)
        look = None
        if self.climb is not None:
            usual = max(1, planned.steps // REPORTS) if planned.steps is not None else DECISIONS_A_LOOK
            look = turns(self.climb.levels.every or usual)
        piece = per_update * max(1, 512 // copies)
        next_report_episode = EPISODES_A_REPORT
        reported = time.perf_counter()
        reported_decisions = 0
        while loop.turn < last and not self.stop:
            borders = [last] + [((loop.turn // b) + 1) * b for b in (report, evaluation, look) if b is not None]
            count = min(min(borders) - loop.turn, piece, loop.most_turns)
            started = time.perf_counter()
            self._record(loop.advance(count), loop)
            taken = time.perf_counter() - started
            piece = _next_piece(piece, count, taken, per_update)
            done = planned.episodes is not None and loop.episodes >= planned.episodes
            by_episode = report is None and loop.episodes >= next_report_episode
            if by_episode or (report is not None and loop.turn % report == 0) or loop.turn >= last or done:
                next_report_episode = loop.episodes + EPISODES_A_REPORT
                now = time.perf_counter()
                speed = (loop.decisions - reported_decisions) / max(now - reported, 1e-9)
                self._report(loop, speed, now - began)
                reported, reported_decisions = now, loop.decisions
            if self.climb is not None and look is not None and loop.turn % look == 0 and self.climb.moved():
                loop.set_level(self.climb.value)
                self.recorder.log(f"after {loop.decisions} decisions {self.climb}")
                self.show.say(f"after {loop.decisions:,} decisions {self.climb}")
            if evaluation is not None and loop.turn % evaluation == 0:
                self._evaluate(loop)
            elapsed = time.perf_counter() - began
            share = planned.share(loop.decisions, loop.episodes)
            self.show.update(
                Standing(loop.decisions, loop.episodes, share, self._mean(), loop.decisions / elapsed, elapsed)
            )
            if done:
                break
        return "stopped" if self.stop else "done"

    def _record(self, batch: Episodes, loop: Loop) -> None:
        bad = ~np.isfinite(batch.totals)
        if bad.any():
            row, term = (int(v) for v in np.argwhere(bad)[0])
            raise BrokenEnvironment(
                f"`{self.description.name}.{self.description.terms[term].name}` summed up to {batch.totals[row, term]} in "
                f"episode {self.recorded + row}; a reward must be finite. "
                f"`jokulmist check` shows where; guard the division or the logarithm."
            )
        if len(batch):
            columns = columns_of(batch, self.description, self.recorded)
            self.recorder.episodes(columns)
            if self.description.lost_bit:  # an episode that was lost says nothing of what was learned
                known = batch.held != self.description.lost_bit
                self._tell_losses(loop, int((~known).sum()))
                columns = {name: values[known] for name, values in columns.items()}
            self.recent.extend(columns["return"].tolist())
            if self.climb is not None:
                self.climb.take(columns)
            self.recorded += len(batch)

    def _tell_losses(self, loop: Loop, episodes: int) -> None:
        if episodes:
            losses = getattr(loop, "losses", 0)
            self.recorder.log(f"{losses} worker processes were lost and replaced after {loop.decisions} decisions")

    def _mean(self) -> float:
        return float(np.mean(self.recent)) if self.recent else float("nan")

    def _report(self, loop: Loop, speed: float, seconds: float) -> None:
        row = {"decisions": loop.decisions, "episodes": loop.episodes, f"return_last_{LAST}": self._mean()}
        readings = loop.readings()
        self._refuse_diverged(readings, loop)
        row.update(readings)
        row = {name: float(f"{value:.7g}") if isinstance(value, float) else value for name, value in row.items()}
        row.update(steps_per_second=round(speed), seconds=round(seconds, 3))
        self.recorder.reading(row)

    def _refuse_diverged(self, readings: dict[str, float], loop: Loop) -> None:
        """Stop where a reading is no number: everything after it would be none."""
        for name, value in readings.items():
            if not math.isfinite(value):
                since = self.good.decisions if self.good is not None else 0
                told = f"The policy after {since:,} decisions is kept." if since else "Nothing was learned before."
                raise DivergedTraining(
                    f"`{name}` became {value} between {since:,} and {loop.decisions:,} decisions. {told} "
                    f"Lower `learning_rate`, scale rewards that are large by their weights, or set `gradient_clip`."
                )
        self.good = self._policy(loop)

    def _policy(self, loop: Loop) -> Policy:
        return Policy(self.agent, self.description.spec, loop.learner(), loop.decisions)

    def _evaluate(self, loop: Loop) -> None:
        result = evaluate(
            self._policy(loop),
            self.plan.measured,
            episodes=self.training.evaluate_episodes,
            seed=EVALUATION_SEED,
        )
        if self.path is not None:
            self.recorder.evaluated(result.columns)
        self.recorder.log(f"evaluated after {loop.decisions} decisions: mean return {result.mean:.6g}")

    def _learned(self, loop: Loop) -> Policy | None:
        """What was learned, unless a chunk was torn by a second Ctrl-C."""
        try:
            return self._policy(loop)
        except RuntimeError as torn:
            self.recorder.log(f"no checkpoint was saved: {torn}")
            return None

    def _finished(self, loop: Loop | None, status: str, failure: BaseException | None, seconds: float) -> Run:
        policy = None if loop is None else self._learned(loop)
        if isinstance(loop, PlainLoop):
            loop.close()
        if isinstance(failure, DivergedTraining):
            policy = self.good
        if loop is not None and policy is not None and self.path is not None:
            state = {"decisions": policy.decisions, "episodes": loop.episodes, "turn": loop.turn, "seed": self.seed}
            save_checkpoint(self.path, policy.learner, policy.about(), state)
        decisions = loop.decisions if loop is not None else 0
        more: dict[str, Any] = {"decisions": decisions, "episodes": self.recorded, "seconds": round(seconds, 3)}
        if status == "failed":
            more["failure"] = str(failure)
        if self.path is not None:
            self.recorder.status(status, **more)
        else:
            self.origin.update(status=status, **more)
        self.recorder.log(f"{status} after {decisions} decisions{f': {failure}' if status == 'failed' else ''}")
        speed = decisions / max(seconds, 1e-9)
        earned = f"mean return of the last {LAST} {self._mean():.4g}" if self.recent else "none has closed"
        self.show.end(f"{status}: {decisions:,} decisions, {self.recorded:,} episodes, {earned}, {speed:,.0f} steps/s")
        if failure is not None and not isinstance(failure, KeyboardInterrupt):
            if isinstance(failure, JokulmistError) and self.path is not None:
                raise type(failure)(f"{failure} What was recorded is in {self.path}.") from failure
            raise failure
        if isinstance(failure, KeyboardInterrupt):
            raise failure
        return Run(self.path, self.origin, self.plan, self.memory, policy)


def _next_piece(piece: int, count: int, taken: float, per_update: int) -> int:
    """How many turns to go before the next look at the clock: about a quarter of a second's worth."""
    if count < piece:  # cut short by a border: too short to learn from
        return piece
    wanted = count * PIECE_SECONDS / max(taken, 1e-6)
    grown = int(min(max(wanted, count / 4), count * 4))
    return max(per_update, grown // per_update * per_update)


@contextmanager
def interrupted_by_ctrl_c(ask: Callable[[], None]) -> Iterator[None]:
    """The first Ctrl-C asks, the second interrupts; the handler found before is put back."""
    if threading.current_thread() is not threading.main_thread():
        yield
        return
    asked = False

    def handle(number: int, frame: FrameType | None) -> None:
        nonlocal asked
        if asked:
            raise KeyboardInterrupt
        asked = True
        ask()

    before = signal.signal(signal.SIGINT, handle)
    try:
        yield
    finally:
        signal.signal(signal.SIGINT, before)
