"""What the methods that learn a policy share: settings, the two networks, choosing, and the batch they learn from."""

from __future__ import annotations

from functools import cache
from typing import Any, ClassVar, NamedTuple, cast

import numpy as np
from pydantic import PrivateAttr

from jokulmist.agents.batches import as_flat, in_rows, seed_from
from jokulmist.agents.configs import Config, Hyperparameters, PolicyConfig
from jokulmist.agents.contract import (
    AboveZero,
    Agent,
    Count,
    DiscountPer,
    Experience,
    FixedShare,
    Limit,
    Scheduled,
    WholeNumber,
    bootstrap_discount,
)
from jokulmist.agents.policy_networks import (
    begin_spread,
    outputs_by_numpy,
    outputs_by_part,
    policy_layout,
    probabilities_by_part,
)
from jokulmist.agents.recurrence import apply_network, apply_to_next, fresh_states, past_by_time, past_of
from jokulmist.arrays import Array
from jokulmist.environments.chance.draws import Draw
from jokulmist.environments.spaces.channels import ObservationBatch, Spec
from jokulmist.errors import SettingError
from jokulmist.learning import reward_scaling
from jokulmist.learning.action_distributions import Likelihood, action_distribution
from jokulmist.learning.advantages import generalised_advantages
from jokulmist.learning.gaussians import AtBounds, refuse_unbounded
from jokulmist.learning.networks.inputs import Inputs
from jokulmist.learning.networks.layout import Dense, Layout, NetworkSetting, Recurrent, fitting
from jokulmist.learning.novelty_setting import NoveltySetting
from jokulmist.learning.observation_scaling import (
    Running,
    Scaling,
    fresh_running,
    fresh_statistics,
    gathered_unless,
    is_warm,
    met,
    prepared,
)
from jokulmist.learning.optimisation import Moments, Optimiser, descend, first_moments
from jokulmist.learning.reward_scaling import in_scale, spread_of
from jokulmist.learning.schedules import linear

READINGS = ("policy_loss", "value_loss", "entropy", "explained_variance", "gradient_norm")
# Of a run that begins with what another learned; see `PPO`.
NEAR_START = 0.01
# The largest mean advantage, in spreads of the advantages, at which a value counts as settled.
CALIBRATED_SHARE = 0.2


class PolicyLearner(NamedTuple):
    """What a policy method has learned.

    Attributes
    ----------
    weights : float32, shape ``(size,)``
        Of both networks.
    statistics : Running, optional
        That scale the numbers.
    returns : Running, optional
        Of the discounted returns, that scale the rewards.
    moments : the optimiser's state
    updates : int32
        How many were made; at least `value_first` once the policy learns.
    beginning : float32, shape ``(size,)``; empty unless the policy is kept near it
        The weights that the run began with.
    """

    weights: Any
    statistics: Running | None
    returns: Running | None
    moments: Any
    updates: Any
    beginning: Any = ()


