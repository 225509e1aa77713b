"""The networks of a policy and its value, and what they say of one observation."""

from __future__ import annotations

from functools import lru_cache
from typing import Any

import numpy as np

from jokulmist.agents.configs import ActingConfig
from jokulmist.arrays import Array
from jokulmist.environments.spaces.channels import Spec
from jokulmist.learning.action_distributions import ActionDistribution
from jokulmist.learning.networks.layout import Layout, build_network

TOWARDS_ACTIONS, TOWARDS_VALUE = 0.01, 1.0


def probabilities_by_part(acting: ActionDistribution, outputs: Array, legal: Any) -> dict[str, Any]:
    """What a policy's outputs say, by part; a part by itself has the empty name."""
    logs = acting.log_probabilities(outputs, legal)
    probabilities: dict[str, Any] = {
        name: np.exp(np.asarray(part)) for name, part in zip(acting.choices, logs, strict=True)
    }
    if acting.width:
        units, (mean, log_spread) = acting.units, acting.gaussians(np.asarray(outputs))
        means = units.native(acting.bounded(mean, np))
        start = 0
        for (name, part), value in zip(units.ranges.items(), means, strict=True):
            spread = np.broadcast_to(units.half * np.exp(log_spread), mean.shape)[:, start : start + part.size]
            probabilities[name] = {"mean": value, "spread": spread.reshape(-1, *part.shape)}
            start += part.size
    return probabilities


def outputs_by_part(acting: ActionDistribution, outputs: Any, legal: Any) -> dict[str, Any]:
    """The same of many observations, flat and by name, in what can be traced; the mean of a range is its greedy action,
    and is left out."""
    import jax.numpy as jnp

    def named(quantity: str, part: str) -> str:
        return f"{quantity}.{part}" if part else quantity

    logs = acting.log_probabilities(outputs, legal)
    parts: dict[str, Any] = {
        named("probabilities", name): jnp.exp(part) for name, part in zip(acting.choices, logs, strict=True)
    }
    if acting.width:
        spread, start = acting.units.half * jnp.exp(acting.gaussians(outputs)[1]), 0
        for name, part in acting.units.ranges.items():
            parts[named("spread", name)] = spread[:, start : start + part.size]
            start += part.size
    return parts


def outputs_by_numpy(config: ActingConfig, weights: Any, inputs: Any) -> Any:
    """What a policy is made of, for rows of numbers, through a dense network by NumPy; see `Layout.through_numpy`."""
    acting = config.acting
    outputs = config.layout.through_numpy(weights, inputs.numbers, config.network.activation)
    wanted = acting.outputs if config.spread_by_state else acting.outputs - acting.width
    return acting.completed(outputs[:, :wanted], weights[-acting.width :] if acting.width else None, np)


def begin_spread(weights: Array, acting: ActionDistribution, spread: Any) -> None:
    """Set the spreads that hold everywhere in fresh weights, whose last entries they are."""
    if acting.width:
        weights[-acting.width :] = np.log(spread)


@lru_cache(maxsize=64)
def policy_layout(
    network: Any, spec: Spec, acting: ActionDistribution, spread_by_state: bool, shared: bool, value: bool, seed: int
) -> Layout:
    """Where the weights of a policy, and of its value, stand; and how they begin."""

    def build() -> Any:
        from jokulmist.learning.networks.modules import SeparateNetworks, SharedNetwork

        count = acting.outputs if spread_by_state else acting.outputs - acting.width
        log_spread = np.zeros(acting.width, np.float32) if acting.width else None
        if shared and value:
            gains = [TOWARDS_ACTIONS] * count + [TOWARDS_VALUE]
            return SharedNetwork(build_network(network, spec, count + 1, seed, gains), log_spread, acting)
        policy = build_network(network, spec, count, seed, TOWARDS_ACTIONS)
        judge = build_network(network, spec, 1, seed + 1, TOWARDS_VALUE) if value else None
        return SeparateNetworks(policy, judge, log_spread, acting)

    return Layout(network, build)
