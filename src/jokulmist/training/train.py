"""Training: an environment, an agent, how long; what comes out is a run, or one a seed."""

from __future__ import annotations

import logging
import signal
import sys
import threading
import time
from collections import deque
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path
from types import FrameType
from typing import Any, Literal

import numpy as np

from jokulmist.agents.protocol import Agent
from jokulmist.environments.environment import Environment, describe
from jokulmist.errors import BrokenEnvironment, JokulmistError, SettingError
from jokulmist.lanes.finding import find
from jokulmist.records import folder as files
from jokulmist.records.checkpoints import save_checkpoint
from jokulmist.records.episodes import Episodes, Memory, columns_of
from jokulmist.training.evaluation import evaluate
from jokulmist.training.loop import Loop, Planned
from jokulmist.training.plans import Plan, Training
from jokulmist.training.policy import Policy
from jokulmist.training.run import LAST, Run, Runs
from jokulmist.training.showing import LiveLine, Show, Silent, Standing
from jokulmist.training.sources import source_files, use_of

log = logging.getLogger(__name__)
REPORTS = 200
EPISODES_A_REPORT = 20
PIECE_SECONDS = 0.25
EVALUATION_SEED = 1_000_003


def train(
    environment: Environment,
    agent: Agent,
    *,
    steps: int | None = None,
    episodes: int | None = None,
    seed: int = 0,
    seeds: Sequence[int] | None = None,
    copies: int | None = None,
    lane: Literal["auto", "plain", "compiled"] = "auto",
    evaluate_every: int | None = None,
    evaluate_episodes: int = 100,
    folder: str | Path | None = "runs",
    name: str | None = None,
    show: Show | None = None,
) -> Any:
    """Train an agent on an environment.

    Parameters
    ----------
    environment : Environment
    agent : Agent
    steps, episodes : int
        How long, one of the two. Steps are decisions, summed over copies; the last turn of all copies is run whole.
    seed : int
    seeds : sequence of int, optional
        One run a seed; the result is `Runs`.
    copies : int, optional
        Copies of the environment that step side by side; by default what suits the method.
    lane : {"auto", "plain", "compiled"}
        ``auto`` compiles the class where it can be compiled and says why where not; ``plain`` runs it in Python, so
        that breakpoints and prints work; ``compiled`` makes it an error if it cannot be.
    evaluate_every : int, optional
        Decisions between evaluations of the greedy policy, recorded in evaluated.csv.
    evaluate_episodes : int
        Episodes of each evaluation.
    folder : str, Path or None
        Where the run's folder is made; None keeps the run in memory.
    name : str, optional
        The folder's name; else environment, method and the next free number.
    show : Show, optional
        Who shows progress. By default a live line where standard error is a terminal, and nothing else.

    Returns
    -------
    Run, or Runs where `seeds` was given.

    Raises
    ------
    SettingError
        When a setting is out of range, or the method cannot work with the environment.
    BrokenEnvironment
        When the environment's own code fails; what was recorded until then is kept.

    Notes
    -----
    Ctrl-C ends training cleanly, with everything saved and the run's status ``stopped``; a second Ctrl-C ends it at
    once. The same plan and seed give the same episodes.csv on the same machine, byte for byte.

    Examples
    --------
    >>> import jokulmist as jm
    >>> run = jm.train(jm.gallery.Tarn(), jm.QLearning(bins=20), steps=2000, folder=None, lane="plain")
    >>> len(run.episodes)
    20
    """
    if not isinstance(environment, Environment):
        what = (
            f"the class `{environment.__name__}`; write `{environment.__name__}()`"
            if isinstance(environment, type)
            else repr(environment)
        )
        raise SettingError(f"`train` takes an environment first; got {what}.")
    if not isinstance(agent, Agent):
        what = f"the class `{agent.__name__}`; write `{agent.__name__}()`" if isinstance(agent, type) else repr(agent)
        raise SettingError(f"`train` takes an agent second; got {what}.")
    training = Training(
        steps=steps,
        episodes=episodes,
        seeds=tuple(seeds) if seeds is not None else (seed,),
        copies=copies,
        lane=lane,
        evaluate_every=evaluate_every,
        evaluate_episodes=evaluate_episodes,
    )
    if show is None:
        show = LiveLine() if sys.stderr.isatty() else Silent()
    place = None if folder is None else Path(folder)
    runs = train_plan(Plan(environment, agent, training), folder=place, name=name, show=show, command=sys.argv)
    return runs if seeds is not None else runs[0]


