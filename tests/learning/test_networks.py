"""Networks against NumPy and the compiler's own convolution; scaling against NumPy; features against their
definition."""

import equinox as eqx
import jax
import jax.numpy as jnp
import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import jokulmist as jm
from jokulmist.environments.spaces.channels import Channel, Spec
from jokulmist.errors import SettingError
from jokulmist.learning.features import Features
from jokulmist.learning.networks.inputs import Inputs, apply_network
from jokulmist.learning.networks.layout import Layout, build_network, usual_network
from jokulmist.learning.networks.modules import gathered as patches
from jokulmist.learning.networks.modules import product
from jokulmist.learning.observation_scaling import Running, fresh_statistics, gathered, scaled
from jokulmist.learning.optimisation import descend, first_moments, huber

NUMBERS = Spec((Channel("a", 0.0, 10.0), Channel("b", -np.inf, np.inf, shape=(2,))), jm.Choice(3))
SIGHTS = Spec((Channel("a", 0.0, 10.0), Channel("eye", 0, 255, shape=(9, 11, 2), image=True)), jm.Choice(3))


@pytest.mark.slow
@pytest.mark.parametrize("start", ["orthogonal", "uniform"])
def test_a_dense_network_is_what_numpy_makes_of_its_weights(start):
    module = build_network(jm.Dense(5, 4, start=start), NUMBERS, 2, seed=1, gain=0.01)
    layout = Layout(jm.Dense(5, 4), lambda: module)
    weights = layout.initial_weights()
    rows = np.random.default_rng(0).normal(size=(7, 3)).astype(np.float32)
    x = rows
    for layer in module.layers[:-1]:
        x = np.maximum(x @ layer.weight + layer.bias, 0.0)
    wanted = x @ module.layers[-1].weight + module.layers[-1].bias
    assert np.allclose(
        apply_network(layout.module(jnp.asarray(weights)), Inputs(jnp.asarray(rows), {})), wanted, atol=1e-5
    )
    assert np.allclose(layout.through_numpy(weights, rows, "relu"), wanted, atol=1e-5)
    assert layout.size == 3 * 5 + 5 + 5 * 4 + 4 + 4 * 2 + 2
    if start == "orthogonal":
        assert np.allclose(module.layers[0].weight @ module.layers[0].weight.T, 2.0 * np.eye(3), atol=1e-5)


