"""What the methods share that learn a policy from records: settings, choosing, and minibatches of rows."""

from __future__ import annotations

from typing import Any, ClassVar, NoReturn

import numpy as np

from jokulmist.agents.configs import Config, Hyperparameters, PolicyConfig
from jokulmist.agents.contract import Agent, Count, Experience, FixedShare, Limit, Scheduled
from jokulmist.agents.policies.policy_method import PolicyAgent
from jokulmist.agents.policy_networks import policy_layout
from jokulmist.environments.chance.draws import Draw
from jokulmist.environments.spaces.channels import Spec
from jokulmist.errors import SettingError
from jokulmist.learning.action_distributions import ActionDistribution, action_distribution
from jokulmist.learning.networks.layout import Layout, NetworkSetting, fitting, refuse_recurrent
from jokulmist.learning.observation_scaling import WARM_UP, Scaling, fresh_statistics, gathered
from jokulmist.learning.optimisation import Optimiser
from jokulmist.learning.schedules import linear


class RecordedPolicy(Agent):
    """Settings and functions of the methods that learn a policy from records. Not used by itself.

    Parameters
    ----------
    learning_rate : float or schedule
        Step size of the optimiser.
    discount : float, in [0, 1]
        Weight of the reward one decision later.
    minibatch : int
        Decisions in one update, drawn evenly from the records.
    network : Dense, Convolutional or function, optional
    scaling : {"running", "bounds", "none"}
        How numbers are scaled; ``"running"`` by mean and spread over all records, which then stand still.
    spread_by_state : bool
        For a Range: whether the spread depends on what is seen.
    optimiser : {"adam", "rmsprop", "sgd"}
        How gradients become steps.
    gradient_clip : float, optional
    """

    learning_rate: Scheduled = linear(1e-3, 0.0, over=1.0)
    discount: FixedShare = 0.99
    minibatch: Count = 256
    network: NetworkSetting | None = None
    scaling: Scaling = "running"
    spread_by_state: bool = True
    optimiser: Optimiser = "adam"
    gradient_clip: Limit = None

    config_type: ClassVar[type[Config]] = PolicyConfig
    reads_memory: ClassVar[bool] = False
    learns_from_records: ClassVar[bool] = True

    def refuse(self, spec: Spec) -> None:
        refuse_recurrent(self.network, type(self).__name__)

    def config(self, spec: Spec, copies: int) -> PolicyConfig:
        config: PolicyConfig = super().config(spec, copies)
        config.network = fitting(config.network, spec)
        config.shared, config.rewards_scaled, config.state_width, config.baseline = False, True, 0, self.has_value()
        config.acting = action_distribution(spec.action, "clipped")
        config.layout = self.layout_of(config, 0)
        return config

    @staticmethod
    def has_value() -> bool:
        """Whether a value is learned beside the policy."""
        return True

    @staticmethod
    def layout_of(config: PolicyConfig, seed: int) -> Layout:
        return policy_layout(
            config.network, config.spec, config.acting, config.spread_by_state, False, config.baseline, seed
        )

    @staticmethod
    def learn(
        config: PolicyConfig,
        hyperparameters: Hyperparameters,
        learner: Any,
        memory: Any,
        experience: Experience,
        noise: Draw,
    ) -> NoReturn:
        raise SettingError(
            "this method learns from records, and not while it acts. Use `jm.learn_from(records, agent, steps=...)`."
        )

    choose = staticmethod(PolicyAgent.choose)
    chooses_by_numpy = staticmethod(PolicyAgent.chooses_by_numpy)
    probabilities = staticmethod(PolicyAgent.probabilities)
    policy_outputs = staticmethod(PolicyAgent.policy_outputs)


def statistics_over(config: PolicyConfig, rows: Any) -> Any:
    """Mean and spread of all that was seen in the records; they count as warm, however few rows there are."""
    statistics = gathered(
        fresh_statistics(config.spec, config.scaling), np.concatenate([rows.observed.numbers, rows.last.numbers])
    )
    if statistics is None:
        return None
    return statistics._replace(
        count=np.float32(max(float(statistics.count), WARM_UP)),
        square=statistics.square * (max(float(statistics.count), WARM_UP) / max(float(statistics.count), 1.0)),
    )


def units_of(acting: ActionDistribution, actions: Any) -> Any:
    """The numbers of recorded actions between the bounds at -1 and 1, shape ``(rows, width)``."""
    import jax.numpy as jnp

    parts = [getattr(actions, name) if name else actions for name in acting.units.ranges]
    flat = jnp.concatenate([part.reshape(part.shape[0], -1) for part in parts], axis=1)
    return (flat - acting.units.centre) / acting.units.half
