"""The values of DQN's networks, and one update of them on a minibatch: of means, of quantiles, of stretches with a
recurrent network."""

from __future__ import annotations

from typing import Any, NamedTuple

import numpy as np

from jokulmist.agents.action_values import masked_values
from jokulmist.agents.batches import as_flat
from jokulmist.agents.contract import Numbers
from jokulmist.agents.stretches import along_time, at_the_end, learned_rows, past_in
from jokulmist.agents.values import noisy
from jokulmist.agents.values.quantiles import by_action, mean_of_quantiles, of_action, quantile_loss
from jokulmist.environments.spaces.channels import Seen
from jokulmist.learning.networks.inputs import applied
from jokulmist.learning.observation_scaling import prepared
from jokulmist.learning.optimisation import descended, huber, squared


class DQNUpdateState(NamedTuple):
    """What moves while some updates are made; see `Learned`."""

    weights: Any
    target: Any
    moments: Any
    priorities: Any
    statistics: Any


def action_values(shapes: Any, weights: Any, statistics: Any, seen: Seen, xp: Any = None) -> Any:
    """The values of all actions, shape ``(rows, actions)``; what is not allowed has a finite low one."""
    inputs = prepared(shapes.spec, shapes.scaling, statistics, seen)
    layout = shapes.layout
    if shapes.state_width:  # as if the episodes began with them
        states = np.zeros((inputs.numbers.shape[0], shapes.state_width), np.float32)
        outputs, _ = layout.module(weights).step(inputs, states)
    elif xp is np:
        outputs = layout.through_numpy(weights, inputs.numbers, shapes.network.activation)
    else:
        outputs = applied(layout.module(weights), inputs)
    return masked_values(shapes.spec, _values(shapes, outputs), seen.legal)


def remembered_values(shapes: Any, learner: Any, seen: Seen, states: Any) -> tuple[Any, Any]:
    """The same of a recurrent network that remembers something, and the states after."""
    inputs = prepared(shapes.spec, shapes.scaling, learner.statistics, seen)
    outputs, after = shapes.layout.module(learner.weights).step(inputs, states)
    return masked_values(shapes.spec, _values(shapes, outputs), seen.legal), after


def said_of(shapes: Any, weights: Any, statistics: Any, seen: Seen) -> Any:
    """What a network says of what follows: values, or the quantiles of each action."""
    if shapes.quantiles is None:
        return action_values(shapes, weights, statistics, seen)
    inputs = prepared(shapes.spec, shapes.scaling, statistics, seen)
    return by_action(shapes, applied(shapes.layout.module(weights), inputs))


def _values(shapes: Any, outputs: Any) -> Any:
    """The values of all actions from the network's outputs."""
    if shapes.quantiles is not None:
        return mean_of_quantiles(shapes, by_action(shapes, outputs))
    if not shapes.dueling:
        return outputs
    gains = outputs[:, 1:]
    return outputs[:, :1] + gains - gains.mean(axis=1, keepdims=True)


def drawn_weights(shapes: Any, weights: Any, draws: Any, network_index: int) -> Any:
    """The weights of a network; where they are noisy, with a draw of their noise."""
    import jax.numpy as jnp

    return noisy.with_noise(shapes.layout, weights, draws[network_index], jnp) if shapes.noisy else weights


def leaves_of(shapes: Any, weights: Any) -> list[Any]:
    """What a loss is differentiated by: the arrays of the network, or where they are noisy the whole vector."""
    return [weights] if shapes.noisy else shapes.layout.leaves(weights)


def module_of(shapes: Any, leaves: list[Any], draws: Any) -> Any:
    """The network of these."""
    if shapes.noisy:
        return shapes.layout.module(drawn_weights(shapes, leaves[0], draws, 0))
    return shapes.layout.combined(leaves)


def targets(shapes: Any, learning: DQNUpdateState, sample: Any, later: Any, draws: Any = ()) -> Any:
    """What the values of the actions taken should be, shape ``(minibatch,)``."""
    import jax.numpy as jnp

    online_values: Any = None
    if shapes.double or not shapes.target:
        weights = drawn_weights(shapes, learning.weights, draws, 1)
        online_values = action_values(shapes, weights, learning.statistics, sample.following)
    values = later if shapes.target else online_values
    if shapes.double:
        best = jnp.take_along_axis(values, jnp.argmax(online_values, axis=1)[:, None], axis=1)[:, 0]
    else:
        best = jnp.max(values, axis=1)
    return sample.gain + sample.weight_ahead * best


def _stepped(shapes: Any, numbers: Numbers, learning: DQNUpdateState, loss_of: Any) -> tuple[DQNUpdateState, Any]:
    """One step down a loss of the network's arrays, which also gives the errors and its readings; the readings with the
    norm of the gradient, and the errors."""
    import jax
    import jax.numpy as jnp

    (_, (error, aux)), gradients = jax.value_and_grad(loss_of, has_aux=True)(leaves_of(shapes, learning.weights))
    most = getattr(numbers, "gradient_clip", None)
    weights, moments, norm = descended(
        shapes.optimiser, learning.weights, learning.moments, as_flat(gradients), numbers.learning_rate, most
    )
    weights = shapes.layout.still(shapes.frozen, learning.weights, weights)
    return learning._replace(weights=weights, moments=moments), (jnp.concatenate([aux, norm[None]]), error)