@pytest.mark.parametrize(("size", "stride"), [(4, 4), (3, 2), (2, 1)])
def test_patches_and_a_product_are_a_convolution(size, stride):
    chance = np.random.default_rng(2)
    images = chance.normal(size=(3, 9, 11, 2)).astype(np.float32)
    weight = chance.normal(size=(size, size, 2, 5)).astype(np.float32)
    numbers = ("NHWC", "HWIO", "NHWC")
    missing = [(-(side - size)) % stride for side in images.shape[1:3]]
    surroundings = [(pixels // 2, pixels - pixels // 2) for pixels in missing]
    wanted = jax.lax.conv_general_dilated(images, weight, (stride, stride), surroundings, dimension_numbers=numbers)
    assert np.allclose(patches(images, size, stride) @ weight.reshape(-1, 5), wanted, atol=1e-4)


def test_the_product_has_the_gradient_of_a_product():
    x, w = (jax.random.normal(jax.random.key(k), s) for k, s in enumerate([(6, 3), (3, 2)]))
    first = jax.grad(lambda x, w: jnp.sum(jnp.sin(product(x, w))), argnums=(0, 1))(x, w)
    plain = jax.grad(lambda x, w: jnp.sum(jnp.sin(x @ w)), argnums=(0, 1))(x, w)
    assert all(np.allclose(a, b, atol=1e-6) for a, b in zip(first, plain, strict=True))


def own_network(channels, outputs, key):
    """A user's own: a linear map of the numbers and of the mean brightness."""
    linear = eqx.nn.Linear(2, outputs, key=key)
    assert [c.name for c in channels] == ["a", "eye"]

    class Own(eqx.Module):
        linear: eqx.nn.Linear

        def __call__(self, inputs):
            return self.linear(jnp.concatenate([inputs.numbers, jnp.mean(inputs.images["eye"])[None]]))

    return Own(linear)


def test_a_network_of_ones_own_takes_one_observation_at_a_time():
    module = build_network(own_network, SIGHTS, 3, seed=4)
    image = np.full((2, 9, 11, 2), 255, np.uint8)
    result = apply_network(module, Inputs(jnp.ones((2, 1)), {"eye": jnp.asarray(image)}))
    assert np.allclose(result, module.linear(jnp.array([1.0, 1.0])), atol=1e-6)
    with pytest.raises(SettingError, match="must give an equinox module"):
        build_network(lambda channels, outputs, key: 3, SIGHTS, 3, seed=4)


@pytest.mark.parametrize(
    ("make", "message"),
    [
        (lambda: jm.Dense(0), "greater than or equal to 1; got 0. Write for instance `jm.Dense"),
        (lambda: jm.Dense(8, activation="step"), "`activation` of `Dense`"),
        (lambda: jm.Convolutional(filters=[]), "needs at least one"),
        (lambda: jm.PPO(network=jm.Dense(8)).config(SIGHTS, 1), "`eye` is an image. Use `network=jm.Convolutional"),
        (lambda: jm.PPO(network=jm.Convolutional()).config(NUMBERS, 1), "needs an image"),
        (lambda: jm.Convolutional(filters=[(4, 2, 3)]), "with stride 3 leave out 1 of 3 rows and columns"),
        (lambda: build_network(jm.Recurrent(30_000), NUMBERS, 2, seed=1), "900,000,000 weights; at most 8,388,608"),
        (lambda: jm.PPO(network="dense"), "must be `jm.Dense"),
        (lambda: jm.PPO(gradient_clip=0.0), "must be above 0; got 0.0"),
    ],
)
def test_what_does_not_fit_is_told_with_its_mend(make, message):
    with pytest.raises(SettingError) as output:
        make()
    assert message in str(output.value)


@pytest.mark.slow
@settings(max_examples=12)
@given(st.integers(0, 10**6), st.lists(st.integers(1, 5), min_size=1, max_size=6))
def test_running_statistics_are_those_of_all_rows(seed, sizes):
    chance = np.random.default_rng(seed)
    parts = [chance.normal(3.0, 2.0, size=(1, size, 3)).astype(np.float32) for size in sizes]
    statistics = fresh_statistics(NUMBERS, "running")
    for part in parts:
        statistics = gathered(statistics, jnp.asarray(part))
    rows = np.concatenate([part[0] for part in parts])
    assert np.allclose(statistics.mean, rows.mean(axis=0), atol=1e-4)
    if len(rows) > 1:
        spread = np.sqrt(rows.var(axis=0) + 1e-8)
        # Half the range of `a` is 5: believed up to twelve times the spread, which counts for a hundredth of it at
        # least.
        first = max(spread[0], 0.05)
        spread[0] = max(first, min(5.0, 12.0 * first))
        wanted = np.clip((rows - rows.mean(axis=0)) / spread, -10, 10)
        assert np.allclose(scaled(NUMBERS, "running", statistics, rows), wanted, atol=2e-3)


def test_bounds_scale_what_has_bounds_and_statistics_the_rest():
    statistics = fresh_statistics(NUMBERS, "bounds")
    rows = np.array([[0.0, 5.0, 1.0], [10.0, 7.0, 1.0]], np.float32)
    assert np.allclose(scaled(NUMBERS, "bounds", statistics, rows), [[-1, 5, 1], [1, 7, 1]])  # nothing known yet
    statistics = gathered(statistics, jnp.asarray(rows[None]))
    assert np.allclose(scaled(NUMBERS, "bounds", statistics, rows), [[-1, -1, 0], [1, 1, 0]], atol=1e-3)
    bounded = Spec((Channel("a", 0.0, 10.0),), jm.Choice(2))
    assert fresh_statistics(bounded, "bounds") is None


def test_statistics_survive_a_million_steps():
    statistics = fresh_statistics(NUMBERS, "running")
    rows = jnp.asarray(np.random.default_rng(5).normal(100.0, 1.0, (1000, 1, 3)).astype(np.float32))
    many = jax.jit(lambda s: jax.lax.fori_loop(0, 1000, lambda i, s: gathered(s, rows), s))(statistics)
    assert float(many.count) == 1e6
    spread = np.sqrt(np.asarray(many.square) / 1e6)
    assert np.allclose(spread, np.std(np.asarray(rows)[:, 0], axis=0), rtol=0.01)


def test_a_step_of_the_optimiser_and_clipping_by_hand():
    weights, gradient = jnp.array([1.0, 1.0]), jnp.array([3.0, 4.0])
    new, _, norm = descend("sgd", weights, first_moments("sgd", weights), gradient, 0.1, 2.5)
    assert (np.allclose(new, [1 - 0.15, 1 - 0.2]), float(norm)) == (True, 5.0)
    new, _, _ = descend("adam", weights, first_moments("adam", weights), gradient, 0.1)
    assert np.allclose(new, [0.9, 0.9], atol=1e-5)  # the first step of Adam is the rate itself
    assert np.allclose(huber(jnp.array([0.5, -3.0]), 1.0), [0.125, 2.5])


@pytest.mark.slow
def test_tiles_overlap_and_move_one_value_by_just_its_step():
    spec = Spec((Channel("a", 0.0, 10.0), Channel("b", 0.0, 1.0)), jm.Choice(2))
    for made_of in (Features("tiles", spec, 4, 3), Features("radial", spec, 4, 1)):
        weights = jnp.zeros((made_of.size, 2))
        rows = np.array([[2.5, 0.5]], np.float32)
        moved, values = jax.jit(made_of.moved), jax.jit(made_of.values)
        weights = moved(weights, rows, jnp.array([1]), jnp.array([0.6]))
        assert np.allclose(values(weights, rows), [[0.0, 0.6]], atol=1e-5)
        close, far = values(weights, np.array([[3.0, 0.5], [9.9, 0.0]], np.float32))[:, 1]
        assert 0.61 > close > far
        # Two copies in the same place: the mean of what they ask for.
        both = moved(weights * 0, np.repeat(rows, 2, 0), jnp.array([1, 1]), jnp.array([0.2, 0.6]))
        if made_of.kind == "tiles":
            assert np.allclose(values(both, rows), [[0.0, 0.4]], atol=1e-5)
    places = Features("tiles", spec, 4, 3).tiles(np.array([[0.0, 0.0], [10.0, 1.0], [99.0, -5.0]], np.float32))
    assert (int(places.min()), len(set(places[0].tolist()))) == (0, 3)
    assert int(places.max()) < 3 * 25
    with pytest.raises(SettingError, match="Use fewer `tiles`, or `DQN`"):
        jm.LinearQ(tiles=8000).config(spec, 1)
    with pytest.raises(SettingError, match="`b` has none"):
        jm.LinearQ().config(NUMBERS, 1)


@pytest.mark.slow
@pytest.mark.parametrize(("kind", "width"), [("radial", 2), ("radial", 4), ("tiles", 2)])
def test_rows_that_ask_for_the_same_move_their_value_by_just_that(kind, width):
    """32 rows in one state; and rows anywhere never move their values further than they ask."""
    spec = Spec((Channel("x", 0.0, 1.0, shape=(width,)),), jm.Choice(2))
    made_of = Features(kind, spec, 6, 1 if kind == "radial" else 8)
    weights, action = jnp.zeros((made_of.size, 2)), jnp.zeros(32, jnp.int32)
    rows = jnp.full((32, width), 0.37)
    move, values = jax.jit(made_of.moved), jax.jit(made_of.values)
    moved = move(weights, rows, action, jnp.full(32, 0.1))
    assert np.allclose(values(moved, rows)[:, 0], 0.1, atol=1e-5)
    assert not values(moved, rows)[:, 1].any()
    subset = jnp.asarray(np.random.default_rng(0).random((32, width)), jnp.float32)
    moved = made_of.moved(weights, subset, action, jnp.full(32, 0.1))
    assert float(jnp.abs(made_of.values(moved, subset)).mean()) <= 0.1 + 1e-5


def test_statistics_go_on_beyond_what_single_precision_counts():
    """At 2^24 a count in single precision stops growing; the spread must not grow for it."""
    statistics = Running(np.float32(2.0**24), np.zeros(1, np.float32), np.full(1, 2.0**24, np.float32))
    rows = jnp.asarray(np.random.default_rng(0).normal(0.0, 1.0, (4096, 1)), jnp.float32)
    for _ in range(50):
        statistics = gathered(statistics, rows)
    assert float(statistics.square[0] / statistics.count) == pytest.approx(1.0, rel=0.02)


def test_hidden_biases_spread_the_kinks_and_those_of_the_outputs_begin_at_zero():
    spec = Spec((Channel("x", -1.0, 1.0, shape=(4,)),), jm.Choice(2))
    for start in ("orthogonal", "uniform"):
        first, second, last = jm.Dense(64, 64, start=start).build(spec, 3, 0, 1.0).layers
        for layer, inputs in ((first, 4), (second, 64)):
            assert 0.8 / np.sqrt(inputs) < np.abs(layer.bias).max() <= 1.0 / np.sqrt(inputs)
        assert not last.bias.any()


@settings(max_examples=5)
@given(st.integers(1, 40), st.integers(1, 40), st.integers(1, 8), st.integers(1, 8))
def test_every_pixel_is_in_a_patch_and_nothing_else_but_zeros(height, width, size, stride):
    stride = min(stride, size)
    image = np.arange(1, height * width + 1, dtype=np.float32).reshape(1, height, width, 1)
    result = np.asarray(patches(image, size, stride))
    assert set(np.unique(result)) - {0.0} == set(range(1, height * width + 1))
    assert result.shape[1:3] == tuple(max(0, -(-(side - size) // stride)) + 1 for side in (height, width))


@pytest.mark.parametrize("side", [5, 10, 30])
def test_the_usual_network_sees_every_pixel_of_an_image(side):
    eye = Channel("eye", 0, 255, shape=(side, side, 1), image=True)
    spec = Spec((eye,), jm.Choice(3))
    network = usual_network(spec)
    module = build_network(network.model_copy(update={"activation": "tanh"}), spec, 3, seed=1)
    image = jnp.full((1, side, side, 1), 0.5)
    slope = jax.grad(lambda image: jnp.sum(module(Inputs(jnp.zeros((1, 0)), {"eye": image})) * jnp.arange(1.0, 4.0)))(
        image
    )
    assert (np.abs(slope[0, :, :, 0]) > 0.0).all()
    large = Channel("eye", 0, 255, shape=(84, 84, 4), image=True)  # as published, and nothing is added around it
    assert jm.Convolutional().filters_for(large) == ((32, 8, 4), (64, 4, 2), (64, 3, 1))
    assert jm.Convolutional().sizes(large) == [(20, 20, 32), (9, 9, 64), (7, 7, 64)]


@pytest.mark.parametrize("cell", ["gru", "lstm"])
def test_no_gradient_goes_through_the_burn_in(cell):
    """Kapturowski et al. (2019), section 3: the decisions before a sequence refresh the state, and are not learned
    from."""
    module = build_network(jm.Recurrent(3, cell=cell), NUMBERS, 2, seed=1)
    inputs = Inputs(jax.random.normal(jax.random.key(0), (6, 3)), {})
    restarts = jnp.zeros((6, 1), bool)

    def last(states, burn_in):
        return jnp.sum(module.apply_sequence(inputs, restarts, states, burn_in)[0][-1])

    states = jnp.ones((6, 1, module.state_width))
    complete, refreshed = (jax.value_and_grad(last)(states, burn_in) for burn_in in (0, 2))
    assert float(complete[0]) == pytest.approx(float(refreshed[0]), abs=1e-6)
    assert np.abs(complete[1]).max() > 0.0 == np.abs(refreshed[1]).max()
