"""Soft actor-critic."""

from __future__ import annotations

import math
from typing import Any, ClassVar

import numpy as np

from jokulmist.agents.configs import CriticConfig, Hyperparameters
from jokulmist.agents.contract import AboveZero, Count, FixedShare
from jokulmist.agents.critics.critic_method import CriticAgent, begin_learner, first_tries
from jokulmist.agents.critics.critic_networks import (
    CriticLearner,
    CriticUpdateState,
    GoingAlong,
    Remembering,
    values_at,
    with_action,
)
from jokulmist.agents.critics.critic_updates import CriticRows, critics_step, followed, policy_step
from jokulmist.agents.policy_networks import begin_spread, outputs_by_numpy, policy_layout, probabilities_by_part
from jokulmist.agents.recurrence import Past, past_of
from jokulmist.agents.sequences import at_the_end, before_each
from jokulmist.arrays import Array
from jokulmist.environments.chance.draws import Draw
from jokulmist.environments.spaces.channels import ObservationBatch, Spec
from jokulmist.learning.action_distributions import SampledRanges
from jokulmist.learning.gaussians import log_density, log_slope
from jokulmist.learning.networks.inputs import Inputs
from jokulmist.learning.networks.layout import Layout
from jokulmist.learning.observation_scaling import prepared
from jokulmist.learning.optimisation import descend


