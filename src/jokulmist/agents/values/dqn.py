"""Q-learning with a network and replay."""

from __future__ import annotations

from functools import lru_cache
from typing import Any, ClassVar, Literal, NamedTuple

import numpy as np

from jokulmist.agents.action_values import by_label, chosen_index, refuse_combinations
from jokulmist.agents.batches import seed_from
from jokulmist.agents.contract import (
    AboveZero,
    Agent,
    Count,
    DiscountPer,
    FixedShare,
    Limit,
    Numbers,
    Scheduled,
    Shapes,
    Share,
    counts_advances,
    weight_ahead,
)
from jokulmist.agents.recurrence import fresh_states, past_of
from jokulmist.agents.replay_updates import (
    learned_when_started,
    one_after_another,
    refuse_few_slots,
    rows_due,
    slots_of,
    start_of,
    turns_between,
)
from jokulmist.agents.stretches import (
    kept_numbers,
    rows_ahead,
    stretches,
    with_past,
)
from jokulmist.agents.values import noisy
from jokulmist.agents.values.dqn_updates import (
    DQNUpdateState,
    action_values,
    remembered_values,
    said_of,
    update,
    update_along,
)
from jokulmist.environments.spaces.channels import Seen, Spec
from jokulmist.errors import SettingError
from jokulmist.learning import replay as memory_of
from jokulmist.learning.action_distributions import JointChoice, joint_over, refuse_ranges
from jokulmist.learning.networks.layout import Dense, Layout, NetworkSetting, Recurrent, built, fitting
from jokulmist.learning.novelty_setting import NoveltySetting
from jokulmist.learning.observation_scaling import (
    Running,
    Scaling,
    fresh_running,
    fresh_statistics,
    gathered,
    gathered_unless,
    met,
)
from jokulmist.learning.optimisation import Optimiser, first_moments
from jokulmist.learning.reward_scaling import open_returns, returns_after, spread_of
from jokulmist.learning.schedules import linear

SMALLEST_ERROR = 1e-3


class DQNLearner(NamedTuple):
    """What was learned.

    Attributes
    ----------
    weights, target : float32, shape ``(size,)``
        The target network's are the same array where there is none.
    statistics : Running, optional
        That scale the numbers.
    returns : Running, optional
        Of the discounted returns, that scale the rewards.
    decisions : int32
    moments : the optimiser's state
    replay : Replay
    """

    weights: Any
    target: Any
    statistics: Running | None
    returns: Running | None
    decisions: Any
    moments: Any
    replay: Any


