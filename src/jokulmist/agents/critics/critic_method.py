"""What the methods share that learn a policy from critics of state and action: settings, networks, memory, the updates.

A critic is given the observation and, as one more channel, the numbers of the action in [-1, 1]. It has one output for
each combination of the choices (one, where there are none), so that an expectation over choices is exact.
"""

from __future__ import annotations

from typing import Any, ClassVar

import numpy as np

from jokulmist.agents.batches import seed_from
from jokulmist.agents.configs import Config, CriticConfig, Hyperparameters
from jokulmist.agents.contract import (
    Agent,
    Count,
    DiscountPer,
    Experience,
    FixedShare,
    Limit,
    Scheduled,
    bootstrap_discount,
    counts_advances,
)
from jokulmist.agents.critics.critic_networks import (
    CriticLearner,
    CriticUpdateState,
    Remembering,
    critics_layout,
    outputs_of,
    values_at,
)
from jokulmist.agents.critics.critic_updates import CriticRows, rows_from, sequence_rows
from jokulmist.agents.recurrence import fresh_states
from jokulmist.agents.replay_updates import (
    apply_in_turn,
    learned_when_started,
    refuse_few_slots,
    rows_due,
    slots_of,
    start_of,
    turns_between,
)
from jokulmist.agents.sequences import lookahead_rows, sample_sequences, stored_width, with_past
from jokulmist.arrays import Array
from jokulmist.environments.chance.draws import Draw
from jokulmist.environments.spaces.channels import ObservationBatch, Spec
from jokulmist.environments.spaces.legal import draw_legal
from jokulmist.learning import replay as memory_of
from jokulmist.learning.action_distributions import ActionDistribution, action_distribution, joint_over
from jokulmist.learning.gaussians import refuse_unbounded
from jokulmist.learning.networks.layout import Dense, Layout, NetworkSetting, Recurrent, fitting, refuse_recurrent
from jokulmist.learning.novelty_setting import NoveltySetting
from jokulmist.learning.observation_scaling import Scaling, fresh_running, fresh_statistics, gathered, met, prepared
from jokulmist.learning.optimisation import Optimiser, first_moments
from jokulmist.learning.reward_scaling import open_returns, returns_after, spread_of


