"""Draws have the distributions they say, are the same plain and traced, and depend on nothing but their place."""

import jax
import jax.numpy as jnp
import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as hyp
from scipy import stats

from jokulmist.environments.chance.draws import CountingDraw, PlainDraw, RowDraw, normal_quantile
from jokulmist.environments.chance.noise import Domain, Noise, Stream
from jokulmist.errors import NoiseError

MANY = 40_000


def drawn(ask, count=MANY):
    """Many draws at once, traced: the same base noise as a plain draw of turn 0 with `shape=count`."""
    counting = CountingDraw(jnp)
    ask(counting, count)
    noise = Noise(5, 1, Domain.HAND)
    rows = [
        jnp.asarray(noise.rows(Stream.ADVANCE, k, r.kind, r.width, 0, 1)[0, 0]) for k, r in enumerate(counting.requests)
    ]
    return np.asarray(ask(RowDraw(jnp, rows, jnp.float32(1.0)), count))


def plainly(ask, count=MANY):
    return np.asarray(ask(PlainDraw(Noise(5, 1, Domain.HAND), Stream.ADVANCE).for_step(0, 0), count))


CONTINUOUS = {
    "uniform": (lambda d, n: d.uniform(-1.0, 3.0, shape=n), stats.uniform(-1, 4)),
    "normal": (lambda d, n: d.normal(2.0, 0.5, shape=n), stats.norm(2, 0.5)),
    "exponential": (lambda d, n: d.exponential(2.0, shape=n), stats.expon(scale=2)),
    "lognormal": (lambda d, n: d.lognormal(0.3, 0.4, shape=n), stats.lognorm(0.4, scale=np.exp(0.3))),
    "gamma": (lambda d, n: d.gamma(2.5, 1.5, shape=n), stats.gamma(2.5, scale=1.5)),
    "gamma below 1": (lambda d, n: d.gamma(0.4, shape=n), stats.gamma(0.4)),
    "beta": (lambda d, n: d.beta(2.0, 5.0, shape=n), stats.beta(2, 5)),
}
COUNTS = {
    "integers": (lambda d, n: d.integers(3, 9, shape=n), stats.randint(3, 9), 1e-6),
    "poisson 0.1": (lambda d, n: d.poisson(0.1, shape=n), stats.poisson(0.1), 1e-5),
    "poisson 7": (lambda d, n: d.poisson(7.0, shape=n), stats.poisson(7), 1e-5),
    "poisson 12": (lambda d, n: d.poisson(12.0, shape=n), stats.poisson(12), 1e-5),
    "poisson 13": (lambda d, n: d.poisson(13.0, shape=n), stats.poisson(13), 2e-3),
    "poisson 90": (lambda d, n: d.poisson(90.0, shape=n), stats.poisson(90), 2e-3),
    "binomial 9": (lambda d, n: d.binomial(9, 0.3, shape=n), stats.binom(9, 0.3), 1e-5),
    "binomial flipped": (lambda d, n: d.binomial(20, 0.8, shape=n), stats.binom(20, 0.8), 1e-5),
    "binomial 200": (lambda d, n: d.binomial(200, 0.4, shape=n), stats.binom(200, 0.4), 2e-3),
    "bernoulli": (lambda d, n: d.bernoulli(0.3, shape=n), stats.bernoulli(0.3), 1e-6),
    "pick": (
        lambda d, n: d.pick(4, weights=[1, 0, 2, 1], shape=n),
        stats.rv_discrete(values=([0, 2, 3], [0.25, 0.5, 0.25])),
        1e-5,
    ),
}


@pytest.mark.slow
@pytest.mark.parametrize("name", CONTINUOUS)
def test_continuous_draws_follow_their_distribution_both_ways(name):
    call, distribution = CONTINUOUS[name]
    traced = drawn(call)
    assert stats.kstest(traced, distribution.cdf).pvalue > 1e-3
    np.testing.assert_allclose(plainly(call), traced, rtol=2e-4, atol=2e-5)


class Even(RowDraw):
    """Base noise that is not random: an even grid of uniform numbers, so that a distribution function can be read
    off."""

    def _take(self, kind, shape):
        return (jnp.arange(shape[0], dtype=jnp.float32) + 0.5) / shape[0]


@pytest.mark.slow
@pytest.mark.parametrize("name", COUNTS)
def test_counts_invert_the_distribution_function_within_the_stated_error(name):
    call, distribution, error = COUNTS[name]
    size = 1 << 16
    result = np.asarray(call(Even(jnp, [], jnp.float32(1.0)), size)).astype(int)
    values = np.arange(result.min(), result.max() + 1)
    share = np.array([(result <= value).mean() for value in values])
    assert np.abs(share - distribution.cdf(values)).max() < error + 1.5 / size
    assert (plainly(call) == drawn(call)).mean() > 0.999  # rounding may tip one count in a thousand


def test_single_plain_numbers_are_python_numbers_and_equal_the_arrays():
    for call, kind in (
        (lambda d, n: d.uniform(), float),
        (lambda d, n: d.normal(), float),
        (lambda d, n: d.poisson(3.0), int),
        (lambda d, n: d.integers(0, 5), int),
        (lambda d, n: d.binomial(5, 0.5), int),
        (lambda d, n: d.pick(["a", "b"]), str),
    ):
        assert type(call(PlainDraw(Noise(5, 1, Domain.HAND), Stream.ADVANCE).for_step(7, 0), 1)) is kind
    draw = PlainDraw(Noise(5, 1, Domain.HAND), Stream.ADVANCE)
    single = [draw.for_step(turn, 0).poisson(4.0) for turn in range(50)]
    noise = Noise(5, 1, Domain.HAND).rows(Stream.ADVANCE, 0, "uniform", 1, 0, 50)[:, 0, 0]
    assert single == stats.poisson.ppf(noise.astype(float), 4.0).astype(int).tolist()


