"""Updates of critics and of the policy that follows them, on rows from the replay memory."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, NamedTuple

from jokulmist.agents.batches import as_flat
from jokulmist.agents.configs import CriticConfig, Hyperparameters
from jokulmist.agents.critics.critic_networks import CriticLearner, CriticUpdateState, values_at, with_action
from jokulmist.agents.sequences import learned_rows, past_in, time_major
from jokulmist.arrays import Array
from jokulmist.learning.observation_scaling import (
    prepared,
)
from jokulmist.learning.optimisation import descend, squared
from jokulmist.learning.replay import Sample


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
