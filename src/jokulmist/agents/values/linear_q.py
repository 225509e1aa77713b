"""Q-learning with values that are linear in features."""

from __future__ import annotations

from typing import Any, ClassVar, NamedTuple

import numpy as np

from jokulmist.agents.action_values import Explorer, by_label, chosen_index, masked_values, refuse_combinations
from jokulmist.agents.batches import in_rows, minibatch_of
from jokulmist.agents.configs import Config, Hyperparameters, LinearConfig
from jokulmist.agents.contract import (
    Agent,
    Count,
    DiscountPer,
    Experience,
    FixedShare,
    Share,
    bootstrap_discount,
    counts_advances,
)
from jokulmist.agents.replay_updates import (
    apply_in_turn,
    learned_when_started,
    refuse_few_slots,
    rows_due,
    slots_of,
    start_of,
    turns_between,
)
from jokulmist.arrays import Array
from jokulmist.environments.chance.draws import Draw
from jokulmist.environments.spaces.channels import ObservationBatch, Spec
from jokulmist.learning import replay as memory_of
from jokulmist.learning.action_distributions import JointChoice, joint_over, refuse_ranges
from jokulmist.learning.features import Features, Kind
from jokulmist.learning.replay import Sample
from jokulmist.learning.schedules import linear


class LinearQLearner(NamedTuple):
    """What was learned: ``weights`` of shape ``(features, actions)``, ``decisions``, and the ``replay`` if there is
    one."""

    weights: Any
    decisions: Any
    replay: Any


