"""Better than what was recorded, without ever asking for the value of what was not."""

from __future__ import annotations

from typing import Any, ClassVar, NamedTuple

import numpy as np

from jokulmist.agents.batches import as_flat, minibatch_of, seed_from
from jokulmist.agents.configs import Hyperparameters, PolicyConfig
from jokulmist.agents.contract import AboveZero, FixedShare
from jokulmist.agents.critics.critic_networks import critics_layout, values_at
from jokulmist.agents.policies.policy_method import PolicyAgent, descended_by, observed_by
from jokulmist.agents.policy_networks import begin_spread
from jokulmist.agents.recorded.recorded_policy import RecordedPolicy, statistics_over, units_of
from jokulmist.environments.chance.draws import Draw
from jokulmist.learning.action_distributions import SampledRanges, joint_over
from jokulmist.learning.observation_scaling import Running, fresh_running, fresh_statistics
from jokulmist.learning.optimisation import descend, first_moments, squared
from jokulmist.learning.reward_scaling import returns_after, spread_of

MOST_WEIGHT = 100.0


class ImplicitQLearner(NamedTuple):
    """What was learned; see `policies.policy_method.Learned`, with twin critics, what follows them, and their
    optimiser's state."""

    weights: Any
    statistics: Running | None
    returns: Running | None
    moments: Any
    updates: Any
    critics: Any
    critics_target: Any
    critic_moments: Any


