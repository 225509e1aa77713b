"""What the functions of a method are given beside arrays: its static settings, and its numbers at this moment.

A record holds what `Agent.config` and `Agent.schedules` put into it; what a method does not have, or what is off, is
the default that stands here.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import TYPE_CHECKING, Any

from jokulmist.arrays import Array
from jokulmist.environments.spaces.channels import Spec
from jokulmist.learning.action_distributions import ActionDistribution, JointChoice
from jokulmist.learning.features import Features
from jokulmist.learning.networks.layout import Layout
from jokulmist.learning.observation_scaling import Scaling
from jokulmist.learning.optimisation import Optimiser

if TYPE_CHECKING:
    from jokulmist.agents.contract import Agent
    from jokulmist.agents.players import PlayerGroup
    from jokulmist.agents.tables.cells import StateGrid
    from jokulmist.agents.tables.table import TableAgent


class ValueRecord:
    """Values by name, equal where all of them are."""

    def __init__(self, **values: Any) -> None:
        self.__dict__.update(values)

    def __eq__(self, other: object) -> bool:
        return isinstance(other, ValueRecord) and self.__dict__ == other.__dict__

    def __repr__(self) -> str:
        return f"{type(self).__name__}({', '.join(f'{name}={value!r}' for name, value in self.__dict__.items())})"


class Config(ValueRecord):
    """The static part of an agent's settings, with `spec` and `copies`; hashable."""

    spec: Spec
    copies: int
    minibatch: int
    discount_per: str = "decision"
    state_width: int = 0
    """Numbers that a recurrent network carries from decision to decision."""

    def __hash__(self) -> int:
        return hash(tuple(sorted((name, _hashable(value)) for name, value in vars(self).items() if name != "spec")))


def _hashable(value: Any) -> Any:
    if isinstance(value, Mapping):
        return tuple(sorted((k, _hashable(v)) for k, v in value.items()))
    return tuple(map(_hashable, value)) if isinstance(value, (list, tuple)) else value


class NetworkConfig(Config):
    """Of a method that learns the weights of a network."""

    network: Any
    layout: Layout
    scaling: Scaling
    optimiser: Optimiser
    rewards_scaled: bool
    frozen: tuple[str, ...] = ()


class ReplayConfig(Config):
    """Of a method that learns from a replay memory."""

    slots: int
    lookahead: int
    n_step: int
    replay_start: int
    learn_every: int
    updates: int
    remembered: int
    """Numbers of the networks' state that are stored with each decision."""
    action_numbers: int
    """Numbers by which an action is stored."""


class NetworkReplayConfig(NetworkConfig, ReplayConfig):
    """Of a method with both."""


class ChoiceConfig(Config):
    """Of a method that has a value for each choice, or combination of choices."""

    joint: JointChoice
    explorer: Callable[..., Any] | None = None


class DQNConfig(NetworkReplayConfig, ChoiceConfig):
    """Of `DQN`."""

    double: bool
    dueling: bool
    noisy: bool
    prioritised: bool
    quantiles: int | None
    tail: int
    """Lowest quantiles that the value of an action is the mean of."""
    loss: str
    target: str
    target_every: int


class ActingConfig(NetworkConfig):
    """Of a method whose network gives a distribution over actions."""

    acting: ActionDistribution
    critics: Layout
    spread_by_state: bool


class CriticConfig(ActingConfig, NetworkReplayConfig):
    """Of `SAC`, `TD3` and `DDPG`."""

    critics_normalised: bool
    noise: str
    policy_every: int = 1
    temperature_learned: bool


class PolicyConfig(ActingConfig):
    """Of the methods that learn a policy from what it meets, or from records."""

    shared: bool
    begins_with_learned: bool = False
    """Whether the run begins with what another learned."""
    baseline: bool = True
    horizon: int
    epochs: int
    longest: int
    value_first: int
    advantages_normalised: bool
    returns_normalised: bool


class LinearConfig(ReplayConfig, ChoiceConfig):
    """Of `LinearQ`."""

    made_of: Features
    replay: bool


class TableConfig(ChoiceConfig):
    """Of the methods with a table."""

    grid: StateGrid
    actions: int
    bins: Any
    method: type[TableAgent]
    traced: int
    """Decisions that a trace reaches back over; 0 without traces."""
    planning: int
    sweeping: str


class NoveltyConfig(Config):
    """Of a method that also seeks what was seldom met."""

    kind: Any
    inner: Any
    by: str
    grid: Any
    layout: Any
    actions: int
    judge: Any


class RosterConfig(Config):
    """Of a partner that is another policy from episode to episode."""

    members: tuple[tuple[type[Agent], Any], ...]
    source: tuple[type[Agent], Any] | None = None
    shares: tuple[float, ...]
    past: int
    past_share: float
    past_every: int
    losses: bool = False


class FixedConfig(Config):
    """Of a policy that learns no more."""

    kind: type[Agent]
    inner: Any
    explores: bool
    frozen: Any


class PlayersConfig(Config):
    """Of several agents, each for some of the players."""

    groups: tuple[PlayerGroup, ...]
    every: int


def groups_of(config: Config) -> tuple[PlayerGroup, ...]:
    """The groups of several players; none of a single one."""
    return config.groups if isinstance(config, PlayersConfig) else ()


class Hyperparameters(ValueRecord):
    """The numbers of an agent's settings at this moment: schedules are already evaluated."""

    discount: Array
    exploration: Array
    initial_value: Array
    learning_rate: Array
    trace_decay: Array
    # Networks
    gradient_clip: Array | None = None
    # Of policies
    clip: Array
    divergence_limit: Array | None = None
    entropy_bonus: Array
    first_spread: Array
    near_start: Array | None = None
    range_entropy_bonus: Array
    value_clip: Array | None = None
    value_weight: Array
    # Of values and critics
    choice_entropy: Array
    conservative: Array | None = None
    entropy_target: Array
    huber_reach: Array
    importance_exponent: Array | None = None
    noise_return: Array
    policy_rate: Array
    priority_exponent: Array
    target_noise: Array | None = None
    target_noise_clip: Array
    target_share: Array
    temperature: Array
    # From records
    expectile: Array
    sharpness: Array
    # Of novelty
    novelty_discount: Array
    novelty_learning_rate: Array
    novelty_weight: Array
