"""The Monte Carlo policy gradient."""

from __future__ import annotations

from typing import Any, ClassVar, NamedTuple

import numpy as np

from jokulmist.agents.batches import in_rows
from jokulmist.agents.configs import Hyperparameters, PolicyConfig
from jokulmist.agents.contract import Count, Experience, Scheduled, bootstrap_discount
from jokulmist.agents.policies.policy_method import (
    READINGS,
    PolicyAgent,
    PolicyBatch,
    PolicyLearner,
    after_update,
    descended_by,
    entropies_of,
    hold_policy,
    observed_by,
    rewards_in_scale,
)
from jokulmist.agents.recurrence import (
    Past,
    apply_network,
    apply_to_next,
    fresh_states,
    in_time,
    past_by_time,
    split_sequences,
    stretch_of,
)
from jokulmist.environments.chance.draws import Draw
from jokulmist.environments.spaces.channels import ObservationBatch
from jokulmist.learning.action_distributions import SampledRanges
from jokulmist.learning.advantages import discounted_sums, explained_variance, standardise
from jokulmist.learning.observation_scaling import is_warm
from jokulmist.learning.optimisation import squared
from jokulmist.learning.reward_scaling import open_returns
from jokulmist.learning.schedules import linear
from jokulmist.trees import replaced


class StoredTurns(NamedTuple):
    """Turns that are kept until their episodes have closed, the oldest first.

    Attributes
    ----------
    observed : ObservationBatch of arrays with axes (turns, copies, ...)
    actions : in own form
    samples : what stood behind the numbers of an action
    rewards : float32, shape ``(turns, copies)``
        With what a cut is worth, where a baseline tells it.
    discounts : float32, shape ``(turns, copies)``
        What the future counts after each decision.
    closed : bool, shape ``(turns, copies)``
    open : bool, shape ``(turns, copies)``
        Not learned from yet.
    past : Past, or empty
        What a recurrent network remembered before each.
    """

    observed: Any
    actions: Any
    samples: Any
    rewards: Any
    discounts: Any
    closed: Any
    open: Any
    past: Any = ()


