"""Quantiles of returns: the loss by hand, a lottery that is known, acting by the lower tail, both lanes."""

import jax
import numpy as np
import pytest
from places import Trip

import jokulmist as jm
from jokulmist.agents.values.quantiles import quantile_loss
from jokulmist.errors import SettingError


def test_the_loss_is_that_of_the_paper():
    chance = np.random.default_rng(0)
    chosen, wanted, reach = chance.normal(size=(3, 4)), chance.normal(size=(3, 5)), 0.3
    total = np.zeros(3)
    for row in range(3):
        for i, tau in enumerate((0.125, 0.375, 0.625, 0.875)):
            for target in wanted[row]:
                u = target - chosen[row, i]
                line = 0.5 * u * u if abs(u) <= reach else reach * (abs(u) - 0.5 * reach)
                total[row] += abs(tau - (u < 0)) * line / reach / 5
    assert np.allclose(quantile_loss(chosen, wanted, reach), total, atol=1e-6)


@pytest.mark.slow
@pytest.mark.parametrize(("risk", "chosen"), [(1.0, "sail"), (0.1, "harbour")])
def test_a_lottery_is_known_and_its_tail_is_avoided(risk, chosen):
    agent = jm.DQN(
        quantiles=10,
        risk=risk,
        discount=1.0,
        exploration=0.6,
        network=jm.Dense(16),
        learn_every=8,
        learning_rate=jm.linear(5e-3, 0.0, over=1.0),
        n_step=1,
    )
    policy = jm.train(Trip(), agent, steps=24_000, copies=16, seed=1, folder=None).policy
    result = policy.quantiles({"done": 0})
    assert result["sail"] == pytest.approx([-10.0, *[2.0] * 4, *[6.0] * 5], abs=0.5)
    assert result["harbour"] == pytest.approx([2.0] * 10, abs=0.2)
    assert policy.choose({"done": 0}) == Trip.action.labels.index(chosen)
    assert policy.values({"done": 0})["sail"] == pytest.approx(-10.0 if risk < 1.0 else 2.8, abs=0.5)


@pytest.mark.slow
def test_both_lanes_and_a_kept_policy_are_the_same(tmp_path):
    agent = jm.DQN(quantiles=5, risk=0.4, network=jm.Dense(8), replay_start=50, replay_size=500, prioritised=True)
    runs = [
        jm.train(Trip(), agent, steps=320, copies=2, seed=3, folder=None, lane=lane) for lane in ("plain", "compiled")
    ]
    for first, second in zip(*(jax.tree.leaves(run.policy.learner) for run in runs), strict=True):
        assert np.allclose(first, second, atol=1e-4)
    opened = jm.Policy.open(runs[0].policy.save(tmp_path / "policy"))
    assert np.array_equal(opened.quantiles({"done": 0})["sail"], runs[0].policy.quantiles({"done": 0})["sail"])


@pytest.mark.slow
def test_what_goes_with_nothing_is_told():
    for settings, expected in (
        ({"risk": 0.5}, "Add `quantiles=32`"),
        ({"quantiles": 8, "dueling": True}, "and `dueling` do not go together yet"),
        ({"quantiles": 8, "network": jm.Recurrent(8)}, "and a recurrent network do not go together yet"),
    ):
        with pytest.raises(SettingError, match=expected):
            jm.train(Trip(), jm.DQN(**settings), steps=100, folder=None)
    with pytest.raises(SettingError, match="has no quantiles of returns"):
        jm.train(Trip(), jm.DQN(), steps=50, copies=1, lane="plain", folder=None).policy.quantiles({"done": 0})
