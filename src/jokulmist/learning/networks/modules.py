"""The layers of the shipped networks, as trees of arrays that take many observations at once.

Weights stand inputs first, so that a layer is ``x @ weight + bias`` without a transpose. A convolution is gathered
patches and one matrix product: for a stride above 1 that took less than half the time of the compiler's own
convolution (5.3 against 12.7 ms for an update of 32 images).
"""

from __future__ import annotations

import itertools
import math
from dataclasses import dataclass, field, fields, replace
from typing import Any, dataclass_transform

import jax
import jax.numpy as jnp
import numpy as np
from jax import lax

from jokulmist.arrays import Array
from jokulmist.errors import SettingError
from jokulmist.learning.action_distributions import ActionDistribution
from jokulmist.learning.networks.inputs import Gain, Inputs, apply_network

# The gain that keeps the spread of what goes through a layer (He et al., 2015, for rectifiers).
GAINS = {"tanh": 1.0, "relu": math.sqrt(2.0)}
MOST_WEIGHTS = 1 << 23
# Of what a normalised layer divides by, squared.
SMALLEST_SPREAD = np.float32(1e-6)


def static(**more: Any) -> Any:
    """A field that is no array, and a part of the form of the tree."""
    return field(metadata={"static": True}, **more)


@dataclass_transform(frozen_default=True, field_specifiers=(static,))
class Module:
    """A network or a part of one: a dataclass whose fields JAX takes as branches of a tree. Equinox's own takes 0.3 s
    to import, which is as long as the training of a small network."""

    def __init_subclass__(cls) -> None:
        dataclass(frozen=True, eq=False, repr=False)(cls)
        names: dict[bool, list[str]] = {False: [], True: []}
        for field_ in fields(cls):  # type: ignore[arg-type]
            names["static" in field_.metadata].append(field_.name)
        jax.tree_util.register_dataclass(cls, names[False], names[True])


@jax.custom_vjp
def product(x: Any, weight: Any) -> Any:
    """``x @ weight`` for many rows, whose gradient is taken with the rows turned over first.

    The compiler has a fast product for two matrices as they lie, and a slow one where the first is to be read by
    columns, as the gradient of the weights would read it (8 % of an update of a small network).
    """
    return x @ weight


def _product_forward(x: Array, weight: Any) -> Any:
    return x @ weight, (x, weight)


def _product_backward(residuals: Any, gradient: Array) -> Any:
    x, weight = residuals
    width = x.shape[-1]
    turned = lax.optimization_barrier(x.reshape(-1, width).T)  # type: ignore[no-untyped-call]
    return gradient @ weight.T, turned @ gradient.reshape(-1, gradient.shape[-1])


product.defvjp(_product_forward, _product_backward)


class Layer(Module):
    """``x @ weight + bias``; weight of shape ``(inputs, outputs)``."""

    weight: Any
    bias: Any
    normalised: bool = static(default=False)

    def __call__(self, x: Any) -> Any:
        y = product(x, self.weight) + self.bias
        if not self.normalised:
            return y
        centred = y - jnp.mean(y, axis=-1, keepdims=True)
        return centred * lax.rsqrt(jnp.mean(jnp.square(centred), axis=-1, keepdims=True) + SMALLEST_SPREAD)


class DenseNetwork(Module):
    """Dense layers over the numbers."""

    layers: tuple[Layer, ...]
    activation: str = static()
    takes_batches: bool = static(default=True)

    def __call__(self, inputs: Any) -> Any:
        return through(self.layers, inputs.numbers, self.activation)


class DuelingNetwork(Module):
    """Two streams side by side, each with a hidden layer of its own: to the value, and to the gains of the actions.

    (Wang et al., 2016, section 3 and figure 1.) It stands where a network's last hidden layer and its outputs would;
    the outputs are the value, then the gains.
    """

    value: tuple[Layer, ...]
    gains: tuple[Layer, ...]
    activation: str = static()

    def __call__(self, x: Any) -> Any:
        return jnp.concatenate([through(stream, x, self.activation) for stream in (self.value, self.gains)], axis=-1)


