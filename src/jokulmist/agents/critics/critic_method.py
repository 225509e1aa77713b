"""What the methods share that learn a policy from critics of state and action: settings, networks, memory, the updates.

A critic is given the observation and, as one more channel, the numbers of the action in [-1, 1]. It has one output for each
combination of the choices (one, where there are none), so that an expectation over choices is exact.
"""

from __future__ import annotations

from collections.abc import Callable
from functools import lru_cache
from typing import Any, NamedTuple

import numpy as np

from jokulmist.agents.batches import Count, as_flat, seed_from
from jokulmist.agents.contract import (
    Agent,
    DiscountPer,
    FixedShare,
    Limit,
    Numbers,
    Scheduled,
    Shapes,
    counts_advances,
    weight_ahead,
)
from jokulmist.agents.replay_updates import (
    learned_when_started,
    one_after_another,
    rows_due,
    slots_of,
    start_of,
    turns_between,
)
from jokulmist.environments.spaces.channels import Channel, Spec
from jokulmist.environments.spaces.legal import drawn as drawn_among
from jokulmist.learning import replay as memory_of
from jokulmist.learning.action_distributions import Acting, acting_over, joint_over
from jokulmist.learning.gaussians import refuse_unbounded
from jokulmist.learning.networks.inputs import Inputs, applied
from jokulmist.learning.networks.layout import Dense, Layout, NetworkSetting, built, fitting
from jokulmist.learning.observation_scaling import (
    Running,
    Scaling,
    fresh_running,
    fresh_statistics,
    gathered,
    met,
    prepared,
)
from jokulmist.learning.optimisation import Optimiser, descended, squared, transform
from jokulmist.learning.reward_scaling import open_returns, returns_after, spread_of
from jokulmist.learning.schedules import linear


class Learning(NamedTuple):
    """What moves with each update.

    Attributes
    ----------
    policy, critics : float32, shape ``(size,)``
        Weights.
    policy_target, critics_target : float32, shape ``(size,)``
        That follow them; the first is empty where a method has none.
    temperature : float32, shape ``(parts,)``
        Logarithms, one a part of the action; empty where a method has none.
    moments : tuple
        The optimiser's states, of policy, critics and temperature.
    updates : int32
    """

    policy: Any
    critics: Any
    policy_target: Any
    critics_target: Any
    temperature: Any
    moments: Any
    updates: Any


class Learned(NamedTuple):
    """What was learned.

    Attributes
    ----------
    learning : Learning
    statistics, returns : Running, optional
        That scale the numbers, and the rewards.
    decisions : int32
    replay : Replay
    """

    learning: Learning
    statistics: Running | None
    returns: Running | None
    decisions: Any
    replay: Any


class Memory(NamedTuple):
    """What belongs to each copy: action noise, shape ``(copies, width)``, and running returns; empty where unused."""

    noise: Any
    returns: Any


Update = Callable[..., tuple[Learning, Any]]


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
        Where a decision lasts for several advances: whether the discount counts once a decision, or once an advance, also
        within it.
    replay_size : int
        Decisions that are remembered, over all copies.
    replay_start : int
        Decisions of random play before the first update.
    minibatch : int
        Transitions in one update.
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
        Whether rewards are divided by the spread of the running discounted return; replay keeps them as they were. Off by
        default: the scale moves while critics learn, which cost `TD3` and `DDPG` a level on the proving ground. Rewards of
        thousands, or of thousandths, need it, or weights of the terms.
    optimiser : {"adam", "rmsprop", "sgd"}
    gradient_clip : float, optional
        Largest norm of a gradient; None for no clipping (in a plan ``"off"``).
    """

    learning_rate: Scheduled = linear(1e-3, 0.0, over=1.0)
    policy_rate: Scheduled = linear(1e-3, 0.0, over=1.0)
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

    def refuse(self, spec: Spec) -> None:
        name = type(self).__name__
        refuse_unbounded(spec.action, name, "Give the range finite bounds, or use `PPO`, which clips.")

    def shapes(self, spec: Spec, copies: int) -> Shapes:
        shapes = super().shapes(spec, copies)
        shapes.network = fitting(shapes.network, spec)
        shapes.slots = slots_of(self, shapes, self.n_step)
        shapes.acting = acting_over(spec.action, "squashed")
        shapes.layout = self.policy_of(shapes, 0)
        shapes.critics = self.critics_of(shapes, 0)
        return shapes

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
    def kept(learner: Learned) -> Learned:
        learning = learner.learning._replace(policy_target=(), critics_target=(), moments=())
        return learner._replace(learning=learning, replay=())

    @classmethod
    def state_value(cls, shapes: Any, learner: Learned, observed: Any) -> float:
        """The critics' mean value of one observation at the greedy action, in the scale of the rewards."""
        inputs = prepared(shapes.spec, shapes.scaling, learner.statistics, observed)
        acting, learning = shapes.acting, learner.learning
        outputs = outputs_of(shapes.layout.module(learning.policy), inputs)
        unit = acting.bounded(outputs[:, acting.alternatives : acting.alternatives + acting.width], np)
        values = np.asarray(values_at(shapes.critics.module(learning.critics), inputs, unit)).mean(axis=0)[0]
        best = values[0]
        if acting.choices:
            greedy = acting.indices(acting.likeliest(outputs, observed.legal, np))
            best = values[int(joint_over(shapes.spec.action).index(acting.own(greedy, unit))[0])]
        return float(best) * float(spread_of(learner.returns))