class Reinforce(PolicyAgent):
    """REINFORCE: after whole episodes, actions are made likelier by what came after them.

    maximises  mean( (G - b(s)) log p(a|s) ) + entropy_bonus entropy,  G = r + discount r' + ...

    Williams (1992), "Simple statistical gradient-following algorithms"; Sutton and Barto (2018), section 13.4.

    Parameters
    ----------
    baseline : bool
        Whether a value of the state is learned and taken off the returns.
    returns_normalised : bool
        Whether what the actions are weighted by is brought to mean 0 and spread 1 over each update.
    horizon : int
        Decisions of each copy between two updates.
    longest : int
        Decisions of each copy that are kept until their episode has closed. What is older is learned from as if the
        episode were cut now.
    learning_rate, discount, entropy_bonus, range_entropy_bonus, value_weight
        See `PolicyAgent`.
    value_first, network, shared, scaling, optimiser, gradient_clip
        See `PolicyAgent`.
    rewards_scaled, at_bounds, spread_by_state, first_spread
        Scale of rewards, and the Gaussians of a Range; see `PolicyAgent`.

    Notes
    -----
    Differs from the book: the factor discount^t of the first decisions is left out, as is usual; an episode that was
    open at an update is learned from once it has closed, when the policy may have moved by some steps. A cut is
    followed by the baseline's value of what was last seen; without a baseline it counts as an end. An update takes the
    oldest decisions whose episodes have closed, at most twice as many as fall between two updates; the others wait.
    Fails when returns vary much, when what pays is met rarely, on swing-ups, and is slow with several choices at once;
    numbers of an action are learned more surely by `PPO`.

    Examples
    --------
    >>> Reinforce(baseline=False)
    Reinforce(baseline=False)
    """

    learning_rate: Scheduled = linear(1e-3, 0.0, over=1.0)
    entropy_bonus: Scheduled = 0.01
    horizon: Count = 64
    longest: Count = 1_000
    baseline: bool = True
    returns_normalised: bool = True

    reading_names: ClassVar[tuple[str, ...]] = ("decisions_learned", *READINGS)
    usual_copies: ClassVar[int] = 16

    @staticmethod
    def fresh_memory(config: PolicyConfig, hyperparameters: Hyperparameters) -> Any:
        zero_readings = tuple(
            np.float32(0.0) for _ in READINGS
        )  # the readings of the last update that learned from something
        return {
            "kept": _nothing(config),
            "returns": open_returns(config),
            "told": zero_readings,
            **fresh_states(config),
        }

    @staticmethod
    def restarted(memory: Any, new: Any, mask: Any) -> Any:
        """Episodes that were lost on the way are not learned from."""
        stored = memory["kept"]
        still_open = np.asarray(stored.open) & ~mask
        closed = np.array(stored.closed)
        closed[-1] |= mask
        stored = stored._replace(open=still_open, closed=closed)
        return {**memory, "kept": stored, "returns": replaced(mask, new["returns"], memory["returns"])}

    @staticmethod
    def learn(
        config: PolicyConfig,
        hyperparameters: Hyperparameters,
        learner: PolicyLearner,
        memory: Any,
        experience: Experience,
        noise: Draw,
    ) -> tuple[PolicyLearner, Any, tuple[Any, ...]]:
        import jax
        import jax.numpy as jnp

        experience, learner, open_now = rewards_in_scale(hyperparameters, learner, memory["returns"], experience)
        stretch, next_values = _stretch(config, hyperparameters, learner, experience)
        stored = jax.tree.map(lambda old, new: jnp.concatenate([old, new]), memory["kept"], stretch)
        returns, due = _returns_due(config, learner, stored, next_values)
        batch, past, returns, used, learned = take_due_rows(config, learner, stored, returns, due)
        count = jnp.maximum(jnp.sum(used), 1.0)

        def mean(amounts: Any) -> Any:
            return jnp.sum(amounts * used) / count

        baselines = jnp.zeros_like(returns)
        if config.baseline:
            baselines = _values(config.layout.module(learner.weights), batch.inputs, past)
        advantages = returns - baselines
        if config.returns_normalised:
            advantages = standardise(advantages, mean=mean)
        hyperparameters, advantages = hold_policy(config, hyperparameters, learner, advantages)

        def loss(networks: Any) -> Any:
            if past:
                outputs, values = apply_network(networks, batch.inputs, past)[0]
            else:
                outputs = networks.outputs(batch.inputs)
                values = networks.values(batch.inputs) if config.baseline else None
            likelihood = config.acting.likelihood(outputs, *batch.done)
            assert likelihood.log_probability.shape == advantages.shape == used.shape
            policy_loss = -mean(likelihood.log_probability * advantages)
            value_loss = mean(squared(values - returns)) if config.baseline else jnp.float32(0.0)
            bonus, entropy = entropies_of(hyperparameters, likelihood, mean)
            total = policy_loss + hyperparameters.value_weight * value_loss - bonus
            return total, (policy_loss, value_loss, entropy)

        weights, moments, loss_readings, norm = descended_by(
            config, hyperparameters, learner.weights, learner.moments, loss
        )
        learns = jnp.sum(used) > 0.0  # else the optimiser would roll on by itself
        weights, moments = jax.tree.map(
            lambda new, old: jnp.where(learns, new, old), (weights, moments), (learner.weights, learner.moments)
        )
        explained = explained_variance(baselines, returns, mean)
        # What was due beyond the most of one update waits for the next; nothing of random play is learned from.
        left = stored._replace(open=stored.open & ~learned & is_warm(learner.statistics))
        left = jax.tree.map(lambda leaf: leaf[config.horizon :], left)
        learner = after_update(config, learner, weights, moments, experience)
        # An update without a whole episode learns nothing; its loss and its entropy would be those of no rows.
        loss_readings = tuple(
            jnp.where(learns, latest, before)
            for latest, before in zip((*loss_readings, explained, norm), memory["told"], strict=True)
        )
        return (
            learner,
            {**memory, "kept": left, "returns": open_now, "told": loss_readings},
            (jnp.sum(used), *loss_readings),
        )


def _returns_due(
    config: PolicyConfig, learner: PolicyLearner, stored: StoredTurns, next_values: Any
) -> tuple[Any, Any]:
    """The return from each turn on, and whether the turn is learned from now; shape ``(turns, copies)``."""
    import jax.numpy as jnp

    # An episode that is still open goes on: by the baseline, if it has to be learned from all the same.
    rewards = stored.rewards.at[-1].add(jnp.where(stored.closed[-1], 0.0, next_values))
    returns = discounted_sums(rewards, jnp.where(stored.closed, 0.0, stored.discounts))
    # Whether the episode of each turn closes at it or later; the oldest turns are kept no longer.
    is_whole = discounted_sums(stored.closed.astype(jnp.float32), jnp.where(stored.closed, 0.0, 1.0)) > 0.0
    is_whole = is_whole.at[: config.horizon].set(True)
    return returns, is_whole & stored.open & is_warm(learner.statistics)


