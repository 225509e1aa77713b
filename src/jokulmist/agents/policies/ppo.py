"""Proximal policy optimisation."""

from __future__ import annotations

import math
from typing import Any, ClassVar, NamedTuple

from jokulmist.agents.batches import in_parts, in_rows
from jokulmist.agents.configs import Hyperparameters, PolicyConfig
from jokulmist.agents.contract import Count, Experience, FixedShare, Limit, Scheduled, WholeNumber
from jokulmist.agents.policies.policy_method import (
    PolicyAgent,
    PolicyLearner,
    after_update,
    batch_of,
    descended_by,
    entropies_of,
    estimate_advantages,
    hold_policy,
    rewards_in_scale,
    values_are_calibrated,
)
from jokulmist.agents.recurrence import apply_network, in_time, split_sequences, stretch_of
from jokulmist.arrays import Array
from jokulmist.environments.chance.draws import Draw
from jokulmist.learning.advantages import explained_variance, standardise
from jokulmist.learning.optimisation import squared
from jokulmist.learning.schedules import linear

# The least spread that advantages are divided by, where rewards are in scale: six seeds of `mast` (benchmarks/proving),
# 500,000 decisions, ended at 0.48 of the way on one without it, at 1.00 on all with it; no problem of the choosing half
# was learned worse.
LEAST_SPREAD = 0.02


class PPORows(NamedTuple):
    """A batch, or a minibatch of it: one row a decision; with a recurrent network one row a stretch of them."""

    inputs: Any
    legal: Any
    actions: Any
    samples: Any
    log_probability: Any
    advantage: Any
    target: Any
    value: Any
    past: Any = ()