class ImplicitQ(RecordedPolicy):
    """Implicit Q-learning: values of what was done alone, with an upper expectile in the place of a maximum; then
    cloning, weighted by what was better.

    minimises  mean( |expectile - (u < 0)| u^2 ),  u = min Q_target(s, a) - V(s);
    mean( (r + discount V(s') - Q(s, a))^2 )

    maximises  mean( min(exp(sharpness u), 100) log p(a|s) )

    Kostrikov, Nair and Levine (2022), "Offline reinforcement learning with implicit Q-learning", equations 5 to 7.

    Parameters
    ----------
    expectile : float, in [0.5, 1]
        0.5 is the value of whoever was recorded; the nearer to 1, the nearer to the best that was recorded from there.
    sharpness : float
        How much more a better decision is cloned; 0 clones all alike.
    target_share : float, in [0, 1]
        How far the target critics follow at each update.
    first_spread : float
        For a Range: the spread that learning begins with, where the bounds stand at -1 and 1.
    learning_rate, discount, minibatch, network, scaling, spread_by_state, optimiser, gradient_clip
        See `RecordedPolicy`.

    Notes
    -----
    Differs from the paper: rewards are divided by the spread of the discounted returns in the records; one optimiser
    for policy and value.

    Examples
    --------
    >>> ImplicitQ(expectile=0.9)
    ImplicitQ(expectile=0.9)
    """

    expectile: FixedShare = 0.8
    sharpness: float = 3.0
    target_share: FixedShare = 0.005
    first_spread: AboveZero = 0.5

    record_readings: ClassVar[tuple[str, ...]] = (
        "policy_loss",
        "value_loss",
        "critic_loss",
        "mean_value",
        "advantage",
        "gradient_norm",
    )

    state_values = staticmethod(PolicyAgent.state_values)

    def config(self, spec: Any, copies: int) -> PolicyConfig:
        config: PolicyConfig = super().config(spec, copies)
        config.critics = critics_layout(config.network, spec, config.acting, 2, 0)
        return config

    @staticmethod
    def fresh_learner(config: PolicyConfig, hyperparameters: Hyperparameters, noise: Draw) -> ImplicitQLearner:
        seed = seed_from(noise)
        weights = ImplicitQ.layout_of(config, seed).initial_weights()
        begin_spread(weights, config.acting, hyperparameters.first_spread)
        critics = critics_layout(config.network, config.spec, config.acting, 2, seed).initial_weights()
        return ImplicitQLearner(
            weights,
            fresh_statistics(config.spec, config.scaling),
            fresh_running(1),
            first_moments(config.optimiser, weights),
            np.int32(0),
            critics,
            critics.copy(),
            first_moments(config.optimiser, critics),
        )

    @staticmethod
    def taught(
        config: PolicyConfig, hyperparameters: Hyperparameters, learner: ImplicitQLearner, rows: Any
    ) -> ImplicitQLearner:
        """The learner before its first update on some records: the scale of what was seen and of the returns."""
        import jax

        with_time = jax.tree.map(lambda leaf: leaf[:, None], rows)
        returns, _ = returns_after(with_time, fresh_running(1), np.zeros(1, np.float32), hyperparameters.discount)
        return learner._replace(statistics=statistics_over(config, rows), returns=returns)

    @staticmethod
    def learn_rows(
        config: PolicyConfig, hyperparameters: Hyperparameters, learner: ImplicitQLearner, rows: Any, noise: Draw
    ) -> tuple[ImplicitQLearner, tuple[()], tuple[Any, ...]]:
        """One update on a minibatch of the records."""
        import jax
        import jax.numpy as jnp

        acting = config.acting
        batch = minibatch_of(config, rows, noise)
        inputs = observed_by(config, learner.statistics, batch.observed)
        after = observed_by(config, learner.statistics, batch.last)
        unit = units_of(acting, batch.actions) if acting.width else jnp.zeros((config.minibatch, 0))
        index = (
            joint_over(config.spec.action).index(batch.actions)
            if acting.choices
            else jnp.zeros(config.minibatch, jnp.int32)
        )
        samples = SampledRanges(unit, ()) if acting.width else ()
        rewards = batch.rewards / spread_of(learner.returns)

        def action_values(weights: Any) -> Any:
            values = values_at(config.critics.module(weights), inputs, unit)
            return jnp.sum(jnp.where(index[:, None] == jnp.arange(values.shape[-1]), values, 0.0), axis=-1)

        lower = jnp.min(action_values(learner.critics_target), axis=0)
        following = config.layout.module(learner.weights).values(after)
        wanted = rewards + hyperparameters.discount * jnp.where(batch.ended, 0.0, following)

        def loss(networks: Any) -> Any:
            outputs, values = networks(inputs)
            assert values.shape == lower.shape
            advantages = lower - values
            value_loss = jnp.mean(jnp.abs(hyperparameters.expectile - (advantages < 0.0)) * jnp.square(advantages))
            better = jax.lax.stop_gradient(jnp.minimum(jnp.exp(hyperparameters.sharpness * advantages), MOST_WEIGHT))
            likelihood = acting.likelihood(outputs, batch.observed.legal, batch.actions, samples)
            policy_loss = -jnp.mean(better * likelihood.log_probability)
            return policy_loss + value_loss, (policy_loss, value_loss, jnp.mean(values), jnp.mean(advantages))

        weights, moments, loss_readings, norm = descended_by(
            config, hyperparameters, learner.weights, learner.moments, loss
        )

        def critic_loss(leaves: Any) -> Any:
            values = values_at(config.critics.combined(leaves), inputs, unit)
            chosen = jnp.sum(jnp.where(index[:, None] == jnp.arange(values.shape[-1]), values, 0.0), axis=-1)
            return jnp.sum(jnp.mean(squared(chosen - wanted), axis=1))

        off, gradients = jax.value_and_grad(critic_loss)(config.critics.leaves(learner.critics))
        critics, critic_moments, _ = descend(
            config.optimiser,
            learner.critics,
            learner.critic_moments,
            as_flat(gradients),
            hyperparameters.learning_rate,
            hyperparameters.gradient_clip,
        )
        target = learner.critics_target + hyperparameters.target_share * (critics - learner.critics_target)
        learner = learner._replace(
            weights=weights, moments=moments, critics=critics, critics_target=target, critic_moments=critic_moments
        )
        return learner, (), (loss_readings[0], loss_readings[1], off, loss_readings[2], loss_readings[3], norm)

    @staticmethod
    def policy_state(learner: ImplicitQLearner) -> ImplicitQLearner:
        return learner._replace(moments=(), updates=(), critics=(), critics_target=(), critic_moments=())