class SAC(CriticAgent):
    """Soft actor-critic: a policy that earns much and stays as uncertain as its entropy target asks.

    the critics learn  r + discount (min_i Q_i'(s', a') - alpha log p(a'|s')),  the policy climbs the same of s,
    alpha falls where the entropy exceeds its target, and rises where it falls short

    Haarnoja et al. (2018a), "Soft actor-critic"; (2018b), "Soft actor-critic algorithms and applications", equations 5
    to 18; for choices Christodoulou (2019), "Soft actor-critic for discrete action settings".

    Parameters
    ----------
    temperature : float
        alpha, at the beginning or, if it is not learned, throughout; each part of an action has its own.
    temperature_learned : bool
    entropy_target : float
        Of each number of a range, in natural logarithms, where the bounds stand at -1 and 1; evenly drawn numbers have
        0.69.
    choice_entropy : float, in [0, 1]
        The target of a choice, as a share of the largest entropy that it can have.
    first_spread : float
        Spread that learning begins with, before squashing.
    minibatch : int
        Transitions in one update, or with a recurrent network sequences of them: 64 need as many decisions as 128 on
        the problems that chose it, and half the products.
    learning_rate, policy_rate, discount, replay_size, replay_start, learn_every, target_share, n_step
        See `CriticAgent`.
    network, scaling, rewards_scaled, optimiser, gradient_clip
        See `CriticAgent`.

    Notes
    -----
    Choices and ranges may stand side by side: the critics give a value for each combination of choices, over which the
    expectation is exact, and the ranges are drawn. Choices and ranges are then drawn independently of each other.
    With `jm.Recurrent` the policy remembers what was seen, and each critic what was seen and done; sequences are
    replayed, with the states that were kept and a burn-in, as `DQN` does. Differs from the papers: networks are
    smaller, and the same rate moves the temperature. Fails when rewards are so small that the entropy outweighs them
    (see `rewards_scaled`).

    Examples
    --------
    >>> SAC(temperature=0.2, temperature_learned=False)
    SAC(temperature=0.2, temperature_learned=False)
    """

    minibatch: Count = 64
    temperature: AboveZero = 0.1
    temperature_learned: bool = True
    entropy_target: float = -1.0
    choice_entropy: FixedShare = 0.3
    first_spread: AboveZero = 0.5

    reading_names: ClassVar[tuple[str, ...]] = (
        "loss",
        "mean_value",
        "error",
        "gradient_norm",
        "policy_loss",
        "entropy",
        "temperature",
    )
    reads_memory: ClassVar[bool] = False
    usual_copies: ClassVar[int] = 16
    keeps_states: ClassVar[bool] = True
    normal_draws: ClassVar[int] = 2

    def config(self, spec: Spec, copies: int) -> CriticConfig:
        config: CriticConfig = super().config(spec, copies)
        config.spread_by_state = True
        return config

    @staticmethod
    def policy_of(config: CriticConfig, seed: int) -> Layout:
        return policy_layout(config.network, config.spec, config.acting, True, False, False, seed)

    @classmethod
    def fresh_learner(cls, config: CriticConfig, hyperparameters: Hyperparameters, noise: Draw) -> CriticLearner:
        acting = config.acting
        parts = len(acting.choices) + len(acting.units.ranges)
        learner = begin_learner(cls, config, noise, np.full(parts, math.log(hyperparameters.temperature), np.float32))
        begin_spread(learner.learning.policy, acting, hyperparameters.first_spread)
        return learner

    @staticmethod
    def choose(
        config: CriticConfig,
        hyperparameters: Hyperparameters,
        learner: CriticLearner,
        memory: Any,
        observed: ObservationBatch,
        noise: Draw,
        explore: bool,
    ) -> tuple[Array, Any, Any]:
        xp, acting = noise.xp, config.acting
        inputs = prepared(config.spec, config.scaling, learner.statistics, observed)
        past: Any = ()
        policy: Any = config.layout.module(learner.learning.policy) if xp is not np or config.state_width else None
        if config.state_width:
            past = past_of(memory, observed)
            (outputs, _), state = policy.step(inputs, past.states)
            memory = {**memory, "state": state}
        elif xp is np:
            outputs = outputs_by_numpy(config, learner.learning.policy, inputs)
        else:
            outputs = policy.outputs(inputs)
        if not explore:
            return acting.likeliest(outputs, observed.legal, xp), memory, ()
        actions, samples = acting.sampled(outputs, observed.legal, noise)
        indices, unit = first_tries(acting, observed, noise)
        early = learner.decisions < learner.random_play
        policy_indices = acting.indices(actions) if acting.choices else []
        chosen_indices = [xp.where(early, first, later) for first, later in zip(indices, policy_indices, strict=True)]
        if acting.width:
            unit = xp.where(early, unit, xp.tanh(samples.before))
        if not config.state_width:
            return acting.native(chosen_indices, unit), memory, unit
        # The critics remember what was done, too: that is kept for their updates, and used by nothing else.
        before = past_of({"state": memory["judged"]}, observed).states
        _, after = config.critics.module(learner.learning.critics).step(with_action(inputs, unit), before)
        past = past._replace(states=xp.concatenate([past.states, before], axis=-1))
        return acting.native(chosen_indices, unit), {**memory, "judged": after}, (unit, past)

    @staticmethod
    def update(
        config: CriticConfig, hyperparameters: Hyperparameters, learning: CriticUpdateState, rows: CriticRows
    ) -> tuple[CriticUpdateState, Array]:
        """One step of the critics towards ``y = R_n + discount^n V(s_n)`` (2018b, equations 5 and 6), of the
        policy up its soft value (equation 9), of the temperature (equation 18), and of the target networks; and the
        readings."""
        import jax.numpy as jnp

        temperature = jnp.exp(learning.temperature)
        normals = [rows.normal[:, k] for k in range(rows.normal.shape[1])] or [None, None]
        policy = config.layout.module(learning.policy)
        target = config.critics.module(learning.critics_target)
        if rows.past:
            policy_past, states = split_memory(config, rows)
            policy, target = with_memory_at_targets(policy, target, rows, policy_past, states)
        next_value, _ = soft_value(
            config, temperature, policy, target, rows.following, rows.legal_following, normals[0]
        )
        target_q = rows.n_step_return + rows.bootstrap_discount * next_value
        critics, critic_moments, readings = critics_step(config, hyperparameters, learning, rows, target_q)
        updated_critics = config.critics.module(critics)
        if rows.past:
            _, after = updated_critics.apply_sequence(
                with_action(rows.inputs, rows.unit), states.restarts, states.states
            )
            updated_critics = Remembering(updated_critics, before_each(states, after))

        def loss(policy: Any) -> Any:
            if rows.past:
                policy = GoingAlong(policy, policy_past, config.network.burn_in)
            value, each = soft_value(config, temperature, policy, updated_critics, rows.inputs, rows.legal, normals[1])
            return -rows.mean(value), (-rows.mean(value), rows.mean(each))

        weights, moments, (policy_loss, entropies) = policy_step(config, hyperparameters, learning, loss)
        log_temperature, temperature_moments = learning.temperature, learning.moments[2]
        if config.temperature_learned:
            temperature_gradient = temperature * (entropies - wanted_entropies(config, hyperparameters))
            log_temperature, temperature_moments, _ = descend(
                config.optimiser,
                log_temperature,
                temperature_moments,
                temperature_gradient,
                hyperparameters.learning_rate,
            )
        loss_readings = jnp.stack([policy_loss, jnp.sum(entropies), jnp.mean(temperature)])
        learning = learning._replace(
            policy=weights,
            critics=critics,
            critics_target=followed(learning.critics_target, critics, hyperparameters.target_share),
            temperature=log_temperature,
            moments=(moments, critic_moments, temperature_moments),
            updates=learning.updates + 1,
        )
        return learning, jnp.concatenate([readings, loss_readings])

    @staticmethod
    def probabilities(config: CriticConfig, learner: CriticLearner, observed: ObservationBatch) -> dict[str, Any]:
        """By part the probabilities of each alternative of a choice, or mean and spread of a range, one a row."""
        inputs = prepared(config.spec, config.scaling, learner.statistics, observed)
        policy = config.layout.module(learner.learning.policy)
        if config.state_width:  # as if its episode began with it
            policy = Remembering(policy, np.zeros((len(inputs.numbers), config.state_width), np.float32))
        outputs = policy.outputs(inputs)
        return probabilities_by_part(config.acting, outputs, observed.legal)


