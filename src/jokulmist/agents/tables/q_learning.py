"""Q-learning on a table."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any, ClassVar

import numpy as np

from jokulmist.agents.contract import Numbers
from jokulmist.agents.tables.cells import Ops, array_ops
from jokulmist.agents.tables.table import Table, TableAgent

NOT_RECORDED = -1e9


class QLearning(TableAgent):
    """Q-learning: the target is the best value of what follows, whatever is done next.

    Q(s, a) += learning_rate (r + discount max_b Q(s', b) - Q(s, a))

    Watkins (1989), "Learning from delayed rewards"; Sutton and Barto (2018), equation 6.8.

    See `TableAgent` for the settings. Differs from the book: ties are broken at random; where several copies meet in
    one entry in one turn, the mean of their errors is applied. Fails when the channels have many bins together, and
    overestimates where rewards are noisy.

    Examples
    --------
    >>> QLearning(bins=20, exploration=0.1)
    QLearning(exploration=0.1, bins=20)
    """

    traces: ClassVar[str] = "watkins"
    record_readings: ClassVar[tuple[str, ...]] = ("moved", "recorded")

    @staticmethod
    def taught(shapes: Any, numbers: Numbers, learner: Table, rows: Any) -> Table:
        """The learner before its first sweep over records: the value of what was not recorded is so low that nothing chooses it."""
        return Table(np.full_like(learner.values, NOT_RECORDED))

    @staticmethod
    def learn_rows(
        shapes: Any, numbers: Numbers, learner: Table, rows: Any, noise: Any
    ) -> tuple[Table, tuple[()], tuple[Any, ...]]:
        """One sweep of fitted Q over all records (Ernst, Geurts and Wehenkel, 2005): each entry becomes the mean of its targets.

        Of what follows the best action is taken that was recorded there; where none was, what follows counts nothing.
        """
        import jax.numpy as jnp

        ops = array_ops()
        cell = shapes.grid.place(list(rows.observed.numbers.T), ops)[0]
        after = shapes.grid.place(list(rows.last.numbers.T), ops)[0]
        ahead = jnp.max(learner.values[after], axis=1)
        ahead = jnp.where(rows.ended | (ahead <= NOT_RECORDED / 2), 0.0, ahead)
        wanted = rows.rewards + numbers.discount * ahead
        entry = cell * shapes.actions + rows.actions
        sums = (
            jnp.zeros((2, learner.values.size), jnp.float32)
            .at[:, entry]
            .add(jnp.stack([wanted, jnp.ones_like(wanted)]))
        )
        values = jnp.where(sums[1] > 0.0, sums[0] / jnp.maximum(sums[1], 1.0), NOT_RECORDED).reshape(
            learner.values.shape
        )
        seen = values > NOT_RECORDED / 2
        was = jnp.where(learner.values > NOT_RECORDED / 2, learner.values, 0.0)
        moved = jnp.sum(jnp.where(seen, jnp.abs(values - was), 0.0)) / jnp.maximum(jnp.sum(seen), 1)
        return Table(values), (), (moved, jnp.mean(1.0 * seen))

    @classmethod
    def ahead(cls, row: Sequence[Any], exploration: Any, upcoming: Any, closed: Any, ops: Ops) -> Any:
        return ops.best(row)