class DQN(Agent):
    """Deep Q-learning: a network gives the value of each action, and learns from replayed transitions.

    target = r + discount Q_target(s', argmax_b Q(s', b));  the loss is Huber's, of Q(s, a) - target

    Mnih et al. (2015), "Human-level control through deep reinforcement learning", algorithm 1.

    Parameters
    ----------
    learning_rate : float or schedule
    discount : float, in [0, 1]
    discount_per : {"decision", "advance"}
        Where a decision lasts for several advances: whether the discount counts once a decision, or once an advance,
        also within it.
    exploration : float or schedule, in [0, 1]
        Chance of a random action.
    replay_size : int
        Decisions that are remembered, over all copies.
    replay_start : int
        Decisions of random play before the first update.
    minibatch : int
        Transitions in one update; with a recurrent network stretches of them, each as long as the network's `sequence`.
    learn_every : int
        Decisions between two updates.
    target : bool
        Whether targets come from a network that follows later.
    target_every : int
        Decisions between two moves of that network.
    target_share : float, in [0, 1]
        How far it moves towards the other: 1 copies it; a small one with a short `target_every` follows softly
        (Lillicrap et al., 2016).
    double : bool
        The action of the target is chosen by the network that learns (van Hasselt et al., 2016, equation 4).
    dueling : bool
        The network gives a value and advantages, each from a last hidden layer of its own (Wang et al., 2016, figure 1
        and equation 9); a network function of one's own gives them as its outputs, the value first.
    n_step : int
        Rewards summed before the value of what follows (Sutton and Barto, 2018, equation 7.1, off-policy uncorrected).
    prioritised : bool
        Transitions are replayed in proportion to their errors (Schaul et al., 2016, algorithm 1).
    priority_exponent, importance_exponent : float, schedule
        Of the error in the priority (alpha), and of the correcting weight (beta).
    quantiles : int, optional
        The network gives so many quantiles of the return of each action instead of its mean, learned by quantile
        regression (Dabney et al., 2018, algorithm 1). `loss` is then theirs, a line from 0.05 on, where returns have a
        spread of about 1.
    risk : float, in (0, 1]
        With quantiles: the lowest share of them that actions are judged by, when one is chosen and in the targets. 1 is
        the mean; 0.1 avoids what goes badly in one of ten cases.
    noisy : bool
        Noise in the weights instead of random actions: the network learns how uncertain each weight is, and acts by a
        new draw of them at each turn (Fortunato et al., 2018); `exploration` is not looked at then.
    conservative : float
        Weight of how far the values of other actions lie above that of the action that was taken: for learning from
        records, where what was never tried must not look good (Kumar et al., 2020, equation 4: the logarithm of the sum
        of exponentials of all values, less the value taken).
    loss : {"huber", "squared"}
    huber_reach : float
        Where the loss turns from a square into a line, in spreads of the return where `rewards_scaled`. Beyond it
        values go towards the median instead of the mean: with a reach of 1, ten paid with a chance of 0.2 was valued at
        0.5 instead of 2 (`wager` of the proving ground).
    rewards_scaled : bool
        Whether rewards are divided by the spread of the running discounted return when they are learned from; replay
        keeps them as they were, and values are told in the environment's own scale.
    network, scaling, optimiser, gradient_clip, novelty, frozen
        See `PolicyAgent`.

    Notes
    -----
    Differs from the paper: targets of three rewards, whose action is chosen by the network that learns; Adam instead of
    RMSprop unless told otherwise; a learning rate that falls to 0; rewards divided by the spread of the returns instead
    of clipped; several updates that fall due in one turn of many copies draw their minibatches together, before the
    first of them. Several choices at once are learned as one with all their combinations. Fails when there are very
    many combinations, and where what pays is met less than once in ten thousand decisions of random play.

    Examples
    --------
    >>> DQN(n_step=1, dueling=True)
    DQN(dueling=True, n_step=1)
    """

    learning_rate: Scheduled = linear(1e-3, 0.0, over=1.0)
    discount: FixedShare = 0.99
    discount_per: DiscountPer = "decision"
    exploration: Share = linear(1.0, 0.05, over=0.3)
    replay_size: Count = 100_000
    replay_start: Count = 1_000
    minibatch: Count = 64
    learn_every: Count = 4
    target: bool = True
    target_every: Count = 500
    target_share: FixedShare = 1.0
    double: bool = True
    dueling: bool = False
    n_step: Count = 3
    prioritised: bool = False
    priority_exponent: FixedShare = 0.6
    importance_exponent: Share = linear(0.4, 1.0, over=1.0)
    quantiles: Count | None = None
    risk: FixedShare = 1.0
    noisy: bool = False
    conservative: float = 0.0
    loss: Literal["huber", "squared"] = "huber"
    huber_reach: AboveZero = 10.0
    network: NetworkSetting | None = None
    scaling: Scaling = "running"
    rewards_scaled: bool = True
    optimiser: Optimiser = "adam"
    gradient_clip: Limit = 10.0
    novelty: NoveltySetting | None = None
    frozen: tuple[str, ...] = ()

    reading_names: ClassVar[tuple[str, ...]] = ("loss", "mean_value", "error", "gradient_norm")
    record_readings: ClassVar[tuple[str, ...]] = ("loss", "mean_value", "error", "gradient_norm")
    reads_memory: ClassVar[bool] = False
    replays: ClassVar[bool] = True
    usual_copies: ClassVar[int] = 16

    def numbers(self) -> dict[str, Any]:
        values = super().numbers()
        if not self.prioritised:
            del values["importance_exponent"], values["priority_exponent"]
        if not self.conservative:
            del values["conservative"]
        del values["risk"]
        return values

    def refuse(self, spec: Spec) -> None:
        refuse_ranges(spec.action, type(self).__name__)
        refuse_combinations(type(self).__name__, JointChoice(spec.action).count)
        if self.quantiles is None and self.risk < 1.0:
            raise SettingError("`risk` of `DQN` is about quantiles. Add `quantiles=32`, or leave it out.")
        if self.quantiles is not None and (self.dueling or self.remembers()):
            feature = "`dueling`" if self.dueling else "a recurrent network"
            raise SettingError(f"`quantiles` of `DQN` and {feature} do not go together yet. Leave one of them out.")
        if self.noisy and (self.remembers() or self.frozen or self.conservative):
            raise SettingError(
                "`noisy` of `DQN` goes with neither a recurrent network, nor `frozen`, nor `conservative`. Leave one "
                "of them out."
            )
        if self.prioritised and self.remembers():
            raise SettingError("`DQN` replays stretches of a recurrent network evenly. Leave out `prioritised`.")

    def remembers(self) -> bool:
        return isinstance(self.network, Recurrent)

    def shapes(self, spec: Spec, copies: int) -> Shapes:
        shapes = super().shapes(spec, copies)
        shapes.network = fitting(shapes.network, spec)
        shapes.state_width = shapes.network.state_width if self.remembers() else 0
        shapes.remembered, shapes.action_numbers = shapes.state_width, 1
        shapes.lookahead = rows_ahead(shapes)
        shapes.slots = slots_of(self, shapes)
        shapes.joint = joint_over(spec.action)
        shapes.tail = max(1, round(self.risk * (self.quantiles or 1)))
        shapes.layout = _layout(shapes.network, spec, _outputs(shapes), 0, self.dueling)
        if shapes.frozen:
            shapes.layout.moving(shapes.frozen)
        return shapes

    def refuse_copies(self, shapes: Shapes) -> None:
        refuse_few_slots(self, shapes, shapes.lookahead)

    def decisions_a_copy(self) -> int:
        return 10_000

    def decisions_per_update(self, copies: int) -> int:
        return turns_between(self.learn_every, copies)

    @staticmethod
    def fresh_learner(shapes: Any, numbers: Numbers, noise: Any) -> DQNLearner:
        weights = _layout(
            shapes.network, shapes.spec, _outputs(shapes), seed_from(noise), shapes.dueling
        ).initial_weights()
        if shapes.noisy:
            weights = noisy.initial_weights(shapes.layout, weights)
        return DQNLearner(
            weights=weights,
            target=weights.copy() if shapes.target else (),
            statistics=fresh_statistics(shapes.spec, shapes.scaling),
            returns=fresh_running(1) if shapes.rewards_scaled else None,
            decisions=np.int32(0),
            moments=first_moments(shapes.optimiser, weights),
            replay=memory_of.fresh_replay(
                shapes.spec,
                shapes.copies,
                shapes.slots,
                shapes.prioritised,
                kept_numbers(shapes),
                counts_advances(shapes),
            ),
        )

    @staticmethod
    def fresh_memory(shapes: Any, numbers: Numbers) -> Any:
        return {"returns": open_returns(shapes), **fresh_states(shapes)}

    @staticmethod
    def choose(
        shapes: Any, numbers: Numbers, learner: DQNLearner, memory: Any, observed: Seen, noise: Any, explore: bool
    ) -> tuple[Any, Any, Any]:
        past: Any = ()
        if shapes.state_width:
            past = past_of(memory, observed)
            values, state = remembered_values(shapes, learner, observed, past.states)
            memory = {**memory, "state": state}
        else:
            weights = learner.weights
            if explore and shapes.noisy:
                draws = noise.normal(shape=(noisy.draws_of(shapes.layout),))
                weights = noisy.with_noise(shapes.layout, weights, draws, noise.xp)
            values = action_values(shapes, weights, learner.statistics, observed, noise.xp)
        exploration = None
        if explore:
            later = 0.0 if shapes.noisy else numbers.exploration
            exploration = noise.xp.where(learner.decisions < shapes.replay_start, 1.0, later)
        index = chosen_index(shapes, values, observed.legal, noise, exploration)
        return shapes.joint.native(index), memory, past if explore else ()

    @staticmethod
    def learn(
        shapes: Any, numbers: Numbers, learner: DQNLearner, memory: Any, experience: Any, noise: Any, bonus: Any = None
    ) -> tuple[DQNLearner, Any, tuple[Any, ...]]:
        spec = shapes.spec
        # Replay keeps the rewards as they were: they are divided when they are learned from.
        bootstrap_weight = weight_ahead(numbers, experience.advances)
        returns, open_now = returns_after(experience, learner.returns, memory["returns"], bootstrap_weight, bonus)
        memory = {**memory, "returns": open_now}
        spread = spread_of(returns)
        action = shapes.joint.index(experience.actions)[..., None]
        if shapes.state_width:
            action = with_past(action, experience.notes, experience)
        replay = memory_of.written(spec, learner.replay, experience, action, counts_advances(shapes))
        updates, rows = rows_due(shapes, experience)
        chance = memory_of.draws_for(noise, rows, shapes.prioritised)
        # Of the network that learns, of the same where it chooses the target's action, and of the target network.
        width = noisy.draws_of(shapes.layout) if shapes.noisy else 0
        noise_of_weights: Any = noise.normal(shape=(updates, 3, width)) if shapes.noisy else ()

        def learned(learning: DQNUpdateState) -> Any:
            if shapes.state_width:
                return _learned_from_sequences(shapes, numbers, learning, replay, spread, chance, updates, bonus)
            draws = (chance, noise_of_weights)
            return _learned_from_transitions(shapes, numbers, learning, replay, spread, draws, updates, bonus)

        decisions = learner.decisions + experience.rewards.size
        learning = DQNUpdateState(
            learner.weights, learner.target, learner.moments, replay.priorities, learner.statistics
        )
        start = start_of(shapes, shapes.lookahead)
        learning, readings = learned_when_started(decisions, start, learned, learning, len(DQN.reading_names))
        learner = DQNLearner(
            weights=learning.weights,
            target=_moved_target(shapes, numbers, learner, learning.weights, decisions, decisions >= start),
            statistics=gathered_unless(bool(shapes.frozen), learner.statistics, met(experience)),
            returns=returns,
            decisions=decisions,
            moments=learning.moments,
            replay=replay._replace(priorities=learning.priorities),
        )
        return learner, memory, tuple(readings)

    @staticmethod
    def taught(shapes: Any, numbers: Numbers, learner: DQNLearner, rows: Any) -> DQNLearner:
        """The learner before its first update on records: they are its replay memory, one decision after another."""
        import jax
        import jax.numpy as jnp

        if shapes.noisy:
            raise SettingError("`noisy` of `DQN` is for exploring, and records are not explored. Leave it out.")
        if shapes.state_width:
            raise SettingError("a recurrent network does not learn from records yet. Use `network=jm.Dense(64, 64)`.")
        with_time = jax.tree.map(lambda leaf: jnp.asarray(leaf)[:, None], rows)
        count, closed = rows.rewards.shape[0], int(np.sum(rows.closed))
        empty = memory_of.fresh_replay(
            shapes.spec, 1, count + closed + shapes.n_step + 1, shapes.prioritised, counted=counts_advances(shapes)
        )
        action = shapes.joint.index(with_time.actions)[..., None]
        write = jax.jit(
            lambda replay: memory_of.written(shapes.spec, replay, with_time, action, counts_advances(shapes))
        )
        returns, _ = returns_after(with_time, learner.returns, np.zeros(1, np.float32), numbers.discount)
        statistics = gathered(learner.statistics, met(with_time))
        return learner._replace(replay=write(empty), returns=returns, statistics=statistics)

    @staticmethod
    def learn_rows(
        shapes: Any, numbers: Numbers, learner: DQNLearner, rows: Any, noise: Any
    ) -> tuple[DQNLearner, tuple[()], tuple[Any, ...]]:
        """One update on a minibatch of the records."""
        import jax.numpy as jnp

        replay = learner.replay
        chance = memory_of.draws_for(noise, shapes.minibatch, shapes.prioritised)
        sample = memory_of.sampled(
            shapes.spec, replay, chance, shapes.n_step, numbers.discount, getattr(numbers, "importance_exponent", None), counts_advances(shapes)
        )  # fmt: skip
        sample = sample._replace(gain=sample.gain / spread_of(learner.returns))
        learning = DQNUpdateState(
            learner.weights, learner.target, learner.moments, replay.priorities, learner.statistics
        )
        later = sample.gain
        if shapes.target:
            later = said_of(shapes, learning.target, learning.statistics, sample.following)
        learning, (readings, errors) = update(shapes, numbers, learning, sample, later)
        if replay.priorities is not None:
            priority = (jnp.abs(errors) + SMALLEST_ERROR) ** numbers.priority_exponent
            priorities = memory_of.reprioritised(replay.priorities, sample.place, priority, sample.importance > 0.0)
            replay = replay._replace(priorities=priorities)
        decisions = learner.decisions + shapes.learn_every  # as many as lie between two updates of a run
        target = _moved_target(shapes, numbers, learner, learning.weights, decisions)
        learner = learner._replace(
            weights=learning.weights, target=target, moments=learning.moments, decisions=decisions, replay=replay
        )
        return learner, (), tuple(readings)

    @staticmethod
    def chooses_by_numpy(shapes: Any) -> bool:
        return isinstance(shapes.network, Dense) and not shapes.dueling

    @staticmethod
    def policy_state(learner: DQNLearner) -> DQNLearner:
        return learner._replace(target=(), moments=(), replay=())

    @staticmethod
    def values(shapes: Any, learner: DQNLearner, observed: Seen) -> dict[str, Any]:
        """The value of each action by label, one a row."""
        xp = np if DQN.chooses_by_numpy(shapes) else None
        values = np.asarray(action_values(shapes, learner.weights, learner.statistics, observed, xp))
        return by_label(shapes.spec, values * float(spread_of(learner.returns)))

    @staticmethod
    def policy_outputs(shapes: Any, learner: DQNLearner, observed: Seen) -> dict[str, Any]:
        values = action_values(shapes, learner.weights, learner.statistics, observed)
        return {"values": values * spread_of(learner.returns)}

    @staticmethod
    def quantiles_of(shapes: Any, learner: DQNLearner, observed: Seen) -> dict[str, Any]:
        """Quantiles of the return of each action for one observation, by label, in the scale of the rewards; the lowest
        first."""
        quantiles = np.sort(np.asarray(said_of(shapes, learner.weights, learner.statistics, observed))[0], axis=-1)
        return dict(zip(shapes.joint.labels, quantiles * float(spread_of(learner.returns)), strict=True))


