"""The best that can be done, from transitions: backwards from the last decision, or by value iteration where there is
none."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

from jokulmist.arrays import NumpyArray
from jokulmist.errors import SettingError
from jokulmist.judging.solving.transitions import Transitions

SWEEPS, MOST_ROUNDS = 30, 20_000
TOLERANCE, TOLERANCE_UNDISCOUNTED = 1e-10, 1e-12
MOST_PAIRS = 50_000_000
TIES = 1e-9


@dataclass
class Best:
    """What is best at each moment.

    Attributes
    ----------
    starts : int array, shape ``(moments + 1,)``
        Where each moment's states begin in the arrays below; one moment where time does not matter.
    state, decision : int array, shape ``(pairs,)``
        A state, and the best of its decisions (its place in `Transitions`).
    value : float array, shape ``(pairs,)`` or ``(pairs, players)``
        What is still to come.
    rows, row_values : arrays, or empty
        Of all decisions, moment by moment, what each is worth; empty where that would be too much to keep.
    """

    starts: NumpyArray
    state: NumpyArray
    decision: NumpyArray
    value: NumpyArray
    rows: NumpyArray
    row_values: NumpyArray


def best_of(t: Transitions, horizon: int | None, discount: float) -> Best:
    """The best decisions."""
    if horizon is None and _without_circles(t):
        horizon = len(t.states)
    if horizon is None:
        if t.mover.max(initial=-1) >= 0:
            raise SettingError(
                "a game that may come back to where it was is solved backwards from its limit. Declare a `time_limit`."
            )
        return _iterated(t, discount)
    return _backwards(t, _layers(t, horizon), discount)


def _without_circles(t: Transitions) -> bool:
    """Whether no state can be met twice in an episode."""
    from scipy.sparse import csr_array
    from scipy.sparse.csgraph import connected_components

    successors = t.successors.tocoo()
    places = t.state[successors.row]
    if (places == successors.col).any():
        return False
    count = len(t.states)
    graph = csr_array((np.ones(len(places), bool), (places, successors.col)), shape=(count, count))
    return bool(connected_components(graph, directed=True, connection="strong")[0] == count)


def _layers(t: Transitions, horizon: int) -> list[NumpyArray]:
    """The states that can be met before each decision."""
    is_reached = t.first > 0.0
    layers, pairs = [], 0
    for _ in range(horizon):
        if not is_reached.any():
            break
        layers.append(np.flatnonzero(is_reached))
        pairs += len(layers[-1])
        if pairs > MOST_PAIRS:
            raise SettingError(
                f"there are more than {MOST_PAIRS:,} states and moments together. Use `limit=False`, which solves "
                "without looking at the time."
            )
        is_reached = np.bincount(_onward_of(t, is_reached[t.state]).indices, minlength=len(t.states)) > 0
    return layers


def _onward_of(t: Transitions, rows: NumpyArray) -> Any:
    return t.successors if rows.all() else t.successors[np.flatnonzero(rows)]


def _backwards(t: Transitions, layers: list[NumpyArray], discount: float) -> Best:
    """Bellman (1957): the last decision first."""
    value = np.zeros((len(t.states), *t.reward.shape[1:]))
    keep_rows = sum(map(len, layers)) * (len(t.state) / max(len(t.states), 1)) < MOST_PAIRS / 5
    decisions, values, rows, row_values = [], [], [], []
    for layer in reversed(layers):
        met = np.zeros(len(t.states), bool)
        met[layer] = True
        states_here = np.flatnonzero(met[t.state])
        worth = t.reward[states_here] + discount * (t.successors[states_here] @ value)
        best = _best_rows(t, states_here, worth)
        value = np.zeros_like(value)
        value[layer] = worth[best]
        decisions.append(states_here[best])
        values.append(value[layer])
        if keep_rows:
            rows.append(states_here)
            row_values.append(worth)
    starts = np.concatenate([[0], np.cumsum([len(layer) for layer in layers])])

    def joined(parts: list[NumpyArray]) -> NumpyArray:
        return np.concatenate(parts[::-1]) if parts else np.zeros(0, int)

    return Best(starts, np.concatenate(layers), joined(decisions), joined(values), joined(rows), joined(row_values))


def _best_rows(t: Transitions, states_here: NumpyArray, worth: NumpyArray) -> NumpyArray:
    """Of decisions that are ordered by state, the first of the best of each: best for whoever decides."""
    own_worth = worth if worth.ndim == 1 else worth[np.arange(len(states_here)), t.mover[states_here]]
    begins = np.flatnonzero(np.diff(t.state[states_here], prepend=-1))
    best = np.maximum.reduceat(own_worth, begins)
    sizes = np.diff(np.append(begins, len(states_here)))
    slack = TIES * np.maximum(1.0, np.abs(best))
    good = np.flatnonzero(own_worth >= np.repeat(best - slack, sizes))  # what differs by rounding alone is equal
    rows: NumpyArray = good[np.unique(np.repeat(np.arange(len(begins)), sizes)[good], return_index=True)[1]]
    return rows


def _iterated(t: Transitions, discount: float) -> Best:
    """Value iteration, with sweeps at the policy that is the best so far between two rounds (Puterman and Shin,
    1978)."""
    every = np.arange(len(t.state))
    value = np.zeros(len(t.states))
    for _ in range(MOST_ROUNDS):
        worth = t.reward + discount * (t.successors @ value)
        best = _best_rows(t, every, worth)
        new = worth[best]
        scale = max(1.0, float(np.abs(new).max(initial=0.0)))
        moved = float(np.abs(new - value).max(initial=0.0))
        value = new
        factor = discount / (1.0 - discount) if discount < 1.0 else 1.0
        if moved * factor <= (TOLERANCE if discount < 1.0 else TOLERANCE_UNDISCOUNTED) * scale:
            return Best(np.array([0, len(t.states)]), np.arange(len(t.states)), best, value, every, worth)
        reward, successors = t.reward[best], t.successors[best]
        for _ in range(SWEEPS):
            value = reward + discount * (successors @ value)
    raise SettingError(
        f"values did not settle in {MOST_ROUNDS * SWEEPS:,} sweeps: without a limit an episode may go on for ever. "
        "Give a `discount` below 1, or declare a `time_limit`."
    )
