"""One seed's training while it goes on: what is recorded when, what is shown, how it ends."""

from __future__ import annotations

import copy
import logging
import os
import shutil
import sys
import time
from collections.abc import Iterator
from contextlib import ExitStack, contextmanager, suppress
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import numpy as np

from jokulmist.agents.novelty import seeking
from jokulmist.agents.players import classes_of, each_agent
from jokulmist.environments.declaration.instance import describe
from jokulmist.environments.simulator import Simulator
from jokulmist.errors import DivergedTraining, JokulmistError, RecordError, SettingError
from jokulmist.judging.evaluate import Evaluation, evaluate, most_advances
from jokulmist.learning.networks.layout import told_of_images
from jokulmist.loops.contract import Loop, Planned
from jokulmist.loops.partners import keep_partners, with_partners
from jokulmist.loops.plain import PlainLoop
from jokulmist.loops.policy import Policy
from jokulmist.loops.records_loop import RecordsLoop
from jokulmist.loops.rollout_recorder import RolloutRecorder
from jokulmist.plans.observers import LiveRun, Observers
from jokulmist.plans.plan import Plan
from jokulmist.plans.progress import ProgressDisplay, RunProgress
from jokulmist.plans.sources import plan_code
from jokulmist.plans.stopping import Stopping
from jokulmist.records import run_folder as files
from jokulmist.records.checkpoints import save_checkpoint
from jokulmist.records.episodes import Episodes, Memory, pairing_name
from jokulmist.records.files import read_json, write_json
from jokulmist.records.lock import writing
from jokulmist.records.origin import ORIGIN
from jokulmist.records.run_index import LAST, uses_of
from jokulmist.running.interrupts import StopRequest, handling_stops
from jokulmist.running.runs.run import Run
from jokulmist.running.session.advice import Advice
from jokulmist.running.session.checkpointing import Checkpoint, write_checkpoint
from jokulmist.running.session.choices import LaneName
from jokulmist.running.session.curriculum_progress import CurriculumProgress
from jokulmist.running.session.intake import Intake
from jokulmist.running.session.judging import JudgingPanel
from jokulmist.running.session.observing import (
    Border,
    Cadence,
    Checkpoints,
    Evaluations,
    LevelMoves,
    MachineRows,
    SessionObserver,
    UserObservers,
)
from jokulmist.running.session.progress import SessionProgress
from jokulmist.running.session.recorded import records_of, refuse_changed, summary_of, told_of
from jokulmist.running.session.reports import Reports
from jokulmist.running.session.start import start_of

log = logging.getLogger(__name__)
PIECE_SECONDS = 0.25
EVALUATION_SEED = 1_000_003
# Advances of an evaluation from which its program is worth compiling, where the training is compiled.
WORTH_COMPILING_IN_TRAINING = 5_000


@dataclass
class RunEnd:
    """How a run ended; the first failure counts."""

    status: str = "done"
    failure: BaseException | None = None

    def fail(self, failure: BaseException) -> None:
        if self.failure is None:
            self.status = "stopped" if isinstance(failure, KeyboardInterrupt) else "failed"
            self.failure = failure

    @contextmanager
    def failing_on(self, *kinds: type[Exception]) -> Iterator[None]:
        """Go on after a failure of these kinds, which the run ends with."""
        try:
            yield
        except kinds as failure:
            self.fail(failure)


