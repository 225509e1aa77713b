"""Advantages and returns against numbers worked by hand and a plain loop over episodes."""

import jax.numpy as jnp
import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from jokulmist.learning.advantages import (
    discounted_sums,
    explained_variance,
    generalised_advantages,
    standardise,
)


def column(*values, kind=float):
    return jnp.asarray(np.array(values, kind)[:, None])


def test_an_ending_a_cut_and_a_border_by_hand():
    """Three decisions: the first ends its episode, the second is cut, the third goes on beyond the stretch."""
    result = generalised_advantages(
        rewards=column(1.0, 2.0, 3.0),
        ended=column(True, False, False, kind=bool),
        closed=column(True, True, False, kind=bool),
        values=column(0.5, 1.0, 2.0),
        values_after=column(9.0, 4.0, 6.0),  # 9 is of a true end and must not be looked at
        discount=0.5,
        trace_decay=0.5,
    )
    # 1 - 0.5;  2 + 0.5 * 4 - 1;  3 + 0.5 * 6 - 2
    assert np.asarray(result)[:, 0].tolist() == [0.5, 3.0, 4.0]


def test_traces_run_back_within_an_episode_and_no_further():
    result = generalised_advantages(
        column(0.0, 0.0, 8.0, 5.0),
        column(0, 0, 1, 0, kind=bool),
        column(0, 0, 1, 0, kind=bool),
        column(0.0, 0.0, 0.0, 0.0),
        column(0.0, 0.0, 0.0, 0.0),
        0.5,
        0.5,
    )
    assert np.asarray(result)[:, 0].tolist() == [0.5, 2.0, 8.0, 5.0]


@pytest.mark.slow
@settings(max_examples=15)
@given(
    st.integers(0, 2**32 - 1),
    st.integers(1, 9),
    st.integers(1, 3),
    st.sampled_from([0.0, 0.5, 1.0]),
    st.sampled_from([0.0, 0.7, 1.0]),
)
def test_against_a_plain_loop(seed, turns, copies, discount, decay):
    chance = np.random.default_rng(seed)
    rewards, values, after = chance.normal(size=(3, turns, copies)).astype(np.float32)
    closed = chance.random((turns, copies)) < 0.3
    ended = closed & (chance.random((turns, copies)) < 0.5)
    wanted = np.zeros((turns, copies))
    for c in range(copies):
        for t in range(turns):
            weight = 1.0
            for k in range(t, turns):
                next_value = 0.0 if ended[k, c] else after[k, c]
                wanted[t, c] += weight * (rewards[k, c] + discount * next_value - values[k, c])
                if closed[k, c]:
                    break
                weight *= discount * decay
    result = generalised_advantages(*map(jnp.asarray, (rewards, ended, closed, values, after)), discount, decay)
    assert np.allclose(result, wanted, atol=1e-4)
    if decay == 1.0:  # telescoped: the return, bootstrapped where the stretch ends or is cut, less the value
        tail = rewards + np.where(closed & ~ended, discount * after, 0.0)
        tail[-1] += np.where(closed[-1], 0.0, discount * after[-1])
        returns = discounted_sums(jnp.asarray(tail), jnp.where(jnp.asarray(closed), 0.0, discount))
        same = np.all(after[:-1] == values[1:]) or turns == 1
        assert not same or np.allclose(result, returns - values, atol=1e-4)


def test_normalising_leaves_alone_what_has_no_spread():
    assert np.allclose(standardise(jnp.asarray([1.0, 3.0])), [-1.0, 1.0])
    assert np.allclose(standardise(jnp.asarray([1.0, 1.01]), 0.02), [-0.25, 0.25])
    assert np.allclose(standardise(jnp.asarray([1.0, 3.0]), 0.02), [-1.0, 1.0])
    assert np.asarray(standardise(jnp.asarray([2.5]))).tolist() == [2.5]
    assert np.asarray(standardise(jnp.asarray([4.0, 4.0]))).tolist() == [4.0, 4.0]


@pytest.mark.parametrize(
    ("values", "wanted"), [([1.0, 2.0, 3.0], 1.0), ([2.0, 2.0, 2.0], 0.0), ([3.0, 2.0, 1.0], -3.0)]
)
def test_explained_variance(values, wanted):
    assert float(explained_variance(jnp.asarray(values), jnp.asarray([1.0, 2.0, 3.0]))) == pytest.approx(wanted)


def test_a_wrong_shape_is_an_error_and_no_silent_mean():
    with pytest.raises(AssertionError):
        generalised_advantages(*[jnp.zeros((3, 2))] * 4, jnp.zeros((3, 1)), 0.9, 0.9)
