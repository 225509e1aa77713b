"""Deep deterministic policy gradient, and what it shares with its twin-critic successor."""

from __future__ import annotations

from functools import lru_cache
from typing import Any, ClassVar, Literal

import numpy as np

from jokulmist.agents.configs import CriticConfig, Hyperparameters
from jokulmist.agents.contract import FixedShare, Scheduled
from jokulmist.agents.critics.critic_method import CriticAgent, begin_learner, first_tries
from jokulmist.agents.critics.critic_networks import (
    CriticLearner,
    CriticUpdateState,
    critics_layout,
    outputs_of,
    values_at,
)
from jokulmist.agents.critics.critic_updates import CriticRows, critics_step, followed, policy_step
from jokulmist.agents.policy_networks import TOWARDS_ACTIONS
from jokulmist.arrays import Array
from jokulmist.environments.chance.draws import Draw
from jokulmist.environments.spaces.channels import ObservationBatch, Spec
from jokulmist.environments.spaces.legal import choices_of
from jokulmist.errors import SettingError
from jokulmist.learning.networks.layout import Layout, build_network
from jokulmist.learning.observation_scaling import prepared
from jokulmist.learning.schedules import linear


class DeterministicAgent(CriticAgent):
    """Settings and functions of methods whose policy is one action a state, with noise added. Not used by itself.

    Parameters
    ----------
    exploration : float or schedule
        Spread of the action noise, where the bounds stand at -1 and 1.
    noise : {"gaussian", "ornstein-uhlenbeck"}
        Whether the noise of each decision stands by itself, or drifts back to 0 (Uhlenbeck and Ornstein, 1930); the
        second begins at 0 in each episode.
    noise_return : float, in [0, 1]
        The share by which drifting noise returns to 0 at each decision.
    """

    target_share: FixedShare = 0.01
    exploration: Scheduled = linear(0.2, 0.05, over=1.0)
    noise: Literal["gaussian", "ornstein-uhlenbeck"] = "gaussian"
    noise_return: FixedShare = 0.15

    reading_names: ClassVar[tuple[str, ...]] = ("loss", "mean_value", "error", "gradient_norm")
    usual_copies: ClassVar[int] = 16

    def refuse(self, spec: Spec) -> None:
        super().refuse(spec)
        if choices_of(spec.action):
            raise SettingError(
                f"`{type(self).__name__}` decides numbers, and the action has choices: {spec.action!r}. Use `SAC` or "
                "`PPO`, which take choices and ranges together."
            )

    @staticmethod
    def policy_of(config: CriticConfig, seed: int) -> Layout:
        return _policy_layout(config.network, config.spec, config.acting.width, seed)

    @classmethod
    def fresh_learner(cls, config: CriticConfig, hyperparameters: Hyperparameters, noise: Draw) -> CriticLearner:
        return begin_learner(cls, config, noise)

    @staticmethod
    def fresh_memory(config: CriticConfig, hyperparameters: Hyperparameters) -> Any:
        memory = CriticAgent.fresh_memory(config, hyperparameters)
        if config.noise == "ornstein-uhlenbeck":
            memory["noise"] = np.zeros((config.copies, config.acting.width), np.float32)
        return memory

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
        if xp is np:
            weights = learner.learning.policy
            outputs = config.layout.through_numpy(weights, inputs.numbers, config.network.activation)
        else:
            outputs = outputs_of(config.layout.module(learner.learning.policy), inputs)
        unit = xp.tanh(outputs)
        if not explore:
            return acting.native([], unit), memory, ()
        chance = noise.normal(shape=unit.shape)
        added = hyperparameters.exploration * chance
        if config.noise == "ornstein-uhlenbeck":
            added = added + drifted(xp, memory["noise"], observed.age, hyperparameters.noise_return)
            memory = {**memory, "noise": added}
        _, anything = first_tries(acting, observed, noise)
        tried = xp.where(learner.decisions < learner.random_play, anything, (unit + added).clip(-1.0, 1.0))
        return acting.native([], tried), memory, tried

    @staticmethod
    def update(
        config: CriticConfig, hyperparameters: Hyperparameters, learning: CriticUpdateState, rows: CriticRows
    ) -> tuple[CriticUpdateState, Any]:
        """One step of the critics and, when it is due, one of the policy and of the targets; and the readings."""
        import jax.numpy as jnp
        from jax import lax

        target_q = targets(config, hyperparameters, learning, rows)
        critics, critic_moments, readings = critics_step(config, hyperparameters, learning, rows, target_q)
        learning = learning._replace(
            critics=critics, moments=(learning.moments[0], critic_moments, ()), updates=learning.updates + 1
        )

        def moved(learning: CriticUpdateState) -> CriticUpdateState:
            first = config.critics.module(learning.critics)

            def loss(policy: Any) -> Any:
                unit = jnp.tanh(outputs_of(policy, rows.inputs))
                return -jnp.mean(values_at(first.alone(), rows.inputs, unit)), ()

            policy, moments, _ = policy_step(config, hyperparameters, learning, loss)
            return learning._replace(
                policy=policy,
                policy_target=followed(learning.policy_target, policy, hyperparameters.target_share),
                critics_target=followed(learning.critics_target, learning.critics, hyperparameters.target_share),
                moments=(moments, *learning.moments[1:]),
            )

        every = config.policy_every
        if every == 1:
            return moved(learning), readings
        return lax.cond(learning.updates % every == 0, moved, lambda same: same, learning), readings


