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
from jokulmist.agents.critics.critic_networks import CriticLearner, CriticUpdateState, values_at, with_action
from jokulmist.agents.replay_updates import (
    learned_when_started,
    one_after_another,
    rows_due,
    start_of,
)
from jokulmist.agents.stretches import along_time, learned_rows, past_in, stretches, with_past
from jokulmist.learning import replay as memory_of
from jokulmist.learning.action_distributions import joint_over
from jokulmist.learning.observation_scaling import (
    gathered,
    met,
    prepared,
)
from jokulmist.learning.optimisation import descended, squared
from jokulmist.learning.reward_scaling import returns_after, spread_of

Update = Callable[..., tuple[CriticUpdateState, Any]]


def learned(
    shapes: Any, numbers: Numbers, learner: CriticLearner, memory: Any, experience: Any, noise: Any, update: Update,
    readings: int, draws: int = 0, bonus: Any = None,
) -> tuple[CriticLearner, Any, tuple[Any, ...]]:  # fmt: skip
    """Remember what happened, and make the updates that are due."""
    import jax.numpy as jnp

    acting = shapes.acting
    # Replay keeps the rewards as they were: they are divided when they are learned from.
    returns, open_now = returns_after(
        experience, learner.returns, memory["returns"], weight_ahead(numbers, experience.advances), bonus
    )
    action, past = experience.notes if shapes.state_width else (experience.notes, ())
    if acting.choices:
        index = joint_over(shapes.spec.action).index(experience.actions)[..., None]
        action = jnp.concatenate([index.astype(jnp.float32), action], axis=-1)
    if shapes.state_width:
        action = with_past(action, past, experience)
    replay = memory_of.written(shapes.spec, learner.replay, experience, action, counts_advances(shapes))
    updates, rows = rows_due(shapes, experience)
    chance = memory_of.draws_for(noise, rows, prioritised=False)
    lead = (rows, shapes.lookahead) if shapes.state_width else (rows,)
    normal = noise.normal(shape=(*lead, draws, acting.width)) if acting.width and draws else jnp.zeros((*lead, 0, 0))
    spread = spread_of(returns)

    def going(learning: CriticUpdateState) -> Any:
        if shapes.state_width:
            parts = (stretches(shapes, numbers, replay, chance, counts_advances(shapes), bonus), normal)
            learning, update_readings = one_after_another(
                lambda state, transitions, chance: update(shapes, numbers, state, rows_along(shapes, learner, transitions, chance, spread)),
                learning, updates, shapes.minibatch, *parts,
            )  # fmt: skip
            return learning, jnp.mean(update_readings, axis=0)
        sample = memory_of.sampled(
            shapes.spec, replay, chance, shapes.n_step, numbers.discount, counted=counts_advances(shapes), bonus=bonus
        )
        batch = rows_from(shapes, learner, sample, spread, normal)
        learning, update_readings = one_after_another(
            lambda state, rows: update(shapes, numbers, state, rows), learning, updates, shapes.minibatch, batch
        )
        return learning, jnp.mean(update_readings, axis=0)

    decisions = learner.decisions + experience.rewards.size
    learning, update_readings = learned_when_started(
        decisions, start_of(shapes, shapes.lookahead), going, learner.learning, readings
    )
    statistics = gathered(learner.statistics, met(experience))
    learner = CriticLearner(learning, statistics, returns, decisions, replay)
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
    gain, weight_ahead : float32
        See `replay.Sample`.
    normal : float32, shape ``(rows, draws, width)``
    past : Past, or empty
        What recurrent networks remembered before each of the decisions of stretches: the policy, then the critics.
    steps : int32, shape ``(decisions, stretches)``
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
    gain: Any
    weight_ahead: Any
    normal: Any
    past: Any = ()
    steps: Any = ()
    counts: Any = ()

    def mean(self, amounts: Any) -> Any:
        """The mean over the rows, the last axis."""
        import jax.numpy as jnp

        return amounts @ self.counts if self.past else jnp.mean(amounts, axis=-1)