class Session:
    """One seed's training while it goes on."""

    def __init__(
        self,
        plan: Plan,
        seed: int,
        lane: LaneName,
        why_plain: str,
        path: Path | None,
        display: ProgressDisplay,
        command: list[str],
        checkpoint: Checkpoint | None = None,
        origin: dict[str, Any] | None = None,
        until: int | None = None,
        more: dict[str, int] | None = None,
        parent: str | None = None,
    ) -> None:
        sources = (path, None if parent is None else Path(parent))
        plan = with_partners(plan, *sources)
        self.plan, self.seed, self.lane, self.display = plan, seed, lane, display
        self.start = None if checkpoint is not None else start_of(plan, *sources)
        self.panel = JudgingPanel.of(plan, *sources)
        self.environment, self.agent, self.training = plan.stage, plan.agent, plan.training
        self.records = records_of(plan)
        self.description = describe(self.environment)
        resumed, before = origin is not None, dict(origin or {})
        if origin is None:
            origin = files.origin_of(command, seed, files.current_time(), None if path is None else Path.cwd())
        origin.update(more or {})
        if parent is not None:
            origin["again"] = parent
        if self.start is not None:
            origin["parent"] = self.start.parent
        origin["planned"] = {"steps": plan.training.steps, "episodes": plan.training.episodes}
        origin.update(lane=lane, status="running", process=os.getpid())
        self.memory = Memory() if path is None else None
        self.path = path
        self.recorder: Any = self.memory
        if path is not None:
            try:
                self.recorder = self._open_folder(path, origin, before, resumed, parent)
                self.recorder.log(f"lane: {lane}{f' ({why_plain})' if why_plain else ''}")
            except RecordError:
                self._give_up(before)
                raise
        self.origin, self.checkpoint, self.until = origin, checkpoint, until
        self.progress = SessionProgress(plan, self.description, self.recorder, path, display)
        every = self.training.record_every
        self.rollouts = (
            None if path is None or every is None else RolloutRecorder(path, self.environment, every, seed, plan.copies)
        )
        self.intake = Intake(self.recorder, self.description, self.rollouts, display, plan.agent.record_names)
        self.advice = Advice(plan.agent, plan.measured, self.description)
        self.curriculum = None if plan.curriculum is None else CurriculumProgress(plan.curriculum)
        self.user_observers = Observers(copy.deepcopy(plan.observers))  # each seed has its own
        self.observers: dict[str, SessionObserver] = {}
        self.stop_request = StopRequest()
        self.why = ""
        self.evaluated_at = -1

    def _open_folder(
        self, path: Path, origin: dict[str, Any], before: dict[str, Any], resumed: bool, parent: str | None
    ) -> files.FolderRecorder:
        """Write into a run's folder what it begins with: its plan, code, partners and start; of a resumed run all of it
        is there."""
        plan = self.plan
        origin["uses"] = uses_of(plan.written())
        for name in ("decisions", "episodes", "seconds", f"return_last_{LAST}"):
            origin.pop(name, None)  # of a resumed run: not yet true again
        if self.records is not None:
            origin["records"], origin["recorded"] = self._same_records(before, parent), summary_of(self.records)
        if resumed:
            return files.FolderRecorder(path, None, origin)
        code = plan_code(self.environment, *classes_of(self.agent), *plan.functions())
        keep_partners(self.agent, path)
        self.panel.save(path)
        if self.start is not None:
            self.start.save(path)
        if self.training.keep_diff:
            files.keep_diff(path, Path.cwd())
        origin["code"] = code.summary
        files.keep_source(path, code.parts)
        return files.FolderRecorder(path, plan.written(), origin)

    def _same_records(self, before: dict[str, Any], parent: str | None) -> list[dict[str, Any]]:
        """The files that it learns from; refused where the run that goes on, or is done again, began with others."""
        entries = told_of(self.plan)
        if parent is not None:
            before = read_json(Path(parent) / ORIGIN)
        if "records" in before:
            refuse_changed(before["records"], entries, Path(parent or self.path or "."))
        return entries

    def run(self) -> Run:
        """Train to the end, as the only one who writes into the run's folder."""
        with ExitStack() as stack:
            if self.path is not None:
                try:
                    stack.enter_context(writing(self.path))
                except RecordError:
                    self._give_up({})
                    raise
            return self._run()

    def _give_up(self, before: dict[str, Any]) -> None:
        """Where a run cannot be written to when it begins, let its record not say that it is at work."""
        assert self.path is not None
        if before:
            with suppress(RecordError):
                write_json(self.path / ORIGIN, before)
        _leave_nothing(self.path)

    def _run(self) -> Run:
        more = {k: int(self.origin.get(k, 0)) for k in ("more_steps", "more_episodes")}
        planned = Planned(self.training.steps, self.training.episodes, **more)
        title = self.path.name if self.path is not None else f"{self.description.name} seed {self.seed}"
        self.display.begin(title)
        began = time.perf_counter()
        end, loop = RunEnd(), None
        try:
            with handling_stops() as self.stop_request:
                loop = self._loop(planned)
                for agent, spec, _ in each_agent(self.agent, self.description.spec, self.plan.copies):
                    image_note = told_of_images(agent.network, spec) if hasattr(agent, "network") else ""
                    if image_note and self.checkpoint is None:
                        self.progress.announce(f"the network {image_note}")
                cadence = Cadence(self.plan.copies, loop.turns_per_update)
                self.observers = self._observing(planned, cadence)
                if self.rollouts is not None:
                    loop.follow_first(self.training.record_every or 1)
                if self.checkpoint is not None:
                    self._restore(loop, self.checkpoint)
                elif self.start is not None:
                    loop.start_from(self.start.arrays)
                began -= self.progress.elapsed
                self.user_observers.begin(self._live(loop, planned))
                end.status = self._drive(loop, planned, cadence, began)
                self.user_observers.end(self._live(loop, planned))
        except MemoryError as problem:
            end.fail(_too_large(problem))
        except BaseException as problem:  # raised again after everything is saved
            end.fail(problem)
        return self._finished(loop, end, time.perf_counter() - began)

    def _loop(self, planned: Planned) -> Loop:
        if self.records is not None:
            return RecordsLoop(self.records, self.agent, self.seed, planned.steps or 1, self.description)
        if self.lane == "compiled":
            from jokulmist.loops.compiled import CompiledLoop

            return CompiledLoop(self.environment, seeking(self.agent), self.seed, self.plan.copies, planned)
        return PlainLoop(
            self.environment, seeking(self.agent), self.seed, self.plan.copies, planned, self.training.processes
        )

    def _observing(self, planned: Planned, cadence: Cadence) -> dict[str, SessionObserver]:
        """What happens while it trains, in this order, by the names that a checkpoint holds their states under."""
        training, progress = self.training, self.progress
        observers: dict[str, SessionObserver] = {
            "reports": Reports(progress, planned, cadence, self.advice, Stopping(training.stop_when))
        }
        if self.curriculum is not None:
            observers["curriculum"] = LevelMoves(self.curriculum, progress, planned, cadence)
        if training.evaluate_every is not None:
            observers["evaluations"] = Evaluations(training.evaluate_every, self._evaluate, cadence)
        if len(self.user_observers):
            observers["own"] = UserObservers(self.user_observers, lambda loop: self._live(loop, planned), cadence)
        if self.path is not None:
            observers["machine"] = MachineRows(progress)
            minutes = training.checkpoint_minutes
            observers["checkpoints"] = Checkpoints(training.checkpoint_every, minutes, self._checkpoint, cadence)
        return observers

    def _drive(self, loop: Loop, planned: Planned, cadence: Cadence, began: float) -> str:
        """Train to the end in pieces. What is recorded happens at turns that the plan fixes; the clock decides only
        how finely the way between them is cut."""
        planned_last = cadence.turns(planned.last_step) if planned.last_step is not None else sys.maxsize
        last = planned_last if self.until is None else min(planned_last, cadence.turns(self.until))
        per_update = loop.turns_per_update
        piece = per_update * max(1, 512 // self.plan.copies)
        reports = self.observers["reports"]
        assert isinstance(reports, Reports)
        reports.begin(loop.decisions, time.perf_counter())
        while loop.turn < last and not self.stop_request and not self.why:
            stops = [last, *(observer.next_turn(loop.turn) for observer in self.observers.values())]
            count = min(min(stops) - loop.turn, piece, loop.most_turns)
            started = time.perf_counter()
            self._take(loop, loop.advance(count), planned.last_episode)
            seconds = time.perf_counter()
            piece = _next_piece(piece, count, seconds - started, per_update)
            self.progress.elapsed = seconds - began
            done = planned.last_episode is not None and loop.episodes >= planned.last_episode
            border = Border(loop, self._progress(loop, planned), seconds, done or loop.turn >= last)
            border = replace(border, reported=reports.is_due(border))
            for observer in self.observers.values():
                self.why = self.why or observer.look(border) or ""
                if self.why:
                    border = replace(border, last=True)
            self.display.update(border.progress)
            if done:
                break
        if self.stop_request:
            self.display.message("stopping: everything is being saved (Ctrl-C again ends at once)")
        halted = self.until is not None and last < planned_last and not self.why
        return "stopped" if self.stop_request or halted else "done"

    def _take(self, loop: Loop, batch: Episodes, most: int | None) -> None:
        batch, columns = self.intake.take(batch, loop, self.progress.recorded, most)
        if len(batch):
            self.progress.take(columns)
            for observer in self.observers.values():
                observer.take(batch, columns)
            self.progress.recorded += len(batch)

    def _progress(self, loop: Loop, planned: Planned) -> RunProgress:
        share, elapsed = planned.share(loop.decisions, loop.episodes), self.progress.elapsed
        speed = loop.decisions / max(elapsed, 1e-9)
        return RunProgress(loop.decisions, loop.episodes, share, self.progress.mean_return, speed, elapsed)

    def _live(self, loop: Loop, planned: Planned) -> LiveRun:
        """The run as an observer is shown it."""
        progress, readings = self._progress(loop, planned), self.progress.readings
        return LiveRun(self.path, self.seed, progress, readings, lambda: self.progress.policy(loop), self.recorder.log)

    def _checkpoint(self, loop: Loop) -> None:
        """Keep all that is needed to go on from here."""
        assert self.path is not None
        self.intake.recording.settle()
        if self.rollouts is not None:
            self.rollouts.write()
        self.progress.best.write(self.path)
        state = {
            "decisions": loop.decisions,
            "episodes": loop.episodes,
            "turn": loop.turn,
            "seed": self.seed,
            "so_far": self.progress.saved(),
            "observers": {name: observer.saved() for name, observer in self.observers.items()},
            "rollouts": None if self.rollouts is None else self.rollouts.saved(),
            "sizes": self.recorder.sizes(),
            **({} if self.evaluated_at < 0 else {"evaluated_at": self.evaluated_at}),
        }
        write_checkpoint(self.path, self.progress.policy(loop), state, loop.saved(), self.training.keep_checkpoints)

    def _restore(self, loop: Loop, checkpoint: Checkpoint) -> None:
        """Be where a checkpoint was written; the files are already cut back to it."""
        state = checkpoint.state
        for name, observer in self.observers.items():
            observer.restore(state["observers"][name])
        if self.curriculum is not None:
            loop.set_level(self.curriculum.value)
        loop.restore(checkpoint.arrays)
        self.evaluated_at = int(state.get("evaluated_at", -1))
        self.progress.restore(state["so_far"])
        self.progress.good = self.progress.policy(loop)
        recorded = self.progress.recorded
        self.intake.recording.begin(recorded)
        if self.rollouts is not None and state["rollouts"] is not None:
            self.rollouts.restore(state["rollouts"], recorded)
        self.recorder.log(f"goes on after {loop.decisions} {self.plan.counted}")
        if isinstance(self.environment, Simulator):
            self.recorder.log("a simulator's episodes cannot be resumed: new ones begin")

    def _evaluate(self, loop: Loop) -> None:
        """Measure what was learned so far, always on the same episodes."""
        self.evaluated_at = loop.decisions
        policy, best = self.progress.policy(loop), self.progress.best
        result = self._evaluated(policy, "policy", policy.decisions)
        means = {}
        for pairing in self.panel.pairings(policy):
            name = pairing_name(pairing.player, pairing.member)
            played = self._evaluated(pairing.policy, name, policy.decisions)
            means[name] = float(played.returns_of(pairing.player).mean())
        if best.by_panel:
            best.judge(float(np.mean(list(means.values()))), policy)
        elif best.by_evaluation and not result.telling:  # a mean over players that never changes judges nothing
            best.judge(result.mean, policy)
        more = "".join(f", {name} {mean:.6g}" for name, mean in means.items())
        self.recorder.log(
            f"evaluated after {policy.decisions} {self.plan.counted}: mean return {result.mean:.6g}{more}"
        )

    def _evaluated(self, policy: Policy, name: str, learned: int) -> Evaluation:
        """Episodes of a policy, kept with the run under a name."""
        environment, episodes = self.plan.measured, self.training.evaluate_episodes
        # By the plan alone, so that a run that goes on, or is done again, rounds in the same way.
        long = most_advances(environment, episodes) >= WORTH_COMPILING_IN_TRAINING
        lane: LaneName = "compiled" if self.lane == "compiled" and self.records is None and long else "plain"
        result = evaluate(policy, environment, episodes=episodes, seed=EVALUATION_SEED, lane=lane)
        if self.path is not None:
            head = {"policy": np.array([name] * episodes, object), "learned": np.full(episodes, learned)}
            self.recorder.evaluated({**result.columns, **head})
        return result

    def _learned(self, loop: Loop) -> Policy | None:
        """What was learned, unless a chunk was torn by a second Ctrl-C."""
        try:
            return self.progress.policy(loop)
        except RuntimeError as torn:
            self.recorder.log(f"no checkpoint was saved: {torn}")
            return None

    def _finished(self, loop: Loop | None, end: RunEnd, seconds: float) -> Run:
        """Judge and keep what was learned, record how the run ended, and give the run, or raise what made it fail."""
        with end.failing_on(RecordError):
            self.intake.recording.close()
        by_evaluation = self.progress.best.by_evaluation and end.status == "done"
        if (
            loop is not None and by_evaluation and self.evaluated_at != loop.decisions
        ):  # else the end would never be judged
            with end.failing_on(Exception):
                self._evaluate(loop)
        policy = None if loop is None else self._learned(loop)
        if isinstance(loop, PlainLoop):
            loop.close()
        if isinstance(end.failure, DivergedTraining):
            policy = self.progress.good
        if loop is not None and policy is not None and self.path is not None:
            with end.failing_on(RecordError):
                self._keep_end(loop, policy, end)
        decisions = loop.decisions if loop is not None else 0
        if end.status == "done":
            self._advise(decisions, policy)
        self._record_end(end, decisions, seconds)
        self.display.end(self._summary(end, decisions, seconds))
        if end.failure is not None:
            recorded = self.path is not None and self.path.exists()
            if isinstance(end.failure, JokulmistError) and recorded:
                raise type(end.failure)(f"{end.failure} What was recorded is in {self.path}.") from end.failure
            raise end.failure
        return Run(self.path, self.origin, self.plan, self.memory, policy)

    def _keep_end(self, loop: Loop, policy: Policy, end: RunEnd) -> None:
        """Keep where the run ended; after a failure in the middle of a turn only what was learned."""
        assert self.path is not None
        if end.failure is None:
            self._checkpoint(loop)
        elif policy.decisions:
            save_checkpoint(self.path, policy.learner, policy.metadata(), {"decisions": policy.decisions})

    def _advise(self, decisions: int, policy: Policy | None) -> None:
        progress = self.progress
        if self.records is not None and policy is not None:
            from jokulmist.judging.estimating import where_it_leaves

            progress.announce(where_it_leaves(policy, self.records))
        else:
            progress.announce(self.advice.final(decisions, list(progress.recent), progress.readings, policy))

    def _record_end(self, end: RunEnd, decisions: int, seconds: float) -> None:
        """Write how the run ended into its record and its log."""
        progress, recording = self.progress, self.intake.recording
        more: dict[str, Any] = {"decisions": decisions, "episodes": progress.recorded, "seconds": round(seconds, 3)}
        more[f"return_last_{LAST}"] = float(f"{progress.mean_return:.7g}") if progress.recent else None
        if progress.return_of:
            more["return_of"] = progress.return_of
        if self.curriculum is not None:
            more["level"] = {"parameter": self.curriculum.levels.parameter, "value": self.curriculum.value}
        reason = f", because {self.why}" if self.why else ""
        if end.status == "failed":
            more["failure"], reason = str(end.failure), f": {end.failure}"
        if self.why:
            more["ended_by"] = self.why
        text = f"{end.status} after {decisions} {self.plan.counted}{reason}"
        if self.path is None:
            self.origin.update(status=end.status, **more)
            self.recorder.log(text)
            return
        try:
            self.recorder.status(end.status, **more)
            self.recorder.log(text)
            if seconds > 0.0:
                beside = f", and {recording.beside:.2f} s on a second thread" if recording.beside else ""
                share = recording.seconds / seconds
                took = f"{recording.seconds:.2f} s, {share:.1%} of the run{beside}"
                self.recorder.log(f"recording episodes took {took}")
        except RecordError as full:
            end.fail(full)
            _leave_nothing(self.path)

    def _summary(self, end: RunEnd, decisions: int, seconds: float) -> str:
        """The last line for who watches."""
        progress, speed = self.progress, decisions / max(seconds, 1e-9)
        earned = f"mean return of the last {LAST} {progress.mean_return:.4g}" if progress.recent else "none has closed"
        amount = f"{decisions:,} decisions, {progress.recorded:,} episodes, {earned}, {speed:,.0f} steps/s"
        if self.records is not None:
            amount = f"{decisions:,} updates on {len(self.records):,} recorded decisions, {speed:,.0f} a second"
        return f"{end.status}{f' ({self.why})' if self.why else ''}: {amount}"


def _leave_nothing(path: Path) -> None:
    """Where nothing can be written and nothing was recorded yet, let no folder say that a run is at work."""
    if not any((path / name).exists() for name in (files.EPISODES, files.CHECKPOINTS)):
        shutil.rmtree(path, ignore_errors=True)


def _too_large(problem: BaseException) -> SettingError:
    return SettingError(
        f"there is not enough memory: {problem}. Lower what is large: `replay_size`, `horizon`, `minibatch`, `copies`, "
        "or the widths of the network."
    )


def _next_piece(piece: int, count: int, seconds: float, per_update: int) -> int:
    """How many turns to go before the next look at the clock: about a quarter of a second's worth."""
    if count < piece:  # cut short by a border: too short to learn from
        return piece
    wanted = count * PIECE_SECONDS / max(seconds, 1e-6)
    grown = int(min(max(wanted, count / 4), count * 4))
    return max(per_update, grown // per_update * per_update)
