"""The Monte Carlo policy gradient."""

from __future__ import annotations

from typing import Any, ClassVar, NamedTuple

import numpy as np

from jokulmist.agents.batches import in_rows
from jokulmist.agents.contract import Count, Experience, Numbers, Scheduled, weight_ahead
from jokulmist.agents.policies.policy_method import (
    READINGS,
    PolicyAgent,
    PolicyBatch,
    PolicyLearner,
    after_update,
    descended_by,
    entropies_of,
    policy_moves,
    rewards_in_scale,
    seen_by,
)
from jokulmist.agents.recurrence import (
    Past,
    fresh_states,
    in_stretches,
    in_time,
    past_along,
    said_along,
    said_next,
    stretch_of,
)
from jokulmist.environments.spaces.channels import Seen
from jokulmist.learning.action_distributions import SampledRanges
from jokulmist.learning.advantages import accumulated
from jokulmist.learning.observation_scaling import is_warm
from jokulmist.learning.optimisation import squared
from jokulmist.learning.reward_scaling import open_returns
from jokulmist.learning.schedules import linear
from jokulmist.trees import replaced


class StoredTurns(NamedTuple):
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
    past : Past, or empty
        What a recurrent network remembered before each.
    """

    observed: Any
    actions: Any
    samples: Any
    rewards: Any
    next_values: Any
    closed: Any
    open: Any
    past: Any = ()


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
        Decisions of each copy that are kept until their episode has closed. What is older is learned from as if the
        episode were cut now.
    learning_rate, discount, entropy_bonus, range_entropy_bonus, value_weight
        See `PolicyAgent`.
    value_first, network, shared, scaling, optimiser, gradient_clip
        See `PolicyAgent`.
    rewards_scaled, at_bounds, spread_by_state, first_spread
        Scale of rewards, and the Gaussians of a Range; see `PolicyAgent`.

    Notes
    -----
    Differs from the book: the factor discount^t of the first decisions is left out, as is usual; an episode that was
    open at an update is learned from once it has closed, when the policy may have moved by some steps. A cut is
    followed by the baseline's value of what was last seen; without a baseline it counts as an end. An update takes the
    oldest decisions whose episodes have closed, at most twice as many as fall between two updates; the others wait.
    Fails when returns vary much, when what pays is met rarely, on swing-ups, and is slow with several choices at once;
    numbers of an action are learned more surely by `PPO`.

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

    @staticmethod
    def fresh_memory(shapes: Any, numbers: Numbers) -> Any:
        zero_readings = tuple(
            np.float32(0.0) for _ in READINGS
        )  # the readings of the last update that learned from something
        return {
            "kept": _nothing(shapes),
            "returns": open_returns(shapes),
            "told": zero_readings,
            **fresh_states(shapes),
        }

    @staticmethod
    def restarted(memory: Any, new: Any, mask: Any) -> Any:
        """Episodes that were lost on the way are not learned from."""
        stored = memory["kept"]
        still_open = np.asarray(stored.open) & ~mask
        closed = np.array(stored.closed)
        closed[-1] |= mask
        stored = stored._replace(open=still_open, closed=closed)
        return {**memory, "kept": stored, "returns": replaced(mask, new["returns"], memory["returns"])}

    @staticmethod
    def learn(
        shapes: Any, numbers: Numbers, learner: PolicyLearner, memory: Any, experience: Any, noise: Any
    ) -> tuple[PolicyLearner, Any, tuple[Any, ...]]:
        import jax
        import jax.numpy as jnp

        experience, learner, open_now = rewards_in_scale(numbers, learner, memory["returns"], experience)
        stretch, next_values = _stretch(shapes, numbers, learner, experience)
        stored = jax.tree.map(lambda old, new: jnp.concatenate([old, new]), memory["kept"], stretch)
        # An episode that is still open goes on: by the baseline, if it has to be learned from all the same.
        rewards = stored.rewards.at[-1].add(jnp.where(stored.closed[-1], 0.0, next_values))
        returns = accumulated(rewards, jnp.where(stored.closed, 0.0, stored.next_values))
        # Whether the episode of each turn closes at it or later; the oldest turns are kept no longer.
        is_whole = accumulated(stored.closed.astype(jnp.float32), jnp.where(stored.closed, 0.0, 1.0)) > 0.0
        is_whole = is_whole.at[: shapes.horizon].set(True)
        due = is_whole & stored.open & is_warm(learner.statistics)
        batch, past, returns, used, learned = take_due_rows(shapes, learner, stored, returns, due)
        count = jnp.maximum(jnp.sum(used), 1.0)

        def mean(amounts: Any) -> Any:
            return jnp.sum(amounts * used) / count

        baselines = jnp.zeros_like(returns)
        if shapes.baseline:
            baselines = _values(shapes.layout.module(learner.weights), batch.inputs, past)
        gains = returns - baselines
        if shapes.returns_normalised:
            spread = jnp.sqrt(mean(jnp.square(gains - mean(gains))))
            gains = jnp.where(spread > 1e-6, (gains - mean(gains)) / jnp.maximum(spread, 1e-6), gains)

        gains = gains * policy_moves(shapes, learner)

        def loss(networks: Any) -> Any:
            if past:
                outputs, values = said_along(networks, batch.inputs, past)[0]
            else:
                outputs = networks.outputs(batch.inputs)
                values = networks.values(batch.inputs) if shapes.baseline else None
            likelihood = shapes.acting.likelihood(outputs, *batch.done)
            assert likelihood.log_probability.shape == gains.shape == used.shape
            policy_loss = -mean(likelihood.log_probability * gains)
            value_loss = mean(squared(values - returns)) if shapes.baseline else jnp.float32(0.0)
            bonus, entropy = entropies_of(numbers, likelihood, mean)
            total = policy_loss + numbers.value_weight * value_loss - bonus
            return total, (policy_loss, value_loss, entropy)

        weights, moments, loss_readings, norm = descended_by(shapes, numbers, learner.weights, learner.moments, loss)
        learns = jnp.sum(used) > 0.0  # else the optimiser would roll on by itself
        weights, moments = jax.tree.map(
            lambda new, old: jnp.where(learns, new, old), (weights, moments), (learner.weights, learner.moments)
        )
        spread = mean(jnp.square(returns - mean(returns)))
        off = returns - baselines
        explained = jnp.where(spread > 1e-12, 1.0 - mean(jnp.square(off - mean(off))) / jnp.maximum(spread, 1e-12), 0.0)
        # What was due beyond the most of one update waits for the next; nothing of random play is learned from.
        left = stored._replace(open=stored.open & ~learned & is_warm(learner.statistics))
        left = jax.tree.map(lambda leaf: leaf[shapes.horizon :], left)
        learner = after_update(shapes, learner, weights, moments, experience)
        # An update without a whole episode learns nothing; its loss and its entropy would be those of no rows.
        loss_readings = tuple(
            jnp.where(learns, latest, before)
            for latest, before in zip((*loss_readings, explained, norm), memory["told"], strict=True)
        )
        return (
            learner,
            {**memory, "kept": left, "returns": open_now, "told": loss_readings},
            (jnp.sum(used), *loss_readings),
        )


def _kept_turns(shapes: Any) -> int:
    """Turns that are kept between updates: whole stretches."""
    horizon = int(shapes.horizon)
    return -(-max(int(shapes.longest), horizon) // horizon) * horizon


def _nothing(shapes: Any) -> StoredTurns:
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
    actions = acting.native([np.zeros(lead, np.int32) for _ in acting.choices], unit)
    samples = SampledRanges(unit, unit.copy() if acting.squashed else ()) if acting.width else ()
    rewards = np.zeros(lead, np.float32)
    past: Any = ()
    if shapes.state_width:
        past = Past(np.zeros((*lead, shapes.state_width), np.float32), np.ones(lead, bool))
    return StoredTurns(
        seen, actions, samples, rewards, rewards.copy(), np.zeros(lead, bool), np.zeros(lead, bool), past
    )


def _stretch(shapes: Any, numbers: Numbers, learner: PolicyLearner, experience: Experience) -> tuple[StoredTurns, Any]:
    """What has happened now, and what is ahead of its last turn; a cut is worth what the baseline says of the last
    observation."""
    import jax.numpy as jnp

    rewards = experience.rewards
    weight = jnp.broadcast_to(jnp.float32(weight_ahead(numbers, experience.advances)), rewards.shape)
    next_values = jnp.zeros_like(rewards)
    samples, past = experience.notes
    past = past_along(past, experience)
    if shapes.baseline:
        networks, after = (
            shapes.layout.module(learner.weights),
            seen_by(shapes, learner.statistics, in_rows(experience.last)),
        )
        if past:
            inputs = seen_by(shapes, learner.statistics, in_rows(experience.observed))
            values = said_next(networks, after, said_along(networks, inputs, past)[1])[1]
        else:
            values = networks.values(after)
        next_values = weight * values.reshape(rewards.shape)
        rewards = rewards + jnp.where(experience.closed & ~experience.ended, next_values, 0.0)
    still_open = jnp.ones_like(experience.closed)
    stretch = StoredTurns(
        experience.observed, experience.actions, samples, rewards, weight, experience.closed, still_open, past
    )
    return stretch, next_values[-1]


def _values(networks: Any, inputs: Any, past: Any) -> Any:
    """The values of rows; of a recurrent network along time."""
    return said_along(networks, inputs, past)[0][1] if past else networks.values(inputs)


def take_due_rows(
    shapes: Any, learner: PolicyLearner, stored: StoredTurns, returns: Any, due: Any
) -> tuple[PolicyBatch, Any, Any, Any, Any]:
    """The turns that an update learns from, the oldest first, at most twice as many as fall between two updates.

    A recurrent network learns from whole stretches, in which some turns may not count: they are gone through for what
    they leave behind.
    """
    import jax
    import jax.numpy as jnp

    length = stretch_of(shapes)
    rows = in_rows((stored.observed, stored.actions, stored.samples, stored.past, returns, due))
    if shapes.state_width:
        rows = in_stretches(rows, due.shape, length)
        is_due = jnp.any(rows[-1], axis=1)
    else:
        is_due = rows[-1]
    most = min(is_due.size, 2 * shapes.horizon * shapes.copies // length)
    (row,) = jnp.nonzero(is_due, size=most, fill_value=0)
    is_row = (jnp.arange(most) < jnp.sum(is_due)).astype(jnp.float32)
    *batch_rows, counts = jax.tree.map(lambda leaf: leaf[row], rows)
    learned = is_due & (jnp.cumsum(is_due.astype(jnp.int32)) <= most)
    if shapes.state_width:
        past = batch_rows.pop(3)
        (batch_rows, used), past = in_time((batch_rows, counts * is_row[:, None]), past)
        learned = jnp.repeat(learned.reshape(-1, due.shape[1]), length, axis=0) & due
    else:
        past, used, learned = batch_rows.pop(3), is_row, learned.reshape(due.shape)
    observed, actions, samples, returns = batch_rows
    return (
        PolicyBatch(seen_by(shapes, learner.statistics, observed), observed.legal, actions, samples),
        past,
        returns,
        used,
        learned,
    )