@lru_cache(maxsize=64)
def critics_layout(network: Any, spec: Spec, acting: Acting, count: int, seed: int) -> Layout:
    """Where the weights of some critics stand, and how they begin."""
    channel = Channel(name="action", low=-1.0, high=1.0, shape=(acting.width,))
    known = Spec((*spec.channels, channel) if acting.width else spec.channels, spec.action, spec.masked)
    outputs = joint_over(spec.action).count

    def build() -> Any:
        from jokulmist.learning.networks.modules import Several

        return Several(tuple(built(network, known, outputs, seed + k) for k in range(count)))

    return Layout(network, build)


def outputs_of(module: Any, inputs: Inputs) -> Any:
    """What a policy is made of, for many observations."""
    return module.outputs(inputs) if hasattr(module, "outputs") else applied(module, inputs)


def values_at(critics: Any, inputs: Inputs, unit: Any) -> Any:
    """What each critic says of actions, shape ``(critics, rows, combinations)``."""
    import jax.numpy as jnp

    if unit.shape[-1]:
        inputs = inputs._replace(numbers=jnp.concatenate([inputs.numbers, unit], axis=-1))
    return critics(inputs)


def begun(agent: type[CriticAgent], shapes: Any, noise: Any, temperature: Any = ()) -> Learned:
    """What is known before the first decision; a method with a temperature has no target of its policy."""
    policy = agent.policy_of(shapes, seed_from(noise)).begun()
    critics = agent.critics_of(shapes, seed_from(noise)).begun()
    optimiser = transform(shapes.optimiser)
    learning = Learning(
        policy=policy,
        critics=critics,
        policy_target=policy.copy() if len(temperature) == 0 else (),
        critics_target=critics.copy(),
        temperature=temperature,
        moments=tuple(optimiser.init(part) if len(part) else () for part in (policy, critics, temperature)),
        updates=np.int32(0),
    )
    acting = shapes.acting
    numbers_kept = acting.width + bool(acting.choices)
    return Learned(
        learning,
        fresh_statistics(shapes.spec, shapes.scaling),
        fresh_running(1) if shapes.rewards_scaled else None,
        np.int32(0),
        memory_of.fresh_replay(shapes.spec, shapes.copies, shapes.slots, False, numbers_kept, counts_advances(shapes)),
    )


def fresh_memory(shapes: Any, noisy: bool = False) -> Memory:
    """The memory of all copies before the first decision."""
    noise = np.zeros((shapes.copies, shapes.acting.width), np.float32) if noisy else ()
    return Memory(noise, open_returns(shapes))


def first_tries(acting: Acting, observed: Any, noise: Any) -> tuple[list[Any], Any]:
    """Random play: the index of each choice among those allowed, and numbers evenly over their bounds."""
    xp, indices = noise.xp, []
    rows = observed.numbers.shape[0]
    for k, choice in enumerate(acting.choices.values()):
        u = noise.uniform(shape=(rows,))
        if observed.legal:
            indices.append(drawn_among(xp, observed.legal[k], u).astype("int32"))
        else:
            indices.append(xp.minimum(xp.floor(u * choice.count), choice.count - 1).astype("int32"))
    if not acting.width:
        return indices, observed.numbers[:, :0]
    return indices, noise.uniform(-1.0, 1.0, shape=(rows, acting.width))


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