def soft_value(
    config: CriticConfig, temperature: Array, policy: Any, critics: Any, inputs: Inputs, legal: Any, normal: Array
) -> Any:
    """The soft value of observations, ``E[min_k Q_k(s, a) - alpha log pi(a|s)]``, one sample of the numbers and the
    expectation over the choices (2018b, equation 3); and the entropy of each part."""
    import jax.numpy as jnp

    acting = config.acting
    outputs = policy.outputs(inputs)
    entropies: list[Any] = []
    unit = outputs[:, :0]
    if acting.width:
        mean, log_spread = acting.gaussians(outputs)
        samples = SampledRanges(mean + jnp.exp(log_spread) * normal, normal)
        unit = jnp.tanh(samples.before)
        surprise = -(log_density(samples.before, mean, log_spread) - log_slope(samples.before))
        entropies = acting.units.by_part(surprise)
    value = jnp.min(values_at(critics, inputs, unit), axis=0)
    if acting.choices:
        logs = acting.log_probabilities(outputs, legal)
        together = logs[0]
        for log in logs[1:]:
            together = (together[:, :, None] + log[:, None, :]).reshape(together.shape[0], -1)
        probabilities = jnp.exp(together)
        value = jnp.sum(jnp.where(probabilities > 0.0, probabilities * value, 0.0), axis=1)
        entropies = [*acting.entropies(logs, legal), *entropies]
    else:
        value = value[:, 0]
    each = jnp.stack(entropies)
    assert each.shape == (temperature.shape[0], value.shape[0])
    return value + jnp.sum(temperature[:, None] * each, axis=0), each


def split_memory(config: CriticConfig, rows: CriticRows) -> tuple[Past, Past]:
    """What was remembered before each decision of the sequences by the policy, and by the critics."""
    restarts, states = rows.past.restarts, rows.past.states
    return Past(states[..., : config.state_width], restarts), Past(states[..., config.state_width :], restarts)


def with_memory_at_targets(
    policy: Any, critics: Any, rows: CriticRows, policy_past: Past, states: Past
) -> tuple[Any, Any]:
    """Policy and critics with what they remember at the end of each target, having gone along what was seen and done
    until then."""
    turns = rows.past.restarts.shape[0]
    by_policy = policy.apply_sequence(rows.inputs, policy_past.restarts, policy_past.states)[1]
    by_critics = critics.apply_sequence(with_action(rows.inputs, rows.unit), states.restarts, states.states)[1]
    outputs = (at_the_end(after, rows.steps, turns) for after in (by_policy, by_critics))
    return Remembering(policy, next(outputs)), Remembering(critics, next(outputs))


def wanted_entropies(config: CriticConfig, hyperparameters: Hyperparameters) -> Array:
    """The entropy target of each part, choices first."""
    import jax.numpy as jnp

    acting = config.acting
    choices = [hyperparameters.choice_entropy * math.log(choice.count) for choice in acting.choices.values()]
    ranges = [hyperparameters.entropy_target * part.size for part in acting.units.ranges.values()]
    return jnp.stack([*choices, *ranges])
