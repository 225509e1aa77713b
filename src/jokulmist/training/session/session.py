"""One seed's training while it goes on: what is recorded when, what is shown, how it ends."""

from __future__ import annotations

import copy
import logging
import math
import os
import sys
import time
from collections import deque
from pathlib import Path
from typing import Any

import numpy as np

from jokulmist.environments.declaration.environment import describe
from jokulmist.environments.declaration.simulator import Simulator
from jokulmist.errors import BrokenEnvironment, DivergedTraining, JokulmistError, RecordError, SettingError
from jokulmist.lanes.compiled.compilability import find
from jokulmist.records import run_folder as files
from jokulmist.records.checkpoints import ARRAYS, best_checkpoint, save_checkpoint
from jokulmist.records.episodes import Episodes, Memory, numbers_of
from jokulmist.records.run_index import LAST, uses_of
from jokulmist.training.evaluation.evaluate import evaluate
from jokulmist.training.interrupts import StopRequest, heeding_ctrl_c
from jokulmist.training.loops.contract import Loop, Planned
from jokulmist.training.loops.plain import PlainLoop
from jokulmist.training.plans.observers import LiveRun, Observers
from jokulmist.training.plans.plan import Plan
from jokulmist.training.plans.sources import plan_code, use_of
from jokulmist.training.plans.stopping import Stopping
from jokulmist.training.policies.policy import Policy
from jokulmist.training.progress import ProgressDisplay, RunProgress
from jokulmist.training.rollouts.rollout_recorder import COPY, RolloutRecorder
from jokulmist.training.runs.run import Run
from jokulmist.training.session.advice import Advice
from jokulmist.training.session.checkpointing import Checkpoint, keep, keep_best
from jokulmist.training.session.curriculum_progress import CurriculumProgress
from jokulmist.training.session.machine import Machine
from jokulmist.training.session.recording import Recording

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
    return False, f"training plain, because {finding.why}" if finding.why else ""


