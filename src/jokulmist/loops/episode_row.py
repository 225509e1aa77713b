"""The row that a compiled turn writes for each copy, and from which the host reads the episodes that closed.

Rows are float32, shape ``(columns, copies)``. Whole numbers are in them bit by bit, so that they are exact.
"""

from __future__ import annotations

import itertools
from typing import Any

import numpy as np

from jokulmist.arrays import Array
from jokulmist.environments.declaration.description import Description
from jokulmist.records.episodes import Episodes

SATISFIED, STEPS = 0, 1


class EpisodeRow:
    """The columns of a row: closings as bits, decisions, terms, measures, varied parameters, records of the agent, the
    return that is learned from where rewards are modified, and advances where decisions are held."""

    def __init__(self, description: Description, records: int) -> None:
        self.has_learned = bool(description.reward_pipeline.modifiers)
        self.has_advances = description.holds
        counts = (len(description.terms), len(description.measures), len(description.varied), records)
        ends = (2 + np.cumsum((0, *counts))).tolist()
        self._parts = [slice(*pair) for pair in itertools.pairwise(ends)]
        self.width = ends[-1] + self.has_learned + self.has_advances

    def pack(self, satisfied: Array, steps: Array, numbers: list[Any], learned: Any, advances: Array) -> Array:
        """The row of a turn, traced; `numbers` are terms, measures, parameters and records in the order of the
        columns."""
        import jax.numpy as jnp
        from jax import lax

        def bits(value: Array) -> Array:
            return lax.bitcast_convert_type(value.astype(jnp.int32), jnp.float32)

        columns = [bits(satisfied), bits(steps), *(value.astype(jnp.float32) for value in numbers)]
        if self.has_learned:
            columns.append(learned.astype(jnp.float32))
        if self.has_advances:
            columns.append(bits(advances))
        return jnp.stack(columns)

    def satisfied(self, rows: Any, copy: Any = slice(None)) -> Any:
        """The closings that held, as bits, int32; `rows` has shape ``(turns, columns, copies)``."""
        return np.ascontiguousarray(np.asarray(rows)[:, SATISFIED, copy]).view(np.int32)

    def episodes(self, rows: Any, turns: int, first_turn: int) -> Episodes:
        """The episodes that closed in the rows of some turns; `first_turn` were over before."""
        rows = np.asarray(rows)[:turns]
        turn, copy = np.nonzero(self.satisfied(rows))
        closed = np.ascontiguousarray(rows[turn, :, copy])  # a copy: the buffer of a chunk is handed on
        whole_numbers = closed.view(np.int32)
        totals, measures, varied, records = (closed[:, part] for part in self._parts)
        return Episodes(
            decisions=(first_turn + turn + 1) * rows.shape[2],
            copy=copy,
            steps=whole_numbers[:, STEPS].astype(np.int64),
            satisfied=whole_numbers[:, SATISFIED].astype(np.int64),
            totals=totals,
            measures=measures,
            varied=varied,
            agent_records=records,
            learned=closed[:, self._parts[-1].stop] if self.has_learned else np.zeros(len(closed), np.float32),
            advances=whole_numbers[:, -1 if self.has_advances else STEPS].astype(np.int64),
        )
