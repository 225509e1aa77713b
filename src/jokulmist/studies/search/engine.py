"""The engine of a search: asks the method for legs, gives them to workers as jobs, notes what comes back.

What is known is written to search.json whenever it changes, so that a search that was stopped or killed goes on where
it was:
a leg that was broken off is given again, and its runs go on from their last checkpoints.
"""

from __future__ import annotations

import math
import shutil
import time
from collections import deque
from dataclasses import replace
from pathlib import Path
from typing import Any

from jokulmist.errors import JokulmistError
from jokulmist.judging.evaluate import interval_of
from jokulmist.plans.plan import Plan
from jokulmist.plans.progress import RunProgress
from jokulmist.records import run_folder as files
from jokulmist.records.files import read_json, write_json, write_toml
from jokulmist.records.origin import ORIGIN
from jokulmist.running.interrupts import StopRequest, handling_stops
from jokulmist.running.workers.jobs import Executor, WorkerJob, WorkerMessage
from jokulmist.studies.search.candidates import FAILED, Board, Candidate, Instalment, ShownScore
from jokulmist.studies.search.progress import Row, SearchDisplay, SearchView
from jokulmist.studies.search.settings import SearchSettings
from jokulmist.studies.search.space import with_settings

POLL_SECONDS = 0.2
RERUN = -1
MOST_SHOWN = 5
Tag = tuple[int, int]


