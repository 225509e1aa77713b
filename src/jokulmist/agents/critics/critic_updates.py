"""Updates of critics and of the policy that follows them, on rows from the replay memory."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, NamedTuple

from jokulmist.agents.batches import as_flat
from jokulmist.agents.contract import (
    Numbers,
    counts_advances,
    weight_ahead,
)
from jokulmist.agents.critics.critic_networks import Learned, Learning, Memory, values_at
from jokulmist.agents.replay_updates import (
    learned_when_started,
    one_after_another,
    rows_due,
    start_of,
)
from jokulmist.learning import replay as memory_of
from jokulmist.learning.action_distributions import joint_over
from jokulmist.learning.observation_scaling import (
    gathered,
    met,
    prepared,
)
from jokulmist.learning.optimisation import descended, squared
from jokulmist.learning.reward_scaling import returns_after, spread_of

Update = Callable[..., tuple[Learning, Any]]


def learned(
    shapes: Any, numbers: Numbers, learner: Learned, memory: Memory, experience: Any, noise: Any, update: Update,
    readings: int, chances: int = 0,
) -> tuple[Learned, Memory, tuple[Any, ...]]:  # fmt: skip
    """Remember what happened, and make the updates that are due.

    Parameters
    ----------
    update : function (shapes, numbers, learning, Rows) -> learning, readings
    readings : int
        How many an update gives.
    chances : int
        Sets of standard normal numbers that an update needs, each of the shape of its actions.
    """
    import jax.numpy as jnp

    acting = shapes.acting
    # Replay keeps the rewards as they were: they are divided when they are learned from.
    returns, open_now = returns_after(
        experience, learner.returns, memory.returns, weight_ahead(numbers, experience.advances)
    )
    action = experience.notes
    if acting.choices:
        index = joint_over(shapes.spec.action).index(experience.actions)[..., None]
        action = jnp.concatenate([index.astype(jnp.float32), action], axis=-1)
    replay = memory_of.written(shapes.spec, learner.replay, experience, action, counts_advances(shapes))
    updates, rows = rows_due(shapes, experience)
    chance = memory_of.chances_for(noise, rows, prioritised=False)
    normal = noise.normal(shape=(rows, chances, acting.width)) if acting.width and chances else jnp.zeros((rows, 0, 0))

    def going(learning: Learning) -> Any:
        sample = memory_of.sampled(
            shapes.spec, replay, chance, shapes.n_step, numbers.discount, counted=counts_advances(shapes)
        )
        batch = rows_from(shapes, learner, sample, spread_of(returns), normal)
        learning, told = one_after_another(
            lambda now, rows: update(shapes, numbers, now, rows), learning, updates, shapes.minibatch, batch
        )
        return learning, jnp.mean(told, axis=0)

    decisions = learner.decisions + experience.rewards.size
    learning, told = learned_when_started(decisions, start_of(shapes, shapes.n_step), going, learner.learning, readings)
    statistics = gathered(learner.statistics, met(experience))
    learner = Learned(learning, statistics, returns, decisions, replay)
    return learner, Memory(memory.noise, open_now), tuple(told)


class Rows(NamedTuple):
    """Transitions in the scale of the networks, one a row.

    Attributes
    ----------
    inputs, following : Inputs
    legal, legal_following : tuple of bool array
    index : int32
        The combination of choices that was taken.
    unit : float32, shape ``(rows, width)``
        The numbers that were taken.
    gain, weight_ahead : float32
        See `replay.Sample`.
    normal : float32, shape ``(rows, chances, width)``
    """

    inputs: Any
    following: Any
    legal: Any
    legal_following: Any
    index: Any
    unit: Any
    gain: Any
    weight_ahead: Any
    normal: Any


def rows_from(shapes: Any, learner: Learned, sample: Any, spread: Any, normal: Any) -> Rows:
    """A sample in the scale of the networks."""
    import jax.numpy as jnp

    some = bool(shapes.acting.choices)
    return Rows(
        inputs=prepared(shapes.spec, shapes.scaling, learner.statistics, sample.observed),
        following=prepared(shapes.spec, shapes.scaling, learner.statistics, sample.following),
        legal=sample.observed.legal,
        legal_following=sample.following.legal,
        index=sample.action[:, 0].astype(jnp.int32) if some else (),
        unit=sample.action[:, int(some) :],
        gain=sample.gain / spread,
        weight_ahead=sample.weight_ahead,
        normal=normal,
    )


def critics_step(shapes: Any, numbers: Numbers, learning: Learning, rows: Rows, wanted: Any) -> tuple[Any, Any, Any]:
    """One step of all critics towards the wanted values, shape ``(rows,)``: weights, moments, and readings.

    The readings are loss, mean value, error, norm of the gradient.
    """
    import jax
    import jax.numpy as jnp

    layout = shapes.critics

    def loss(leaves: Any) -> Any:
        values = values_at(layout.combined(leaves), rows.inputs, rows.unit)
        if shapes.acting.choices:
            taken = rows.index[:, None] == jnp.arange(values.shape[-1])
            chosen = jnp.sum(jnp.where(taken, values, 0.0), axis=-1)
        else:
            chosen = values[..., 0]
        assert chosen.shape[1:] == wanted.shape
        error = chosen - wanted
        each = squared(error)
        # Summed over the critics, so that each is moved as if it were alone.
        return jnp.sum(jnp.mean(each, axis=1)), jnp.stack([each, chosen, jnp.abs(error)])

    gradients, told = jax.grad(loss, has_aux=True)(layout.leaves(learning.critics))
    weights, moments, norm = descended(
        shapes.optimiser, learning.critics, learning.moments[1], as_flat(gradients), numbers.learning_rate,
        getattr(numbers, "gradient_clip", None),
    )  # fmt: skip
    return weights, moments, jnp.concatenate([jnp.mean(told, axis=(1, 2)), norm[None]])


def policy_step(shapes: Any, numbers: Numbers, learning: Learning, loss: Callable[[Any], Any]) -> tuple[Any, Any, Any]:
    """One step of the policy down a loss of its network, which also gives readings: weights, moments, readings."""
    import jax

    layout = shapes.layout
    gradients, told = jax.grad(lambda leaves: loss(layout.combined(leaves)), has_aux=True)(
        layout.leaves(learning.policy)
    )
    weights, moments, _ = descended(
        shapes.optimiser, learning.policy, learning.moments[0], as_flat(gradients), numbers.policy_rate,
        getattr(numbers, "gradient_clip", None),
    )  # fmt: skip
    return weights, moments, told


def followed(target: Any, weights: Any, share: Any) -> Any:
    """A target network's weights, moved by a share towards the other's (Lillicrap et al., 2016, algorithm 1)."""
    return target + share * (weights - target)
