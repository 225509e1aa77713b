"""Sarsa and expected Sarsa on a table."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any, ClassVar

from jokulmist.agents.tables.cells import Ops
from jokulmist.agents.tables.greedy import action_probabilities, expectation
from jokulmist.agents.tables.table import TableAgent


class Sarsa(TableAgent):
    """Sarsa: the target is the value of the action that is really taken next.

    Q(s, a) += learning_rate (r + discount Q(s', a') - Q(s, a))

    Rummery and Niranjan (1994); Sutton and Barto (2018), equation 6.7.

    The next action is drawn once and then taken. At a cut no next action is taken, and the expectation under the
    policy is in. Differs from the book as `QLearning` does. Fails when
    exploration stays high: it learns the value of exploring. What it learned while exploration was high also fades
    slowly in long episodes, one decision further back at a time, and what looked best then is taken for good. Where
    that is so (on the tarn it costs 15 %) begin with high values and explore less:
    ``Sarsa(initial_value=100, exploration=jm.linear(0.3, 0.02, over=0.5))``, or use `QLearning`.

    Examples
    --------
    >>> import jokulmist as jm
    >>> jm.Sarsa(bins=8, exploration=jm.linear(0.5, 0.05, over=0.5))
    Sarsa(exploration=linear(0.5, 0.05, over=0.5), bins=8)
    >>> jm.train(jm.gallery.Tarn(), jm.Sarsa(bins=8), steps=500, lane="plain", folder=None).status
    'done'
    """

    draws_needed: ClassVar[bool] = True
    traces: ClassVar[str] = "true online"

    @classmethod
    def next_value(cls, row: Sequence[Any], exploration: Any, upcoming: Any, closed: Any, ops: Ops) -> Any:
        if ops.best is max:  # plain numbers: index the row, and spare the expectation where nothing was cut
            return expectation(row, action_probabilities(row, exploration, ops)) if closed else row[upcoming]
        value_of_action = row[0]
        for k, value in enumerate(row[1:], start=1):
            value_of_action = ops.select(upcoming == k, value, value_of_action)
        return ops.select(closed, expectation(row, action_probabilities(row, exploration, ops)), value_of_action)


class ExpectedSarsa(TableAgent):
    """Expected Sarsa: the target is the mean value of what follows under the policy.

    Q(s, a) += learning_rate (r + discount sum_b p(b | s') Q(s', b) - Q(s, a))

    Van Seijen et al. (2009); Sutton and Barto (2018), equation 6.9. Differs from
    the book as `QLearning` does. Fails when the channels have many bins together.

    Examples
    --------
    >>> import jokulmist as jm
    >>> jm.ExpectedSarsa(bins=8, exploration=jm.linear(0.5, 0.05, over=0.5))
    ExpectedSarsa(exploration=linear(0.5, 0.05, over=0.5), bins=8)
    >>> jm.train(jm.gallery.Tarn(), jm.ExpectedSarsa(bins=8), steps=500, lane="plain", folder=None).status
    'done'
    """

    @classmethod
    def next_value(cls, row: Sequence[Any], exploration: Any, upcoming: Any, closed: Any, ops: Ops) -> Any:
        return expectation(row, action_probabilities(row, exploration, ops))