def train_plan(
    plan: Plan,
    *,
    folder: Path | None,
    name: str | None = None,
    show: Show | None = None,
    command: list[str] | None = None,
) -> Runs:
    """Train a plan, one run a seed; see `train`."""
    show = show or Silent()
    plan.agent.shapes(
        describe(plan.environment).spec, plan.copies
    )  # what does not fit is told before anything is made
    compiled, why = chosen_lane(plan)
    if why:
        show.say(why)
    runs: list[Run] = []
    seeds = plan.training.seeds
    names = {seed: name if name is None or len(seeds) == 1 else f"{name}-seed{seed}" for seed in seeds}
    for own_name in names.values():  # before the first is trained, not when its turn has come
        if folder is not None and own_name is not None and (folder / own_name).exists():
            raise SettingError(f"there is a run {folder / own_name} already. Choose another `name`, or leave it out.")
    for seed in seeds:
        runs.append(_Session(plan.for_seed(seed), seed, compiled, why, folder, names[seed], show, command or []).run())
        if runs[-1].status == "stopped":
            break
    return Runs(runs)


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
    finding = find(plan.environment)
    if finding.compiles:
        return True, ""
    if plan.training.lane == "compiled":
        raise SettingError(f"the environment cannot be compiled: {finding.why}")
    return False, f"training plain, because {finding.why}"


class _Session:
    """One seed's training while it goes on."""

    def __init__(
        self,
        plan: Plan,
        seed: int,
        compiled: bool,
        why_plain: str,
        folder: Path | None,
        name: str | None,
        show: Show,
        command: list[str],
    ) -> None:
        self.plan, self.seed, self.compiled, self.show = plan, seed, compiled, show
        self.environment, self.agent, self.training = plan.environment, plan.agent, plan.training
        self.description = describe(self.environment)
        use = use_of(type(self.environment)).rpartition(":")[2].lower()
        stem = f"{use}-{type(self.agent).__name__.lower()}"
        origin = files.origin_of(command, seed, files.now(), None if folder is None else Path.cwd())
        origin.update(lane="compiled" if compiled else "plain", status="running")
        self.memory = Memory() if folder is None else None
        self.path = None if folder is None else files.take_folder(folder, name, stem)
        self.recorder: Any
        if self.path is None:
            self.recorder = self.memory
        else:
            self.recorder = files.FolderRecorder(self.path, plan.written(), origin)
            self.recorder.source(source_files(type(self.environment), type(self.agent)))
        self.origin = origin
        self.recorder.log(f"lane: {origin['lane']}{f' ({why_plain})' if why_plain else ''}")
        self.recent: deque[float] = deque(maxlen=LAST)
        self.recorded = 0
        self.stop = False

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
        from jokulmist.training.plain_loop import PlainLoop

        return PlainLoop(self.environment, self.agent, self.seed, self.plan.copies, planned)

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
        piece = per_update * max(1, 512 // copies)
        next_report_episode = EPISODES_A_REPORT
        reported = time.perf_counter()
        reported_decisions = 0
        while loop.turn < last and not self.stop:
            borders = [last] + [((loop.turn // b) + 1) * b for b in (report, evaluation) if b is not None]
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
            self.recent.extend(columns["return"].tolist())
            self.recorded += len(batch)

    def _mean(self) -> float:
        return float(np.mean(self.recent)) if self.recent else float("nan")

    def _report(self, loop: Loop, speed: float, seconds: float) -> None:
        row = {"decisions": loop.decisions, "episodes": loop.episodes, f"return_last_{LAST}": self._mean()}
        row.update(loop.readings())
        row = {name: float(f"{value:.7g}") if isinstance(value, float) else value for name, value in row.items()}
        row.update(steps_per_second=round(speed), seconds=round(seconds, 3))
        self.recorder.reading(row)

    def _policy(self, loop: Loop) -> Policy:
        return Policy(self.agent, self.description.spec, loop.learner(), loop.decisions)

    def _evaluate(self, loop: Loop) -> None:
        result = evaluate(
            self._policy(loop),
            self.environment,
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
        if loop is not None and policy is not None and self.path is not None:
            state = {"decisions": loop.decisions, "episodes": loop.episodes, "turn": loop.turn, "seed": self.seed}
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
