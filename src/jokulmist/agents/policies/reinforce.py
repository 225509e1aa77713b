"""The Monte Carlo policy gradient."""

from __future__ import annotations

from typing import Any, ClassVar, NamedTuple

import numpy as np

from jokulmist.agents.batches import in_rows
from jokulmist.agents.contract import Count, Experience, Numbers, Scheduled, weight_ahead
from jokulmist.agents.policies.policy_method import (
    READINGS,
    Batch,
    Learned,
    PolicyAgent,
    after_update,
    descended_by,
    entropies_of,
    is_warm,
    policy_moves,
    rewards_in_scale,
    seen_by,
)
from jokulmist.environments.spaces.channels import Seen, Spec
from jokulmist.learning.action_distributions import SampledRanges
from jokulmist.learning.advantages import accumulated
from jokulmist.learning.networks.layout import refuse_recurrent
from jokulmist.learning.optimisation import squared
from jokulmist.learning.reward_scaling import open_returns
from jokulmist.learning.schedules import linear
from jokulmist.trees import replaced


class KeptTurns(NamedTuple):
    """Turns that are kept until their episodes have closed, the oldest first.

    Attributes
    ----------
    observed : Seen of arrays with axes (turns, copies, ...)
    actions : in own form
    drawn : what stood behind the numbers of an action
    rewards : float32, shape ``(turns, copies)``
        With what a cut is worth, where a baseline tells it.
    ahead : float32, shape ``(turns, copies)``
        What the future counts after each decision.
    closed : bool, shape ``(turns, copies)``
    open : bool, shape ``(turns, copies)``
        Not learned from yet.
    """

    observed: Any
    actions: Any
    drawn: Any
    rewards: Any
    ahead: Any
    closed: Any
    open: Any


class Memory(NamedTuple):
    """What is kept between updates: the turns before, and the running returns that scale rewards."""

    stretch: KeptTurns
    returns: Any
    told: tuple[Any, ...]  # the readings of the last update that learned from something


class Reinforce(PolicyAgent):
    """REINFORCE: after whole episodes, actions are made likelier by what came after them.

    maximises  mean( (G - b(s)) log p(a|s) ) + entropy_bonus entropy,  G = r + discount r' + ...

    Williams (1992), "Simple statistical gradient-following algorithms"; Sutton and Barto (2018), section 13.4.

    Parameters
    ----------
    baseline : bool
        Whether a value of the state is learned and taken off the returns.
    returns_normalised : bool
        Whether what the actions are weighted by is brought to mean 0 and spread 1 over each update.
    horizon : int
        Decisions of each copy between two updates.
    longest : int
        Decisions of each copy that are kept until their episode has closed. What is older is learned from as if the episode
        were cut now.
    learning_rate, discount, entropy_bonus, range_entropy_bonus, value_weight, value_first, network, shared, scaling, optimiser, gradient_clip
        See `PolicyAgent`.
    rewards_scaled, at_bounds, spread_by_state, first_spread
        Scale of rewards, and the Gaussians of a Range; see `PolicyAgent`.

    Notes
    -----
    Differs from the book: the factor discount^t of the first decisions is left out, as is usual; an episode that was
    open at an update is learned from once it has closed, when the policy may have moved by some steps. A cut is followed by the
    baseline's value of what was last seen; without a baseline it counts as an end. An update takes the oldest decisions whose
    episodes have closed, at most twice as many as fall between two updates; the others wait. Fails when returns vary much, when what pays is met
    rarely, on swing-ups, and is slow with several choices at once; numbers of an action are learned more surely by `PPO`.

    Examples
    --------
    >>> Reinforce(baseline=False)
    Reinforce(baseline=False)
    """

    learning_rate: Scheduled = linear(1e-3, 0.0, over=1.0)
    entropy_bonus: Scheduled = 0.01
    horizon: Count = 64
    longest: Count = 1_000
    baseline: bool = True
    returns_normalised: bool = True

    reading_names: ClassVar[tuple[str, ...]] = ("decisions_learned", *READINGS)
    usual_copies: ClassVar[int] = 16

    def refuse(self, spec: Spec) -> None:
        super().refuse(spec)
        refuse_recurrent(self.network, "Reinforce")

    @staticmethod
    def fresh_memory(shapes: Any, numbers: Numbers) -> Memory:
        told = tuple(np.float32(0.0) for _ in READINGS)
        return Memory(_nothing(shapes), open_returns(shapes), told)

    @staticmethod
    def restarted(memory: Memory, new: Memory, where: Any) -> Memory:
        """Episodes that were lost on the way are not learned from."""
        stretch = memory.stretch
        still_open = np.asarray(stretch.open) & ~where
        closed = np.array(stretch.closed)
        closed[-1] |= where
        stretch = stretch._replace(open=still_open, closed=closed)
        return memory._replace(stretch=stretch, returns=replaced(where, new.returns, memory.returns))

    @staticmethod
    def learn(
        shapes: Any, numbers: Numbers, learner: Learned, memory: Memory, experience: Any, noise: Any
    ) -> tuple[Learned, Any, tuple[Any, ...]]:
        import jax
        import jax.numpy as jnp

        experience, learner, open_now = rewards_in_scale(numbers, learner, memory.returns, experience)
        stretch, ahead = _stretch(shapes, numbers, learner, experience)
        kept = jax.tree.map(lambda old, new: jnp.concatenate([old, new]), memory.stretch, stretch)
        # An episode that is still open goes on: by the baseline, if it has to be learned from all the same.
        rewards = kept.rewards.at[-1].add(jnp.where(kept.closed[-1], 0.0, ahead))
        returns = accumulated(rewards, jnp.where(kept.closed, 0.0, kept.ahead))
        # Whether the episode of each turn closes at it or later; the oldest turns are kept no longer.
        whole = accumulated(kept.closed.astype(jnp.float32), jnp.where(kept.closed, 0.0, 1.0)) > 0.0
        whole = whole.at[: shapes.horizon].set(True)
        due = (whole & kept.open & is_warm(learner.statistics)).reshape(-1)
        most = min(due.size, 2 * shapes.horizon * shapes.copies)
        (row,) = jnp.nonzero(due, size=most, fill_value=0)
        used = (jnp.arange(most) < jnp.sum(due)).astype(jnp.float32)
        count = jnp.maximum(jnp.sum(used), 1.0)

        def mean(amounts: Any) -> Any:
            return jnp.sum(amounts * used) / count

        returns = returns.reshape(-1)[row]
        batch = _rows(shapes, learner, kept, row)
        known = jnp.zeros_like(returns)
        if shapes.baseline:
            known = shapes.layout.module(learner.weights).values(batch.inputs)
        gains = returns - known
        if shapes.returns_normalised:
            spread = jnp.sqrt(mean(jnp.square(gains - mean(gains))))
            gains = jnp.where(spread > 1e-6, (gains - mean(gains)) / jnp.maximum(spread, 1e-6), gains)

        gains = gains * policy_moves(shapes, learner)

        def loss(networks: Any) -> Any:
            outputs = networks.outputs(batch.inputs)
            judged = shapes.acting.judged(outputs, *batch.done)
            assert judged.log_probability.shape == gains.shape == used.shape
            policy_loss = -mean(judged.log_probability * gains)
            value_loss = mean(squared(networks.values(batch.inputs) - returns)) if shapes.baseline else jnp.float32(0.0)
            bonus, entropy = entropies_of(numbers, judged, mean)
            total = policy_loss + numbers.value_weight * value_loss - bonus
            return total, (policy_loss, value_loss, entropy)

        weights, moments, told, norm = descended_by(shapes, numbers, learner.weights, learner.moments, loss)
        some = jnp.sum(used) > 0.0  # else the optimiser would roll on by itself
        weights, moments = jax.tree.map(
            lambda new, old: jnp.where(some, new, old), (weights, moments), (learner.weights, learner.moments)
        )
        spread = mean(jnp.square(returns - mean(returns)))
        off = returns - known
        explained = jnp.where(spread > 1e-12, 1.0 - mean(jnp.square(off - mean(off))) / jnp.maximum(spread, 1e-12), 0.0)
        # What was due beyond the most of one update waits for the next; nothing of random play is learned from.
        learned = due & (jnp.cumsum(due.astype(jnp.int32)) <= most)
        left = kept._replace(open=kept.open & ~learned.reshape(kept.open.shape) & is_warm(learner.statistics))
        left = jax.tree.map(lambda leaf: leaf[shapes.horizon :], left)
        learner = after_update(shapes, learner, weights, moments, experience)
        # An update without a whole episode learns nothing; its loss and its entropy would be those of no rows.
        told = tuple(
            jnp.where(some, now, before) for now, before in zip((*told, explained, norm), memory.told, strict=True)
        )
        return learner, Memory(left, open_now, told), (jnp.sum(used), *told)