def _learned_from_sequences(
    shapes: Any,
    numbers: Numbers,
    learning: DQNUpdateState,
    replay: Any,
    spread: Any,
    chance: Any,
    updates: int,
    bonus: Any,
) -> tuple[DQNUpdateState, Any]:
    """Updates of a recurrent network, each on sequences of its own; the learning after them, and the mean readings."""
    import jax.numpy as jnp

    sample = stretches(shapes, numbers, replay, chance, counts_advances(shapes), bonus)
    sample = sample._replace(gain=sample.gain / spread)

    def step(state: DQNUpdateState, *part: Any) -> Any:
        return update_along(shapes, numbers, state, *part)

    learning, (readings, _) = one_after_another(step, learning, updates, shapes.minibatch, sample)
    return learning, jnp.mean(readings, axis=0)


def _learned_from_transitions(
    shapes: Any, numbers: Numbers, learning: DQNUpdateState, replay: Any, spread: Any, draws: tuple[Any, Any], updates: int,
    bonus: Any,
) -> tuple[DQNUpdateState, Any]:  # fmt: skip
    """Updates on transitions; `draws` are those of the transitions, and those of the weights of a noisy network."""
    import jax.numpy as jnp

    chance, noise_of_weights = draws
    exponent = getattr(numbers, "importance_exponent", None)
    sample = memory_of.sampled(
        shapes.spec, replay, chance, shapes.n_step, numbers.discount, exponent, counts_advances(shapes), updates, bonus
    )
    sample = sample._replace(gain=sample.gain / spread)
    # The target network stands still meanwhile, so what it says of all of them is one product.
    later = sample.gain
    if shapes.target:
        target = learning.target
        if shapes.noisy:
            target = noisy.with_noise(shapes.layout, target, noise_of_weights[0, 2], jnp)
        later = said_of(shapes, target, learning.statistics, sample.following)
    update_index = jnp.repeat(jnp.arange(updates), shapes.minibatch) if shapes.noisy else ()

    def step(state: DQNUpdateState, sample: Any, later: Any, update_index: Any) -> Any:
        return update(shapes, numbers, state, sample, later, noise_of_weights[update_index[0]] if shapes.noisy else ())

    learning, (readings, errors) = one_after_another(
        step, learning, updates, shapes.minibatch, sample, later, update_index
    )
    if replay.priorities is not None:
        priority = (jnp.abs(errors.reshape(-1)) + SMALLEST_ERROR) ** numbers.priority_exponent
        priorities = memory_of.reprioritised(replay.priorities, sample.place, priority, sample.importance > 0.0)
        learning = learning._replace(priorities=priorities)
    return learning, jnp.mean(readings, axis=0)


def _moved_target(
    shapes: Any, numbers: Numbers, learner: DQNLearner, weights: Any, decisions: Any, started: Any = True
) -> Any:
    """The target network after as many moves as fell due until `decisions`, whatever the number of copies."""
    import jax.numpy as jnp

    if not shapes.target:
        return learner.target
    due = decisions // shapes.target_every - learner.decisions // shapes.target_every
    share = 1.0 - (1.0 - numbers.target_share) ** due
    moved = learner.target + share * (weights - learner.target)
    return jnp.where((due > 0) & started, moved, learner.target)


def _outputs(shapes: Any) -> int:
    count: int = shapes.joint.count
    return count * (shapes.quantiles or 1) + (1 if shapes.dueling else 0)


@lru_cache(maxsize=64)
def _layout(network: Any, spec: Spec, outputs: int, seed: int, dueling: bool) -> Layout:
    return Layout(network, lambda: built(network, spec, outputs, seed, dueling=dueling))
