"""Actions and channels have forms that go back and forth, and cells that follow the bounds."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from places import Skiff, Snowfield

import jokulmist as jm
from jokulmist.agents.tables.cells import SCALARS, array_ops, grid_for
from jokulmist.environments.declaration.instance import describe
from jokulmist.environments.spaces.actions import Record, split
from jokulmist.environments.spaces.channels import Channel, Observation, Spec
from jokulmist.environments.spaces.player_actions import from_described
from jokulmist.errors import ActionError, SettingError


def test_encodings_of_choices_ranges_and_both():
    both = jm.Actions(move=jm.Choice("left", "right", "stay"), power=jm.Range([0.0, -2.0], [4.0, 2.0], shape=2))
    native = both.native({"move": "stay", "power": [1.0, 2.0]})
    assert native.move == 2
    np.testing.assert_allclose(both.encoded(native), [0, 0, 1, -0.5, 1.0])
    np.testing.assert_allclose(both.power.decoded([-0.5, 1.0]), native.power)
    assert (both.size, both.label(native)) == (5, "move=stay power=[1. 2.]")
    assert from_described(both.described()) == both
    assert hash(from_described(both.described())) == hash(both)
    with pytest.raises(ActionError, match="a dict with `move`, `power`"):
        both.native("left")
    with pytest.raises(ActionError, match=r"between \[0.0, -2.0\] and \[4.0, 2.0\]"):
        both.native({"move": 0, "power": [5.0, 0.0]})
    with pytest.raises(ActionError, match="has the shape"):
        both.power.native(1.0)
    with pytest.raises(ActionError, match="is a number in"):
        jm.Range(0, 1).native("full")
    with pytest.raises(AttributeError, match="Did you mean `move`"):
        _ = both.moev
    with pytest.raises(AttributeError, match="no alternative `up`"):
        _ = jm.Choice("left").up


def test_splitting_actions_gives_one_in_own_form_a_copy():
    difference = split(Record(move=np.array([0, 2]), power=np.array([[1.0, 2.0], [3.0, 4.0]])), 2)
    assert [type(a.move) for a in difference] == [int, int]
    assert difference[1] == Record(move=2, power=np.array([3.0, 4.0]))
    assert split(np.array([0.5, 1.5]), 2) == [0.5, 1.5]


@settings(max_examples=60)
@given(st.floats(-1e3, 1e3), st.floats(0.1, 1e3), st.integers(1, 60), st.floats(-0.5, 1.5))
def test_a_value_falls_in_the_bin_of_its_bounds(low, span, bins, where):
    spec = Spec((Channel("x", low, low + span),), jm.Choice(2))
    grid = grid_for(spec, bins, "QLearning")
    value = low + where * span
    cell, outside = grid.place([value], SCALARS)
    expected = min(max(int(np.floor((value - low) / span * bins)), 0), bins - 1)
    edge = abs((value - low) / span * bins - round((value - low) / span * bins)) < 1e-6
    assert cell == expected or edge
    assert grid.place([low + span], SCALARS) == (bins - 1, False)
    assert grid.place([low], SCALARS) == (0, False)
    if where < -0.01 or where > 1.01:
        assert outside
    if 0.0 <= where <= 1.0:
        assert not outside


@pytest.mark.slow
def test_cells_are_distinct_and_the_same_for_numbers_and_arrays():
    import jax.numpy as jnp

    spec = describe(jm.gallery.WholeTarn(capacity=10, hours=24)).spec
    grid = grid_for(spec, 7, "QLearning")
    rows = [[level, hour] for level in range(11) for hour in range(25)]
    cells = [grid.place(row, SCALARS)[0] for row in rows]
    assert sorted(cells) == list(range(grid.cells)) == list(range(275))
    traced, outside = grid.place(list(jnp.asarray(rows, jnp.float32).T), array_ops())
    assert traced.tolist() == cells
    assert not outside.any()
    per_channel = grid_for(describe(jm.gallery.Tarn()).spec, (("level", 5),), "QLearning")
    assert per_channel.counts == (5, 97)


@pytest.mark.parametrize(
    ("spec", "bins", "message"),
    [
        (Spec((Channel("x", -np.inf, np.inf),), jm.Choice(2)), 5, "needs bounds to bin `x`"),
        (Spec((Channel("eye", 0, 255, shape=(4, 4, 1), image=True),), jm.Choice(2)), 5, "`eye` is an image"),
        (Spec(tuple(Channel(f"x{i}", 0, 1) for i in range(9)), jm.Choice(2)), 20, "would have .* entries"),
        (Spec((Channel("level", 0, 1),), jm.Choice(2)), (("levle", 5),), "Did you mean `level`"),
    ],
)
def test_a_table_that_cannot_be_is_refused(spec, bins, message):
    with pytest.raises(SettingError, match=message):
        grid_for(spec, bins, "QLearning")


def test_scaling_brings_bounded_channels_to_one_and_leaves_the_others():
    spec = Spec(
        (Channel("a", -2.0, 6.0), Channel("b", -np.inf, np.inf), Channel("c", 0.0, 3.0, shape=(2,))), jm.Choice(2)
    )
    np.testing.assert_allclose(
        spec.scaled(np.array([[-2.0, 9.0, 0.0, 3.0], [6.0, 1.0, 1.5, 0.0]])), [[-1, 9, -1, 1], [1, 1, 0, -1]], atol=1e-6
    )
    assert Spec.from_described(spec.described()) == spec
    assert spec.flat({"a": 1.0, "b": 2.0, "c": [3.0, 4.0]}).tolist() == [1.0, 2.0, 3.0, 4.0]
    with pytest.raises(SettingError, match="lacks `b`"):
        spec.flat({"a": 1.0})
    with pytest.raises(SettingError, match=r"`c` has the shape \(2,\)"):
        spec.flat({"a": 1.0, "b": 2.0, "c": 3.0})


def test_observations_are_read_by_name_in_units():
    seen = Snowfield(side=3).episode(seed=1).observation
    assert seen.depth.shape == (3, 3)
    assert seen["plough"] == 0
    assert list(seen.keys()) == ["depth", "plough", "felt"]
    assert "level=1.5" in repr(Observation({"level": 1.5}))
    assert repr(Skiff().episode(seed=1).observation).endswith("leaking=False)")