class PolicyAgent(Agent):
    """Settings and functions of the methods that learn a policy and a value. Not used by itself.

    Parameters
    ----------
    learning_rate : float or schedule
        Step size of the optimiser.
    discount : float, in [0, 1]
        Weight of the reward one decision later.
    discount_per : {"decision", "advance"}
        Where a decision lasts for several advances: whether the discount counts once a decision, or once an advance,
        also within it.
    horizon : int
        Decisions of each copy between two updates.
    entropy_bonus : float or schedule
        Weight of the entropy of the choices in what is maximised.
    range_entropy_bonus : float or schedule
        Weight of the entropy of the numbers of a Range. It has no upper end: a weight that keeps choices open widens a
        Gaussian far beyond its bounds.
    value_weight : float
        Weight of the value's loss beside the policy's.
    value_first : int
        The most updates in which only the value learns, before the policy does. A value begins near 0, and while it
        finds the level of the returns its errors look like advantages: under -1 a step they taught policies to brake,
        and a goal that random play meets in one episode of seventy was then never met. `PPO` begins earlier, after a
        batch whose mean advantage lies within a fifth of the spread of the advantages.
    network : Dense, Convolutional or function, optional
        By default `Dense` where only numbers are seen, `Convolutional` where images are.
    shared : bool, optional
        One network with outputs for both policy and value, or two; by default one where there are images.
    scaling : {"running", "bounds", "none"}
        How numbers are scaled. ``"running"``: less their running mean, over their running spread; a bounded number over
        half its range instead, as far as that lies between one and twelve times the spread, so that bounds are believed
        where they fit what is met. ``"bounds"``: from the declared bounds to [-1, 1], those without bounds by running
        mean and spread. With running statistics the first 1,000 decisions are random play that only the statistics
        learn from.
    rewards_scaled : bool
        Whether rewards are divided by the spread of the running discounted return, so that their size does not matter.
    at_bounds : {"clipped", "squashed"}
        For a Range: whether a sample beyond a bound is clipped to it, or all samples are squashed between the bounds by
        the hyperbolic tangent.
    spread_by_state : bool
        For a Range: whether the spread depends on what is seen, or is the same everywhere.
    first_spread : float
        For a Range: the spread that learning begins with, where the bounds stand at -1 and 1.
    optimiser : {"adam", "rmsprop", "sgd"}
        How gradients become steps.
    gradient_clip : float, optional
        Largest norm of the gradient; None for no clipping (in a plan ``"off"``).
    novelty : Novelty, optional
        Also seek what was seldom met: ``jm.Novelty(0.5)``.
    frozen : tuple of str
        Parts of the networks that do not learn, e.g. ``("policy.layers[0]",)``: of a run that begins with what another
        has learned. A wrong name is told with those there are.
    """

    learning_rate: Scheduled = 1e-3
    discount: FixedShare = 0.99
    discount_per: DiscountPer = "decision"
    horizon: Count = 128
    entropy_bonus: Scheduled = 0.0
    range_entropy_bonus: Scheduled = 0.0
    value_weight: float = 0.5
    value_first: WholeNumber = 10
    network: NetworkSetting | None = None
    shared: bool | None = None
    scaling: Scaling = "running"
    rewards_scaled: bool = True
    at_bounds: AtBounds = "clipped"
    spread_by_state: bool = False
    first_spread: AboveZero = 0.5
    optimiser: Optimiser = "adam"
    gradient_clip: Limit = 0.5
    novelty: NoveltySetting | None = None
    frozen: tuple[str, ...] = ()

    config_type: ClassVar[type[Config]] = PolicyConfig
    reads_memory: ClassVar[bool] = False
    staggered: ClassVar[bool] = True
    least_updates: ClassVar[int] = 100
    # Measured by benchmarks/proving/starts.py. A batch of two copies is so noisy that it takes a policy apart before it
    # improves it. At the whole rate a policy of `buoy` falls to 0.88 of its start, at this one to 0.95; one of `mast`
    # that records had taught was lost on one seed of three unless it was held near its start.
    least_copies: ClassVar[int] = 16

    _begins_with_learned: bool = PrivateAttr(default=False)

    def refuse(self, spec: Spec) -> None:
        if self.at_bounds == "squashed":
            fix = 'Give the range finite bounds, or use `at_bounds="clipped"`.'
            refuse_unbounded(spec.action, f'{type(self).__name__}(at_bounds="squashed")', fix)
        if getattr(self, "near_start", 0.0) and self.remembers():
            raise SettingError("`near_start` and a recurrent network do not go together yet. Leave one of them out.")

    def config(self, spec: Spec, copies: int) -> PolicyConfig:
        config: PolicyConfig = super().config(spec, copies)
        config.network = fitting(config.network, spec)
        recurrent = isinstance(config.network, Recurrent)
        if config.shared is None:
            config.shared = bool(spec.images) or recurrent
        config.acting = action_distribution(spec.action, self.at_bounds)
        config.layout = _layout_of(config, 0)
        if config.frozen:
            config.layout.moving(config.frozen)
        config.begins_with_learned = self._begins_with_learned
        single = config.shared or not config.baseline
        config.state_width = config.network.state_width * (1 if single else 2) if recurrent else 0
        return config

    def with_start_defaults(self, steps: int | None) -> PolicyAgent:
        agent = cast("PolicyAgent", super().with_start_defaults(steps)).model_copy()
        agent._begins_with_learned = True
        return agent

    def start_settings(self, steps: int | None) -> dict[str, Any]:
        is_near = hasattr(self, "near_start") and not self.remembers()
        return {"learning_rate": linear(3e-4, 0.0, over=1.0), **({"near_start": NEAR_START} if is_near else {})}

    def remembers(self) -> bool:
        return isinstance(self.network, Recurrent)

    def schedules(self) -> dict[str, Any]:
        values = super().schedules()
        if not getattr(self, "near_start", True):
            del values["near_start"]
        return values

    def decisions_a_copy(self) -> int:
        """Enough for `least_updates`."""
        return self.least_updates * self.horizon

    def decisions_per_update(self, copies: int) -> int:
        return self.horizon

    @staticmethod
    def fresh_learner(config: PolicyConfig, hyperparameters: Hyperparameters, noise: Draw) -> PolicyLearner:
        weights = _layout_of(config, seed_from(noise)).initial_weights()
        begin_spread(weights, config.acting, hyperparameters.first_spread)
        return PolicyLearner(
            weights,
            fresh_statistics(config.spec, config.scaling),
            fresh_running(1) if config.rewards_scaled else None,
            first_moments(config.optimiser, weights),
            np.int32(0),
            weights.copy() if hyperparameters.near_start is not None else (),
        )

    @staticmethod
    def fresh_memory(config: PolicyConfig, hyperparameters: Hyperparameters) -> Any:
        return {"returns": reward_scaling.open_returns(config), **fresh_states(config)}

    @staticmethod
    def choose(
        config: PolicyConfig,
        hyperparameters: Hyperparameters,
        learner: PolicyLearner,
        memory: Any,
        observed: ObservationBatch,
        noise: Draw,
        explore: bool,
    ) -> tuple[Any, Any, Any]:
        inputs = observed_by(config, learner.statistics, observed)
        layout, acting = config.layout, config.acting
        past: Any = ()
        if config.state_width:
            past = past_of(memory, observed)
            (outputs, _), state = layout.module(learner.weights).step(inputs, past.states)
            memory = {**memory, "state": state}
        elif noise.xp is np:
            outputs = outputs_by_numpy(config, learner.weights, inputs)
        else:
            outputs = layout.module(learner.weights).outputs(inputs)
        if explore:
            actions, samples = acting.sampled(outputs, observed.legal, noise)
            return actions, memory, (samples, past)
        return acting.likeliest(outputs, observed.legal, noise.xp), memory, ()

    @staticmethod
    def chooses_by_numpy(config: PolicyConfig) -> bool:
        return isinstance(config.network, Dense)

    @staticmethod
    def policy_state(learner: PolicyLearner) -> PolicyLearner:
        return learner._replace(moments=(), updates=(), beginning=())

    @staticmethod
    def probabilities(config: PolicyConfig, learner: PolicyLearner, observed: ObservationBatch) -> dict[str, Any]:
        """By part the probabilities of each alternative of a choice, or mean and spread of a range, one a row."""
        outputs, _ = _compiled_first_outputs()(config, learner, observed)
        return probabilities_by_part(config.acting, outputs, observed.legal)

    @staticmethod
    def policy_outputs(config: PolicyConfig, learner: PolicyLearner, observed: ObservationBatch) -> dict[str, Any]:
        outputs, values = first_outputs(config, learner, observed)
        parts = outputs_by_part(config.acting, outputs, observed.legal)
        if values is not None:
            parts["value"] = values[:, None] * spread_of(learner.returns)
        return parts

    @staticmethod
    def state_values(config: PolicyConfig, learner: PolicyLearner, observed: ObservationBatch) -> Any:
        """The values that were learned, in the scale of the rewards, one a row."""
        _, values = _compiled_first_outputs()(config, learner, observed)
        return np.asarray(values) * float(spread_of(learner.returns))


