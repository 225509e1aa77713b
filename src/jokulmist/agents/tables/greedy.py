"""Choosing by values: mostly the best, sometimes any. Written once, over plain numbers or arrays with one entry a
copy."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from jokulmist.agents.tables.cells import FORBIDDEN, Ops


def action_probabilities(row: Sequence[Any], exploration: Any, ops: Ops) -> list[Any]:
    """Probability of each action: with chance `exploration` any, else one of the best, ties shared evenly.

    (Sutton and Barto, 2018, section 2.2.) Where rows are masked, an entry that is `FORBIDDEN` has none.
    """
    best = ops.best(row)
    among_best = [value == best for value in row]
    best_action = (1.0 - exploration) / sum(among_best)
    if ops.masked:
        allowed = [value > FORBIDDEN for value in row]
        share = exploration / sum(allowed)
        return [share * able + best_action * is_best for able, is_best in zip(allowed, among_best, strict=True)]
    any_action = exploration / len(row)
    return [any_action + best_action * is_best for is_best in among_best]


def draw_index(probabilities: Sequence[Any], u: Any) -> Any:
    """The action that a uniform number picks.

    The probabilities may sum up to a little less than 1: an action without a chance is not drawn all the same.
    """
    reach: Any = 0.0
    action = 0 * (u >= 0.0) if len(probabilities) == 1 else 0
    if isinstance(u, float):  # plain numbers
        for probability in probabilities[:-1]:
            reach += probability
            if u < reach:
                break
            action += 1
        if not probabilities[action]:
            action = max(k for k, probability in enumerate(probabilities) if probability)
        return action
    left: list[Any] = [0.0] * len(probabilities)  # what the actions after each have together
    for k in range(len(probabilities) - 1, 0, -1):
        left[k - 1] = left[k] + probabilities[k]
    for k, probability in enumerate(probabilities[:-1]):
        reach = reach + probability
        action = action + ((u >= reach) & (left[k] > 0.0))
    return action


def expectation(row: Sequence[Any], probabilities: Sequence[Any]) -> Any:
    """The mean value of a row under the probabilities of its actions."""
    total = row[0] * probabilities[0]
    for value, probability in zip(row[1:], probabilities[1:], strict=True):
        total = total + value * probability
    return total