def test_a_permutation_holds_each_number_once():
    draw = PlainDraw(Noise(1, 1, Domain.HAND), Stream.ADVANCE)
    orders = [tuple(draw.for_step(turn, 0).permutation(4)) for turn in range(200)]
    assert all(sorted(order) == [0, 1, 2, 3] for order in orders)
    assert len(set(orders)) == 24


@pytest.mark.parametrize(
    ("ask", "message"),
    [
        (lambda d: d.integers(3, 3), "`high` must exceed `low`"),
        (lambda d: d.poisson(-1.0), "mean of at least 0"),
        (lambda d: d.poisson(float("nan")), "mean of at least 0"),
        (lambda d: d.binomial(3, 1.5), r"a probability in \[0, 1\]"),
        (lambda d: d.pick([]), "at least one item"),
        (lambda d: d.pick([1, 2], weights=[1.0]), "one weight an item"),
    ],
)
def test_a_draw_without_a_distribution_is_refused(ask, message):
    with pytest.raises(NoiseError, match=message):
        ask(PlainDraw(Noise(0, 1, Domain.HAND), Stream.ADVANCE).for_step(0, 0))


@settings(max_examples=30)
@given(
    hyp.integers(0, 2**63 - 1), hyp.integers(1, 70), hyp.integers(1, 9), hyp.integers(0, 40_000), hyp.integers(1, 300)
)
def test_noise_is_the_same_in_whatever_pieces_it_is_asked_for(seed, copies, width, start, count):
    noise = Noise(seed, copies, Domain.TRAINING)
    complete = noise.rows(Stream.SENSE, 2, "normal", width, start, count)
    cut = count // 3
    parts = [
        noise.rows(Stream.SENSE, 2, "normal", width, start + a, b - a) for a, b in ((0, cut), (cut, count)) if b > a
    ]
    assert np.array_equal(complete, np.concatenate(parts))
    assert complete.shape == (count, copies, width)


def test_seeds_streams_domains_requests_and_owners_share_nothing():
    def rows(seed=0, domain=Domain.TRAINING, stream=Stream.ADVANCE, request=0, owner=None):
        noise = Noise(seed, 1, domain, None if owner is None else (owner,))
        return tuple(noise.rows(stream, request, "uniform", 1, 0, 50).ravel().tolist())

    kinds = [
        rows(),
        rows(seed=1),
        rows(domain=Domain.EVALUATION),
        rows(domain=Domain.HAND),
        rows(domain=Domain.CHECK),
        rows(stream=Stream.BEGIN),
        rows(request=1),
        rows(owner=3),
    ]
    assert len(set(kinds)) == len(kinds)
    two = Noise(0, 2, Domain.EVALUATION, (7, 3)).rows(Stream.ADVANCE, 0, "uniform", 1, 0, 600)
    alone = Noise(0, 1, Domain.EVALUATION, (3,)).rows(Stream.ADVANCE, 0, "uniform", 1, 0, 600)
    assert np.array_equal(two[:, 1], alone[:, 0])


def test_the_normal_quantile():
    u = np.linspace(1e-6, 1.0 - 1e-6, 2001)
    np.testing.assert_allclose(normal_quantile(np, u), stats.norm.ppf(u), rtol=3e-6, atol=1e-7)


@pytest.mark.slow
def test_the_largest_and_smallest_uniforms_give_counts_that_can_be():
    """Sums in single precision stall below 1; a draw then must not count on to its last term."""
    edges = np.array([0.0, 2.0**-24, 0.5, 1.0 - 2.0**-24], np.float32)

    def of(ask):
        return np.asarray(ask(RowDraw(jnp, [jnp.asarray(edges)], jnp.float32(1.0))))

    assert of(lambda d: d.poisson(0.001, shape=4)).max() <= 2
    assert of(lambda d: d.poisson(0.0, shape=4)).tolist() == [0] * 4
    assert of(lambda d: d.binomial(10, 1.0, shape=4)).tolist() == [10] * 4
    assert of(lambda d: d.binomial(10, 0.0, shape=4)).tolist() == [0] * 4


@pytest.mark.slow
def test_a_beta_number_with_small_parameters_is_a_number():
    def ask(draw):
        return draw.beta(0.05, 0.05, shape=20_000)

    counting = CountingDraw(jnp)
    jax.eval_shape(lambda: ask(counting))
    chance = np.random.default_rng(3)
    make = {
        "uniform": lambda n: chance.random(n, np.float32),
        "normal": lambda n: chance.standard_normal(n, np.float32),
    }
    values = np.asarray(
        ask(RowDraw(jnp, [jnp.asarray(make[r.kind](r.width)) for r in counting.requests], jnp.float32(1.0)))
    )
    assert np.isfinite(values).all()
    assert abs(values.mean() - 0.5) < 0.02
    assert ((values < 0.1) | (values > 0.9)).mean() > 0.75  # nearly all near an end