class CriticAgent(Agent):
    """Settings and functions of the methods that learn a policy from critics. Not used by itself.

    Parameters
    ----------
    learning_rate : float or schedule
        Of the critics, and of the temperature.
    policy_rate : float or schedule
        Of the policy.
    discount : float, in [0, 1]
        Weight of the reward one decision later.
    discount_per : {"decision", "advance"}
        Where a decision lasts for several advances: whether the discount counts once a decision, or once an advance,
        also within it.
    replay_size : int
        Decisions that are remembered, over all copies.
    replay_start : int
        Decisions of random play before the first update.
    minibatch : int
        Transitions in one update; with a recurrent network (`SAC`) sequences of them, each as long as the network's
        `sequence`.
    learn_every : int
        Decisions between two updates; 1, as published.
    updates : int
        Updates each time it learns. Where decisions are dear, several with `critics_normalised` learn more from each
        (Chen et al., 2021; Hiraoka et al., 2022), and take as many times the work.
    critics_normalised : bool
        Whether the hidden layers of the critics are normalised, each row to mean 0 and spread 1 (Ba et al., 2016), so
        that many updates on few transitions do not let their values run away.
    target_share : float, in [0, 1]
        How far the target networks move at each update.
    n_step : int
        Rewards summed before the value of what follows.
    network : Dense, Convolutional or function, optional
        Of the policy and of each critic, which is given the action as a channel more.
    scaling : {"bounds", "running", "none"}
        How numbers are scaled, as in `PPO`.
    rewards_scaled : bool
        Whether rewards are divided by the spread of the running discounted return; replay keeps them as they were. Off
        by default: the scale moves while critics learn, which cost `TD3` and `DDPG` a level on the proving ground.
        Rewards of thousands, or of thousandths, need it, or weights of the terms.
    optimiser : {"adam", "rmsprop", "sgd"}
        How gradients become steps.
    gradient_clip : float, optional
        Largest norm of a gradient; None for no clipping (in a plan ``"off"``).
    novelty : Novelty, optional
        Also seek what was seldom met: ``jm.Novelty(0.5)``.
    """

    learning_rate: Scheduled = 1e-3
    policy_rate: Scheduled = 1e-3
    discount: FixedShare = 0.99
    discount_per: DiscountPer = "decision"
    replay_size: Count = 100_000
    replay_start: Count = 1_000
    minibatch: Count = 128
    learn_every: Count = 1
    updates: Count = 1
    critics_normalised: bool = False
    target_share: FixedShare = 0.005
    n_step: Count = 1
    network: NetworkSetting | None = None
    scaling: Scaling = "running"
    rewards_scaled: bool = False
    optimiser: Optimiser = "adam"
    gradient_clip: Limit = None
    novelty: NoveltySetting | None = None

    config_type: ClassVar[type[Config]] = CriticConfig
    keeps_states: ClassVar[bool] = False
    replays: ClassVar[bool] = True
    normal_draws: ClassVar[int] = 0  # for each action of a transition that is learned from

    def remembers(self) -> bool:
        return isinstance(self.network, Recurrent)

    def refuse(self, spec: Spec) -> None:
        name = type(self).__name__
        refuse_unbounded(spec.action, name, "Give the range finite bounds, or use `PPO`, which clips.")

    def config(self, spec: Spec, copies: int) -> CriticConfig:
        config: CriticConfig = super().config(spec, copies)
        if not self.keeps_states:
            refuse_recurrent(config.network, type(self).__name__)
        config.network = fitting(config.network, spec)
        # Of the policy, and of the policy and both critics together.
        config.state_width = config.network.state_width if self.remembers() else 0
        config.remembered = 3 * config.state_width
        config.lookahead = lookahead_rows(config)
        config.slots = slots_of(self, config)
        config.acting = action_distribution(spec.action, "squashed")
        config.action_numbers = config.acting.width + bool(config.acting.choices)
        config.layout = self.policy_of(config, 0)
        config.critics = self.critics_of(config, 0)
        return config

    def refuse_copies(self, config: CriticConfig) -> None:
        refuse_few_slots(self, config, config.lookahead)

    @staticmethod
    def fresh_memory(config: CriticConfig, hyperparameters: Hyperparameters) -> Any:
        memory = {"noise": (), "returns": open_returns(config), **fresh_states(config)}
        if config.state_width:
            memory["judged"] = np.zeros((config.copies, config.remembered - config.state_width), np.float32)
        return memory

    @staticmethod
    def update(
        config: CriticConfig, hyperparameters: Hyperparameters, learning: CriticUpdateState, rows: CriticRows
    ) -> tuple[CriticUpdateState, Any]:
        """One step of the critics and of what follows them, on a minibatch; and the readings."""
        raise NotImplementedError

    @classmethod
    def learn(
        cls,
        config: CriticConfig,
        hyperparameters: Hyperparameters,
        learner: CriticLearner,
        memory: Any,
        experience: Experience,
        noise: Draw,
        bonus: Any = None,
    ) -> tuple[CriticLearner, Any, tuple[Any, ...]]:
        """Remember what happened, and make the updates that are due."""
        import jax.numpy as jnp

        acting = config.acting
        # Replay keeps the rewards as they were: they are divided when they are learned from.
        returns, open_now = returns_after(
            experience,
            learner.returns,
            memory["returns"],
            bootstrap_discount(hyperparameters, experience.advances),
            bonus,
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
        normal = (
            noise.normal(shape=(*lead, cls.normal_draws, acting.width))
            if acting.width and cls.normal_draws
            else jnp.zeros((*lead, 0, 0))
        )
        spread = spread_of(returns)

        def going(learning: CriticUpdateState) -> Any:
            if config.state_width:
                parts = (
                    sample_sequences(config, hyperparameters, replay, chance, counts_advances(config), bonus),
                    normal,
                )
                learning, update_readings = apply_in_turn(
                    lambda state, transitions, chance: cls.update(
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
                lambda state, rows: cls.update(config, hyperparameters, state, rows),
                learning,
                updates,
                config.minibatch,
                batch,
            )
            return learning, jnp.mean(update_readings, axis=0)

        decisions = learner.decisions + experience.rewards.size
        learning, update_readings = learned_when_started(
            decisions, start_of(config, config.lookahead), going, learner.learning, len(cls.reading_names)
        )
        statistics = gathered(learner.statistics, met(experience))
        learner = CriticLearner(learning, statistics, returns, decisions, learner.random_play, replay)
        return learner, {**memory, "returns": open_now}, tuple(update_readings)

    @staticmethod
    def policy_of(config: CriticConfig, seed: int) -> Layout:
        """Where the policy's weights stand, and how they begin."""
        raise NotImplementedError

    @staticmethod
    def critics_of(config: CriticConfig, seed: int) -> Layout:
        """Where the weights of two critics stand, and how they begin."""
        return critics_layout(config.network, config.spec, config.acting, 2, seed, config.critics_normalised)

    def start_settings(self, steps: int | None) -> dict[str, Any]:
        return {"learning_rate": 3e-4, "policy_rate": 3e-4}

    def decisions_a_copy(self) -> int:
        return 5_000

    def decisions_per_update(self, copies: int) -> int:
        return turns_between(self.learn_every, copies)

    @staticmethod
    def chooses_by_numpy(config: CriticConfig) -> bool:
        return isinstance(config.network, Dense)

    @staticmethod
    def policy_state(learner: CriticLearner) -> CriticLearner:
        learning = learner.learning._replace(policy_target=(), critics_target=(), moments=())
        return learner._replace(learning=learning, replay=())

    @classmethod
    def state_values(cls, config: CriticConfig, learner: CriticLearner, observed: ObservationBatch) -> Any:
        """The critics' mean value at the greedy action, in the scale of the rewards, one a row."""
        inputs = prepared(config.spec, config.scaling, learner.statistics, observed)
        acting, learning = config.acting, learner.learning
        policy, critics = config.layout.module(learning.policy), config.critics.module(learning.critics)
        if config.state_width:  # as if its episode began with it
            nothing = np.zeros((len(inputs.numbers), config.remembered), np.float32)
            policy = Remembering(policy, nothing[:, : config.state_width])
            critics = Remembering(critics, nothing[:, config.state_width :])
        outputs = outputs_of(policy, inputs)
        unit = acting.bounded(outputs[:, acting.alternatives : acting.alternatives + acting.width], np)
        values = np.asarray(values_at(critics, inputs, unit)).mean(axis=0)
        best: Any = np.zeros(len(values), int)
        if acting.choices:
            greedy = acting.indices(acting.likeliest(outputs, observed.legal, np))
            best = np.asarray(joint_over(config.spec.action).index(acting.native(greedy, unit)))
        return values[np.arange(len(values)), best] * float(spread_of(learner.returns))


def begin_learner(agent: type[CriticAgent], config: CriticConfig, noise: Draw, temperature: Any = ()) -> CriticLearner:
    """What is known before the first decision; a method with a temperature has no target of its policy."""
    policy = agent.policy_of(config, seed_from(noise)).initial_weights()
    critics = agent.critics_of(config, seed_from(noise)).initial_weights()
    learning = CriticUpdateState(
        policy=policy,
        critics=critics,
        policy_target=policy.copy() if len(temperature) == 0 else (),
        critics_target=critics.copy(),
        temperature=temperature,
        moments=tuple(
            first_moments(config.optimiser, part) if len(part) else () for part in (policy, critics, temperature)
        ),
        updates=np.int32(0),
    )
    return CriticLearner(
        learning,
        fresh_statistics(config.spec, config.scaling),
        fresh_running(1) if config.rewards_scaled else None,
        np.int32(0),
        np.int32(config.replay_start),
        memory_of.fresh_replay(
            config.spec, config.copies, config.slots, False, stored_width(config), counts_advances(config)
        ),
    )


def first_tries(acting: ActionDistribution, observed: ObservationBatch, noise: Draw) -> tuple[list[Any], Array]:
    """Random play: the index of each choice among those allowed, and numbers evenly over their bounds."""
    xp, indices = noise.xp, []
    rows = observed.numbers.shape[0]
    for k, choice in enumerate(acting.choices.values()):
        u = noise.uniform(shape=(rows,))
        if observed.legal:
            indices.append(draw_legal(xp, observed.legal[k], u).astype("int32"))
        else:
            indices.append(xp.minimum(xp.floor(u * choice.count), choice.count - 1).astype("int32"))
    if not acting.width:
        return indices, observed.numbers[:, :0]
    return indices, noise.uniform(-1.0, 1.0, shape=(rows, acting.width))