def update_along(shapes: Any, numbers: Numbers, learning: DQNUpdateState, sample: Any) -> tuple[DQNUpdateState, Any]:
    """One step on stretches of a minibatch with a recurrent network; its readings, and the errors."""
    import jax.numpy as jnp

    layout, sample = shapes.layout, along_time(sample)
    inputs, after = (
        prepared(shapes.spec, shapes.scaling, learning.statistics, s) for s in (sample.observed, sample.following)
    )
    past = past_in(shapes, sample)
    turns = past.restarts.shape[0]

    def next_value(weights: Any) -> Any:
        """The values of what followed, with what was remembered by then."""
        module = layout.module(weights)
        _, remembered = module.apply_sequence(inputs, past.restarts, past.states)
        then = at_the_end(remembered, sample.steps, turns)
        return masked_values(shapes.spec, _values(shapes, module.step(after, then)[0]), sample.following.legal)

    later = next_value(learning.target if shapes.target else learning.weights)
    best = jnp.argmax(next_value(learning.weights) if shapes.double else later, axis=1)
    best_later = jnp.take_along_axis(later, best[:, None], axis=1)[:, 0]
    wanted = sample.gain + sample.weight_ahead * best_later
    counts = learned_rows(shapes, turns, past.restarts.shape[1])
    one_hot = sample.action[:, :1] == jnp.arange(shapes.joint.count)

    def loss_of(leaves: Any) -> Any:
        outputs, _ = layout.combined(leaves).apply_sequence(inputs, past.restarts, past.states, shapes.network.burn_in)
        chosen = jnp.sum(jnp.where(one_hot, _values(shapes, outputs), 0.0), axis=1)
        error = chosen - wanted
        each = huber(error, numbers.huber_reach) if shapes.loss == "huber" else squared(error)
        return jnp.sum(counts * each), (error, jnp.stack([each, chosen, jnp.abs(error)]) @ counts)

    return _stepped(shapes, numbers, learning, loss_of)


def update_quantiles(
    shapes: Any, numbers: Numbers, learning: DQNUpdateState, sample: Any, later: Any, draws: Any = ()
) -> tuple[DQNUpdateState, Any]:
    """One step of the quantiles on one minibatch; its readings, and how far the means are off."""
    import jax
    import jax.numpy as jnp

    online_quantiles = said_of(
        shapes, drawn_weights(shapes, learning.weights, draws, 1), learning.statistics, sample.following
    )
    after = later if shapes.target else online_quantiles
    choosing = masked_values(
        shapes.spec, mean_of_quantiles(shapes, online_quantiles if shapes.double else after), sample.following.legal
    )
    next_quantiles = of_action(after, jnp.argmax(choosing, axis=1))
    wanted = sample.gain[:, None] + sample.weight_ahead[:, None] * next_quantiles
    inputs = prepared(shapes.spec, shapes.scaling, learning.statistics, sample.observed)

    def loss_of(leaves: Any) -> Any:
        quantiles = by_action(shapes, applied(module_of(shapes, leaves, draws), inputs))
        chosen = of_action(quantiles, sample.action[:, 0])
        assert chosen.shape == wanted.shape
        each = quantile_loss(chosen, wanted)
        mean = jnp.mean(chosen, axis=1)
        error = mean - jnp.mean(wanted, axis=1)
        total = jnp.mean(sample.importance * each)
        if hasattr(numbers, "conservative"):
            able = masked_values(shapes.spec, jnp.mean(quantiles, axis=-1), sample.observed.legal)
            total = total + numbers.conservative * jnp.mean(jax.nn.logsumexp(able, axis=1) - mean)
        return total, (error, jnp.mean(jnp.stack([each, mean, jnp.abs(error)]), axis=1))

    return _stepped(shapes, numbers, learning, loss_of)


def update(
    shapes: Any, numbers: Numbers, learning: DQNUpdateState, sample: Any, later: Any, draws: Any = ()
) -> tuple[DQNUpdateState, Any]:
    """One step on one minibatch; its readings, and the errors."""
    import jax
    import jax.numpy as jnp

    if shapes.quantiles is not None:
        return update_quantiles(shapes, numbers, learning, sample, later, draws)
    wanted = targets(shapes, learning, sample, later, draws)
    inputs = prepared(shapes.spec, shapes.scaling, learning.statistics, sample.observed)
    one_hot = sample.action == jnp.arange(shapes.joint.count)

    def loss_of(leaves: Any) -> Any:
        values = _values(shapes, applied(module_of(shapes, leaves, draws), inputs))
        chosen = jnp.sum(jnp.where(one_hot, values, 0.0), axis=1)
        assert chosen.shape == wanted.shape
        error = chosen - wanted
        each = huber(error, numbers.huber_reach) if shapes.loss == "huber" else squared(error)
        total = jnp.mean(sample.importance * each)
        if hasattr(numbers, "conservative"):
            able = masked_values(shapes.spec, values, sample.observed.legal)
            total = total + numbers.conservative * jnp.mean(jax.nn.logsumexp(able, axis=1) - chosen)
        return total, (error, jnp.mean(jnp.stack([each, chosen, jnp.abs(error)]), axis=1))

    return _stepped(shapes, numbers, learning, loss_of)