class Engine:
    """One search at work."""

    def __init__(
        self,
        question: SearchSettings,
        folder: Path,
        board: Board,
        executor: Executor,
        display: SearchDisplay,
        command: list[str],
    ) -> None:
        self.question, self.folder, self.board, self.executor = question, folder, board, executor
        self.display, self.command = display, command
        self.waiting: deque[Tag] = deque()
        self.outstanding: set[Tag] = set()
        self.running: dict[Tag, RunProgress] = {}
        self.messages_shown: set[str] = set()
        self.stopping = False
        self.problem = StopRequest()
        self.before = board.seconds
        self.done_before = 0.0

    def run(self) -> bool:
        """Search, then run the best once more; returns whether it came to its end."""
        began = time.perf_counter()
        self.done_before = self.view().share
        self.display.begin(self.folder.name)
        try:
            with handling_stops() as self.problem:
                for candidate in self.board.running:  # it was killed: what was on its way is given again
                    self._give_out(Instalment(candidate.number, candidate.until or 0))
                self._work(began, self._next)
                if not self.stopping:
                    self._rerun(began)
        finally:
            self.board.seconds = self.before + time.perf_counter() - began
            self.board.save(self.folder)
            self.display.end()
        return not self.stopping

    def _work(self, began: float, more: Any) -> None:
        """Give jobs while there are any and workers are free, and take what comes back."""
        while True:
            if self.problem and not self.stopping:
                self._stop()
            while self.executor.free() and not self.stopping and (self.waiting or more()):
                tag = self.waiting.popleft()
                self.outstanding.add(tag)
                self.executor.give(tag, self._job(tag))
            if not self.outstanding:
                return
            worker_message = self.executor.receive(POLL_SECONDS)
            self.board.seconds = self.before + time.perf_counter() - began
            if worker_message is not None:
                self._take(worker_message)
            self.display.update(self.view())

    def _next(self) -> bool:
        """Ask the method; whether there is work now."""
        while not self.waiting:  # a leg may come to nothing: settings that do not go together
            instalment = self.question.method.next(self.board)
            self._copy_runs()
            if instalment is None:
                return False
            self._give_out(instalment)
        return True

    def _give_out(self, instalment: Instalment) -> None:
        """Put the runs of a leg in the queue, but for those that are scored already."""
        candidate = self.board.candidates[instalment.candidate]
        candidate.until = instalment.until
        try:
            self._plan(candidate.number)
        except JokulmistError as wrong:  # settings that are allowed one by one may not go together
            self._fail(candidate, str(wrong))
        scores = candidate.scores.get(str(instalment.until), {})
        left = [seed for seed in self._seeds(candidate) if str(seed) not in scores]
        if not left:
            candidate.until = None
        for seed in left:
            if candidate.status != FAILED:
                candidate.runs.setdefault(str(seed), f"candidate-{candidate.number:03d}-seed-{seed}")
                self.waiting.append((candidate.number, seed))
        self.board.save(self.folder)

    def _seeds(self, candidate: Candidate) -> tuple[int, ...]:
        """The seeds of a candidate; in a population each member has one of its own."""
        return (self.board.seeds[0] + candidate.number,) if self.question.alone else self.board.seeds

    def _plan(self, number: int) -> Plan:
        return with_settings(self.question.plan, self.board.candidates[number].settings)

    def _job(self, tag: Tag) -> WorkerJob:
        number, seed = tag
        score = self.question.score.written()
        if number == RERUN:
            assert self.board.winner is not None
            plan = self._plan(self.board.winner).for_seed(seed)
            return WorkerJob(
                plan.written(),
                seed,
                str((self.folder / f"winner-seed-{seed}").resolve()),
                self.command,
                None,
                score,
                str(self.folder.resolve()),
            )
        candidate = self.board.candidates[number]
        plan = self._plan(number).for_seed(seed)
        path = self.folder / candidate.runs[str(seed)]
        return WorkerJob(
            plan.written(),
            seed,
            str(path.resolve()),
            self.command,
            candidate.until or None,
            score,
            str(self.folder.resolve()),
        )

    def _copy_runs(self) -> None:
        """Where a population decided so, let members go on from copies of others' runs."""
        for candidate in self.board.candidates:
            if candidate.copies is None:
                continue
            donor = self.board.candidates[candidate.copies]
            seed, donor_seed = self._seeds(candidate)[0], self._seeds(donor)[0]
            look = len(candidate.scores)
            name = f"candidate-{candidate.number:03d}-seed-{seed}-look-{look:02d}"
            plan = self._plan(candidate.number).for_seed(seed)
            copied = candidate.history[-1]
            copy_run(self.folder / donor.runs[str(donor_seed)], self.folder / name, plan, seed, copied)
            candidate.runs = {str(seed): name}
            candidate.copies = None

    def _take(self, worker_message: WorkerMessage) -> None:
        """Note the message of a run."""
        tag: Tag = worker_message.tag
        if worker_message.progress is not None:
            self.running[tag] = worker_message.progress
            return
        if worker_message.kind == "say":
            is_usual = worker_message.text.startswith(("candidate-", "winner-"))  # that a run goes on is the rule here
            if worker_message.text not in self.messages_shown and not is_usual:
                self.messages_shown.add(worker_message.text)
                self.display.message(worker_message.text)
            return
        self.outstanding.discard(tag)
        self.running.pop(tag, None)
        result = dict(worker_message.result or {})
        if worker_message.kind == "done" and "score" not in result:
            self.stopping = True  # somebody interrupted it: it is resumed next time
            return
        score = result.get("score")
        failed = worker_message.text if worker_message.kind == "failed" else ""
        if not failed and not (isinstance(score, (int, float)) and math.isfinite(score)):
            failed = "no episode closed, so there is no score; give `steps` for more"
        if tag[0] == RERUN:
            if failed:
                self.display.message(f"the winner failed with seed {tag[1]}: {failed}")
            else:
                self.board.again[str(tag[1])] = float(score)  # type: ignore[arg-type]
        else:
            self._note(self.board.candidates[tag[0]], tag[1], failed, result)
        self.board.save(self.folder)

    def _note(self, candidate: Candidate, seed: int, failed: str, result: dict[str, Any]) -> None:
        candidate.decisions = max(candidate.decisions, int(result.get("decisions") or 0))
        candidate.seconds = round(candidate.seconds + float(result.get("took") or 0.0), 3)
        if candidate.status == FAILED:
            return
        if failed:
            self._fail(candidate, failed)
            return
        until = str(candidate.until or 0)
        score = float(result["score"])
        candidate.scores.setdefault(until, {})[str(seed)] = score
        is_judged = result["judged"] > 1
        candidate.spans[str(seed)] = list(interval_of(score, result["sd"], result["judged"])) if is_judged else []
        if len(candidate.scores[until]) == len(self._seeds(candidate)):
            candidate.until = None

    def _fail(self, candidate: Candidate, why: str) -> None:
        candidate.status, candidate.message, candidate.until = FAILED, why, None
        self.waiting = deque(tag for tag in self.waiting if tag[0] != candidate.number)
        self.display.message(f"candidate {candidate.number} failed, and the search goes on: {why}")

    def _rerun(self, began: float) -> None:
        """Run the best once more, on seeds that it was not chosen by."""
        best = self.question.method.best(self.board)
        if best is None:
            return
        self.board.winner = best[0].number
        self.board.save(self.folder)
        left = [(RERUN, seed) for seed in self.question.new_seeds if str(seed) not in self.board.again]
        if left:
            self.display.message(f"candidate {self.board.winner} is the best; it is run again on {len(left)} new seeds")
        self.waiting.extend(left)
        self._work(began, lambda: False)

    def _stop(self) -> None:
        self.stopping = True
        self.display.message("stopping: every run saves what it has (Ctrl-C again ends at once)")
        self.executor.stop()

    def _done(self) -> float:
        """Decisions trained so far, of all runs together."""
        seeds = self.question.seeds_each
        return float(sum(c.decisions for c in self.board.candidates)) * seeds

    def view(self) -> SearchView:
        """What a person who watches wants to know."""
        board, tuning = self.board, self.question.tuning
        method = self.question.method
        seeds = self.question.seeds_each
        rerun_decisions = len(self.question.new_seeds) * float(self.question.plan.training.steps or 0)
        total = method.decisions * seeds + rerun_decisions
        going = sum(progress.decisions for progress in self.running.values())
        started = sum(self.board.candidates[n].decisions for n, _ in self.running if n != RERUN)
        rerun = len(board.again) * float(self.question.plan.training.steps or 0)
        done = self._done() + max(going - started, 0) + rerun
        if not total:  # the plan counts episodes: what is done is counted in runs
            total = float(tuning.candidates * seeds + len(self.question.new_seeds))
            done = float(sum(len(s) for c in board.candidates for s in c.scores.values()) + len(board.again))
        share = min(done / total, 1.0)
        done_here = share - self.done_before
        left = (board.seconds - self.before) * (1.0 - share) / done_here if done_here > 0 else math.nan
        best = board.best(method.untils)
        ranked: dict[int, tuple[Candidate, ShownScore]] = {}
        for until in method.untils:  # each where it came furthest
            for _, candidate in board.ranked(until):
                if candidate.status != FAILED:
                    ranked.setdefault(candidate.number, (candidate, board.shown_score(candidate, until)))
        rows = [
            Row(
                "again" if n == RERUN else str(n),
                seed,
                self.running.get((n, seed)),
                {} if n == RERUN else board.candidates[n].settings,
            )
            for n, seed in sorted(self.outstanding)
        ]
        finished = sum(1 for c in board.candidates if c.scores and c.until is None)
        return SearchView(
            name=self.folder.name,
            method=tuning.method,
            score=tuning.score,
            tried=len(board.candidates),
            finished=finished,
            failed=sum(c.status == FAILED for c in board.candidates),
            share=share,
            seconds=board.seconds,
            seconds_left=left,
            best=None if best is None else (best[0], board.shown_score(*best)),
            rows=rows,
            workers=self.executor.count,
            ranked=list(ranked.values())[:MOST_SHOWN],
        )


def copy_run(donor: Path, target: Path, plan: Plan, seed: int, copied: dict[str, Any]) -> None:
    """A run's folder as the beginning of another, with other settings and the seed of its own from here on."""
    making = target.with_name(f"{target.name}.making")
    for left in (making, target):
        if left.exists():
            shutil.rmtree(left)
    shutil.copytree(donor, making, ignore=shutil.ignore_patterns("pictures", "rollouts"))
    write_toml(making / files.PLAN, plan.written())
    origin = {**read_json(making / ORIGIN), "seed": seed, "status": "stopped"}
    origin["descends"] = [*origin.get("descends", []), {"from": donor.name, "after": copied["until"]}]
    write_json(making / ORIGIN, origin)
    making.replace(target)


def winning_plan(question: SearchSettings, board: Board) -> Plan | None:
    """The plan of the best candidate, for all seeds of the search's plan."""
    if board.winner is None:
        return None
    plan = with_settings(question.plan, board.candidates[board.winner].settings)
    return replace(plan, training=plan.training.changed(seeds=question.plan.training.seeds))
