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
    past : Past, or empty
        What a recurrent network remembered before each.
    """

    observed: Any
    actions: Any
    drawn: Any
    rewards: Any
    ahead: Any
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
        told = tuple(np.float32(0.0) for _ in READINGS)  # the readings of the last update that learned from something
        return {"kept": _nothing(shapes), "returns": open_returns(shapes), "told": told, **fresh_states(shapes)}

    @staticmethod
    def restarted(memory: Any, new: Any, where: Any) -> Any:
        """Episodes that were lost on the way are not learned from."""
        kept = memory["kept"]
        still_open = np.asarray(kept.open) & ~where
        closed = np.array(kept.closed)
        closed[-1] |= where
        kept = kept._replace(open=still_open, closed=closed)
        return {**memory, "kept": kept, "returns": replaced(where, new["returns"], memory["returns"])}

    @staticmethod
    def learn(
        shapes: Any, numbers: Numbers, learner: Learned, memory: Any, experience: Any, noise: Any
    ) -> tuple[Learned, Any, tuple[Any, ...]]:
        import jax
        import jax.numpy as jnp

        experience, learner, open_now = rewards_in_scale(numbers, learner, memory["returns"], experience)
        stretch, ahead = _stretch(shapes, numbers, learner, experience)
        kept = jax.tree.map(lambda old, new: jnp.concatenate([old, new]), memory["kept"], stretch)
        # An episode that is still open goes on: by the baseline, if it has to be learned from all the same.
        rewards = kept.rewards.at[-1].add(jnp.where(kept.closed[-1], 0.0, ahead))
        returns = accumulated(rewards, jnp.where(kept.closed, 0.0, kept.ahead))
        # Whether the episode of each turn closes at it or later; the oldest turns are kept no longer.
        whole = accumulated(kept.closed.astype(jnp.float32), jnp.where(kept.closed, 0.0, 1.0)) > 0.0
        whole = whole.at[: shapes.horizon].set(True)
        due = whole & kept.open & is_warm(learner.statistics)
        batch, past, returns, used, learned = _taken(shapes, learner, kept, returns, due)
        count = jnp.maximum(jnp.sum(used), 1.0)

        def mean(amounts: Any) -> Any:
            return jnp.sum(amounts * used) / count

        known = jnp.zeros_like(returns)
        if shapes.baseline:
            known = _values(shapes.layout.module(learner.weights), batch.inputs, past)
        gains = returns - known
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
            judged = shapes.acting.judged(outputs, *batch.done)
            assert judged.log_probability.shape == gains.shape == used.shape
            policy_loss = -mean(judged.log_probability * gains)
            value_loss = mean(squared(values - returns)) if shapes.baseline else jnp.float32(0.0)
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
        left = kept._replace(open=kept.open & ~learned & is_warm(learner.statistics))
        left = jax.tree.map(lambda leaf: leaf[shapes.horizon :], left)
        learner = after_update(shapes, learner, weights, moments, experience)
        # An update without a whole episode learns nothing; its loss and its entropy would be those of no rows.
        told = tuple(
            jnp.where(some, now, before) for now, before in zip((*told, explained, norm), memory["told"], strict=True)
        )
        return learner, {**memory, "kept": left, "returns": open_now, "told": told}, (jnp.sum(used), *told)


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
    past: Any = ()
    if shapes.state_width:
        past = Past(np.zeros((*lead, shapes.state_width), np.float32), np.ones(lead, bool))
    return KeptTurns(seen, actions, drawn, rewards, rewards.copy(), np.zeros(lead, bool), np.zeros(lead, bool), past)


def _stretch(shapes: Any, numbers: Numbers, learner: Learned, experience: Experience) -> tuple[KeptTurns, Any]:
    """What has happened now, and what is ahead of its last turn; a cut is worth what the baseline says of the last
    observation."""
    import jax.numpy as jnp

    rewards = experience.rewards
    weight = jnp.broadcast_to(jnp.float32(weight_ahead(numbers, experience.advances)), rewards.shape)
    ahead = jnp.zeros_like(rewards)
    drawn, past = experience.notes
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
        ahead = weight * values.reshape(rewards.shape)
        rewards = rewards + jnp.where(experience.closed & ~experience.ended, ahead, 0.0)
    still_open = jnp.ones_like(experience.closed)
    stretch = KeptTurns(
        experience.observed, experience.actions, drawn, rewards, weight, experience.closed, still_open, past
    )
    return stretch, ahead[-1]


def _values(networks: Any, inputs: Any, past: Any) -> Any:
    """The values of rows; of a recurrent network along time."""
    return said_along(networks, inputs, past)[0][1] if past else networks.values(inputs)


def _taken(shapes: Any, learner: Learned, kept: KeptTurns, returns: Any, due: Any) -> tuple[Batch, Any, Any, Any, Any]:
    """The turns that an update learns from, the oldest first, at most twice as many as fall between two updates.

    A recurrent network learns from whole stretches, in which some turns may not count: they are gone through for what
    they leave behind.
    """
    import jax
    import jax.numpy as jnp

    length = stretch_of(shapes)
    rows = in_rows((kept.observed, kept.actions, kept.drawn, kept.past, returns, due))
    if shapes.state_width:
        rows = in_stretches(rows, due.shape, length)
        some = jnp.any(rows[-1], axis=1)
    else:
        some = rows[-1]
    most = min(some.size, 2 * shapes.horizon * shapes.copies // length)
    (row,) = jnp.nonzero(some, size=most, fill_value=0)
    there = (jnp.arange(most) < jnp.sum(some)).astype(jnp.float32)
    *taken, counts = jax.tree.map(lambda leaf: leaf[row], rows)
    learned = some & (jnp.cumsum(some.astype(jnp.int32)) <= most)
    if shapes.state_width:
        past = taken.pop(3)
        (taken, used), past = in_time((taken, counts * there[:, None]), past)
        learned = jnp.repeat(learned.reshape(-1, due.shape[1]), length, axis=0) & due
    else:
        past, used, learned = taken.pop(3), there, learned.reshape(due.shape)
    observed, actions, drawn, returns = taken
    return (
        Batch(seen_by(shapes, learner.statistics, observed), observed.legal, actions, drawn),
        past,
        returns,
        used,
        learned,
    )