def rows_from(shapes: Any, learner: CriticLearner, sample: Any, spread: Any, normal: Any) -> CriticRows:
    """A sample in the scale of the networks."""
    import jax.numpy as jnp

    has_choices = bool(shapes.acting.choices)
    return CriticRows(
        inputs=prepared(shapes.spec, shapes.scaling, learner.statistics, sample.observed),
        following=prepared(shapes.spec, shapes.scaling, learner.statistics, sample.following),
        legal=sample.observed.legal,
        legal_following=sample.following.legal,
        index=sample.action[:, 0].astype(jnp.int32) if has_choices else (),
        unit=sample.action[:, int(has_choices) : shapes.action_numbers],
        gain=sample.gain / spread,
        weight_ahead=sample.weight_ahead,
        normal=normal,
    )


def rows_along(shapes: Any, learner: CriticLearner, sample: Any, normal: Any, spread: Any) -> CriticRows:
    """Stretches of decisions as rows of decisions times stretches, in the scale of the networks."""
    sample = along_time(sample)
    turns, many = sample.place.shape
    normal = normal.swapaxes(0, 1).reshape(turns * many, *normal.shape[2:])
    return rows_from(shapes, learner, sample, spread, normal)._replace(
        past=past_in(shapes, sample), steps=sample.steps, counts=learned_rows(shapes, turns, many)
    )


def judged_rows(shapes: Any, critics: Any, rows: CriticRows) -> Any:
    """What critics say of what was done, shape ``(critics, rows, combinations)``."""
    if not rows.past:
        return values_at(critics, rows.inputs, rows.unit)
    states = rows.past.states[..., shapes.state_width :]
    return critics.apply_sequence(
        with_action(rows.inputs, rows.unit), rows.past.restarts, states, shapes.network.burn_in
    )[0]


def critics_step(
    shapes: Any, numbers: Numbers, learning: CriticUpdateState, rows: CriticRows, wanted: Any
) -> tuple[Any, Any, Any]:
    """One step of all critics towards the wanted values, shape ``(rows,)``: weights, moments, and readings.

    The readings are loss, mean value, error, norm of the gradient.
    """
    import jax
    import jax.numpy as jnp

    layout = shapes.critics

    def loss(leaves: Any) -> Any:
        values = judged_rows(shapes, layout.combined(leaves), rows)
        if shapes.acting.choices:
            one_hot = rows.index[:, None] == jnp.arange(values.shape[-1])
            chosen = jnp.sum(jnp.where(one_hot, values, 0.0), axis=-1)
        else:
            chosen = values[..., 0]
        assert chosen.shape[1:] == wanted.shape
        error = chosen - wanted
        each = squared(error)
        # Summed over the critics, so that each is moved as if it were alone.
        return jnp.sum(rows.mean(each)), jnp.stack([each, chosen, jnp.abs(error)])

    gradients, aux = jax.grad(loss, has_aux=True)(layout.leaves(learning.critics))
    weights, moments, norm = descended(
        shapes.optimiser, learning.critics, learning.moments[1], as_flat(gradients), numbers.learning_rate,
        getattr(numbers, "gradient_clip", None),
    )  # fmt: skip
    return weights, moments, jnp.concatenate([jnp.mean(rows.mean(aux), axis=1), norm[None]])


def policy_step(
    shapes: Any, numbers: Numbers, learning: CriticUpdateState, loss: Callable[[Any], Any]
) -> tuple[Any, Any, Any]:
    """One step of the policy down a loss of its network, which also gives readings: weights, moments, readings."""
    import jax

    layout = shapes.layout
    gradients, aux = jax.grad(lambda leaves: loss(layout.combined(leaves)), has_aux=True)(
        layout.leaves(learning.policy)
    )
    weights, moments, _ = descended(
        shapes.optimiser, learning.policy, learning.moments[0], as_flat(gradients), numbers.policy_rate,
        getattr(numbers, "gradient_clip", None),
    )  # fmt: skip
    return weights, moments, aux


def followed(target: Any, weights: Any, share: Any) -> Any:
    """A target network's weights, moved by a share towards the other's (Lillicrap et al., 2016, algorithm 1)."""
    return target + share * (weights - target)
