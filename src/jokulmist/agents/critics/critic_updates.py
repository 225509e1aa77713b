"""Updates of critics and of the policy that follows them, on rows from the replay memory."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, NamedTuple

from jokulmist.agents.batches import as_flat
from jokulmist.agents.configs import CriticConfig, Hyperparameters
from jokulmist.agents.contract import Experience, bootstrap_discount, counts_advances
from jokulmist.agents.critics.critic_networks import CriticLearner, CriticUpdateState, values_at, with_action
from jokulmist.agents.replay_updates import (
    apply_in_turn,
    learned_when_started,
    rows_due,
    start_of,
)
from jokulmist.agents.sequences import learned_rows, past_in, sample_sequences, time_major, with_past
from jokulmist.arrays import Array
from jokulmist.environments.chance.draws import Draw
from jokulmist.learning import replay as memory_of
from jokulmist.learning.action_distributions import joint_over
from jokulmist.learning.observation_scaling import (
    gathered,
    met,
    prepared,
)
from jokulmist.learning.optimisation import descend, squared
from jokulmist.learning.replay import Sample
from jokulmist.learning.reward_scaling import returns_after, spread_of

Update = Callable[..., tuple[CriticUpdateState, Any]]


def learned(
    config: CriticConfig,
    hyperparameters: Hyperparameters,
    learner: CriticLearner,
    memory: Any,
    experience: Experience,
    noise: Draw,
    update: Update,
    readings: int,
    draws: int = 0,
    bonus: Any = None,
) -> tuple[CriticLearner, Any, tuple[Any, ...]]:
    """Remember what happened, and make the updates that are due."""
    import jax.numpy as jnp

    acting = config.acting
    # Replay keeps the rewards as they were: they are divided when they are learned from.
    returns, open_now = returns_after(
        experience, learner.returns, memory["returns"], bootstrap_discount(hyperparameters, experience.advances), bonus
    )
    action, past = experience.policy_extras if config.state_width else (experience.policy_extras, ())
    if acting.choices:
        index = joint_over(config.spec.action).index(experience.actions)[..., None]
        action = jnp.concatenate([index.astype(jnp.float32), action], axis=-1)
    if config.state_width:
        action = with_past(action, past, experience)
    replay = memory_of.add_to_replay(config.spec, learner.replay, experience, action, counts_advances(config))
    updates, rows = rows_due(config, experience, config.updates)
    chance = memory_of.replay_draws(noise, rows, prioritised=False)
    lead = (rows, config.lookahead) if config.state_width else (rows,)
    normal = noise.normal(shape=(*lead, draws, acting.width)) if acting.width and draws else jnp.zeros((*lead, 0, 0))
    spread = spread_of(returns)

    def going(learning: CriticUpdateState) -> Any:
        if config.state_width:
            parts = (sample_sequences(config, hyperparameters, replay, chance, counts_advances(config), bonus), normal)
            learning, update_readings = apply_in_turn(
                lambda state, transitions, chance: update(
                    config, hyperparameters, state, sequence_rows(config, learner, transitions, chance, spread)
                ),
                learning,
                updates,
                config.minibatch,
                *parts,
            )
            return learning, jnp.mean(update_readings, axis=0)
        sample = memory_of.sample_replay(
            config.spec,
            replay,
            chance,
            config.n_step,
            hyperparameters.discount,
            counted=counts_advances(config),
            bonus=bonus,
        )
        batch = rows_from(config, learner, sample, spread, normal)
        learning, update_readings = apply_in_turn(
            lambda state, rows: update(config, hyperparameters, state, rows), learning, updates, config.minibatch, batch
        )
        return learning, jnp.mean(update_readings, axis=0)

    decisions = learner.decisions + experience.rewards.size
    learning, update_readings = learned_when_started(
        decisions, start_of(config, config.lookahead), going, learner.learning, readings
    )
    statistics = gathered(learner.statistics, met(experience))
    learner = CriticLearner(learning, statistics, returns, decisions, learner.random_play, replay)
    return learner, {**memory, "returns": open_now}, tuple(update_readings)


class CriticRows(NamedTuple):
    """Transitions in the scale of the networks, one a row.

    Attributes
    ----------
    inputs, following : Inputs
    legal, legal_following : tuple of bool array
    index : int32
        The combination of choices that was taken.
    unit : float32, shape ``(rows, width)``
        The numbers that were taken.
    n_step_return, bootstrap_discount : float32
        See `replay.Sample`.
    normal : float32, shape ``(rows, draws, width)``
    past : Past, or empty
        What recurrent networks remembered before each of the decisions of sequences: the policy, then the critics.
    steps : int32, shape ``(decisions, sequences)``
        How many of them each target goes through.
    counts : float32, shape ``(rows,)``
        The weight of each in a mean.
    """

    inputs: Any
    following: Any
    legal: Any
    legal_following: Any
    index: Any
    unit: Any
    n_step_return: Any
    bootstrap_discount: Any
    normal: Any
    past: Any = ()
    steps: Any = ()
    counts: Any = ()

    def mean(self, amounts: Array) -> Array:
        """The mean over the rows, the last axis."""
        import jax.numpy as jnp

        return amounts @ self.counts if self.past else jnp.mean(amounts, axis=-1)


def rows_from(config: CriticConfig, learner: CriticLearner, sample: Sample, spread: Any, normal: Array) -> CriticRows:
    """A sample in the scale of the networks."""
    import jax.numpy as jnp

    has_choices = bool(config.acting.choices)
    return CriticRows(
        inputs=prepared(config.spec, config.scaling, learner.statistics, sample.observed),
        following=prepared(config.spec, config.scaling, learner.statistics, sample.following),
        legal=sample.observed.legal,
        legal_following=sample.following.legal,
        index=sample.action[:, 0].astype(jnp.int32) if has_choices else (),
        unit=sample.action[:, int(has_choices) : config.action_numbers],
        n_step_return=sample.n_step_return / spread,
        bootstrap_discount=sample.bootstrap_discount,
        normal=normal,
    )


def sequence_rows(config: CriticConfig, learner: CriticLearner, sample: Any, normal: Any, spread: Any) -> CriticRows:
    """Sequences of decisions as rows of decisions times sequences, in the scale of the networks."""
    sample = time_major(sample)
    turns, many = sample.place.shape
    normal = normal.swapaxes(0, 1).reshape(turns * many, *normal.shape[2:])
    return rows_from(config, learner, sample, spread, normal)._replace(
        past=past_in(config, sample), steps=sample.steps, counts=learned_rows(config, turns, many)
    )


def critic_values(config: CriticConfig, critics: Any, rows: CriticRows) -> Any:
    """What critics say of what was done, shape ``(critics, rows, combinations)``."""
    if not rows.past:
        return values_at(critics, rows.inputs, rows.unit)
    states = rows.past.states[..., config.state_width :]
    return critics.apply_sequence(
        with_action(rows.inputs, rows.unit), rows.past.restarts, states, config.network.burn_in
    )[0]


def critics_step(
    config: CriticConfig,
    hyperparameters: Hyperparameters,
    learning: CriticUpdateState,
    rows: CriticRows,
    target_q: Array,
) -> tuple[Array, Any, Array]:
    """One step of all critics towards the wanted values, shape ``(rows,)``: weights, moments, and readings.

    The readings are loss, mean value, error, norm of the gradient.
    """
    import jax
    import jax.numpy as jnp

    layout = config.critics

    def loss(leaves: Any) -> Any:
        values = critic_values(config, layout.combined(leaves), rows)
        if config.acting.choices:
            one_hot = rows.index[:, None] == jnp.arange(values.shape[-1])
            chosen = jnp.sum(jnp.where(one_hot, values, 0.0), axis=-1)
        else:
            chosen = values[..., 0]
        assert chosen.shape[1:] == target_q.shape
        error = chosen - target_q
        each = squared(error)
        # Summed over the critics, so that each is moved as if it were alone.
        return jnp.sum(rows.mean(each)), jnp.stack([each, chosen, jnp.abs(error)])

    gradients, aux = jax.grad(loss, has_aux=True)(layout.leaves(learning.critics))
    weights, moments, norm = descend(
        config.optimiser,
        learning.critics,
        learning.moments[1],
        as_flat(gradients),
        hyperparameters.learning_rate,
        hyperparameters.gradient_clip,
    )
    return weights, moments, jnp.concatenate([jnp.mean(rows.mean(aux), axis=1), norm[None]])


def policy_step(
    config: CriticConfig, hyperparameters: Hyperparameters, learning: CriticUpdateState, loss: Callable[[Any], Any]
) -> tuple[Array, Any, Any]:
    """One step of the policy down a loss of its network, which also gives readings: weights, moments, readings."""
    import jax

    layout = config.layout
    gradients, aux = jax.grad(lambda leaves: loss(layout.combined(leaves)), has_aux=True)(
        layout.leaves(learning.policy)
    )
    weights, moments, _ = descend(
        config.optimiser,
        learning.policy,
        learning.moments[0],
        as_flat(gradients),
        hyperparameters.policy_rate,
        hyperparameters.gradient_clip,
    )
    return weights, moments, aux


def followed(target: Any, weights: Any, share: Any) -> Any:
    """A target network's weights, moved by a share towards the other's (Lillicrap et al., 2016, algorithm 1)."""
    return target + share * (weights - target)