class Session:
    """One seed's training while it goes on.

    Parameters
    ----------
    plan : Plan
    seed : int
    compiled : bool
    why_plain : str
        Why the run is not compiled; empty if compiling was not tried.
    path : Path, optional
        The run's folder; None keeps it in memory.
    show : Show
    command : list of str
    kept : Kept, optional
        A checkpoint to go on from.
    origin : dict, optional
        Of a run that goes on.
    until : int, optional
        Decisions at which it halts before the end that is planned; it can be gone on with.
    more : dict, optional
        ``more_steps`` and ``more_episodes`` beyond the plan.
    of : str, optional
        The run that this one does again.
    """

    def __init__(
        self,
        plan: Plan,
        seed: int,
        compiled: bool,
        why_plain: str,
        path: Path | None,
        show: ProgressDisplay,
        command: list[str],
        kept: Checkpoint | None = None,
        origin: dict[str, Any] | None = None,
        until: int | None = None,
        more: dict[str, int] | None = None,
        of: str | None = None,
    ) -> None:
        self.plan, self.seed, self.compiled, self.show = plan, seed, compiled, show
        self.environment, self.agent, self.training = plan.stage, plan.agent, plan.training
        self.description = describe(self.environment)
        goes_on = origin is not None
        if origin is None:
            origin = files.origin_of(command, seed, files.now(), None if path is None else Path.cwd())
        origin.update(more or {})
        if of is not None:
            origin["again"] = of
        origin["planned"] = {"steps": plan.training.steps, "episodes": plan.training.episodes}
        origin.update(lane="compiled" if compiled else "plain", status="running", process=os.getpid())
        self.memory = Memory() if path is None else None
        self.path = path
        self.recorder: Any
        if self.path is None:
            self.recorder = self.memory
        else:
            origin["uses"] = uses_of(plan.written())
            for name in ("decisions", "episodes", "seconds", f"return_last_{LAST}"):
                origin.pop(name, None)  # of a run that goes on: not yet true again
            code = None if goes_on else plan_code(self.environment, type(self.agent), *plan.functions())
            if code is not None:
                origin["code"] = code.summary
                files.keep_source(self.path, code.parts)
            self.recorder = files.FolderRecorder(self.path, None if goes_on else plan.written(), origin)
        self.origin = origin
        self.recording = Recording(self.recorder, self.description)
        self.recorder.log(f"lane: {origin['lane']}{f' ({why_plain})' if why_plain else ''}")
        self.recent: deque[float] = deque(maxlen=LAST)
        self.curriculum = None if plan.curriculum is None else CurriculumProgress(plan.curriculum)
        self.advice = Advice(plan.agent, plan.measured, self.description)
        self.newest: dict[str, float] = {}
        self.recorded = 0
        self.asked = StopRequest()
        self.why = ""
        self.good: Policy | None = None
        self.kept, self.until = kept, until
        self.stopping = Stopping(self.training.stop_when)
        self.observers = Observers(copy.deepcopy(plan.observers))  # each seed has its own
        self.best: tuple[float, Policy] | None = None
        self.scores: deque[float] = deque(maxlen=LAST)
        self.elapsed = 0.0
        self.evaluated_at = -1
        self.next_report_episode = EPISODES_A_REPORT
        every = self.training.record_every
        self.rollouts = (
            None if path is None or every is None else RolloutRecorder(path, self.environment, every, seed, plan.copies)
        )
        self.machine = None if path is None else Machine()

    def run(self) -> Run:
        more = {k: int(self.origin.get(k, 0)) for k in ("more_steps", "more_episodes")}
        planned = Planned(self.training.steps, self.training.episodes, **more)
        title = self.path.name if self.path is not None else f"{self.description.name} seed {self.seed}"
        self.show.begin(title)
        began = time.perf_counter()
        status, failure = "done", None
        loop = None
        try:
            with heeding_ctrl_c() as self.asked:
                loop = self._loop(planned)
                if self.rollouts is not None:
                    loop.follow_first(self.training.record_every or 1)
                if self.kept is not None:
                    self._take_up(loop, self.kept)
                began -= self.elapsed
                self.observers.begin(self._live(loop, planned))
                status = self._drive(loop, planned, began)
                self.observers.end(self._live(loop, planned))
        except BaseException as problem:  # told below, after everything is saved
            status, failure = "failed", problem
            if isinstance(problem, KeyboardInterrupt):
                status = "stopped"
        return self._finished(loop, status, failure, time.perf_counter() - began)

    def _loop(self, planned: Planned) -> Loop:
        if self.compiled:
            from jokulmist.training.loops.compiled import CompiledLoop

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

        last = turns(planned.last_step) if planned.last_step is not None else sys.maxsize
        planned_last = last
        last = last if self.until is None else min(last, turns(self.until))
        report = turns(max(1, planned.steps // REPORTS)) if planned.steps is not None else None
        every = self.training.evaluate_every
        evaluation = None if every is None else turns(every)
        look = None
        if self.curriculum is not None:
            usual = max(1, planned.steps // REPORTS) if planned.steps is not None else DECISIONS_A_LOOK
            look = turns(self.curriculum.levels.every or usual)
        checkpoint = None if self.training.checkpoint_every is None else turns(self.training.checkpoint_every)
        piece = per_update * max(1, 512 // copies)
        reported = checkpointed = time.perf_counter()
        reported_decisions = loop.decisions
        looks = [None if every is None else turns(every) for every in self.observers.cadences]
        fixed = [border for border in (report, evaluation, look, checkpoint, *looks) if border is not None]
        while loop.turn < last and not self.asked and not self.why:
            borders = [last] + [((loop.turn // border) + 1) * border for border in fixed]
            count = min(min(borders) - loop.turn, piece, loop.most_turns)
            started = time.perf_counter()
            self._record(loop.advance(count), loop, planned.last_episode)
            taken = time.perf_counter() - started
            piece = _next_piece(piece, count, taken, per_update)
            now = time.perf_counter()
            self.elapsed = elapsed = now - began
            progress = self._progress(loop, planned)
            done = planned.last_episode is not None and loop.episodes >= planned.last_episode
            by_episode = report is None and loop.episodes >= self.next_report_episode
            reports = by_episode or (report is not None and loop.turn % report == 0) or loop.turn >= last or done
            if reports:
                self.next_report_episode = loop.episodes + EPISODES_A_REPORT
                speed = (loop.decisions - reported_decisions) / max(now - reported, 1e-9)
                self._report(loop, speed, elapsed)
                self._advise(
                    self.advice.early(progress.share, loop.decisions, list(self.recent), self.newest, self.good)
                )
                reported, reported_decisions = now, loop.decisions
                self.why = self.stopping.why(progress) or ""
            if self.curriculum is not None and look is not None and loop.turn % look == 0 and self.curriculum.moved():
                loop.set_level(self.curriculum.value)
                self.recorder.log(f"after {loop.decisions} decisions {self.curriculum}")
                self.show.say(f"after {loop.decisions:,} decisions {self.curriculum}")
            if evaluation is not None and loop.turn % evaluation == 0:
                self._evaluate(loop)
            if len(self.observers):
                looking = [reports if every is None else loop.turn % every == 0 for every in looks]
                self.why = self.why or self.observers.look(looking, self._live(loop, planned)) or ""
            self.show.update(progress)
            if self.path is not None:
                row = self.machine.row(elapsed, loop.decisions) if self.machine is not None else None
                if row is not None:
                    self.recorder.machine(row)
                due = now - checkpointed > 60.0 * self.training.checkpoint_minutes
                if due or (checkpoint is not None and loop.turn % checkpoint == 0):
                    self._checkpoint(loop)
                    checkpointed = time.perf_counter()
            if done:
                break
        if self.asked:
            self.show.say("stopping: everything is being saved (Ctrl-C again ends at once)")
        halted = self.until is not None and last < planned_last and not self.why
        return "stopped" if self.asked or halted else "done"

    def _progress(self, loop: Loop, planned: Planned) -> RunProgress:
        share = planned.share(loop.decisions, loop.episodes)
        speed = loop.decisions / max(self.elapsed, 1e-9)
        return RunProgress(loop.decisions, loop.episodes, share, self._mean(), speed, self.elapsed)

    def _live(self, loop: Loop, planned: Planned) -> LiveRun:
        """The run as an observer is shown it."""
        progress = self._progress(loop, planned)
        return LiveRun(self.path, self.seed, progress, self.newest, lambda: self._policy(loop), self.recorder.log)

    def _checkpoint(self, loop: Loop) -> None:
        """Keep all that is needed to go on from here."""
        assert self.path is not None
        self.recording.settle()
        if self.rollouts is not None:
            self.rollouts.write()
        if self.best is not None:
            keep_best(self.path, self.best[1], self.best[0], self.training.best_by)
        state = {
            "decisions": loop.decisions,
            "episodes": loop.episodes,
            "turn": loop.turn,
            "seed": self.seed,
            "recorded": self.recorded,
            "recent": list(self.recent),
            "scores": list(self.scores),
            "next_report_episode": self.next_report_episode,
            "curriculum": None if self.curriculum is None else self.curriculum.saved(),
            "stopping": self.stopping.saved(),
            "observers": self.observers.saved(),
            "advice": self.advice.saved(),
            "rollouts": None if self.rollouts is None else self.rollouts.saved(),
            "best": None if self.best is None else [self.best[0], self.best[1].decisions],
            "seconds": round(self.elapsed, 3),
            "sizes": self.recorder.sizes(),
        }
        keep(self.path, self._policy(loop), state, loop.saved(), self.training.keep_checkpoints)

    def _take_up(self, loop: Loop, kept: Checkpoint) -> None:
        """Be where a checkpoint was written; the files are already cut back to it."""
        state = kept.state
        if self.curriculum is not None:
            self.curriculum.restore(state["curriculum"])
            loop.set_level(self.curriculum.value)
        loop.restore(kept.arrays)
        self.recorded = state["recorded"]
        self.recording.begin(self.recorded)
        self.recent.extend(state["recent"])
        self.scores.extend(state["scores"])
        self.next_report_episode = state["next_report_episode"]
        self.stopping.restore(state["stopping"])
        self.observers.restore(state["observers"])
        self.advice.restore(state["advice"])
        if self.rollouts is not None and state["rollouts"] is not None:
            self.rollouts.restore(state["rollouts"], self.recorded)
        self.elapsed = state["seconds"]
        self.good = self._policy(loop)
        if state["best"] is not None:
            assert self.path is not None
            found = best_checkpoint(self.path)
            if found is not None:
                self.best = (state["best"][0], Policy.open(found / ARRAYS, self.path))
        self.recorder.log(f"goes on after {loop.decisions} decisions")
        if isinstance(self.environment, Simulator):
            self.recorder.log("a simulator's episodes cannot be gone on with: new ones begin")

    def _judge_best(self, score: float, policy: Policy | None) -> None:
        """Keep the best policy so far; it is written with the next checkpoint."""
        if policy is not None and math.isfinite(score) and (self.best is None or score > self.best[0]):
            self.best = (score, policy)

    def _record(self, batch: Episodes, loop: Loop, most: int | None = None) -> None:
        """Record finished episodes; those of a last turn or batch beyond so `most` are dropped, so that a plan of 64 ends at 64."""
        bad = ~np.isfinite(batch.totals)
        if bad.any():
            row, term = (int(v) for v in np.argwhere(bad)[0])
            raise BrokenEnvironment(
                f"`{self.description.name}.{self.description.terms[term].name}` summed up to {batch.totals[row, term]} in "
                f"episode {self.recorded + row}; a reward must be finite. "
                f"`jokulmist check` shows where; guard the division or the logarithm."
            )
        if self.rollouts is not None:
            first_copy = (self.recorded + np.flatnonzero(batch.copy == COPY)).tolist()
            recorded = loop.followed()
            closed = first_copy[len(first_copy) - len(recorded) :]
            numbers = [at if one.number is None else one.number for one, at in zip(recorded, closed, strict=False)]
            inside = [k for k, number in enumerate(numbers) if most is None or number < most]
            self.rollouts.take([recorded[k] for k in inside], [numbers[k] for k in inside])
        if most is not None and loop.episodes > most:
            batch = batch.first(most - self.recorded)
            loop.count_episodes(most)
        if len(batch):
            self.recording.take(batch)
            known = np.ones(len(batch), bool)
            if self.description.lost_bit:  # an episode that was lost says nothing of what was learned
                known = batch.held != self.description.lost_bit
                self._tell_losses(loop, int((~known).sum()))
            columns = {name: values[known] for name, values in numbers_of(batch, self.description).items()}
            self.recent.extend(columns["return"].tolist())
            if self.training.best_by in columns:
                self.scores.extend(columns[self.training.best_by].tolist())
            self.advice.take(batch, columns["return"])
            if self.curriculum is not None:
                self.curriculum.take(columns)
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
        self.newest = readings
        row.update(readings)
        row = {name: float(f"{value:.7g}") if isinstance(value, float) else value for name, value in row.items()}
        row.update(steps_per_second=round(speed), seconds=round(seconds, 3))
        self.recorder.reading(row)

    def _advise(self, text: str) -> None:
        if text:
            self.recorder.log(text)
            self.show.say(text)

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
        if len(self.scores) >= LAST:
            self._judge_best(float(np.mean(self.scores)), self.good)

    def _policy(self, loop: Loop) -> Policy:
        return Policy(self.agent, self.description.spec, loop.learner(), loop.decisions)

    def _evaluate(self, loop: Loop) -> None:
        self.evaluated_at = loop.decisions
        policy = self._policy(loop)
        result = evaluate(
            policy,
            self.plan.measured,
            episodes=self.training.evaluate_episodes,
            seed=EVALUATION_SEED,
        )
        if self.path is not None:
            self.recorder.evaluated(result.columns)
        if self.training.best_by == "evaluation":
            self._judge_best(result.mean, policy)
        self.recorder.log(f"evaluated after {loop.decisions} decisions: mean return {result.mean:.6g}")

    def _learned(self, loop: Loop) -> Policy | None:
        """What was learned, unless a chunk was torn by a second Ctrl-C."""
        try:
            return self._policy(loop)
        except RuntimeError as torn:
            self.recorder.log(f"no checkpoint was saved: {torn}")
            return None

    def _finished(self, loop: Loop | None, status: str, failure: BaseException | None, seconds: float) -> Run:
        try:
            self.recording.close()
        except RecordError as full:
            failure = failure or full
            status = "failed"
        due = self.training.best_by == "evaluation" and status == "done" and failure is None
        if due and loop is not None and self.evaluated_at != loop.decisions:  # else the end would never be judged
            self._evaluate(loop)
        policy = None if loop is None else self._learned(loop)
        if isinstance(loop, PlainLoop):
            loop.close()
        if isinstance(failure, DivergedTraining):
            policy = self.good
        if loop is not None and policy is not None and self.path is not None:
            failure = self._kept_at_the_end(loop, policy, failure)
            status = "failed" if failure is not None and status == "done" else status
        decisions = loop.decisions if loop is not None else 0
        if status == "done":
            self._advise(self.advice.final(decisions, list(self.recent), self.newest, policy))
        more: dict[str, Any] = {"decisions": decisions, "episodes": self.recorded, "seconds": round(seconds, 3)}
        more[f"return_last_{LAST}"] = float(f"{self._mean():.7g}") if self.recent else None
        if self.curriculum is not None:
            more["level"] = {"parameter": self.curriculum.levels.parameter, "value": self.curriculum.value}
        if status == "failed":
            more["failure"] = str(failure)
        if self.why:
            more["ended_by"] = self.why
        told = f": {failure}" if status == "failed" else f", because {self.why}" if self.why else ""
        try:
            if self.path is not None:
                self.recorder.status(status, **more)
            else:
                self.origin.update(status=status, **more)
            self.recorder.log(f"{status} after {decisions} decisions{told}")
            if self.path is not None and seconds > 0.0:
                share = self.recording.seconds / max(seconds, 1e-9)
                beside = f", and {self.recording.beside:.2f} s on a second thread" if self.recording.beside else ""
                self.recorder.log(
                    f"recording episodes took {self.recording.seconds:.2f} s, {share:.1%} of the run{beside}"
                )
        except RecordError as full:
            failure = failure or full
        speed = decisions / max(seconds, 1e-9)
        earned = f"mean return of the last {LAST} {self._mean():.4g}" if self.recent else "none has closed"
        ending = f" ({self.why})" if self.why else ""
        self.show.end(
            f"{status}{ending}: {decisions:,} decisions, {self.recorded:,} episodes, {earned}, {speed:,.0f} steps/s"
        )
        if failure is not None and not isinstance(failure, KeyboardInterrupt):
            if isinstance(failure, JokulmistError) and self.path is not None:
                raise type(failure)(f"{failure} What was recorded is in {self.path}.") from failure
            raise failure
        if isinstance(failure, KeyboardInterrupt):
            raise failure
        return Run(self.path, self.origin, self.plan, self.memory, policy)

    def _kept_at_the_end(self, loop: Loop, policy: Policy, failure: BaseException | None) -> BaseException | None:
        """Keep where the run ended; after a failure in the middle of a turn only what was learned. The first failure counts."""
        assert self.path is not None
        try:
            if failure is None:
                self._checkpoint(loop)
            elif policy.decisions:
                save_checkpoint(self.path, policy.learner, policy.about(), {"decisions": policy.decisions})
        except RecordError as full:
            return failure or full
        return failure


def _next_piece(piece: int, count: int, taken: float, per_update: int) -> int:
    """How many turns to go before the next look at the clock: about a quarter of a second's worth."""
    if count < piece:  # cut short by a border: too short to learn from
        return piece
    wanted = count * PIECE_SECONDS / max(taken, 1e-6)
    grown = int(min(max(wanted, count / 4), count * 4))
    return max(per_update, grown // per_update * per_update)
