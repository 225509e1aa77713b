"""What the methods share that learn a policy from critics of state and action: settings, networks, memory, the updates.

A critic is given the observation and, as one more channel, the numbers of the action in [-1, 1]. It has one output for
each combination of the choices (one, where there are none), so that an expectation over choices is exact.
"""

from __future__ import annotations

from typing import Any, ClassVar

import numpy as np

from jokulmist.agents.batches import seed_from
from jokulmist.agents.contract import (
    Agent,
    Count,
    DiscountPer,
    FixedShare,
    Limit,
    Numbers,
    Scheduled,
    Shapes,
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
from jokulmist.agents.recurrence import fresh_states
from jokulmist.agents.replay_updates import (
    refuse_few_slots,
    slots_of,
    turns_between,
)
from jokulmist.agents.stretches import kept_numbers, rows_ahead
from jokulmist.environments.spaces.channels import Spec
from jokulmist.environments.spaces.legal import draw_legal
from jokulmist.learning import replay as memory_of
from jokulmist.learning.action_distributions import ActionDistribution, acting_over, joint_over
from jokulmist.learning.gaussians import refuse_unbounded
from jokulmist.learning.networks.layout import Dense, Layout, NetworkSetting, Recurrent, fitting, refuse_recurrent
from jokulmist.learning.novelty_setting import NoveltySetting
from jokulmist.learning.observation_scaling import (
    Scaling,
    fresh_running,
    fresh_statistics,
    prepared,
)
from jokulmist.learning.optimisation import Optimiser, first_moments
from jokulmist.learning.reward_scaling import open_returns, spread_of


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
        Transitions in one update; with a recurrent network (`SAC`) stretches of them, each as long as the network's
        `sequence`.
    learn_every : int
        Decisions between two updates; 1, as published.
    target_share : float, in [0, 1]
        How far the target networks move at each update.
    n_step : int
        Rewards summed before the value of what follows.
    network : Dense, Convolutional or function, optional
        Of the policy and of each critic, which is given the action as a channel more.
    scaling : {"bounds", "running", "none"}
        How numbers are scaled; see `PolicyAgent`.
    rewards_scaled : bool
        Whether rewards are divided by the spread of the running discounted return; replay keeps them as they were. Off
        by default: the scale moves while critics learn, which cost `TD3` and `DDPG` a level on the proving ground.
        Rewards of thousands, or of thousandths, need it, or weights of the terms.
    optimiser : {"adam", "rmsprop", "sgd"}
    gradient_clip : float, optional
        Largest norm of a gradient; None for no clipping (in a plan ``"off"``).
    """

    learning_rate: Scheduled = 1e-3
    policy_rate: Scheduled = 1e-3
    discount: FixedShare = 0.99
    discount_per: DiscountPer = "decision"
    replay_size: Count = 100_000
    replay_start: Count = 1_000
    minibatch: Count = 128
    learn_every: Count = 1
    target_share: FixedShare = 0.005
    n_step: Count = 1
    network: NetworkSetting | None = None
    scaling: Scaling = "running"
    rewards_scaled: bool = False
    optimiser: Optimiser = "adam"
    gradient_clip: Limit = None
    novelty: NoveltySetting | None = None

    keeps_states: ClassVar[bool] = False
    replays: ClassVar[bool] = True

    def remembers(self) -> bool:
        return isinstance(self.network, Recurrent)

    def refuse(self, spec: Spec) -> None:
        name = type(self).__name__
        refuse_unbounded(spec.action, name, "Give the range finite bounds, or use `PPO`, which clips.")

    def shapes(self, spec: Spec, copies: int) -> Shapes:
        shapes = super().shapes(spec, copies)
        if not self.keeps_states:
            refuse_recurrent(shapes.network, type(self).__name__)
        shapes.network = fitting(shapes.network, spec)
        # Of the policy, and of the policy and both critics together.
        shapes.state_width = shapes.network.state_width if self.remembers() else 0
        shapes.remembered = 3 * shapes.state_width
        shapes.lookahead = rows_ahead(shapes)
        shapes.slots = slots_of(self, shapes)
        shapes.acting = acting_over(spec.action, "squashed")
        shapes.action_numbers = shapes.acting.width + bool(shapes.acting.choices)
        shapes.layout = self.policy_of(shapes, 0)
        shapes.critics = self.critics_of(shapes, 0)
        return shapes

    def refuse_copies(self, shapes: Shapes) -> None:
        refuse_few_slots(self, shapes, shapes.lookahead)

    @staticmethod
    def fresh_memory(shapes: Any, numbers: Numbers) -> Any:
        memory = {"noise": (), "returns": open_returns(shapes), **fresh_states(shapes)}
        if shapes.state_width:
            memory["judged"] = np.zeros((shapes.copies, shapes.remembered - shapes.state_width), np.float32)
        return memory

    @staticmethod
    def policy_of(shapes: Any, seed: int) -> Layout:
        """Where the policy's weights stand, and how they begin."""
        raise NotImplementedError

    @staticmethod
    def critics_of(shapes: Any, seed: int) -> Layout:
        """Where the weights of two critics stand, and how they begin."""
        return critics_layout(shapes.network, shapes.spec, shapes.acting, 2, seed)

    def decisions_a_copy(self) -> int:
        return 5_000

    def decisions_per_update(self, copies: int) -> int:
        return turns_between(self.learn_every, copies)

    @staticmethod
    def chooses_by_numpy(shapes: Any) -> bool:
        return isinstance(shapes.network, Dense)

    @staticmethod
    def policy_state(learner: CriticLearner) -> CriticLearner:
        learning = learner.learning._replace(policy_target=(), critics_target=(), moments=())
        return learner._replace(learning=learning, replay=())

    @classmethod
    def state_values(cls, shapes: Any, learner: CriticLearner, observed: Any) -> Any:
        """The critics' mean value at the greedy action, in the scale of the rewards, one a row."""
        inputs = prepared(shapes.spec, shapes.scaling, learner.statistics, observed)
        acting, learning = shapes.acting, learner.learning
        policy, critics = shapes.layout.module(learning.policy), shapes.critics.module(learning.critics)
        if shapes.state_width:  # as if its episode began with it
            nothing = np.zeros((len(inputs.numbers), shapes.remembered), np.float32)
            policy = Remembering(policy, nothing[:, : shapes.state_width])
            critics = Remembering(critics, nothing[:, shapes.state_width :])
        outputs = outputs_of(policy, inputs)
        unit = acting.bounded(outputs[:, acting.alternatives : acting.alternatives + acting.width], np)
        values = np.asarray(values_at(critics, inputs, unit)).mean(axis=0)
        best: Any = np.zeros(len(values), int)
        if acting.choices:
            greedy = acting.indices(acting.likeliest(outputs, observed.legal, np))
            best = np.asarray(joint_over(shapes.spec.action).index(acting.native(greedy, unit)))
        return values[np.arange(len(values)), best] * float(spread_of(learner.returns))


def begin_learner(agent: type[CriticAgent], shapes: Any, noise: Any, temperature: Any = ()) -> CriticLearner:
    """What is known before the first decision; a method with a temperature has no target of its policy."""
    policy = agent.policy_of(shapes, seed_from(noise)).initial_weights()
    critics = agent.critics_of(shapes, seed_from(noise)).initial_weights()
    learning = CriticUpdateState(
        policy=policy,
        critics=critics,
        policy_target=policy.copy() if len(temperature) == 0 else (),
        critics_target=critics.copy(),
        temperature=temperature,
        moments=tuple(
            first_moments(shapes.optimiser, part) if len(part) else () for part in (policy, critics, temperature)
        ),
        updates=np.int32(0),
    )
    return CriticLearner(
        learning,
        fresh_statistics(shapes.spec, shapes.scaling),
        fresh_running(1) if shapes.rewards_scaled else None,
        np.int32(0),
        memory_of.fresh_replay(
            shapes.spec, shapes.copies, shapes.slots, False, kept_numbers(shapes), counts_advances(shapes)
        ),
    )


def first_tries(acting: ActionDistribution, observed: Any, noise: Any) -> tuple[list[Any], Any]:
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