class Convolution(Module):
    """One convolution; weight of shape ``(size * size * depth, filters)``."""

    weight: Any
    bias: Any
    size: int = static()
    stride: int = static()

    def __call__(self, x: Any) -> Any:
        patches = gathered(x, self.size, self.stride)
        if patches.dtype == jnp.uint8:  # the smallest form until the last moment
            patches = patches.astype(jnp.float32) * np.float32(1.0 / 255.0)
        return product(patches, self.weight) + self.bias


class ConvolutionalNetwork(Module):
    """Convolutions for each image, joined with the numbers, then dense layers."""

    eyes: dict[str, tuple[Convolution, ...]]
    layers: tuple[Layer, ...]
    activation: str = static()
    takes_batches: bool = static(default=True)

    def __call__(self, inputs: Any) -> Any:
        active = ACTIVATIONS[self.activation]
        parts = [inputs.numbers] if inputs.numbers.shape[-1] else []
        for name, folds in self.eyes.items():
            x = inputs.images[name]
            for fold in folds:
                x = active(fold(x))
            parts.append(x.reshape(x.shape[0], -1))
        return through(self.layers, jnp.concatenate(parts, axis=-1), self.activation)


def with_normalised_layers(network: Any) -> Any:
    """A shipped network whose hidden dense layers are normalised, without scales of their own (Ba et al., 2016)."""
    hidden = getattr(network, "layers", ())
    if not hidden or not all(isinstance(each, Layer) for each in hidden):
        raise SettingError(
            "`critics_normalised` normalises the dense layers of a shipped network, and this network is a function of "
            "your own. Use e.g. `jm.Dense(64, 64)`, or leave it out."
        )
    return replace(network, layers=(*(replace(each, normalised=True) for each in hidden[:-1]), hidden[-1]))


class GatedUnit(Module):
    """A gated recurrent unit (Cho et al., 2014, equations 5 to 8).

    r = sigmoid(W_r x + U_r h),  z = sigmoid(W_z x + U_z h),  c = tanh(W x + U (r h)),  h' = z h + (1 - z) c

    `entry` has the three W side by side with their biases, `gates` the U of r and z, `candidate` that of c.
    """

    entry: Layer
    gates: Any
    candidate: Any

    @property
    def width(self) -> int:
        """Length of the state."""
        return int(self.candidate.shape[0])

    def next_state(self, entered: Array, state: Array) -> Array:
        """The next state.

        Parameters
        ----------
        entered : array, shape ``(batch, 3 width)``
            What `entry` made of the inputs.
        state : array, shape ``(batch, width)``
        """
        width = self.width
        both = jax.nn.sigmoid(entered[:, : 2 * width] + state @ self.gates)
        reset, update_gate = both[:, :width], both[:, width:]
        new = jnp.tanh(entered[:, 2 * width :] + (reset * state) @ self.candidate)
        return update_gate * state + (1.0 - update_gate) * new

    def output(self, state: Array) -> Array:
        """What the layers after it are given."""
        return state


