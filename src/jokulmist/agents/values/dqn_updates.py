"""The values of DQN's networks, and one update of them on a minibatch: of means, of quantiles, of sequences with a
recurrent network."""

from __future__ import annotations

from types import ModuleType
from typing import TYPE_CHECKING, Any, NamedTuple

import numpy as np

from jokulmist.agents.action_values import masked_values
from jokulmist.agents.batches import as_flat
from jokulmist.agents.configs import DQNConfig, Hyperparameters
from jokulmist.agents.sequences import at_the_end, learned_rows, past_in, time_major
from jokulmist.agents.values import noisy
from jokulmist.agents.values.quantiles import by_action, mean_of_quantiles, of_action, quantile_loss
from jokulmist.arrays import Array
from jokulmist.environments.spaces.channels import ObservationBatch
from jokulmist.learning.networks.inputs import apply_network
from jokulmist.learning.observation_scaling import Running, prepared
from jokulmist.learning.optimisation import descend, huber, squared
from jokulmist.learning.replay import Sample

if TYPE_CHECKING:
    from jokulmist.agents.values.dqn import DQNLearner


class DQNUpdateState(NamedTuple):
    """What moves while some updates are made; see `Learned`."""

    weights: Any
    target: Any
    moments: Any
    priorities: Any
    statistics: Any


def action_values(
    config: DQNConfig, weights: Array, statistics: Running | None, seen: ObservationBatch, xp: ModuleType | None = None
) -> Array:
    """The values of all actions, shape ``(rows, actions)``; what is not allowed has a finite low one."""
    inputs = prepared(config.spec, config.scaling, statistics, seen)
    layout = config.layout
    if config.state_width:  # as if the episodes began with them
        states = np.zeros((inputs.numbers.shape[0], config.state_width), np.float32)
        outputs, _ = layout.module(weights).step(inputs, states)
    elif xp is np:
        outputs = layout.through_numpy(weights, inputs.numbers, config.network.activation)
    else:
        outputs = apply_network(layout.module(weights), inputs)
    return masked_values(config.spec, _values(config, outputs), seen.legal)


def remembered_values(
    config: DQNConfig, learner: DQNLearner, seen: ObservationBatch, states: Array
) -> tuple[Array, Array]:
    """The same of a recurrent network that remembers something, and the states after."""
    inputs = prepared(config.spec, config.scaling, learner.statistics, seen)
    outputs, after = config.layout.module(learner.weights).step(inputs, states)
    return masked_values(config.spec, _values(config, outputs), seen.legal), after


def network_outputs(config: DQNConfig, weights: Any, statistics: Any, seen: ObservationBatch) -> Any:
    """What a network says of what follows: values, or the quantiles of each action."""
    if config.quantiles is None:
        return action_values(config, weights, statistics, seen)
    inputs = prepared(config.spec, config.scaling, statistics, seen)
    return by_action(config, apply_network(config.layout.module(weights), inputs))


def _values(config: DQNConfig, outputs: Any) -> Any:
    """The values of all actions from the network's outputs; of a dueling one ``V + A - mean A`` (Wang et al., 2016,
    equation 9)."""
    if config.quantiles is not None:
        return mean_of_quantiles(config, by_action(config, outputs))
    if not config.dueling:
        return outputs
    advantages = outputs[:, 1:]
    return outputs[:, :1] + advantages - advantages.mean(axis=1, keepdims=True)


def noisy_weights(config: DQNConfig, weights: Array, draws: Any, network_index: int) -> Array:
    """The weights of a network; where they are noisy, with a draw of their noise."""
    import jax.numpy as jnp

    return noisy.with_noise(config.layout, weights, draws[network_index], jnp) if config.noisy else weights


def leaves_of(config: DQNConfig, weights: Array) -> list[Any]:
    """What a loss is differentiated by: the arrays of the network, or where they are noisy the whole vector."""
    return [weights] if config.noisy else config.layout.leaves(weights)


