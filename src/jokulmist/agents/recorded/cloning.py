"""Doing what was recorded."""

from __future__ import annotations

from typing import Any, ClassVar

import numpy as np

from jokulmist.agents.batches import minibatch_of, seed_from
from jokulmist.agents.configs import Hyperparameters, PolicyConfig
from jokulmist.agents.contract import Experience
from jokulmist.agents.policies.policy_method import PolicyLearner, descended_by, observed_by
from jokulmist.agents.policy_networks import begin_spread
from jokulmist.agents.recorded.recorded_policy import RecordedPolicy, statistics_over, units_of
from jokulmist.environments.chance.draws import Draw
from jokulmist.learning.action_distributions import SampledRanges
from jokulmist.learning.observation_scaling import fresh_statistics
from jokulmist.learning.optimisation import first_moments


class Cloning(RecordedPolicy):
    """Behaviour cloning: the likelihood of the recorded actions is made as large as can be.

    maximises  mean( log p(a|s) ) over the records

    Pomerleau (1989), "ALVINN: an autonomous land vehicle in a neural network". What every other method that learns from
    records has to beat.

    Parameters
    ----------
    learning_rate, minibatch, network, scaling, spread_by_state, optimiser, gradient_clip
        See `RecordedPolicy`; the discount is not looked at.

    Notes
    -----
    It does as well as whoever was recorded, good and bad decisions mixed, and it drifts where small errors lead to what
    was never recorded.

    Examples
    --------
    >>> Cloning(minibatch=64)
    Cloning(minibatch=64)
    """

    record_readings: ClassVar[tuple[str, ...]] = ("loss", "entropy", "gradient_norm")

    @staticmethod
    def has_value() -> bool:
        return False

    @staticmethod
    def fresh_learner(config: PolicyConfig, hyperparameters: Hyperparameters, noise: Draw) -> PolicyLearner:
        weights = Cloning.layout_of(config, seed_from(noise)).initial_weights()
        begin_spread(weights, config.acting, 0.5)
        return PolicyLearner(
            weights,
            fresh_statistics(config.spec, config.scaling),
            None,
            first_moments(config.optimiser, weights),
            np.int32(0),
        )

    @staticmethod
    def taught(
        config: PolicyConfig, hyperparameters: Hyperparameters, learner: PolicyLearner, rows: Experience
    ) -> PolicyLearner:
        """The learner before its first update on some records."""
        return learner._replace(statistics=statistics_over(config, rows))

    @staticmethod
    def learn_rows(
        config: PolicyConfig, hyperparameters: Hyperparameters, learner: PolicyLearner, rows: Experience, noise: Draw
    ) -> tuple[PolicyLearner, tuple[()], tuple[Any, ...]]:
        """One update on a minibatch of the records."""
        import jax.numpy as jnp

        batch = minibatch_of(config, rows, noise)
        inputs = observed_by(config, learner.statistics, batch.observed)
        samples = SampledRanges(units_of(config.acting, batch.actions), ()) if config.acting.width else ()

        def loss(networks: Any) -> Any:
            likelihood = config.acting.likelihood(
                networks.outputs(inputs), batch.observed.legal, batch.actions, samples
            )
            surprise = -jnp.mean(likelihood.log_probability)
            return surprise, (surprise, jnp.mean(likelihood.entropy))

        weights, moments, loss_readings, norm = descended_by(
            config, hyperparameters, learner.weights, learner.moments, loss
        )
        return learner._replace(weights=weights, moments=moments), (), (*loss_readings, norm)

    @staticmethod
    def policy_state(learner: PolicyLearner) -> PolicyLearner:
        return learner._replace(moments=(), updates=())