def drifted(xp: Any, noise: Draw, age: Any, back: Any) -> Any:
    """What is left of drifting noise: nothing where an episode begins.

    x' = x - theta x + sigma N(0, 1); the spread settles at sigma / sqrt(1 - (1 - theta)^2).
    """
    return xp.where((age == 0)[:, None], 0.0, (1.0 - back) * noise)


@lru_cache(maxsize=64)
def _policy_layout(network: Any, spec: Spec, width: int, seed: int) -> Layout:
    return Layout(network, lambda: build_network(network, spec, width, seed, TOWARDS_ACTIONS))


def targets(
    config: CriticConfig, hyperparameters: Hyperparameters, learning: CriticUpdateState, rows: CriticRows
) -> Any:
    """What the critics should say, shape ``(rows,)``.

    r + discount min_i Q_i'(s', clip(pi'(s') + noise, -1, 1)), with the noise clipped before it is added (Fujimoto et
    al., 2018, equation 14); with one critic and no noise the target of Lillicrap et al. (2016).
    """
    import jax.numpy as jnp

    unit = jnp.tanh(outputs_of(config.layout.module(learning.policy_target), rows.following))
    if hyperparameters.target_noise is not None:
        noise_bound = hyperparameters.target_noise_clip
        noise = jnp.clip(hyperparameters.target_noise * rows.normal[:, 0], -noise_bound, noise_bound)
        unit = jnp.clip(unit + noise, -1.0, 1.0)
    values = values_at(config.critics.module(learning.critics_target), rows.following, unit)
    wanted = rows.n_step_return + rows.bootstrap_discount * jnp.min(values, axis=0)[:, 0]
    assert wanted.shape == rows.n_step_return.shape
    return wanted


class DDPG(DeterministicAgent):
    """Deep deterministic policy gradient: a policy climbs the value that one critic gives to its actions.

    the critic learns  r + discount Q'(s', pi'(s')),  the policy climbs  Q(s, pi(s)),  targets follow softly

    Lillicrap et al. (2016), "Continuous control with deep reinforcement learning", algorithm 1; Silver et al. (2014).

    Parameters
    ----------
    exploration, noise, noise_return
        See `DeterministicAgent`: drifting noise by default, as in the paper.
    learning_rate, policy_rate, discount, replay_size, replay_start, minibatch, learn_every, target_share, n_step
        See `CriticAgent`.
    network, scaling, rewards_scaled, optimiser, gradient_clip
        See `CriticAgent`.

    Notes
    -----
    Differs from the paper: actions are tried at random before the first update,
    inputs are scaled by running statistics instead of batch normalisation, and the critic is given the
    action in its first layer. Fails when the critic's values run away, which nothing holds back here: use `TD3`.

    Examples
    --------
    >>> DDPG(exploration=0.1, noise="gaussian")
    DDPG(exploration=0.1, noise='gaussian')
    """

    exploration: Scheduled = linear(0.1, 0.02, over=1.0)
    noise: Literal["gaussian", "ornstein-uhlenbeck"] = "ornstein-uhlenbeck"

    @staticmethod
    def critics_of(config: CriticConfig, seed: int) -> Layout:
        return critics_layout(config.network, config.spec, config.acting, 1, seed, config.critics_normalised)