def first_outputs(config: PolicyConfig, learner: PolicyLearner, observed: ObservationBatch) -> tuple[Any, Any]:
    """Outputs and values of observations by themselves; a recurrent network's, as if their episodes began with them."""
    networks = config.layout.module(learner.weights)
    inputs = observed_by(config, learner.statistics, observed)
    if not config.state_width:
        return networks.outputs(inputs), networks.values(inputs) if config.baseline else None
    states = np.zeros((inputs.numbers.shape[0], config.state_width), np.float32)
    outputs: tuple[Any, Any] = networks.step(inputs, states)[0]
    return outputs


@cache
def _compiled_first_outputs() -> Any:
    """`first_outputs` as one compiled call: step by step its operations would be compiled one by one, which takes
    seconds."""
    import jax

    return jax.jit(first_outputs, static_argnums=0)


def hold_policy(
    config: PolicyConfig, hyperparameters: Hyperparameters, learner: PolicyLearner, advantages: Array
) -> tuple[Hyperparameters, Array]:
    """Hyperparameters and advantages as long as only the value learns: the policy follows no advantages then.

    A policy that the run begins with stands still: the entropy bonuses would undo it. A fresh one is spread by them,
    and its value is learned where it will explore: `PPO` on the winch, 300,000 decisions, costs 1.3 % more than the
    optimum with it (median of five seeds), and 5 % without.
    """
    learns = 1.0 * (learner.updates >= config.value_first)
    if not config.begins_with_learned:
        return hyperparameters, advantages * learns
    bonuses = {name: getattr(hyperparameters, name) * learns for name in ("entropy_bonus", "range_entropy_bonus")}
    return Hyperparameters(**{**vars(hyperparameters), **bonuses}), advantages * learns


