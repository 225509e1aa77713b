"""Chances of actions against SciPy and counting; masks in values and gradients; joint choices."""

import jax
import jax.numpy as jnp
import numpy as np
import pytest
from scipy import special, stats

import jokulmist as jm
from jokulmist.environments.chance.draws import RowDraw
from jokulmist.environments.spaces.actions import Record
from jokulmist.learning.action_distributions import ActionDistribution, JointChoice

ONE = jm.Choice("a", "b", "c")
TWO = jm.Actions(gate=jm.Choice(3), lamp=jm.Choice(2))


@pytest.mark.slow
def test_log_probability_and_entropy_of_several_parts_add_up():
    outputs = np.array([[0.3, -1.0, 2.0, 0.5, -0.5], [1.0, 1.0, 1.0, 0.0, 3.0]], np.float32)
    likelihood = ActionDistribution(TWO).likelihood(
        jnp.asarray(outputs), (), Record(gate=jnp.array([2, 0]), lamp=jnp.array([0, 1]))
    )
    gate, lamp = special.log_softmax(outputs[:, :3], axis=1), special.log_softmax(outputs[:, 3:], axis=1)
    assert np.allclose(likelihood.log_probability, [gate[0, 2] + lamp[0, 0], gate[1, 0] + lamp[1, 1]], atol=1e-6)
    entropies = [stats.entropy(np.exp(p), axis=1) for p in (gate, lamp)]
    assert np.allclose(likelihood.entropy, sum(entropies), atol=1e-6)


@pytest.mark.slow
def test_a_forbidden_choice_has_no_chance_and_no_gradient():
    outputs = jnp.array([[5.0, 1.0, 0.0]])
    legal = (jnp.array([[False, True, True]]),)
    acting = ActionDistribution(ONE)

    def entropy(outputs):
        return acting.likelihood(outputs, legal, jnp.array([1])).entropy[0]

    p = special.softmax([1.0, 0.0])
    assert float(entropy(outputs)) == pytest.approx(stats.entropy(p), abs=1e-6)
    gradient = np.asarray(jax.grad(entropy)(outputs))
    assert np.isfinite(gradient).all()
    assert gradient[0, 0] == 0.0
    assert np.exp(acting.log_probabilities(outputs, legal)[0][0]).tolist() == pytest.approx([0.0, *p], abs=1e-6)
    # One alternative left: certain, without 0 times infinity anywhere.
    single = (jnp.array([[False, True, False]]),)
    likelihood = acting.likelihood(outputs, single, jnp.array([1]))
    assert (float(likelihood.log_probability[0]), float(likelihood.entropy[0])) == (0.0, 0.0)
    assert int(acting.likeliest(outputs, legal)[0]) == 1


def test_samples_have_the_chances_of_the_softmax():
    count = 40_000
    outputs = np.tile(np.array([[0.0, 1.0, -1.0]], np.float32), (count, 1))
    uniform = np.random.default_rng(3).random((count, 3), np.float32)
    uniform[0] = 0.0  # the least draw that there is
    for xp in (np, jnp):
        samples, _ = ActionDistribution(ONE).sampled(
            xp.asarray(outputs), (), RowDraw(xp, [xp.asarray(uniform).ravel()], 1.0)
        )
        seen = np.bincount(np.asarray(samples), minlength=3)
        assert stats.chisquare(seen, count * special.softmax(outputs[0])).pvalue > 1e-3
        legal = (np.tile([[True, False, True]], (count, 1)),)
        samples, _ = ActionDistribution(ONE).sampled(
            xp.asarray(outputs), legal, RowDraw(xp, [xp.asarray(uniform).ravel()], 1.0)
        )
        assert not np.any(np.asarray(samples) == 1)


def test_joint_choices_go_to_one_index_and_back():
    joint = JointChoice(TWO)
    assert (joint.count, joint.labels[3]) == (6, "gate=1 lamp=1")
    for index in range(6):
        assert joint.index(joint.native(index)) == index
    legal = joint.legal((np.array([[True, False, True]]), np.array([[True, False]])))
    assert legal[0].tolist() == [True, False, False, False, True, False]
    assert joint.legal(()) is None