def module_of(config: DQNConfig, leaves: list[Any], draws: Any) -> Any:
    """The network of these."""
    if config.noisy:
        return config.layout.module(noisy_weights(config, leaves[0], draws, 0))
    return config.layout.combined(leaves)


def targets(config: DQNConfig, learning: DQNUpdateState, sample: Any, target_outputs: Any, draws: Any = ()) -> Any:
    """The targets of the actions taken, shape ``(minibatch,)``.

    ``y = R_n + discount^n max_a Q_target(s_n, a)`` (Mnih et al., 2015); with `double` the action is chosen by the
    network that learns, ``y = R_n + discount^n Q_target(s_n, argmax_a Q(s_n, a))`` (van Hasselt et al., 2016,
    equation 4). ``R_n`` is the discounted reward of n decisions; the discount is 0 where a true end came.
    """
    import jax.numpy as jnp

    online_values: Any = None
    if config.double or not config.target:
        weights = noisy_weights(config, learning.weights, draws, 1)
        online_values = action_values(config, weights, learning.statistics, sample.following)
    values = target_outputs if config.target else online_values
    if config.double:
        next_q = jnp.take_along_axis(values, jnp.argmax(online_values, axis=1)[:, None], axis=1)[:, 0]
    else:
        next_q = jnp.max(values, axis=1)
    return sample.n_step_return + sample.bootstrap_discount * next_q


def _stepped(
    config: DQNConfig, hyperparameters: Hyperparameters, learning: DQNUpdateState, loss_of: Any
) -> tuple[DQNUpdateState, Any]:
    """One step down a loss of the network's arrays, which also gives the errors and its readings; the readings with the
    norm of the gradient, and the errors."""
    import jax
    import jax.numpy as jnp

    (_, (td_error, aux)), gradients = jax.value_and_grad(loss_of, has_aux=True)(leaves_of(config, learning.weights))
    most = hyperparameters.gradient_clip
    weights, moments, norm = descend(
        config.optimiser, learning.weights, learning.moments, as_flat(gradients), hyperparameters.learning_rate, most
    )
    weights = config.layout.still(config.frozen, learning.weights, weights)
    return learning._replace(weights=weights, moments=moments), (jnp.concatenate([aux, norm[None]]), td_error)


def update_sequences(
    config: DQNConfig, hyperparameters: Hyperparameters, learning: DQNUpdateState, sample: Any
) -> tuple[DQNUpdateState, Any]:
    """One step on sequences of a minibatch with a recurrent network; its readings, and the errors."""
    import jax.numpy as jnp

    layout, sample = config.layout, time_major(sample)
    inputs, after = (
        prepared(config.spec, config.scaling, learning.statistics, s) for s in (sample.observed, sample.following)
    )
    past = past_in(config, sample)
    turns = past.restarts.shape[0]

    def next_value(weights: Any) -> Any:
        """The values of what followed, with what was remembered by then."""
        module = layout.module(weights)
        _, remembered = module.apply_sequence(inputs, past.restarts, past.states)
        then = at_the_end(remembered, sample.steps, turns)
        return masked_values(config.spec, _values(config, module.step(after, then)[0]), sample.following.legal)

    target_outputs = next_value(learning.target if config.target else learning.weights)
    best = jnp.argmax(next_value(learning.weights) if config.double else target_outputs, axis=1)
    next_q = jnp.take_along_axis(target_outputs, best[:, None], axis=1)[:, 0]
    target_q = sample.n_step_return + sample.bootstrap_discount * next_q
    counts = learned_rows(config, turns, past.restarts.shape[1])
    one_hot = sample.action[:, :1] == jnp.arange(config.joint.count)

    def loss_of(leaves: Any) -> Any:
        outputs, _ = layout.combined(leaves).apply_sequence(inputs, past.restarts, past.states, config.network.burn_in)
        chosen_q = jnp.sum(jnp.where(one_hot, _values(config, outputs), 0.0), axis=1)
        td_error = target_q - chosen_q
        each = huber(td_error, hyperparameters.huber_reach) if config.loss == "huber" else squared(td_error)
        return jnp.sum(counts * each), (td_error, jnp.stack([each, chosen_q, jnp.abs(td_error)]) @ counts)

    return _stepped(config, hyperparameters, learning, loss_of)


