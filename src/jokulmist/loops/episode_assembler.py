"""Episodes of the first copy put together from the steps that a compiled program records, chunk by chunk."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import jax
import numpy as np

from jokulmist.arrays import NumpyArray
from jokulmist.environments.declaration.description import Description
from jokulmist.loops.rollout_recorder import Recorded
from jokulmist.records.rollouts import RecordedEpisode

if TYPE_CHECKING:
    from jokulmist.loops.compiled_turn import Frame


class EpisodeAssembler:
    """Cuts recorded steps at the ends of their episodes, and keeps those that may be wanted: the rest costs next to
    nothing."""

    def __init__(self, description: Description, every: int, from_begin: bool) -> None:
        self._description, self._every = description, every
        self._weights = np.asarray(description.weights, np.float64)
        self.from_begin = from_begin
        self._pieces: list[Any] = []
        self._return_before = 0.0
        self._next = 0
        self._most, self._least = -np.inf, np.inf
        self._recorded: list[Recorded] = []

    def take(self, recorded_steps: Any, satisfied: Any, first_turn: int, copies: int, numbers: list[int]) -> None:
        """The recorded steps of a chunk, the closings that held after each, and the numbers of the first copy's
        episodes."""
        turns = len(satisfied)
        ends = np.flatnonzero(satisfied).tolist()
        rewards = sum(
            w * np.asarray(term[:turns], np.float64)
            for w, term in zip(self._weights, recorded_steps.terms, strict=True)
        )
        reached = np.cumsum(rewards)
        begin, before = 0, -self._return_before
        for end, number in zip(ends, numbers, strict=True):
            total = float(reached[end]) - before
            due = number >= self._next or total > self._most or total < self._least or end == ends[-1]
            if self.from_begin and due:
                self._pieces.append(_piece(recorded_steps, begin, end + 1))
                decisions = (first_turn + end + 1) * copies
                self._recorded.append(Recorded(decisions, self._joined(int(satisfied[end])), number))
                self._most, self._least = max(self._most, total), min(self._least, total)
                if number >= self._next:
                    self._next = (number // self._every + 1) * self._every
            self._pieces, self.from_begin, begin, before = [], True, end + 1, float(reached[end])
        if begin < turns:
            self._pieces.append(_piece(recorded_steps, begin, turns))
        self._return_before = float(reached[-1]) - before

    def saved(self) -> tuple[Frame | None, NumpyArray]:
        """The recorded steps of the episode at hand, None where there are none, and five numbers."""
        piece = None if not self._pieces else self._pieces[0] if len(self._pieces) == 1 else _together(self._pieces)
        return piece, np.array([self.from_begin, self._return_before, self._next, self._most, self._least], np.float64)

    def restore(self, piece: Any, more: Any) -> None:
        """Be what `saved` told."""
        self._pieces = [] if piece is None else [piece]
        self.from_begin, self._return_before, self._next = bool(more[0]), float(more[1]), int(more[2])
        self._most, self._least = float(more[3]), float(more[4])

    def pop_recorded(self) -> list[Recorded]:
        recorded, self._recorded = self._recorded, []
        return recorded

    def _joined(self, satisfied: int) -> RecordedEpisode:
        recorded_steps = self._pieces[0] if len(self._pieces) == 1 else _together(self._pieces)
        n = len(recorded_steps.numbers)
        states, after = recorded_steps.states.__dict__, recorded_steps.states_after.__dict__
        return RecordedEpisode(
            numbers=np.concatenate([recorded_steps.numbers, recorded_steps.numbers_after[-1:]]),
            images={
                name: np.concatenate([recorded_steps.images[name], recorded_steps.images_after[name][-1:]])
                for name in recorded_steps.images
            },
            actions=recorded_steps.actions,
            terms=np.stack(recorded_steps.terms, axis=-1) if recorded_steps.terms else np.zeros((n, 0), np.float32),
            measures=np.stack(recorded_steps.measures, axis=-1)
            if recorded_steps.measures
            else np.zeros((n, 0), np.float32),
            satisfied=satisfied,
            states={f.name: np.concatenate([states[f.name], after[f.name][-1:]]) for f in self._description.fields},
        )


def _piece(recorded_steps: Any, begin: int, end: int) -> Any:
    return jax.tree.map(lambda array: array[begin:end].copy(), recorded_steps)


def _together(pieces: list[Any]) -> Any:
    return jax.tree.map(lambda *arrays: np.concatenate(arrays), *pieces)