def _kept_turns(config: PolicyConfig) -> int:
    """Turns that are kept between updates: whole stretches."""
    horizon = int(config.horizon)
    return -(-max(int(config.longest), horizon) // horizon) * horizon


def _nothing(config: PolicyConfig) -> StoredTurns:
    """What is kept before the first turn: nothing that is open."""
    lead, spec = (_kept_turns(config), config.copies), config.spec
    acting = config.acting
    seen = ObservationBatch(
        np.zeros((*lead, spec.width), np.float32),
        {c.name: np.zeros((*lead, *c.shape), np.uint8) for c in spec.images},
        tuple(np.ones((*lead, c.count), bool) for c in acting.choices.values()) if spec.masked else (),
        np.zeros(lead, np.int32),
    )
    unit = np.zeros((*lead, acting.width), np.float32)
    actions = acting.native([np.zeros(lead, np.int32) for _ in acting.choices], unit)
    samples = SampledRanges(unit, unit.copy() if acting.squashed else ()) if acting.width else ()
    rewards = np.zeros(lead, np.float32)
    past: Any = ()
    if config.state_width:
        past = Past(np.zeros((*lead, config.state_width), np.float32), np.ones(lead, bool))
    return StoredTurns(
        seen, actions, samples, rewards, rewards.copy(), np.zeros(lead, bool), np.zeros(lead, bool), past
    )


def _stretch(
    config: PolicyConfig, hyperparameters: Hyperparameters, learner: PolicyLearner, experience: Experience
) -> tuple[StoredTurns, Any]:
    """What has happened now, and what is ahead of its last turn; a cut is worth what the baseline says of the last
    observation."""
    import jax.numpy as jnp

    rewards = experience.rewards
    weight = jnp.broadcast_to(jnp.float32(bootstrap_discount(hyperparameters, experience.advances)), rewards.shape)
    next_values = jnp.zeros_like(rewards)
    samples, past = experience.policy_extras
    past = past_by_time(past, experience)
    if config.baseline:
        networks, after = (
            config.layout.module(learner.weights),
            observed_by(config, learner.statistics, in_rows(experience.last)),
        )
        if past:
            inputs = observed_by(config, learner.statistics, in_rows(experience.observed))
            values = apply_to_next(networks, after, apply_network(networks, inputs, past)[1])[1]
        else:
            values = networks.values(after)
        next_values = weight * values.reshape(rewards.shape)
        rewards = rewards + jnp.where(experience.closed & ~experience.ended, next_values, 0.0)
    still_open = jnp.ones_like(experience.closed)
    stretch = StoredTurns(
        experience.observed, experience.actions, samples, rewards, weight, experience.closed, still_open, past
    )
    return stretch, next_values[-1]


def _values(networks: Any, inputs: Any, past: Any) -> Any:
    """The values of rows; of a recurrent network along time."""
    return apply_network(networks, inputs, past)[0][1] if past else networks.values(inputs)


def take_due_rows(
    config: PolicyConfig, learner: PolicyLearner, stored: StoredTurns, returns: Any, due: Any
) -> tuple[PolicyBatch, Any, Any, Any, Any]:
    """The turns that an update learns from, the oldest first, at most twice as many as fall between two updates.

    A recurrent network learns from whole stretches, in which some turns may not count: they are gone through for what
    they leave behind.
    """
    import jax
    import jax.numpy as jnp

    length = stretch_of(config)
    rows = in_rows((stored.observed, stored.actions, stored.samples, stored.past, returns, due))
    if config.state_width:
        rows = split_sequences(rows, due.shape, length)
        is_due = jnp.any(rows[-1], axis=1)
    else:
        is_due = rows[-1]
    most = min(is_due.size, 2 * config.horizon * config.copies // length)
    (row,) = jnp.nonzero(is_due, size=most, fill_value=0)
    is_row = (jnp.arange(most) < jnp.sum(is_due)).astype(jnp.float32)
    *batch_rows, counts = jax.tree.map(lambda leaf: leaf[row], rows)
    learned = is_due & (jnp.cumsum(is_due.astype(jnp.int32)) <= most)
    if config.state_width:
        past = batch_rows.pop(3)
        (batch_rows, used), past = in_time((batch_rows, counts * is_row[:, None]), past)
        learned = jnp.repeat(learned.reshape(-1, due.shape[1]), length, axis=0) & due
    else:
        past, used, learned = batch_rows.pop(3), is_row, learned.reshape(due.shape)
    observed, actions, samples, returns = batch_rows
    return (
        PolicyBatch(observed_by(config, learner.statistics, observed), observed.legal, actions, samples),
        past,
        returns,
        used,
        learned,
    )
