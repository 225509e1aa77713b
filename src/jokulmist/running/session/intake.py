"""Taking in the episodes that a loop has finished: they are checked, cut to what the plan counts, and recorded, with
rollouts of the first copy."""

from __future__ import annotations

from typing import Any

import numpy as np

from jokulmist.environments.declaration.description import Description
from jokulmist.errors import BrokenEnvironment
from jokulmist.loops.contract import Loop
from jokulmist.loops.rollout_recorder import COPY, RolloutRecorder
from jokulmist.plans.progress import ProgressDisplay
from jokulmist.records.episodes import Episodes, numbers_of
from jokulmist.running.session.recording import Recording


class Intake:
    """Takes in finished episodes."""

    def __init__(
        self,
        recorder: Any,
        description: Description,
        rollouts: RolloutRecorder | None,
        display: ProgressDisplay,
        record_names: tuple[str, ...] = (),
    ) -> None:
        self._recorder, self._description, self._rollouts, self._display = recorder, description, rollouts, display
        self._losses_announced = False
        self.recording = Recording(recorder, description, record_names)

    def take(self, batch: Episodes, loop: Loop, recorded: int, most: int | None) -> tuple[Episodes, dict[str, Any]]:
        """Record finished episodes; those of a last turn or batch beyond so `most` are dropped, so that a plan of 64
        ends at 64."""
        description = self._description
        self._refuse_infinite(batch, recorded)
        if self._rollouts is not None:
            self._take_rollouts(self._rollouts, batch, loop, recorded, most)
        if most is not None and loop.episodes > most:
            batch = batch.first(most - recorded)
            loop.count_episodes(most)
        if not len(batch):
            return batch, {}
        self.recording.take(batch)
        is_counted = np.ones(len(batch), bool)
        if description.lost_bit:
            is_counted = batch.satisfied != description.lost_bit
            self._tell_losses(loop, int((~is_counted).sum()))
        return batch, {name: values[is_counted] for name, values in numbers_of(batch, description).items()}

    def _refuse_infinite(self, batch: Episodes, recorded: int) -> None:
        bad = ~np.isfinite(batch.totals)
        if bad.any():
            row, term = (int(v) for v in np.argwhere(bad)[0])
            raise BrokenEnvironment(
                f"`{self._description.name}.{self._description.terms[term].name}` summed up to "
                f"{batch.totals[row, term]} in episode {recorded + row}; a reward must be finite. `jokulmist check` "
                "shows where; guard the division or the logarithm."
            )

    @staticmethod
    def _take_rollouts(rollouts: RolloutRecorder, batch: Episodes, loop: Loop, recorded: int, most: int | None) -> None:
        first_copy = (recorded + np.flatnonzero(batch.copy == COPY)).tolist()
        followed = loop.followed()
        closed = first_copy[len(first_copy) - len(followed) :]
        numbers = [
            row_number if episode.number is None else episode.number
            for episode, row_number in zip(followed, closed, strict=False)
        ]
        inside = [k for k, number in enumerate(numbers) if most is None or number < most]
        rollouts.take([followed[k] for k in inside], [numbers[k] for k in inside])

    def _tell_losses(self, loop: Loop, episodes: int) -> None:
        if not episodes:
            return
        losses, why = getattr(loop, "losses", 0), getattr(loop, "why_lost", "")
        message = (
            f"episodes lost so far, each with its process or connection: {losses}, after {loop.decisions:,} decisions: "
            f"{why}"
        )
        self._recorder.log(message)
        if not self._losses_announced:
            self._losses_announced = True
            self._display.message(message)