def _kept_turns(shapes: Any) -> int:
    """Turns that are kept between updates: whole stretches."""
    horizon = int(shapes.horizon)
    return -(-max(int(shapes.longest), horizon) // horizon) * horizon


def _nothing(shapes: Any) -> KeptTurns:
    """What is kept before the first turn: nothing that is open."""
    lead, spec = (_kept_turns(shapes), shapes.copies), shapes.spec
    acting = shapes.acting
    seen = Seen(
        np.zeros((*lead, spec.width), np.float32),
        {c.name: np.zeros((*lead, *c.shape), np.uint8) for c in spec.images},
        tuple(np.ones((*lead, c.count), bool) for c in acting.choices.values()) if spec.masked else (),
        np.zeros(lead, np.int32),
    )
    unit = np.zeros((*lead, acting.width), np.float32)
    actions = acting.own([np.zeros(lead, np.int32) for _ in acting.choices], unit)
    drawn = SampledRanges(unit, unit.copy() if acting.squashed else ()) if acting.width else ()
    rewards = np.zeros(lead, np.float32)
    return KeptTurns(seen, actions, drawn, rewards, rewards.copy(), np.zeros(lead, bool), np.zeros(lead, bool))


def _stretch(shapes: Any, numbers: Numbers, learner: Learned, experience: Experience) -> tuple[KeptTurns, Any]:
    """What has happened now, and what is ahead of its last turn; a cut is worth what the baseline says of the last observation."""
    import jax.numpy as jnp

    rewards = experience.rewards
    weight = jnp.broadcast_to(jnp.float32(weight_ahead(numbers, experience.advances)), rewards.shape)
    ahead = jnp.zeros_like(rewards)
    if shapes.baseline:
        inputs = seen_by(shapes, learner.statistics, in_rows(experience.last))
        ahead = weight * shapes.layout.module(learner.weights).values(inputs).reshape(rewards.shape)
        rewards = rewards + jnp.where(experience.closed & ~experience.ended, ahead, 0.0)
    still_open = jnp.ones_like(experience.closed)
    stretch = KeptTurns(
        experience.observed, experience.actions, experience.notes[0], rewards, weight, experience.closed, still_open
    )
    return stretch, ahead[-1]


def _rows(shapes: Any, learner: Learned, stretch: KeptTurns, row: Any) -> Batch:
    """Some rows of a stretch."""
    import jax

    taken = jax.tree.map(lambda leaf: leaf[row], in_rows((stretch.observed, stretch.actions, stretch.drawn)))
    observed, actions, drawn = taken
    return Batch(seen_by(shapes, learner.statistics, observed), observed.legal, actions, drawn)
