"""Reports of a run: a row of readings.csv, whether it has diverged, what to look at, and whether it has done enough."""

from __future__ import annotations

import math
from typing import Any

from jokulmist.errors import DivergedTraining
from jokulmist.loops.contract import Loop, Planned
from jokulmist.plans.stopping import Stopping
from jokulmist.records.episodes import Episodes
from jokulmist.records.run_index import LAST
from jokulmist.running.session.advice import Advice
from jokulmist.running.session.observing import REPORTS, Border, Cadence, SessionObserver
from jokulmist.running.session.progress import SessionProgress

EPISODES_A_REPORT = 20
# A report takes as long as some hundred decisions.
LEAST_DECISIONS, LEAST_REPORTS = 100, 20
LOOKS_A_DOUBLING = 16


class Reports(SessionObserver):
    """Reports at fixed turns: 200 times in a plan of steps; in a short one every 100 decisions, and at least 20 times.
    In a plan of episodes, whose decisions nobody knows, it looks at turns that grow with what is done, and reports
    where at least 20 episodes (or a 200th of the plan) have closed since.
    """

    def __init__(
        self, progress: SessionProgress, planned: Planned, cadence: Cadence, advice: Advice, stopping: Stopping
    ) -> None:
        self._progress, self._cadence, self._advice, self._stopping = progress, cadence, advice, stopping
        self.every = None if planned.steps is None else cadence.turns(_decisions_apart(planned.steps))
        self._episodes = max(EPISODES_A_REPORT, (planned.episodes or 0) // REPORTS)
        self._next_episode = self._episodes
        self._then, self._decisions_then = 0.0, 0
        self._told_best = False

    def begin(self, decisions: int, seconds: float) -> None:
        """From here on speed is counted."""
        self._then, self._decisions_then = seconds, decisions

    def next_turn(self, turn: int) -> int:
        if self.every is not None:
            return super().next_turn(turn)
        distance = self._distance(turn)
        return (turn // distance + 1) * distance

    def _distance(self, turn: int) -> int:
        """Turns between two looks of a plan of episodes: a power of two of updates, at most a 16th of what is done."""
        update = self._cadence.turns_per_update
        return update << max(0, (turn // (LOOKS_A_DOUBLING * update)).bit_length() - 1)

    def is_due(self, border: Border) -> bool:
        """Whether it reports here."""
        loop = border.loop
        if border.last or self.every is not None:
            return border.last or super().is_due(border)
        return loop.episodes >= self._next_episode and loop.turn % self._distance(loop.turn) == 0

    def take(self, batch: Episodes, columns: dict[str, Any]) -> None:
        self._advice.take(batch, columns["return"])

    def look(self, border: Border) -> str | None:
        progress, loop = self._progress, border.loop
        if border.reported:
            self._next_episode = loop.episodes + self._episodes
            speed = (loop.decisions - self._decisions_then) / max(border.seconds - self._then, 1e-9)
            self._report(loop, speed, border.progress.seconds)
            share = border.progress.share
            if progress.plan.training.records is None:
                progress.announce(
                    self._advice.early(share, loop.decisions, list(progress.recent), progress.readings, progress.good)
                )
            self._then, self._decisions_then = border.seconds, loop.decisions
            return self._stopping.why(border.progress)
        return None

    def _report(self, loop: Loop, speed: float, seconds: float) -> None:
        progress = self._progress
        readings = loop.readings()
        self._refuse_diverged(readings, loop)
        progress.readings = readings
        row = {"decisions": loop.decisions, "episodes": loop.episodes, f"return_last_{LAST}": progress.mean_return}
        row.update(readings)
        row = {name: float(f"{value:.7g}") if isinstance(value, float) else value for name, value in row.items()}
        row.update(steps_per_second=round(speed), seconds=round(seconds, 3))
        progress.recorder.reading(row)

    def _refuse_diverged(self, readings: dict[str, float], loop: Loop) -> None:
        """Stop where a reading is no number: everything after it would be none."""
        progress = self._progress
        for name, value in readings.items():
            if not math.isfinite(value):
                since = progress.good.decisions if progress.good is not None else 0
                note = f"The policy after {since:,} decisions is kept." if since else "Nothing was learned before."
                raise DivergedTraining(
                    f"`{name}` became {value} between {since:,} and {loop.decisions:,} decisions. {note} "
                    f"Lower `learning_rate`, scale rewards that are large by their weights, or set `gradient_clip`."
                )
        progress.good = progress.policy(loop)
        if not progress.best_is_nobodys:
            progress.best.judge_recent(progress.good)
        elif not self._told_best:
            self._told_best = True
            progress.announce(
                "no best policy is kept: what one player gets the other loses, so the mean return over players is "
                "the same for every policy. Judge by policies that stay as they are, e.g. "
                '`panel=["random"], best_by="panel"` with `evaluate_every`, or let one learn against such, with '
                f'`best_by="{progress.description.players[0]}.return"`'
            )

    def saved(self) -> Any:
        return {
            "next_episode": self._next_episode,
            "stopping": self._stopping.saved(),
            "advice": self._advice.saved(),
        }

    def restore(self, saved: Any) -> None:
        self._next_episode = saved["next_episode"]
        self._stopping.restore(saved["stopping"])
        self._advice.restore(saved["advice"])


def _decisions_apart(steps: int) -> int:
    """Decisions between two reports of a plan of so many."""
    return max(1, steps // REPORTS, min(LEAST_DECISIONS, steps // LEAST_REPORTS))
