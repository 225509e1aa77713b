"""What a method with critics has learned, and the networks of its critics."""

from __future__ import annotations

from functools import lru_cache
from typing import Any, NamedTuple

from jokulmist.arrays import Array
from jokulmist.environments.spaces.channels import Channel, Spec
from jokulmist.learning.action_distributions import ActionDistribution, joint_over
from jokulmist.learning.networks.inputs import Inputs, apply_network
from jokulmist.learning.networks.layout import Layout, build_network
from jokulmist.learning.observation_scaling import (
    Running,
)


class CriticUpdateState(NamedTuple):
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


class CriticLearner(NamedTuple):
    """What was learned.

    Attributes
    ----------
    learning : CriticUpdateState
    statistics, returns : Running, optional
        That scale the numbers, and the rewards.
    decisions : int32
    random_play : int32
        Decisions at the beginning that are random play; 0 where the run begins with what another learned.
    replay : Replay
    """

    learning: CriticUpdateState
    statistics: Running | None
    returns: Running | None
    decisions: Any
    random_play: Any
    replay: Any


@lru_cache(maxsize=64)
def critics_layout(
    network: Any, spec: Spec, acting: ActionDistribution, count: int, seed: int, is_normalised: bool = False
) -> Layout:
    """Where the weights of some critics stand, and how they begin."""
    channel = Channel(name="action", low=-1.0, high=1.0, shape=(acting.width,))
    critic_spec = Spec((*spec.channels, channel) if acting.width else spec.channels, spec.action, spec.masked)
    outputs = joint_over(spec.action).count

    def build() -> Any:
        from jokulmist.learning.networks.modules import Several, with_normalised_layers

        networks = [build_network(network, critic_spec, outputs, seed + k) for k in range(count)]
        return Several(tuple(map(with_normalised_layers, networks) if is_normalised else networks))

    return Layout(network, build)


def outputs_of(module: Any, inputs: Inputs) -> Any:
    """What a policy is made of, for many observations."""
    return module.outputs(inputs) if hasattr(module, "outputs") else apply_network(module, inputs)


def values_at(critics: Any, inputs: Inputs, unit: Any) -> Any:
    """What each critic says of actions, shape ``(critics, rows, combinations)``."""
    return critics(with_action(inputs, unit))


def with_action(inputs: Inputs, unit: Array) -> Inputs:
    """What a critic is given: what is seen, and the numbers of the action."""
    import jax.numpy as jnp

    if not unit.shape[-1]:
        return inputs
    return inputs._replace(numbers=jnp.concatenate([inputs.numbers, unit], axis=-1))


class Remembering:
    """Recurrent networks with what they remember of each row, asked about one decision from there."""

    def __init__(self, networks: Any, states: Any) -> None:
        self._networks, self._states = networks, states

    def __call__(self, inputs: Inputs) -> Any:
        return self._networks.step(inputs, self._states)[0]

    def outputs(self, inputs: Inputs) -> Any:
        """What a policy is made of."""
        return self(inputs)[0]


class GoingAlong:
    """A recurrent policy along sequences of decisions, through which its gradient goes but for the burn-in."""

    def __init__(self, policy: Any, past: Any, burn_in: int) -> None:
        self._policy, self._past, self._burn_in = policy, past, burn_in

    def outputs(self, inputs: Inputs) -> Any:
        """What it is made of."""
        return self._policy.apply_sequence(inputs, self._past.restarts, self._past.states, self._burn_in)[0][0]
