"""Noise in the weights instead of random actions: a network learns how uncertain each of its weights is.

Fortunato et al. (2018), "Noisy networks for exploration": of each dense layer ``y = (mu_w + sigma_w * eps_w) x + mu_b +
sigma_b * eps_b`` with factorised noise, ``eps_w = f(p) f(q)``, ``eps_b = f(q)``, ``f(x) = sign(x) sqrt(|x|)``
(equations 9 to 11). The vector of weights is twice as long: all mu, then all sigma.
"""

from __future__ import annotations

from functools import lru_cache
from typing import Any, NamedTuple

import numpy as np

from jokulmist.learning.networks.layout import Layout

FIRST_NOISE = 0.5  # sigma_0 of the paper, section 3.2


class NoisyLayer(NamedTuple):
    """Where a dense layer is in the vector of weights: its matrix, and its biases; how many numbers come in and go
    out."""

    weight: slice
    bias: slice
    inputs: int
    outputs: int


@lru_cache(maxsize=64)  # a plain lane asks at each decision
def layers_of(layout: Layout) -> list[NoisyLayer]:
    """The dense layers of a network; convolutions have no noise."""
    parts, layers = layout.parts, []
    for name, weight in parts.items():
        bias = parts.get(f"{name.removesuffix('.weight')}.bias") if name.endswith(".weight") else None
        if bias is None or ".eyes" in name:
            continue
        outputs = bias.stop - bias.start
        layers.append(NoisyLayer(weight, bias, (weight.stop - weight.start) // outputs, outputs))
    return layers


def draws_of(layout: Layout) -> int:
    """How many normal numbers one draw of the noise takes."""
    return sum(layer.inputs + layer.outputs for layer in layers_of(layout))


def initial_weights(layout: Layout, weights: Any) -> Any:
    """The vector as it begins: the weights, and how uncertain each is, ``0.5 / sqrt(inputs)``."""
    sigma = np.zeros(layout.size, np.float32)
    for layer in layers_of(layout):
        sigma[layer.weight] = sigma[layer.bias] = FIRST_NOISE / np.sqrt(layer.inputs)
    return np.concatenate([weights, sigma])


def with_noise(layout: Layout, weights: Any, draws: Any, xp: Any) -> Any:
    """The weights with their noise, shape ``(size,)``."""
    size, offset = layout.size, 0
    shrunk = xp.sign(draws) * xp.sqrt(xp.abs(draws))
    parts: list[tuple[int, Any]] = []
    for layer in layers_of(layout):
        p = shrunk[offset : offset + layer.inputs]
        q = shrunk[offset + layer.inputs : offset + layer.inputs + layer.outputs]
        offset += layer.inputs + layer.outputs
        parts += [(layer.weight.start, (p[:, None] * q[None]).reshape(-1)), (layer.bias.start, q)]
    pieces, end = [], 0
    for start, noise in sorted(parts, key=lambda part: part[0]):
        pieces += [xp.zeros(start - end, xp.float32), noise]
        end = start + noise.shape[0]
    pieces.append(xp.zeros(size - end, xp.float32))
    return weights[:size] + weights[size:] * xp.concatenate(pieces)
