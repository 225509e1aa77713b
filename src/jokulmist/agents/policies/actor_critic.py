"""Synchronous advantage actor-critic."""

from __future__ import annotations

from typing import Any, ClassVar

from jokulmist.agents.configs import Hyperparameters, PolicyConfig
from jokulmist.agents.contract import Count, Experience, FixedShare, Scheduled, WholeNumber
from jokulmist.agents.policies.policy_method import (
    READINGS,
    PolicyAgent,
    PolicyLearner,
    after_update,
    batch_of,
    descended_by,
    entropies_of,
    estimate_advantages,
    hold_policy,
    rewards_in_scale,
)
from jokulmist.agents.recurrence import apply_network
from jokulmist.environments.chance.draws import Draw
from jokulmist.learning.advantages import explained_variance, standardise
from jokulmist.learning.optimisation import squared
from jokulmist.learning.schedules import linear


class ActorCritic(PolicyAgent):
    """Advantage actor-critic with synchronous copies: one step on each batch of decisions.

    maximises  mean( A log p(a|s) ) + entropy_bonus entropy,  A = the advantage, held fixed

    Mnih et al. (2016), "Asynchronous methods for deep reinforcement learning", section 4 and supplement, algorithm S3,
    with all copies stepped together.

    Parameters
    ----------
    trace_decay : float, in [0, 1]
        Of the advantages (Schulman et al., 2016): 1 gives the paper's return up to the horizon.
    advantages_normalised : bool
        Over the batch.
    near_start : float
        Keeps the policy near the one that the run began with (``start=``): so much times ``log p(a|s) - log
        p_start(a|s)`` is taken off each reward, in the scale that is learned in. 0.01 lets it move, 0.1 holds it.
    learning_rate, discount, horizon, entropy_bonus, range_entropy_bonus, value_weight
        See `PolicyAgent`.
    value_first, network, shared, scaling, optimiser, gradient_clip
        See `PolicyAgent`.
    rewards_scaled, at_bounds, spread_by_state, first_spread
        Scale of rewards, and the Gaussians of a Range; see `PolicyAgent`.

    Notes
    -----
    Differs from the paper: copies step together instead of asynchronously; Adam unless told otherwise; two networks
    unless `shared`; the entropy bonus falls to 0, and rewards are in scale. It wants many decisions: one step a batch.
    Fails when what pays is met less than once in some ten thousand decisions of random play (a goal under -1 a step),
    and on swing-ups: use `PPO`.

    Examples
    --------
    >>> ActorCritic(entropy_bonus=0.01)
    ActorCritic(entropy_bonus=0.01)
    """

    learning_rate: Scheduled = linear(1e-3, 0.0, over=1.0)
    entropy_bonus: Scheduled = linear(0.1, 0.0, over=1.0)
    horizon: Count = 8
    value_first: WholeNumber = 100
    trace_decay: FixedShare = 0.95
    advantages_normalised: bool = False
    near_start: float = 0.0

    reading_names: ClassVar[tuple[str, ...]] = READINGS
    usual_copies: ClassVar[int] = 16
    least_updates: ClassVar[int] = 1_000

    @staticmethod
    def learn(
        config: PolicyConfig,
        hyperparameters: Hyperparameters,
        learner: PolicyLearner,
        memory: Any,
        experience: Experience,
        noise: Draw,
    ) -> tuple[PolicyLearner, Any, tuple[Any, ...]]:
        import jax.numpy as jnp

        experience, learner, open_now = rewards_in_scale(hyperparameters, learner, memory["returns"], experience)
        memory = {**memory, "returns": open_now}
        batch, past, after = batch_of(config, learner, experience)
        advantages, predictions, _ = estimate_advantages(
            config, hyperparameters, learner, experience, batch, past, after
        )
        targets = advantages + predictions
        if config.advantages_normalised:
            advantages = standardise(advantages)
        hyperparameters, advantages = hold_policy(config, hyperparameters, learner, advantages)

        def loss(networks: Any) -> Any:
            (outputs, values), _ = apply_network(networks, batch.inputs, past)
            likelihood = config.acting.likelihood(outputs, *batch.done)
            assert likelihood.log_probability.shape == advantages.shape == values.shape == targets.shape
            policy_loss = -jnp.mean(likelihood.log_probability * advantages)
            value_loss = jnp.mean(squared(values - targets))
            bonus, entropy = entropies_of(hyperparameters, likelihood, jnp.mean)
            total = policy_loss + hyperparameters.value_weight * value_loss - bonus
            return total, (policy_loss, value_loss, entropy)

        weights, moments, loss_readings, norm = descended_by(
            config, hyperparameters, learner.weights, learner.moments, loss
        )
        explained = explained_variance(predictions, targets)
        return after_update(config, learner, weights, moments, experience), memory, (*loss_readings, explained, norm)
