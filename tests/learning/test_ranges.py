"""Actions that are numbers: densities and entropies against SciPy and numerical integration, units, noise, rewards in
scale."""

import jax
import jax.numpy as jnp
import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy import integrate, special, stats

import jokulmist as jm
from jokulmist.agents.contract import Experience
from jokulmist.agents.critics.ddpg import drifted
from jokulmist.environments.chance.draws import RowDraw
from jokulmist.environments.spaces.actions import Record
from jokulmist.errors import SettingError
from jokulmist.learning.action_distributions import ActionDistribution, SampledRanges
from jokulmist.learning.gaussians import Units, log_slope, ranges_of, refuse_unbounded
from jokulmist.learning.observation_scaling import fresh_running
from jokulmist.learning.reward_scaling import followed, in_scale, spread_of

SLIDE = jm.Range(-1.0, 1.0)
MIXED = jm.Actions(gate=jm.Choice(3), flow=jm.Range([0.0, -4.0], [10.0, 4.0], shape=2), tilt=jm.Range(-30.0, 90.0))


def test_a_mixture_of_parts_has_the_sum_of_their_log_probabilities_and_entropies():
    chance = np.random.default_rng(0)
    outputs = chance.normal(size=(5, 9)).astype(np.float32)
    before = chance.normal(size=(5, 3)).astype(np.float32)
    gate = np.array([0, 1, 2, 1, 0])
    actions = Record(gate=jnp.array(gate), flow=None, tilt=None)
    likelihood = ActionDistribution(MIXED).likelihood(jnp.asarray(outputs), (), actions, SampledRanges(before, ()))
    mean, sd = outputs[:, 3:6], np.exp(outputs[:, 6:].clip(-5, 1))
    logs = special.log_softmax(outputs[:, :3], axis=1)
    wanted = logs[np.arange(5), gate] + stats.norm.logpdf(before, mean, sd).sum(axis=1)
    assert np.allclose(likelihood.log_probability, wanted, atol=1e-4)
    wanted = stats.entropy(np.exp(logs), axis=1) + stats.norm.entropy(mean, sd).sum(axis=1)
    assert np.allclose(likelihood.entropy, wanted, atol=1e-4)


@pytest.mark.slow
@pytest.mark.parametrize(("mean", "log_spread"), [(0.0, -1.0), (0.7, 0.3), (-1.5, -2.0), (2.0, 1.0)])
def test_a_squashed_gaussian_is_a_density_whose_entropy_is_estimated_without_bias(mean, log_spread):
    acting, sd = ActionDistribution(SLIDE, "squashed"), np.exp(log_spread)
    outputs = jnp.array([[mean, log_spread]])

    def log_density(action):
        u = np.arctanh(action)
        return float(
            acting.likelihood(outputs, (), None, SampledRanges(jnp.array([[u]]), jnp.zeros((1, 1)))).log_probability[0]
        )

    def slow(action):  # the change of variables as it is written in books
        return np.exp(stats.norm.logpdf(np.arctanh(action), mean, sd)) / (1.0 - action**2)

    for action in (-0.9, -0.2, 0.0, 0.5, 0.99):
        assert np.exp(log_density(action)) == pytest.approx(slow(action), rel=1e-3)
    edge = 1.0 - 1e-12
    points = [float(np.tanh(mean + k * sd)) for k in (-3, -1, 0, 1, 3)]
    assert integrate.quad(slow, -edge, edge, points=points, limit=400)[0] == pytest.approx(1.0, abs=1e-3)

    def entropy(mean, log_spread):
        def inside(u):
            slope = 2 * (np.log(2) - u - np.logaddexp(0, -2 * u))
            log_p = stats.norm.logpdf(u, mean, np.exp(log_spread)) - slope
            return -np.exp(stats.norm.logpdf(u, mean, np.exp(log_spread))) * log_p

        reach = 10 * np.exp(log_spread)
        return integrate.quad(inside, mean - reach, mean + reach, limit=400)[0]

    normal = stats.norm.ppf((np.arange(20_000) + 0.5) / 20_000)[:, None].astype(np.float32)

    def estimated(pair):
        rows = jnp.broadcast_to(pair, (len(normal), 2))
        return jnp.mean(acting.likelihood(rows, (), None, SampledRanges(jnp.zeros_like(normal), normal)).entropy)

    assert float(estimated(outputs[0])) == pytest.approx(entropy(mean, log_spread), abs=5e-3)
    slopes = jax.grad(estimated)(outputs[0])
    step = 1e-3
    assert float(slopes[0]) == pytest.approx(
        (entropy(mean + step, log_spread) - entropy(mean - step, log_spread)) / (2 * step), abs=1e-2
    )
    if log_spread < 1.0:  # the spread's own bound
        assert float(slopes[1]) == pytest.approx(
            (entropy(mean, log_spread + step) - entropy(mean, log_spread - step)) / (2 * step), abs=1e-2
        )