class LongShortTerm(Module):
    """A long short-term memory (Hochreiter and Schmidhuber, 1997, with the forget gate of Gers et al., 2000).

    i, f, o = sigmoid(W x + U h),  g = tanh(W x + U h),  c' = f c + i g,  h' = o tanh(c'); its state is c and h side by
    side.
    """

    entry: Layer
    gates: Any

    @property
    def width(self) -> int:
        """Length of the state."""
        return 2 * int(self.gates.shape[0])

    def next_state(self, entered: Array, state: Array) -> Array:
        """The next state; see `GatedUnit`, with four gates."""
        width = self.width // 2
        cell, output = state[:, :width], state[:, width:]
        gates = entered + output @ self.gates
        input_gate, forget_gate, output_gate = (jax.nn.sigmoid(gates[:, k * width : (k + 1) * width]) for k in range(3))
        cell = forget_gate * cell + input_gate * jnp.tanh(gates[:, 3 * width :])
        return jnp.concatenate([cell, output_gate * jnp.tanh(cell)], axis=1)

    def output(self, state: Array) -> Array:
        """What the layers after it are given."""
        return state[..., self.width // 2 :]


class RecurrentNetwork(Module):
    """Layers or convolutions, a recurrent cell, and layers to the outputs."""

    body: Any
    cell: GatedUnit | LongShortTerm
    layers: tuple[Any, ...]
    activation: str = static()

    @property
    def state_width(self) -> int:
        return self.cell.width

    def entered(self, inputs: Any) -> Any:
        """What the cell is given, for many observations at once."""
        return self.cell.entry(ACTIVATIONS[self.activation](apply_network(self.body, inputs)))

    def step(self, inputs: Inputs, state: Array) -> tuple[Array, Array]:
        """Outputs, shape ``(batch, outputs)``, and the states after these observations."""
        after = self.cell.next_state(self.entered(inputs), state)
        return through(self.layers, self.cell.output(after), self.activation), after

    def apply_sequence(self, inputs: Inputs, restarts: Array, states: Array, burn_in: int = 0) -> tuple[Array, Array]:
        """The same along time.

        Parameters
        ----------
        inputs : Inputs
            With a leading axis of turns times rows.
        restarts : bool, shape ``(turns, rows)``
            Where the state is not what came of the turn before, but the one that is given.
        states : array, shape ``(turns, rows, width)``
            The first turn's are always used.
        burn_in : int
            Turns at the begin through which no gradient goes: they only refresh the state (Kapturowski et al., 2019,
            section 3).

        Returns
        -------
        outputs and states after each turn, both with a leading axis of turns times rows
        """
        turns, rows = restarts.shape
        entered = self.entered(inputs).reshape(turns, rows, -1)
        restarts = restarts.at[0].set(True)

        def step(state: Array, turn: Any) -> Any:
            entered, restart, turn_state = turn
            after = self.cell.next_state(entered, jnp.where(restart[:, None], turn_state, state))
            return after, after

        every, state = (entered, restarts, states), jnp.zeros_like(states[0])
        if burn_in:
            burnt_in = lax.stop_gradient(lax.scan(step, state, tuple(part[:burn_in] for part in every))[1])
            state = burnt_in[-1]
        after = lax.scan(step, state, tuple(part[burn_in:] for part in every))[1]
        after = jnp.concatenate([burnt_in, after]) if burn_in else after
        flat = after.reshape(turns * rows, -1)
        return through(self.layers, self.cell.output(flat), self.activation), flat


def recurrent_cell(chance: np.random.Generator, kind: str, inputs: int, width: int, start: str) -> Any:
    """A cell as it begins: each gate's weights like those of a layer; a long short-term memory begins by keeping (bias
    1)."""

    def gates(count: int, fan_in: int) -> Any:
        return np.concatenate([layer(chance, fan_in, width, 1.0, start).weight for _ in range(count)], axis=1)

    if kind == "gru":
        entry = Layer(gates(3, inputs), np.zeros(3 * width, np.float32))
        return GatedUnit(entry, gates(2, width), gates(1, width))
    bias = np.zeros(4 * width, np.float32)
    bias[width : 2 * width] = 1.0
    return LongShortTerm(Layer(gates(4, inputs), bias), gates(4, width))


ACTIVATIONS = {"tanh": jnp.tanh, "relu": jax.nn.relu}


def through(layers: tuple[Any, ...], x: Any, activation: str) -> Any:
    """All layers, the last without activation."""
    for layer in layers[:-1]:
        x = ACTIVATIONS[activation](layer(x))
    return layers[-1](x)


def gathered(x: Any, size: int, stride: int) -> Any:
    """Patches of images, with as many zeros around them as it takes for every pixel to be in a patch.

    Parameters
    ----------
    x : array, shape ``(batch, height, width, depth)``

    Returns
    -------
    array, shape ``(batch, rows, columns, size * size * depth)``
        In each patch row by row, then column by column, then channel by channel.
    """
    rows, columns = (patches_along(pixels, size, stride) for pixels in x.shape[1:3])
    missing = [
        (count - 1) * stride + size - pixels for count, pixels in zip((rows, columns), x.shape[1:3], strict=True)
    ]
    if any(missing):
        padding = [(pixels // 2, pixels - pixels // 2) for pixels in missing]
        x = jnp.pad(x, ((0, 0), *padding, (0, 0)))
    batch, _, _, depth = x.shape
    if size == stride:  # patches that do not overlap are a change of axes
        x = x.reshape(batch, rows, size, columns, size * depth).transpose(0, 1, 3, 2, 4)
        return x.reshape(batch, rows, columns, size * size * depth)
    parts = [
        x[:, i : i + stride * (rows - 1) + 1 : stride, j : j + stride * (columns - 1) + 1 : stride]
        for i in range(size)
        for j in range(size)
    ]
    return jnp.concatenate(parts, axis=-1)


def patches_along(pixels: int, size: int, stride: int) -> int:
    """How many patches reach all pixels of a row or a column."""
    return max(0, -(-(pixels - size) // stride)) + 1


def layers(
    chance: np.random.Generator,
    widths: tuple[int, ...],
    outputs: int,
    gain: Gain,
    activation: str,
    start: str,
    dueling: bool = False,
) -> tuple[Any, ...]:
    """Layers of the given widths and one for the outputs, whose weights are scaled by `gain`; or the last two as
    `DuelingNetwork`."""
    if dueling:
        trunk = [layer(chance, *pair, GAINS[activation], start) for pair in itertools.pairwise(widths[:-1])]
        value, gains = (layers(chance, widths[-2:], count, gain, activation, start) for count in (1, outputs - 1))
        return (*trunk, DuelingNetwork(value, gains, activation))
    inner = [layer(chance, inputs, width, GAINS[activation], start) for inputs, width in itertools.pairwise(widths)]
    last = layer(chance, widths[-1], outputs, gain, start)
    return (*inner, Layer(last.weight, np.zeros(outputs, np.float32)))


def layer(chance: np.random.Generator, inputs: int, outputs: int, gain: Gain, start: str) -> Layer:
    """A layer as it begins: weights orthogonal, or uniform within one over the root of the inputs; biases uniform
    within that.

    With biases of 0 every rectifier has its kink at the origin of what is seen, and near it the network is one linear
    function: Q-learning of a balance around the origin then failed on every seed
    (`benchmarks/by_hand/same_settings.py`).
    """
    if inputs * outputs > MOST_WEIGHTS:
        raise SettingError(
            f"a layer of {inputs:,} inputs and {outputs:,} outputs would have {inputs * outputs:,} weights; at most "
            f"{MOST_WEIGHTS:,} are built. Make the network's layers narrower, or show it smaller images."
        )
    reach = 1.0 / math.sqrt(inputs)
    if start == "uniform":
        weight = np.asarray(gain) / np.max(gain) * chance.uniform(-reach, reach, (inputs, outputs))
    else:
        square = chance.standard_normal((max(inputs, outputs), min(inputs, outputs)))
        q, r = np.linalg.qr(square)
        q = q * np.sign(np.diagonal(r))  # else the factorisation's own choice of sign would be in it
        weight = np.asarray(gain) * (q if inputs >= outputs else q.T)
    return Layer(weight.astype(np.float32), chance.uniform(-reach, reach, outputs).astype(np.float32))


class SeparateNetworks(Module):
    """A network for the policy and one for the value, or the first alone.

    `log_spread` are the logarithms of the spreads that hold everywhere, shape ``(width,)``; None without ranges.
    """

    policy: Any
    value: Any
    log_spread: Any
    acting: ActionDistribution = static()

    def outputs(self, inputs: Any) -> Any:
        """What the policy is made of, shape ``(batch, outputs)``."""
        return self.acting.completed(apply_network(self.policy, inputs), self.log_spread)

    def values(self, inputs: Any) -> Any:
        """Shape ``(batch,)``."""
        return apply_network(self.value, inputs)[:, 0]

    def __call__(self, inputs: Any) -> tuple[Any, Any]:
        return self.outputs(inputs), self.values(inputs)

    @property
    def state_width(self) -> int:
        return sum(network.state_width for network in (self.policy, self.value) if network is not None)

    def step(self, inputs: Inputs, state: Array) -> tuple[tuple[Any, Any], Array]:
        """Outputs and values, and the states after; of recurrent networks, whose states stand side by side."""
        policy_width = self.policy.state_width
        outputs, after = self.policy.step(inputs, state[:, :policy_width])
        if self.value is None:
            return (self.acting.completed(outputs, self.log_spread), None), after
        values, value_state = self.value.step(inputs, state[:, policy_width:])
        return (self.acting.completed(outputs, self.log_spread), values[:, 0]), jnp.concatenate(
            [after, value_state], axis=1
        )

    def apply_sequence(self, inputs: Any, restarts: Any, states: Any, burn_in: int = 0) -> tuple[tuple[Any, Any], Any]:
        """The same along time; see `RecurrentNetwork.along`."""
        policy_width = self.policy.state_width
        outputs, after = self.policy.apply_sequence(inputs, restarts, states[..., :policy_width], burn_in)
        if self.value is None:
            return (self.acting.completed(outputs, self.log_spread), None), after
        values, value_states = self.value.apply_sequence(inputs, restarts, states[..., policy_width:], burn_in)
        return (self.acting.completed(outputs, self.log_spread), values[:, 0]), jnp.concatenate(
            [after, value_states], axis=1
        )


class SharedNetwork(Module):
    """One network whose last output is the value; else as `SeparateNetworks`."""

    both: Any
    log_spread: Any
    acting: ActionDistribution = static()

    def outputs(self, inputs: Any) -> Any:
        """What the policy is made of, shape ``(batch, outputs)``."""
        return self(inputs)[0]

    def values(self, inputs: Any) -> Any:
        """Shape ``(batch,)``."""
        return apply_network(self.both, inputs)[:, -1]

    def __call__(self, inputs: Any) -> tuple[Any, Any]:
        return self._split_outputs(apply_network(self.both, inputs))

    def _split_outputs(self, both: Array) -> tuple[Array, Array]:
        return self.acting.completed(both[:, :-1], self.log_spread), both[:, -1]

    @property
    def state_width(self) -> int:
        return int(self.both.state_width)

    def step(self, inputs: Inputs, state: Array) -> tuple[tuple[Any, Any], Array]:
        """Outputs and values, and the states after; of a recurrent network."""
        both, after = self.both.step(inputs, state)
        return self._split_outputs(both), after

    def apply_sequence(self, inputs: Any, restarts: Any, states: Any, burn_in: int = 0) -> tuple[tuple[Any, Any], Any]:
        """The same along time; see `RecurrentNetwork.along`."""
        both, after = self.both.apply_sequence(inputs, restarts, states, burn_in)
        return self._split_outputs(both), after


class Several(Module):
    """Networks that are given the same, side by side."""

    each: tuple[Any, ...]

    def __call__(self, inputs: Any) -> Any:
        """Shape ``(networks, batch, outputs)``."""
        return jnp.stack([apply_network(network, inputs) for network in self.each])

    @property
    def state_width(self) -> int:
        return sum(network.state_width for network in self.each)

    def _cut(self, states: Any) -> list[Any]:
        ends = list(itertools.accumulate(network.state_width for network in self.each))
        return [states[..., a:b] for a, b in zip([0, *ends], ends, strict=False)]

    def step(self, inputs: Any, states: Any) -> tuple[Any, Any]:
        """Outputs as above, and the states after; of recurrent networks, whose states stand side by side."""
        stepped = [
            network.step(inputs, own_state) for network, own_state in zip(self.each, self._cut(states), strict=True)
        ]
        return jnp.stack([outputs for outputs, _ in stepped]), jnp.concatenate([after for _, after in stepped], axis=-1)

    def apply_sequence(self, inputs: Any, restarts: Any, states: Any, burn_in: int = 0) -> tuple[Any, Any]:
        """The same along time; see `RecurrentNetwork.along`."""
        parts = zip(self.each, self._cut(states), strict=True)
        stepped = [network.apply_sequence(inputs, restarts, own_states, burn_in) for network, own_states in parts]
        return jnp.stack([outputs for outputs, _ in stepped]), jnp.concatenate([after for _, after in stepped], axis=-1)

    def alone(self) -> Several:
        """The first by itself."""
        return Several(self.each[:1])