def entropies_of(hyperparameters: Hyperparameters, likelihood: Likelihood, mean: Any) -> tuple[Array, Array]:
    """What the entropies add to what is maximised, and the mean entropy that is told."""
    choices, ranges = mean(likelihood.choice_entropy), mean(likelihood.range_entropy)
    return hyperparameters.entropy_bonus * choices + hyperparameters.range_entropy_bonus * ranges, choices + ranges


def observed_by(config: PolicyConfig, statistics: Running | None, observed: ObservationBatch) -> Inputs:
    """What the networks are given. Until the statistics are warm the numbers are 0, so that the policy, which begins
    near an even one, plays at random."""
    inputs = prepared(config.spec, config.scaling, statistics, observed)
    return inputs if statistics is None else inputs._replace(numbers=inputs.numbers * is_warm(statistics))


def _layout_of(config: PolicyConfig, seed: int) -> Layout:
    value = config.baseline
    return policy_layout(config.network, config.spec, config.acting, config.spread_by_state, config.shared, value, seed)


class PolicyBatch(NamedTuple):
    """What happened, with one leading axis of turns times copies.

    Attributes
    ----------
    inputs : Inputs
        What was decided on, in the scale of the network.
    legal : tuple of bool array
    actions : in own form
    samples : what stood behind the numbers of an action
    """

    inputs: Any
    legal: Any
    actions: Any
    samples: Any

    @property
    def done(self) -> tuple[Any, Any, Any]:
        """What the likelihood of the actions is judged by."""
        return self.legal, self.actions, self.samples


def batch_of(config: PolicyConfig, learner: PolicyLearner, experience: Experience) -> tuple[PolicyBatch, Any, Inputs]:
    """The batch, what a recurrent network remembered before each turn, and the inputs of the true observations after
    each advance."""
    observed, last = in_rows(experience.observed), in_rows(experience.last)
    inputs = observed_by(config, learner.statistics, observed)
    after = observed_by(config, learner.statistics, last)
    samples, past = experience.policy_extras
    batch = PolicyBatch(inputs, observed.legal, in_rows(experience.actions), in_rows(samples))
    return batch, past_by_time(past, experience), after


def rewards_in_scale(
    hyperparameters: Hyperparameters, learner: PolicyLearner, open_returns: Array, experience: Experience
) -> tuple[Experience, PolicyLearner, Array]:
    """Experience whose rewards have the scale that is learned in, with the returns that they followed."""
    bootstrap_weight = bootstrap_discount(hyperparameters, experience.advances)
    scaled, returns, open_returns = in_scale(experience, learner.returns, open_returns, bootstrap_weight)
    return scaled, learner._replace(returns=returns), open_returns


