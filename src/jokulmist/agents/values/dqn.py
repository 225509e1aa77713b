"""Q-learning with a network and replay."""

from __future__ import annotations

from functools import lru_cache
from typing import Any, ClassVar, Literal, NamedTuple

import numpy as np

from jokulmist.agents.action_values import Explorer, by_label, chosen_index, refuse_combinations
from jokulmist.agents.batches import seed_from
from jokulmist.agents.configs import Config, DQNConfig, Hyperparameters
from jokulmist.agents.contract import (
    AboveZero,
    Agent,
    Count,
    DiscountPer,
    Experience,
    FixedShare,
    Limit,
    Scheduled,
    Share,
    bootstrap_discount,
    counts_advances,
)
from jokulmist.agents.recurrence import fresh_states, past_of
from jokulmist.agents.replay_updates import (
    apply_in_turn,
    learned_when_started,
    refuse_few_slots,
    rows_due,
    slots_of,
    start_of,
    turns_between,
)
from jokulmist.agents.sequences import (
    lookahead_rows,
    sample_sequences,
    stored_width,
    with_past,
)
from jokulmist.agents.values import noisy
from jokulmist.agents.values.dqn_updates import (
    DQNUpdateState,
    action_values,
    network_outputs,
    remembered_values,
    update,
    update_sequences,
)
from jokulmist.arrays import Array
from jokulmist.environments.chance.draws import Draw
from jokulmist.environments.spaces.channels import ObservationBatch, Spec
from jokulmist.errors import SettingError
from jokulmist.learning import replay as memory_of
from jokulmist.learning.action_distributions import JointChoice, joint_over, refuse_ranges
from jokulmist.learning.networks.layout import Dense, Layout, NetworkSetting, Recurrent, build_network, fitting
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
from jokulmist.learning.replay import Replay, Sample
from jokulmist.learning.reward_scaling import open_returns, returns_after, spread_of
from jokulmist.learning.schedules import linear