class LinearQ(Agent):
    """Q-learning on features: the value of an action is the sum of the weights of the features that an observation has.

    Q(s, a) = w_a . x(s);  w_a += learning_rate (r + discount max_b Q(s', b) - Q(s, a)) x(s) / |x(s)|^2

    Sutton and Barto (2018), sections 9.5 and 10.1, with the target of equation 6.8.

    Parameters
    ----------
    features : {"tiles", "radial"}
        Overlapping grids of tiles, or Gaussian bases around a grid of centres.
    tiles, tilings : int
        Tiles along each number, and how many displaced grids of them.
    centres : int
        Centres along each number, for radial bases.
    learning_rate : float or schedule, in [0, 1]
        Share of its error that one decision takes off its value.
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
    replay : bool
        Whether past decisions are learned from again.
    replay_size, replay_start, minibatch, learn_every : int
        As `DQN` has them; used with `replay`.

    Notes
    -----
    From records (`learn_from`, `train(records=...)`) it takes `minibatch` of them at a time; values of what was never
    tried are those of its neighbours, and nothing holds them down. Differs from the book: the step is divided by the
    features' squared length, so that a rate means the same for all features; where several copies share a feature in
    one turn, the mean of what they ask for is applied. Fails when many numbers are observed together (features
    multiply), and may diverge off-policy, as every method with such targets may.

    Examples
    --------
    >>> LinearQ(tiles=10, tilings=4)
    LinearQ(tiles=10, tilings=4)
    """

    learning_rate: Share = linear(0.1, 0.0, over=1.0)
    discount: FixedShare = 0.99
    discount_per: DiscountPer = "decision"
    exploration: Share = linear(1.0, 0.02, over=0.5)
    explorer: Explorer = None
    features: Kind = "tiles"
    tiles: Count = 6
    tilings: Count = 8
    centres: Count = 6
    replay: bool = False
    replay_size: Count = 100_000
    replay_start: Count = 1_000
    minibatch: Count = 32
    learn_every: Count = 4

    config_type: ClassVar[type[Config]] = LinearConfig
    reading_names: ClassVar[tuple[str, ...]] = ("error", "mean_value")
    record_readings: ClassVar[tuple[str, ...]] = ("error", "mean_value")
    reads_memory: ClassVar[bool] = False
    usual_copies: ClassVar[int] = 8

    def refuse(self, spec: Spec) -> None:
        super().refuse(spec)
        refuse_ranges(spec.action, type(self).__name__)
        refuse_combinations(type(self).__name__, JointChoice(spec.action).count)

    def config(self, spec: Spec, copies: int) -> LinearConfig:
        config: LinearConfig = super().config(spec, copies)
        config.joint = joint_over(spec.action)
        radial = self.features == "radial"
        config.made_of = Features(
            self.features, spec, self.centres if radial else self.tiles, 1 if radial else self.tilings
        )
        config.made_of.refuse(type(self).__name__)
        if self.replay:
            config.slots = slots_of(self, config)
        return config

    def refuse_copies(self, config: LinearConfig) -> None:
        if self.replay:
            refuse_few_slots(self, config)

    def decisions_per_update(self, copies: int) -> int:
        return turns_between(self.learn_every, copies) if self.replay else 1

    @staticmethod
    def fresh_learner(config: LinearConfig, hyperparameters: Hyperparameters, noise: Draw) -> LinearQLearner:
        weights = np.zeros((config.made_of.size, config.joint.count), np.float32)
        replay: Any = ()
        if config.replay:
            replay = memory_of.fresh_replay(config.spec, config.copies, config.slots, counted=counts_advances(config))
        return LinearQLearner(weights, np.int32(0), replay)

    @staticmethod
    def choose(
        config: LinearConfig,
        hyperparameters: Hyperparameters,
        learner: LinearQLearner,
        memory: Any,
        observed: ObservationBatch,
        noise: Draw,
        explore: bool,
    ) -> tuple[Array, Any, tuple[()]]:
        values = masked_values(config.spec, config.made_of.values(learner.weights, observed.numbers), observed.legal)
        index = chosen_index(config, values, observed, noise, hyperparameters.exploration if explore else None)
        return config.joint.native(index), memory, ()

    @staticmethod
    def learn(
        config: LinearConfig,
        hyperparameters: Hyperparameters,
        learner: LinearQLearner,
        memory: Any,
        experience: Experience,
        noise: Draw,
    ) -> tuple[LinearQLearner, Any, tuple[Any, ...]]:
        import jax.numpy as jnp

        action = config.joint.index(experience.actions)[..., None]
        decisions = learner.decisions + experience.rewards.size
        if not config.replay:
            flat = in_rows(experience)
            sample = memory_of.Sample(
                observed=flat.observed,
                following=flat.last,
                action=action.reshape(-1, 1),
                n_step_return=flat.rewards,
                bootstrap_discount=jnp.where(flat.ended, 0.0, bootstrap_discount(hyperparameters, flat.advances)),
                importance=jnp.ones_like(flat.rewards),
                place=action.reshape(-1),
            )
            weights, readings = update(config, hyperparameters, learner.weights, sample)
            return LinearQLearner(weights, decisions, ()), memory, tuple(readings)
        replay = memory_of.add_to_replay(config.spec, learner.replay, experience, action, counts_advances(config))
        updates, rows = rows_due(config, experience)
        chance = memory_of.replay_draws(noise, rows, prioritised=False)

        def learned(weights: Any) -> Any:
            sample = memory_of.sample_replay(
                config.spec, replay, chance, 1, hyperparameters.discount, counted=counts_advances(config)
            )
            weights, update_readings = apply_in_turn(
                lambda state, part: update(config, hyperparameters, state, part),
                weights,
                updates,
                config.minibatch,
                sample,
            )
            return weights, jnp.mean(update_readings, axis=0)

        weights, readings = learned_when_started(
            decisions, start_of(config), learned, learner.weights, len(LinearQ.reading_names)
        )
        return LinearQLearner(weights, decisions, replay), memory, tuple(readings)

    @staticmethod
    def taught(
        config: LinearConfig, hyperparameters: Hyperparameters, learner: LinearQLearner, rows: Experience
    ) -> LinearQLearner:
        """The learner before its first update on some records: as it begins, without replay, because the records are
        that."""
        return learner._replace(replay=())

    @staticmethod
    def learn_rows(
        config: LinearConfig, hyperparameters: Hyperparameters, learner: LinearQLearner, rows: Experience, noise: Draw
    ) -> tuple[LinearQLearner, tuple[()], tuple[Any, ...]]:
        """One update on a minibatch of the records."""
        import jax.numpy as jnp

        batch = minibatch_of(config, rows, noise)
        sample = memory_of.Sample(
            observed=batch.observed,
            following=batch.last,
            action=config.joint.index(batch.actions)[:, None],
            n_step_return=batch.rewards,
            bootstrap_discount=jnp.where(batch.ended, 0.0, hyperparameters.discount),
            importance=jnp.ones_like(batch.rewards),
            place=jnp.zeros_like(batch.rewards),
        )
        weights, readings = update(config, hyperparameters, learner.weights, sample)
        return learner._replace(weights=weights, decisions=learner.decisions + 1), (), tuple(readings)

    @staticmethod
    def policy_state(learner: LinearQLearner) -> LinearQLearner:
        return learner._replace(replay=())

    @staticmethod
    def values(config: LinearConfig, learner: LinearQLearner, observed: ObservationBatch) -> dict[str, Any]:
        """The value of each action by label, one a row."""
        return by_label(config.spec, config.made_of.values(learner.weights, observed.numbers))


def update(
    config: LinearConfig, hyperparameters: Hyperparameters, weights: Array, sample: Sample
) -> tuple[Array, Array]:
    """One step on some transitions; and its readings."""
    import jax.numpy as jnp

    made_of = config.made_of
    after = masked_values(config.spec, made_of.values(weights, sample.following.numbers), sample.following.legal)
    target = sample.n_step_return + sample.bootstrap_discount * jnp.max(after, axis=1)
    values = made_of.values(weights, sample.observed.numbers)
    action = sample.action[:, 0].astype(jnp.int32)
    chosen = jnp.take_along_axis(values, action[:, None], axis=1)[:, 0]
    assert chosen.shape == target.shape
    error = target - chosen
    weights = made_of.moved(weights, sample.observed.numbers, action, hyperparameters.learning_rate * error)
    return weights, jnp.stack([jnp.mean(jnp.abs(error)), jnp.mean(chosen)])