def penalise_divergence(
    config: PolicyConfig,
    hyperparameters: Hyperparameters,
    learner: PolicyLearner,
    experience: Experience,
    batch: PolicyBatch,
    log_probability: Any,
) -> Any:
    """Rewards less how much likelier each action is than by the policy that the run began with, in the scale that is
    learned in.

    ``r - near_start (log p(a|s) - log p_start(a|s))``, whose sum is maximised by staying near it (Jaques et al., 2017,
    "Sequence tutor", equation 7).
    """
    if hyperparameters.near_start is None:
        return experience.rewards
    outputs = config.layout.module(learner.beginning).outputs(batch.inputs)
    log_ratio = log_probability - config.acting.likelihood(outputs, *batch.done).log_probability
    return experience.rewards - hyperparameters.near_start * log_ratio.reshape(experience.rewards.shape)


def estimate_advantages(
    config: PolicyConfig,
    hyperparameters: Hyperparameters,
    learner: PolicyLearner,
    experience: Experience,
    batch: PolicyBatch,
    past: Any,
    after: Inputs,
) -> tuple[Array, Array, Array]:
    """The advantages of a batch (Schulman et al., 2016, equation 16), the values that they are taken from, and the
    log-probabilities of its actions, each of shape ``(rows,)``."""
    networks = config.layout.module(learner.weights)
    (outputs, values), remembered = apply_network(networks, batch.inputs, past)
    shape = experience.rewards.shape
    log_probability = config.acting.likelihood(outputs, *batch.done).log_probability
    advantages = generalised_advantages(
        penalise_divergence(config, hyperparameters, learner, experience, batch, log_probability),
        experience.ended,
        experience.closed,
        values.reshape(shape),
        apply_to_next(networks, after, remembered)[1].reshape(shape),
        bootstrap_discount(hyperparameters, experience.advances),
        hyperparameters.trace_decay,
    ).reshape(-1)
    return advantages, values, log_probability


def values_are_calibrated(advantages: Array) -> Array:
    """Whether the value has found the level of the returns: the mean advantage is small beside their spread."""
    import jax.numpy as jnp

    return jnp.abs(jnp.mean(advantages)) <= CALIBRATED_SHARE * jnp.std(advantages)


def after_update(
    config: PolicyConfig,
    learner: PolicyLearner,
    weights: Any,
    moments: Any,
    experience: Experience,
    value_is_calibrated: Any = False,
) -> PolicyLearner:
    """The learner after an update; only now the statistics move. Nothing is learned before they are warm."""
    import jax
    import jax.numpy as jnp

    still = bool(config.frozen) or not isinstance(learner.beginning, tuple)
    statistics = gathered_unless(still, learner.statistics, met(experience))
    warm = is_warm(learner.statistics)
    if learner.statistics is not None:
        before = (learner.weights, learner.moments)
        weights, moments = jax.tree.map(lambda new, old: jnp.where(warm, new, old), (weights, moments), before)
    updates = learner.updates + jnp.int32(warm)
    # The first update says nothing: before it every value is near 0, and with it every error is a return.
    begins = jnp.asarray(value_is_calibrated & (updates > 1) & warm)
    updates = jnp.where(begins, jnp.maximum(updates, config.value_first), updates)
    return learner._replace(weights=weights, statistics=statistics, moments=moments, updates=updates)


def descended_by(
    config: PolicyConfig, hyperparameters: Hyperparameters, weights: Array, moments: Moments, loss: Any
) -> tuple[Array, Moments, Any, Array]:
    """One step down a loss of the networks."""
    import jax

    layout = config.layout
    gradients, readings = jax.grad(lambda leaves: loss(layout.combined(leaves)), has_aux=True)(layout.leaves(weights))
    most, before = hyperparameters.gradient_clip, weights
    weights, moments, norm = descend(
        config.optimiser, weights, moments, as_flat(gradients), hyperparameters.learning_rate, most
    )
    return layout.still(config.frozen, before, weights), moments, readings, norm