SMALLEST_ERROR = 1e-3
STARTED_REPLAY = 5_000


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
    random_play : int32
        Decisions at the beginning that are random play; 0 where the run begins with what another learned.
    moments : the optimiser's state
    replay : Replay
    """

    weights: Any
    target: Any
    statistics: Running | None
    returns: Running | None
    decisions: Any
    random_play: Any
    moments: Any
    replay: Any


class DQN(Agent):
    """Deep Q-learning: a network gives the value of each action, and learns from replayed transitions.

    target = r + discount Q_target(s', argmax_b Q(s', b));  the loss is Huber's, of Q(s, a) - target

    Mnih et al. (2015), "Human-level control through deep reinforcement learning", algorithm 1.

    Parameters
    ----------
    learning_rate : float or schedule
        Step size of the optimiser.
    discount : float, in [0, 1]
    discount_per : {"decision", "advance"}
        Where a decision lasts for several advances: whether the discount counts once a decision, or once an advance,
        also within it.
    exploration : float or schedule, in [0, 1]
        Chance of a random action.
    explorer : callable, optional
        A function of your own that chooses while the method trains: it is called with (observed, best, probabilities,
        draw) and gives the index of an action for each copy. `probabilities` are those by which it would be drawn
        without it, one row a copy; what is not allowed becomes the best action. In a plan ``"file.py:name"``.
    replay_size : int
        Decisions that are remembered, over all copies.
    replay_start : int
        Decisions of random play before the first update.
    minibatch : int
        Transitions in one update; with a recurrent network sequences of them, each as long as the network's `sequence`.
    learn_every : int
        Decisions between two updates.
    updates : int
        Updates each time it learns.
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
    network : Dense, Convolutional, Recurrent or function, optional
        By default `Dense` where only numbers are seen, `Convolutional` where images are.
    scaling : {"running", "bounds", "none"}
        How numbers are scaled: by running statistics, by the declared bounds, or not; as in `PPO`.
    optimiser : {"adam", "rmsprop", "sgd"}
        How gradients become steps.
    gradient_clip : float, optional
        Largest norm of the gradient; None for no clipping (in a plan ``"off"``).
    novelty : Novelty, optional
        Also seek what was seldom met: ``jm.Novelty(0.5)``.
    frozen : tuple of str
        Parts of the network that do not learn, e.g. ``("layers[0]",)``: of a run that begins with what another has
        learned. A wrong name is told with those there are.

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
    explorer: Explorer = None
    replay_size: Count = 100_000
    replay_start: Count = 1_000
    minibatch: Count = 64
    learn_every: Count = 4
    updates: Count = 1
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

    config_type: ClassVar[type[Config]] = DQNConfig
    reading_names: ClassVar[tuple[str, ...]] = ("loss", "mean_value", "error", "gradient_norm")
    record_readings: ClassVar[tuple[str, ...]] = ("loss", "mean_value", "error", "gradient_norm")
    reads_memory: ClassVar[bool] = False
    replays: ClassVar[bool] = True
    usual_copies: ClassVar[int] = 16

    def schedules(self) -> dict[str, Any]:
        values = super().schedules()
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
            raise SettingError("`DQN` replays sequences of a recurrent network evenly. Leave out `prioritised`.")

    def remembers(self) -> bool:
        return isinstance(self.network, Recurrent)

    def config(self, spec: Spec, copies: int) -> DQNConfig:
        config: DQNConfig = super().config(spec, copies)
        config.network = fitting(config.network, spec)
        config.state_width = config.network.state_width if self.remembers() else 0
        config.remembered, config.action_numbers = config.state_width, 1
        config.lookahead = lookahead_rows(config)
        config.slots = slots_of(self, config)
        config.joint = joint_over(spec.action)
        config.tail = max(1, round(self.risk * (self.quantiles or 1)))
        config.layout = _layout(config.network, spec, _outputs(config), 0, self.dueling)
        if config.frozen:
            config.layout.moving(config.frozen)
        return config

    def refuse_copies(self, config: DQNConfig) -> None:
        refuse_few_slots(self, config, config.lookahead)

    def start_settings(self, steps: int | None) -> dict[str, Any]:
        # In the first few decisions of a policy that hardly fails there is nothing that keeps it from failing.
        quarter = STARTED_REPLAY if steps is None else steps // 4
        replay_start = max(self.replay_start, min(STARTED_REPLAY, quarter, self.replay_size // 2))
        return {"learning_rate": linear(3e-4, 0.0, over=1.0), "replay_start": replay_start}

    def decisions_a_copy(self) -> int:
        return 10_000

    def decisions_per_update(self, copies: int) -> int:
        return turns_between(self.learn_every, copies)

    @staticmethod
    def fresh_learner(config: DQNConfig, hyperparameters: Hyperparameters, noise: Draw) -> DQNLearner:
        weights = _layout(
            config.network, config.spec, _outputs(config), seed_from(noise), config.dueling
        ).initial_weights()
        if config.noisy:
            weights = noisy.initial_weights(config.layout, weights)
        return DQNLearner(
            weights=weights,
            target=weights.copy() if config.target else (),
            statistics=fresh_statistics(config.spec, config.scaling),
            returns=fresh_running(1) if config.rewards_scaled else None,
            decisions=np.int32(0),
            random_play=np.int32(config.replay_start),
            moments=first_moments(config.optimiser, weights),
            replay=memory_of.fresh_replay(
                config.spec,
                config.copies,
                config.slots,
                config.prioritised,
                stored_width(config),
                counts_advances(config),
            ),
        )

    @staticmethod
    def fresh_memory(config: DQNConfig, hyperparameters: Hyperparameters) -> Any:
        return {"returns": open_returns(config), **fresh_states(config)}

    @staticmethod
    def choose(
        config: DQNConfig,
        hyperparameters: Hyperparameters,
        learner: DQNLearner,
        memory: Any,
        observed: ObservationBatch,
        noise: Draw,
        explore: bool,
    ) -> tuple[Any, Any, Any]:
        past: Any = ()
        if config.state_width:
            past = past_of(memory, observed)
            values, state = remembered_values(config, learner, observed, past.states)
            memory = {**memory, "state": state}
        else:
            weights = learner.weights
            if explore and config.noisy:
                draws = noise.normal(shape=(noisy.draws_of(config.layout),))
                weights = noisy.with_noise(config.layout, weights, draws, noise.xp)
            values = action_values(config, weights, learner.statistics, observed, noise.xp)
        exploration = None
        if explore:
            later = 0.0 if config.noisy else hyperparameters.exploration
            exploration = noise.xp.where(learner.decisions < learner.random_play, 1.0, later)
        index = chosen_index(config, values, observed, noise, exploration)
        return config.joint.native(index), memory, past if explore else ()

    @staticmethod
    def learn(
        config: DQNConfig,
        hyperparameters: Hyperparameters,
        learner: DQNLearner,
        memory: Any,
        experience: Experience,
        noise: Draw,
        bonus: Any = None,
    ) -> tuple[DQNLearner, Any, tuple[Any, ...]]:
        spec = config.spec
        # Replay keeps the rewards as they were: they are divided when they are learned from.
        bootstrap_weight = bootstrap_discount(hyperparameters, experience.advances)
        returns, open_now = returns_after(experience, learner.returns, memory["returns"], bootstrap_weight, bonus)
        memory = {**memory, "returns": open_now}
        spread = spread_of(returns)
        action = config.joint.index(experience.actions)[..., None]
        if config.state_width:
            action = with_past(action, experience.policy_extras, experience)
        replay = memory_of.add_to_replay(spec, learner.replay, experience, action, counts_advances(config))
        updates, rows = rows_due(config, experience, config.updates)
        chance = memory_of.replay_draws(noise, rows, config.prioritised)
        # Of the network that learns, of the same where it chooses the target's action, and of the target network.
        width = noisy.draws_of(config.layout) if config.noisy else 0
        noise_of_weights: Any = noise.normal(shape=(updates, 3, width)) if config.noisy else ()

        def learned(learning: DQNUpdateState) -> Any:
            if config.state_width:
                return _learned_from_sequences(
                    config, hyperparameters, learning, replay, spread, chance, updates, bonus
                )
            draws = (chance, noise_of_weights)
            return _learned_from_transitions(config, hyperparameters, learning, replay, spread, draws, updates, bonus)

        decisions = learner.decisions + experience.rewards.size
        learning = DQNUpdateState(
            learner.weights, learner.target, learner.moments, replay.priorities, learner.statistics
        )
        start = start_of(config, config.lookahead)
        learning, readings = learned_when_started(decisions, start, learned, learning, len(DQN.reading_names))
        learner = DQNLearner(
            weights=learning.weights,
            target=_moved_target(config, hyperparameters, learner, learning.weights, decisions, decisions >= start),
            statistics=gathered_unless(bool(config.frozen), learner.statistics, met(experience)),
            returns=returns,
            decisions=decisions,
            random_play=learner.random_play,
            moments=learning.moments,
            replay=replay._replace(priorities=learning.priorities),
        )
        return learner, memory, tuple(readings)

    @staticmethod
    def taught(config: DQNConfig, hyperparameters: Hyperparameters, learner: DQNLearner, rows: Any) -> DQNLearner:
        """The learner before its first update on records: they are its replay memory, one decision after another."""
        import jax
        import jax.numpy as jnp

        if config.noisy:
            raise SettingError("`noisy` of `DQN` is for exploring, and records are not explored. Leave it out.")
        if config.state_width:
            raise SettingError("a recurrent network does not learn from records yet. Use `network=jm.Dense(64, 64)`.")
        with_time = jax.tree.map(lambda leaf: jnp.asarray(leaf)[:, None], rows)
        count, closed = rows.rewards.shape[0], int(np.sum(rows.closed))
        empty = memory_of.fresh_replay(
            config.spec, 1, count + closed + config.n_step + 1, config.prioritised, counted=counts_advances(config)
        )
        action = config.joint.index(with_time.actions)[..., None]
        write = jax.jit(
            lambda replay: memory_of.add_to_replay(config.spec, replay, with_time, action, counts_advances(config))
        )
        returns, _ = returns_after(with_time, learner.returns, np.zeros(1, np.float32), hyperparameters.discount)
        statistics = gathered(learner.statistics, met(with_time))
        return learner._replace(replay=write(empty), returns=returns, statistics=statistics)

    @staticmethod
    def learn_rows(
        config: DQNConfig, hyperparameters: Hyperparameters, learner: DQNLearner, rows: Any, noise: Draw
    ) -> tuple[DQNLearner, tuple[()], tuple[Any, ...]]:
        """One update on a minibatch of the records."""
        import jax.numpy as jnp

        replay = learner.replay
        chance = memory_of.replay_draws(noise, config.minibatch, config.prioritised)
        sample = memory_of.sample_replay(
            config.spec,
            replay,
            chance,
            config.n_step,
            hyperparameters.discount,
            hyperparameters.importance_exponent,
            counts_advances(config),
        )
        sample = sample._replace(n_step_return=sample.n_step_return / spread_of(learner.returns))
        learning = DQNUpdateState(
            learner.weights, learner.target, learner.moments, replay.priorities, learner.statistics
        )
        later = sample.n_step_return
        if config.target:
            later = network_outputs(config, learning.target, learning.statistics, sample.following)
        learning, (readings, errors) = update(config, hyperparameters, learning, sample, later)
        if replay.priorities is not None:
            priority = (jnp.abs(errors) + SMALLEST_ERROR) ** hyperparameters.priority_exponent
            priorities = memory_of.reprioritised(replay.priorities, sample.place, priority, sample.importance > 0.0)
            replay = replay._replace(priorities=priorities)
        decisions = learner.decisions + config.learn_every  # as many as lie between two updates of a run
        target = _moved_target(config, hyperparameters, learner, learning.weights, decisions)
        learner = learner._replace(
            weights=learning.weights, target=target, moments=learning.moments, decisions=decisions, replay=replay
        )
        return learner, (), tuple(readings)

    @staticmethod
    def chooses_by_numpy(config: DQNConfig) -> bool:
        return isinstance(config.network, Dense) and not config.dueling

    @staticmethod
    def policy_state(learner: DQNLearner) -> DQNLearner:
        return learner._replace(target=(), moments=(), replay=())

    @staticmethod
    def values(config: DQNConfig, learner: DQNLearner, observed: ObservationBatch) -> dict[str, Any]:
        """The value of each action by label, one a row."""
        xp = np if DQN.chooses_by_numpy(config) else None
        values = np.asarray(action_values(config, learner.weights, learner.statistics, observed, xp))
        return by_label(config.spec, values * float(spread_of(learner.returns)))

    @staticmethod
    def policy_outputs(config: DQNConfig, learner: DQNLearner, observed: ObservationBatch) -> dict[str, Any]:
        values = action_values(config, learner.weights, learner.statistics, observed)
        return {"values": values * spread_of(learner.returns)}

    @staticmethod
    def quantiles_of(config: DQNConfig, learner: DQNLearner, observed: ObservationBatch) -> dict[str, Any]:
        """Quantiles of the return of each action for one observation, by label, in the scale of the rewards; the lowest
        first."""
        quantiles = np.sort(
            np.asarray(network_outputs(config, learner.weights, learner.statistics, observed))[0], axis=-1
        )
        return dict(zip(config.joint.labels, quantiles * float(spread_of(learner.returns)), strict=True))


def _learned_from_sequences(
    config: DQNConfig,
    hyperparameters: Hyperparameters,
    learning: DQNUpdateState,
    replay: Any,
    spread: Any,
    chance: Any,
    updates: int,
    bonus: Any,
) -> tuple[DQNUpdateState, Any]:
    """Updates of a recurrent network, each on sequences of its own; the learning after them, and the mean readings."""
    import jax.numpy as jnp

    sample = sample_sequences(config, hyperparameters, replay, chance, counts_advances(config), bonus)
    sample = sample._replace(n_step_return=sample.n_step_return / spread)

    def step(state: DQNUpdateState, *part: Any) -> Any:
        return update_sequences(config, hyperparameters, state, *part)

    learning, (readings, _) = apply_in_turn(step, learning, updates, config.minibatch, sample)
    return learning, jnp.mean(readings, axis=0)


def _learned_from_transitions(
    config: DQNConfig,
    hyperparameters: Hyperparameters,
    learning: DQNUpdateState,
    replay: Replay,
    spread: Any,
    draws: tuple[Array, Any],
    updates: int,
    bonus: Any,
) -> tuple[DQNUpdateState, Array]:
    """Updates on transitions; `draws` are those of the transitions, and those of the weights of a noisy network."""
    import jax.numpy as jnp

    chance, noise_of_weights = draws
    exponent = hyperparameters.importance_exponent
    sample = memory_of.sample_replay(
        config.spec,
        replay,
        chance,
        config.n_step,
        hyperparameters.discount,
        exponent,
        counts_advances(config),
        updates,
        bonus,
    )
    sample = sample._replace(n_step_return=sample.n_step_return / spread)
    # The target network stands still meanwhile, so what it says of all of them is one product.
    later = sample.n_step_return
    if config.target:
        target = learning.target
        if config.noisy:
            target = noisy.with_noise(config.layout, target, noise_of_weights[0, 2], jnp)
        later = network_outputs(config, target, learning.statistics, sample.following)
    update_index = jnp.repeat(jnp.arange(updates), config.minibatch) if config.noisy else ()

    def step(state: DQNUpdateState, sample: Sample, later: Array, update_index: Any) -> Any:
        return update(
            config, hyperparameters, state, sample, later, noise_of_weights[update_index[0]] if config.noisy else ()
        )

    learning, (readings, errors) = apply_in_turn(step, learning, updates, config.minibatch, sample, later, update_index)
    if replay.priorities is not None:
        priority = (jnp.abs(errors.reshape(-1)) + SMALLEST_ERROR) ** hyperparameters.priority_exponent
        priorities = memory_of.reprioritised(replay.priorities, sample.place, priority, sample.importance > 0.0)
        learning = learning._replace(priorities=priorities)
    return learning, jnp.mean(readings, axis=0)


def _moved_target(
    config: DQNConfig,
    hyperparameters: Hyperparameters,
    learner: DQNLearner,
    weights: Any,
    decisions: Any,
    started: Any = True,
) -> Any:
    """The target network after as many moves as fell due until `decisions`, whatever the number of copies."""
    import jax.numpy as jnp

    if not config.target:
        return learner.target
    due = decisions // config.target_every - learner.decisions // config.target_every
    share = 1.0 - (1.0 - hyperparameters.target_share) ** due
    moved = learner.target + share * (weights - learner.target)
    return jnp.where((due > 0) & started, moved, learner.target)


def _outputs(config: DQNConfig) -> int:
    count: int = config.joint.count
    return count * (config.quantiles or 1) + (1 if config.dueling else 0)


@lru_cache(maxsize=64)
def _layout(network: Any, spec: Spec, outputs: int, seed: int, dueling: bool) -> Layout:
    return Layout(network, lambda: build_network(network, spec, outputs, seed, dueling=dueling))