def test_the_slope_of_squashing_holds_far_out():
    u = np.array([-40.0, -9.0, 0.0, 1.0, 30.0], np.float32)
    wanted = -2.0 * np.log(np.cosh(u.astype(np.float64)))
    assert np.allclose(log_slope(jnp.asarray(u)), wanted, rtol=1e-5, atol=1e-6)
    assert np.isfinite(jax.vmap(jax.grad(log_slope))(jnp.asarray(u))).all()


@given(st.lists(st.floats(-1e6, 1e6, width=32), min_size=3, max_size=3), st.sampled_from(["clipped", "squashed"]))
def test_no_output_leads_out_of_the_bounds(means, at_bounds):
    acting = ActionDistribution(MIXED, at_bounds)
    outputs = np.array([[0.0, 0.0, 0.0, *means, 1.0, 1.0, 1.0]], np.float32)
    draw = RowDraw(np, [np.full(3, 0.5, np.float32), np.array([3.0, -3.0, 9.0], np.float32)], 1.0)
    for action in (acting.sampled(outputs, (), draw)[0], acting.likeliest(outputs, (), np)):
        assert np.all(action.flow >= MIXED.flow.low)
        assert np.all(action.flow <= MIXED.flow.high)
        assert np.all(action.tilt >= -30.0)
        assert np.all(action.tilt <= 90.0)


def test_numbers_come_from_the_middle_of_their_bounds():
    units = Units(ranges_of(MIXED))
    flow, tilt = units.native(np.array([[0.0, 0.5, -1.0], [2.0, -2.0, 1.0]], np.float32))
    assert flow.tolist() == [[5.0, 2.0], [10.0, -4.0]]
    assert tilt.tolist() == [-30.0, 90.0]
    assert MIXED.flow.encoded(flow[0]).tolist() == [0.0, 0.5]
    # Without two bounds a number keeps its unit.
    open_ended = jm.Range([-np.inf, 2.0], [np.inf, np.inf], shape=2)
    assert Units({"": open_ended}).native(np.array([3.0, -1.0]))[0].tolist() == [3.0, 2.0]
    with pytest.raises(SettingError, match=r"`X` needs finite bounds, and the action is Range\(\[-inf, 2.0\].*Mend\."):
        refuse_unbounded(open_ended, "X", "Mend.")


def test_spreads_stand_everywhere_or_depend_on_what_is_seen():
    acting, log_spread = ActionDistribution(SLIDE), jnp.array([-1.0])
    assert acting.completed(jnp.array([[0.3]]), log_spread)[0].tolist() == pytest.approx([0.3, -1.0])
    assert acting.completed(jnp.array([[0.3, 0.2]]), log_spread)[0].tolist() == pytest.approx([0.3, -0.8])
    assert acting.gaussians(jnp.array([[0.0, -90.0]]))[1].tolist() == [[-5.0]]


def test_drifting_noise_settles_at_its_spread_and_begins_anew_with_each_episode():
    chance, noise, theta, sigma = np.random.default_rng(1), np.zeros((4000, 1)), 0.15, 0.2
    for turn in range(60):
        before = noise
        noise = drifted(np, noise, np.full(4000, turn), theta) + sigma * chance.normal(size=noise.shape)
    wanted = sigma / np.sqrt(1.0 - (1.0 - theta) ** 2)
    assert noise.std() == pytest.approx(wanted, rel=0.05)
    assert np.corrcoef(noise[:, 0], before[:, 0])[0, 1] == pytest.approx(1.0 - theta, abs=0.03)
    ages = np.where(np.arange(4000) % 2 == 0, 0, 60)
    left = drifted(np, noise, ages, theta)
    assert np.all(left[::2] == 0.0)
    assert np.allclose(left[1::2], 0.85 * noise[1::2])


def test_rewards_are_divided_by_the_spread_of_returns_that_never_cross_an_end():
    chance = np.random.default_rng(2)
    rewards = (3.0 + chance.normal(size=(40, 3))).astype(np.float32)
    closed = chance.random((40, 3)) < 0.2
    open_now, wanted = np.array([1.0, 0.0, -2.0]), np.zeros((40, 3))
    for t in range(40):
        open_now = rewards[t] + 0.9 * open_now
        wanted[t] = open_now
        open_now = np.where(closed[t], 0.0, open_now)
    returns, after = followed(jnp.array([1.0, 0.0, -2.0]), jnp.asarray(rewards), jnp.asarray(closed), 0.9)
    assert np.allclose(returns, wanted, atol=1e-4)
    assert np.allclose(after, open_now, atol=1e-4)
    e = Experience(None, None, jnp.asarray(rewards), None, jnp.asarray(closed), None, None, None)
    scaled, running, _ = in_scale(e, fresh_running(1), jnp.array([1.0, 0.0, -2.0]), 0.9)
    assert np.allclose(scaled.rewards, rewards / wanted.std(), rtol=1e-4)  # divided, not centred
    assert float(spread_of(running)) == pytest.approx(wanted.std(), rel=1e-4)
    assert spread_of(None) == 1.0
    assert float(spread_of(fresh_running(1))) == 1.0