class PPO(PolicyAgent):
    """Proximal policy optimisation: several epochs of clipped steps on each batch of decisions.

    maximises  mean( min(ratio A, clip(ratio, 1 - clip, 1 + clip) A) ) + entropy_bonus entropy,
    ratio = p(a|s) / p_old(a|s)

    Schulman et al. (2017), "Proximal policy optimization algorithms", equations 7 and 9; advantages by Schulman et al.
    (2016), equation 16.

    Parameters
    ----------
    clip : float or schedule
        How far the ratio of probabilities counts.
    epochs : int
        Passes over each batch.
    minibatch : int
        Decisions in one step; the batch is split evenly, as near to it as can be.
    trace_decay : float, in [0, 1]
        Of the advantages: 0 looks one step ahead, 1 to the end of the horizon.
    value_clip : float, optional
        Largest change of a value that an update is rewarded for; None, the default, for no limit.
    advantages_normalised : bool
        Over the gathered batch; a spread below 0.02 of rewards in scale is not blown up: where all is solved,
        advantages are noise.
    divergence_limit : float, optional
        An update stops where a step's divergence from the old policy exceeds it; None for never.
    near_start : float
        Keeps the policy near the one that the run began with (``start=``): so much times ``log p(a|s) - log
        p_start(a|s)`` is taken off each reward, in the scale that is learned in. 0.01, the default
        of a run with `start`, lets it move where that pays, 0.1 holds it.
    learning_rate, discount, horizon, entropy_bonus, range_entropy_bonus, value_weight
        See `PolicyAgent`.
    value_first, network, shared, scaling, optimiser, gradient_clip
        See `PolicyAgent`.
    rewards_scaled, at_bounds, spread_by_state, first_spread
        Scale of rewards, and the Gaussians of a Range; see `PolicyAgent`.

    Notes
    -----
    Differs from the paper: no second network objective but the value's; divergence is told by its estimate
    ``mean(ratio - 1 - log ratio)``; rewards are in scale, and for at most twenty batches only the value learns. Fails
    when what pays is met less than once in some thirty thousand decisions of random play.

    Examples
    --------
    >>> PPO(entropy_bonus=0.03, clip=0.1)
    PPO(entropy_bonus=0.03, clip=0.1)
    """

    learning_rate: Scheduled = linear(1e-3, 0.0, over=1.0)
    entropy_bonus: Scheduled = 0.01
    range_entropy_bonus: Scheduled = linear(0.01, 0.0, over=1.0)
    horizon: Count = 64
    clip: Scheduled = 0.2
    epochs: Count = 10
    value_first: WholeNumber = 20
    minibatch: Count = 256
    trace_decay: FixedShare = 0.95
    value_clip: Limit = None
    advantages_normalised: bool = True
    divergence_limit: Limit = None
    near_start: float = 0.0

    reading_names: ClassVar[tuple[str, ...]] = (
        "policy_loss",
        "value_loss",
        "entropy",
        "clip_share",
        "divergence",
        "explained_variance",
        "gradient_norm",
    )

    usual_copies: ClassVar[int] = 64

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
        from jax import lax

        experience, learner, open_now = rewards_in_scale(hyperparameters, learner, memory["returns"], experience)
        memory = {**memory, "returns": open_now}
        rows, explained, value_is_calibrated = rows_of(config, hyperparameters, learner, experience)
        hyperparameters, advantages = hold_policy(config, hyperparameters, learner, rows.advantage)
        rows = rows._replace(advantage=advantages)
        length = stretch_of(config)
        count = experience.rewards.size // length
        steps, size = split_evenly(count, max(1, config.minibatch // length))

        def epoch(state: Any, order: Array) -> Any:
            mixed = take_rows(rows, order[: steps * size])
            parts = in_parts(mixed, steps, size)
            return lax.scan(lambda state, part: _step(config, hyperparameters, state, part), state, parts)

        # One loop for all epochs: written out, each would be traced and compiled again.
        orders = jnp.stack([noise.permutation(count) for _ in range(config.epochs)])
        state = (learner.weights, learner.moments, jnp.bool_(True))
        (weights, moments, _), epoch_readings = lax.scan(epoch, state, orders)
        means = tuple(jnp.mean(reading) for reading in epoch_readings)
        learner = after_update(config, learner, weights, moments, experience, value_is_calibrated)
        return learner, memory, (*means[:5], explained, means[5])


def rows_of(
    config: PolicyConfig, hyperparameters: Hyperparameters, learner: PolicyLearner, experience: Experience
) -> tuple[PPORows, Array, Array]:
    """The batch with advantages, targets and the old log-probabilities; how well the values predicted the returns, and
    whether they have found their level."""
    batch, past, after = batch_of(config, learner, experience)
    advantages, values, old = estimate_advantages(config, hyperparameters, learner, experience, batch, past, after)
    targets = advantages + values
    explained = explained_variance(values, targets)
    value_is_calibrated = values_are_calibrated(advantages)
    if config.advantages_normalised:
        advantages = standardise(advantages, LEAST_SPREAD if config.rewards_scaled else 0.0)
    rows = PPORows(*batch, old, advantages, targets, values)
    if past:
        rows = split_sequences(rows._replace(past=in_rows(past)), experience.rewards.shape, stretch_of(config))
    return rows, explained, value_is_calibrated


def time_major(rows: PPORows) -> PPORows:
    """Stretches as rows of turns times stretches, in the order in which a network goes along them."""
    flat, past = in_time(rows._replace(past=()), rows.past)
    return flat._replace(past=past)  # type: ignore[no-any-return]


def split_evenly(rows: int, minibatch: int) -> tuple[int, int]:
    """How many steps a pass takes, and how many rows each has; a remainder is left out of the pass."""
    steps = max(1, round(rows / minibatch))
    return steps, rows // steps


def objective(
    config: PolicyConfig, hyperparameters: Hyperparameters, networks: Any, rows: PPORows
) -> tuple[Array, tuple[Any, ...]]:
    """What is minimised, and the readings: policy loss, value loss, entropy, share clipped, divergence."""
    import jax.numpy as jnp

    if rows.past:
        rows = time_major(rows)
    (outputs, values), _ = apply_network(networks, rows.inputs, rows.past)
    likelihood = config.acting.likelihood(outputs, rows.legal, rows.actions, rows.samples)
    assert likelihood.log_probability.shape == rows.log_probability.shape == rows.advantage.shape
    log_ratio = likelihood.log_probability - rows.log_probability
    ratio = jnp.exp(log_ratio)
    clipped = jnp.clip(ratio, 1.0 - hyperparameters.clip, 1.0 + hyperparameters.clip)
    policy_loss = -jnp.mean(jnp.minimum(ratio * rows.advantage, clipped * rows.advantage))
    assert values.shape == rows.target.shape
    errors = squared(values - rows.target)
    if hyperparameters.value_clip is not None:
        clipped_value = rows.value + jnp.clip(
            values - rows.value, -hyperparameters.value_clip, hyperparameters.value_clip
        )
        errors = jnp.maximum(errors, squared(clipped_value - rows.target))
    value_loss = jnp.mean(errors)
    bonus, entropy = entropies_of(hyperparameters, likelihood, jnp.mean)
    total = policy_loss + hyperparameters.value_weight * value_loss - bonus
    clip_share = jnp.mean(jnp.where(jnp.abs(ratio - 1.0) > hyperparameters.clip, 1.0, 0.0))
    divergence = jnp.mean(ratio - 1.0 - log_ratio)
    return total, (policy_loss, value_loss, entropy, clip_share, divergence)


def _step(config: PolicyConfig, hyperparameters: Hyperparameters, state: Any, rows: PPORows) -> Any:
    """One step on a minibatch; none, once the divergence was too large."""
    import jax
    import jax.numpy as jnp

    weights, moments, going = state
    *new, readings, norm = descended_by(
        config, hyperparameters, weights, moments, lambda networks: objective(config, hyperparameters, networks, rows)
    )
    if hyperparameters.divergence_limit is not None:
        going = going & (readings[4] <= hyperparameters.divergence_limit)
        accepted = jax.tree.map(lambda after, before: jnp.where(going, after, before), new, [weights, moments])
    else:
        accepted = new
    return (*accepted, going), (*readings, norm)


def take_rows(rows: PPORows, order: Array) -> PPORows:
    """Rows in another order. All numbers are taken together: one gather instead of one each."""
    import jax
    import jax.numpy as jnp

    leaves, tree = jax.tree.flatten(rows)
    wide = [leaf.reshape(leaf.shape[0], math.prod(leaf.shape[1:])) for leaf in leaves]
    narrow = [k for k, leaf in enumerate(leaves) if leaf.dtype != jnp.uint8]
    together = jnp.concatenate([wide[k].astype(jnp.float32) for k in narrow], axis=1)[order]
    start = 0
    for k, leaf in enumerate(leaves):
        if k in narrow:
            part = together[:, start : start + wide[k].shape[1]]
            leaves[k] = part.reshape(order.shape[0], *leaf.shape[1:]).astype(leaf.dtype)
            start += wide[k].shape[1]
        else:
            leaves[k] = leaf[order]
    return jax.tree.unflatten(tree, leaves)  # type: ignore[no-any-return]