def _mean_loss(
    config: DQNConfig,
    hyperparameters: Hyperparameters,
    sample: Sample,
    each: Array,
    values: Array,
    chosen_q: Array,
    td_error: Array,
) -> tuple[Array, Any]:
    """The loss of a minibatch from that of each row, with what `conservative` adds (Kumar et al., 2020, equation 4);
    the errors and the readings."""
    import jax
    import jax.numpy as jnp

    total = jnp.mean(sample.importance * each)
    if hyperparameters.conservative is not None:
        able = masked_values(config.spec, values, sample.observed.legal)
        total = total + hyperparameters.conservative * jnp.mean(jax.nn.logsumexp(able, axis=1) - chosen_q)
    return total, (td_error, jnp.mean(jnp.stack([each, chosen_q, jnp.abs(td_error)]), axis=1))


def update_quantiles(
    config: DQNConfig,
    hyperparameters: Hyperparameters,
    learning: DQNUpdateState,
    sample: Any,
    target_outputs: Any,
    draws: Any = (),
) -> tuple[DQNUpdateState, Any]:
    """One step of the quantiles on one minibatch; its readings, and how far the means are off."""
    import jax.numpy as jnp

    online_quantiles = network_outputs(
        config, noisy_weights(config, learning.weights, draws, 1), learning.statistics, sample.following
    )
    after = target_outputs if config.target else online_quantiles
    choosing = masked_values(
        config.spec, mean_of_quantiles(config, online_quantiles if config.double else after), sample.following.legal
    )
    next_quantiles = of_action(after, jnp.argmax(choosing, axis=1))
    target_quantiles = sample.n_step_return[:, None] + sample.bootstrap_discount[:, None] * next_quantiles
    inputs = prepared(config.spec, config.scaling, learning.statistics, sample.observed)

    def loss_of(leaves: Any) -> Any:
        quantiles = by_action(config, apply_network(module_of(config, leaves, draws), inputs))
        chosen_quantiles = of_action(quantiles, sample.action[:, 0])
        assert chosen_quantiles.shape == target_quantiles.shape
        each = quantile_loss(chosen_quantiles, target_quantiles)
        chosen_q = jnp.mean(chosen_quantiles, axis=1)
        td_error = jnp.mean(target_quantiles, axis=1) - chosen_q
        q = jnp.mean(quantiles, axis=-1)
        return _mean_loss(config, hyperparameters, sample, each, q, chosen_q, td_error)

    return _stepped(config, hyperparameters, learning, loss_of)


def update(
    config: DQNConfig,
    hyperparameters: Hyperparameters,
    learning: DQNUpdateState,
    sample: Sample,
    target_outputs: Array,
    draws: Any = (),
) -> tuple[DQNUpdateState, Any]:
    """One step down ``mean(w * loss(y - Q(s, a)))`` on one minibatch, of importance weights w; its readings, and the
    temporal-difference errors."""
    import jax.numpy as jnp

    if config.quantiles is not None:
        return update_quantiles(config, hyperparameters, learning, sample, target_outputs, draws)
    target_q = targets(config, learning, sample, target_outputs, draws)
    inputs = prepared(config.spec, config.scaling, learning.statistics, sample.observed)
    one_hot = sample.action == jnp.arange(config.joint.count)

    def loss_of(leaves: Any) -> Any:
        values = _values(config, apply_network(module_of(config, leaves, draws), inputs))
        chosen_q = jnp.sum(jnp.where(one_hot, values, 0.0), axis=1)
        assert chosen_q.shape == target_q.shape
        td_error = target_q - chosen_q
        each = huber(td_error, hyperparameters.huber_reach) if config.loss == "huber" else squared(td_error)
        return _mean_loss(config, hyperparameters, sample, each, values, chosen_q, td_error)

    return _stepped(config, hyperparameters, learning, loss_of)
