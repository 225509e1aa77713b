"""Q-learning on a table."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from jokulmist.agents.tables.cells import Ops
from jokulmist.agents.tables.table import TableAgent


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

    @classmethod
    def ahead(cls, row: Sequence[Any], exploration: Any, upcoming: Any, closed: Any, ops: Ops) -> Any:
        return ops.best(row)
