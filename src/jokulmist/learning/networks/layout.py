"""Networks: from the channels of an observation to a row of outputs.

A network in an agent's settings is a recipe (`Dense`, `Convolutional`, or a function of one's own); building it with
the channels, a number of outputs and a seed gives a module. All weights of a module are in one flat vector
(`Layout`): the optimiser's step is then a handful of operations, whatever the network (measured: a third less time for
an update of a small network), and a target network is one more vector.
"""

from __future__ import annotations

import math
import re
from collections.abc import Callable, Sequence
from functools import cached_property
from typing import TYPE_CHECKING, Annotated, Any, Literal, NamedTuple

import numpy as np
from pydantic import BeforeValidator, ConfigDict, Field, PlainSerializer, field_validator

from jokulmist.arrays import Array
from jokulmist.environments.spaces.channels import Channel, Spec
from jokulmist.errors import SettingError, listed, nearest
from jokulmist.learning.networks.inputs import Gain, Inputs
from jokulmist.loading import function_setting, name_of
from jokulmist.settings import Settings

Activation = Literal["tanh", "relu"]
Start = Literal["orthogonal", "uniform"]
Wide = Annotated[int, Field(ge=1, le=65_536, strict=True)]


class NetworkSettings(Settings):
    """Settings that the shipped networks share; base of `jm.Dense`, `jm.Convolutional` and `jm.Recurrent`.

    Parameters
    ----------
    hidden : tuple of int
        Widths of the dense layers before the outputs.
    activation : {"tanh", "relu"}
        With tanh and biases of 0 a network begins as an odd function; a value that grows to both sides of 0, such as a
        quadratic cost, is then learned very slowly.
    start : {"orthogonal", "uniform"}
        How weights begin: orthogonal (Saxe et al., 2014), or uniform within one over the root of the inputs (LeCun et
        al., 1998). Biases of hidden layers begin uniform within that, those of the outputs at 0.

    Examples
    --------
    >>> import jokulmist as jm
    >>> isinstance(jm.Dense(64, activation="tanh"), jm.parts.NetworkSettings)
    True
    """

    model_config = ConfigDict(defer_build=True)
    example = "jm.Dense(64, 64)"

    hidden: tuple[Wide, ...] = (64, 64)
    activation: Activation = "relu"
    start: Start = "orthogonal"

    def __init__(self, *hidden: int, **settings: Any) -> None:
        if hidden:
            settings["hidden"] = hidden
        super().__init__(**settings)

    def refuse(self, spec: Spec) -> None:
        """Raise `SettingError` where the network cannot take these channels."""

    def build(self, spec: Spec, outputs: int, seed: int, gain: Gain, dueling: bool = False) -> Any:
        """The module, with `outputs` outputs whose first weights are scaled by `gain`; with `dueling` the last hidden
        layer stands twice, for the first output and for all others."""
        raise NotImplementedError

    def written(self) -> dict[str, Any]:
        """As it is in a plan."""
        return {"use": type(self).__name__, **self.model_dump(mode="json", exclude_none=True)}

    def __repr__(self) -> str:
        fields = type(self).model_fields
        settings = [f"{n}={v!r}" for n, v in self if n != "hidden" and v != fields[n].default]
        return f"{type(self).__name__}({', '.join([*map(str, self.hidden), *settings])})"

    __str__ = __repr__


class Dense(NetworkSettings):
    """Dense layers, e.g. ``jm.Dense(64, 64)``; takes numbers, no images.

    Examples
    --------
    >>> Dense(32, 32, activation="tanh")
    Dense(32, 32, activation='tanh')
    """

    if TYPE_CHECKING:

        def __init__(self, *hidden: int, activation: Activation = "relu", start: Start = "orthogonal") -> None: ...

    def refuse(self, spec: Spec) -> None:
        if spec.images:
            raise SettingError(
                f"`Dense` is given numbers, and `{spec.images[0].name}` is an image. Use `network=jm.Convolutional()`."
            )

    def build(self, spec: Spec, outputs: int, seed: int, gain: Gain, dueling: bool = False) -> Any:
        from jokulmist.learning.networks import modules

        chance = np.random.default_rng(seed)
        return modules.DenseNetwork(
            layers=modules.layers(
                chance, (spec.width, *self.hidden), outputs, gain, self.activation, self.start, dueling
            ),
            activation=self.activation,
        )


class Convolutional(NetworkSettings):
    """Convolutions for each image, whose outputs are joined with the numbers before the dense layers.

    Parameters
    ----------
    filters : sequence of tuples, optional
        The convolutions, first to last: how many filters, their size and their stride in pixels. An image gets as many
        rows and columns of zeros around it as it takes for every pixel to be seen. By default as the size of the image
        asks: small strides for small images, and from 64 pixels on the three layers of Mnih et al. (2015).
    hidden, activation, start
        See `NetworkSettings`.

    Examples
    --------
    >>> Convolutional(128, filters=[(16, 3, 1), (32, 3, 2)])
    Convolutional(128, filters=((16, 3, 1), (32, 3, 2)))
    """

    hidden: tuple[Wide, ...] = (128,)
    filters: tuple[tuple[Wide, Wide, Wide], ...] | None = None

    example = "jm.Convolutional(128, filters=[(16, 4, 4), (32, 2, 2)])"

    if TYPE_CHECKING:

        def __init__(
            self,
            *hidden: int,
            filters: Sequence[Sequence[int]] | None = None,
            activation: Activation = "relu",
            start: Start = "orthogonal",
        ) -> None: ...

    @field_validator("filters")
    @classmethod
    def _check_filters(cls, filters: tuple[Any, ...] | None) -> tuple[Any, ...] | None:
        if filters is None:
            return None
        if not filters:
            raise ValueError("needs at least one (filters, size, stride)")
        for _, size, stride in filters:
            if stride > size:
                raise ValueError(
                    f"filters of size {size} with stride {stride} leave out {stride - size} of {stride} rows and "
                    "columns; a stride is at most the size"
                )
        return filters

    def refuse(self, spec: Spec) -> None:
        if not spec.images:
            raise SettingError("`Convolutional` needs an image among the channels. Use `network=jm.Dense(64, 64)`.")

    def filters_for(self, channel: Channel) -> tuple[tuple[int, int, int], ...]:
        """The convolutions of an image."""
        if self.filters is not None:
            return self.filters
        side = min(channel.shape[:2])
        return next(filters for least, filters in BY_SIZE if side >= least)

    def sizes(self, channel: Channel) -> list[tuple[int, int, int]]:
        """Height, width and depth of an image after each of its convolutions."""
        from jokulmist.learning.networks.modules import patches_along

        height, width = channel.shape[:2]
        sizes = []
        for count, size, stride in self.filters_for(channel):
            height, width = patches_along(height, size, stride), patches_along(width, size, stride)
            sizes.append((height, width, count))
        return sizes

    def describe(self, channel: Channel) -> str:
        """What is seen of an image, in words."""
        filters = zip(self.filters_for(channel), self.sizes(channel), strict=True)
        steps = [
            f"{n} filters of {size} x {size} by {stride} -> {h} x {w} x {n}" for (n, size, stride), (h, w, _) in filters
        ]
        return f"`{channel.name}`, {' x '.join(map(str, channel.shape))}: {', '.join(steps)}"

    def build(self, spec: Spec, outputs: int, seed: int, gain: Gain, dueling: bool = False) -> Any:
        from jokulmist.learning.networks import modules

        chance = np.random.default_rng(seed)
        eyes, joined = {}, spec.width
        for channel in spec.images:
            depth, folds = channel.shape[-1], []
            for count, size, stride in self.filters_for(channel):
                layer = modules.layer(chance, size * size * depth, count, modules.GAINS[self.activation], self.start)
                folds.append(modules.Convolution(layer.weight, layer.bias, size, stride))
                depth = count
            eyes[channel.name] = tuple(folds)
            joined += math.prod(self.sizes(channel)[-1])
        tower = modules.layers(chance, (joined, *self.hidden), outputs, gain, self.activation, self.start, dueling)
        return modules.ConvolutionalNetwork(eyes=eyes, layers=tower, activation=self.activation)


# The convolutions of an image by the least length of its shorter side. Those of large ones are of Mnih et al. (2015),
# "Human-level control through deep reinforcement learning".
LARGE = 64
BY_SIZE = (
    (LARGE, ((32, 8, 4), (64, 4, 2), (64, 3, 1))),
    (24, ((16, 4, 4), (32, 2, 2))),
    (0, ((16, 3, 1), (16, 3, 2))),
)


def usual_network(spec: Spec) -> NetworkSettings:
    """What suits the channels: dense layers for numbers, convolutions for images."""
    if not spec.images:
        return Dense()
    large = max(min(channel.shape[:2]) for channel in spec.images) >= LARGE
    return Convolutional(512) if large else Convolutional()


RECIPES: dict[str, type[NetworkSettings]] = {"Dense": Dense, "Convolutional": Convolutional}
Cell = Literal["gru", "lstm"]


def _read(value: Any) -> Any:
    if isinstance(value, NetworkSettings) or callable(value):
        return value
    if isinstance(value, dict) and value.get("use") in RECIPES:
        return RECIPES[value["use"]](**{k: v for k, v in value.items() if k != "use"})
    if isinstance(value, str) and ":" in value:
        return function_setting(value)
    raise ValueError(
        "must be `jm.Dense(64, 64)`, `jm.Convolutional()`, `jm.Recurrent(64)`, a function (channels, outputs, key) "
        "-> module, or in a plan "
        '`{ use = "Dense", hidden = [64, 64] }`'
    )


def _write(network: Any) -> Any:
    if isinstance(network, NetworkSettings):
        return network.written()
    return name_of(network)


NetworkSetting = Annotated[Any, BeforeValidator(_read), PlainSerializer(_write)]


class Recurrent(NetworkSettings):
    """A network that remembers: layers, a recurrent cell, and the outputs; for what is seen only in part.

    Its state is kept for each copy, goes on from decision to decision, and is cleared where an episode begins.

    Parameters
    ----------
    hidden : tuple of one int
        Width of the cell.
    cell : {"gru", "lstm"}
        A gated recurrent unit (Cho et al., 2014), or a long short-term memory (Hochreiter and Schmidhuber, 1997).
    before : Dense, Convolutional or function, optional
        What stands between the observation and the cell, its last hidden layer included; by default one layer of the
        same width, or convolutions where images are seen.
    sequence : int
        Decisions through which a gradient goes back at most. What has to be remembered for longer is learned only by
        chance. A policy method takes the largest such part of its `horizon`, so that has to be as long; `DQN` and `SAC`
        replay such stretches.
    burn_in : int
        Decisions before such a stretch that a method with replay goes through first, without learning from them: the
        state that was kept there came of older weights (Kapturowski et al., 2019).
    activation, start
        See `NetworkSettings`.

    Examples
    --------
    >>> Recurrent(32, cell="lstm", sequence=64)
    Recurrent(32, cell='lstm', sequence=64)
    """

    hidden: tuple[Wide, ...] = (64,)
    cell: Cell = "gru"
    before: NetworkSetting | None = None
    sequence: Wide = 128
    burn_in: Annotated[int, Field(ge=0, le=65_536, strict=True)] = 16

    example = 'jm.Recurrent(64, cell="gru")'

    if TYPE_CHECKING:

        def __init__(
            self,
            *hidden: int,
            cell: Cell = "gru",
            before: Any = None,
            sequence: int = 128,
            burn_in: int = 16,
            activation: Activation = "relu",
            start: Start = "orthogonal",
        ) -> None: ...

    @field_validator("hidden")
    @classmethod
    def _check_hidden(cls, hidden: tuple[int, ...]) -> tuple[int, ...]:
        if len(hidden) != 1:
            raise ValueError("is one width; layers before the cell are given by `before=jm.Dense(64, 64)`")
        return hidden

    @field_validator("before")
    @classmethod
    def _no_other(cls, before: Any) -> Any:
        if isinstance(before, Recurrent):
            raise ValueError("must not be recurrent itself")
        return before

    def refuse(self, spec: Spec) -> None:
        if isinstance(self.before, NetworkSettings):
            self.before.refuse(spec)

    @property
    def state_width(self) -> int:
        """Numbers that a copy remembers."""
        return self.hidden[0] * (2 if self.cell == "lstm" else 1)

    def build(self, spec: Spec, outputs: int, seed: int, gain: Gain, dueling: bool = False) -> Any:
        from jokulmist.learning.networks import modules

        (width,) = self.hidden
        before = self.before
        if before is None:
            before = usual_network(spec) if spec.images else Dense(width)
        entering, body = width, before
        if isinstance(before, NetworkSettings):  # its last hidden layer takes the place of outputs
            entering, body = before.hidden[-1], before.model_copy(update={"hidden": before.hidden[:-1]})
        chance = np.random.default_rng([seed, 1])
        cell = modules.recurrent_cell(chance, self.cell, entering, width, self.start)
        widths = (width, width) if dueling else (width,)
        return modules.RecurrentNetwork(
            body=build_network(body, spec, entering, seed, modules.GAINS[self.activation]),
            cell=cell,
            layers=modules.layers(chance, widths, outputs, gain, self.activation, self.start, dueling),
            activation=self.activation,
        )


RECIPES["Recurrent"] = Recurrent


def refuse_recurrent(network: Any, method: str) -> None:
    """Raise `SettingError` where a method keeps no states of a network."""
    if isinstance(network, Recurrent):
        raise SettingError(
            f"`{method}` keeps no states of a recurrent network. Use `PPO`, `ActorCritic`, `Reinforce`, `DQN` or `SAC`."
        )


def build_network(network: Any, spec: Spec, outputs: int, seed: int, gain: Gain = 1.0, dueling: bool = False) -> Any:
    """The module of a network's settings, or of a function of one's own.

    Parameters
    ----------
    network : NetworkSettings or callable
        A function takes (channels, outputs, key), begins as it likes, and has no streams.
    spec : Spec
        Of the environment: see `spec_of`.
    outputs : int
    seed : int
    gain : float or sequence of float
        What the first weights towards the outputs are scaled by: one number, or one an output.
    dueling : bool
        Streams for the value and for the advantages (Wang et al., 2016).

    Raises
    ------
    SettingError
        When a function of one's own fails, or gives no module with so many outputs.

    Examples
    --------
    >>> import jokulmist as jm
    >>> network = jm.parts.build_network(jm.Dense(16), jm.parts.spec_of(jm.gallery.Tarn()), outputs=2, seed=1)
    >>> [layer.weight.shape for layer in network.layers]
    [(2, 16), (16, 2)]
    """
    if isinstance(network, NetworkSettings):
        return network.build(spec, outputs, seed, gain, dueling)
    import jax

    try:
        module = network(spec.channels, outputs, jax.random.key(seed))
    except Exception as failure:  # whatever a function of the user's own raises
        reason = str(failure).splitlines()[0] if str(failure) else ""
        raise SettingError(
            f"the function `{name_of(network)}` failed: {type(failure).__name__}: {reason:.200}. It is called with "
            "(channels, outputs, key), and gives a module."
        ) from failure
    if not callable(module):
        raise SettingError(
            f"the function `{name_of(network)}` gave {type(module).__name__}; it must give an equinox module that "
            f"takes `inputs` (numbers, images) of one observation and returns {outputs} numbers."
        )
    like = {c.name: jax.ShapeDtypeStruct(c.shape, jax.numpy.float32) for c in spec.images}  # type: ignore[no-untyped-call]
    inputs = Inputs(jax.ShapeDtypeStruct((spec.width,), jax.numpy.float32), like)  # type: ignore[no-untyped-call]
    try:
        output = jax.eval_shape(module, inputs)
    except Exception as failure:  # whatever a module of the user's own raises
        reason = str(failure).splitlines()[0] if str(failure) else ""
        raise SettingError(
            f"the module of `{name_of(network)}` failed on one observation of {spec.width} "
            f"numbers{f' and {len(spec.images)} images' if spec.images else ''}: {type(failure).__name__}: {reason}. "
            "It "
            f"is called with `inputs`, whose `numbers` have the shape ({spec.width},), and returns {outputs} numbers."
        ) from None
    if getattr(output, "shape", None) != (outputs,):
        raise SettingError(
            f"the module of `{name_of(network)}` returns "
            f"{f'the shape {output.shape}' if hasattr(output, 'shape') else type(output).__name__}; it must return "
            f"{outputs} numbers, shape ({outputs},), the `outputs` that the function is given."
        )
    return module


class _Cut(NamedTuple):
    """A module taken apart."""

    first: list[Any]
    names: list[str]
    places: list[tuple[int, int, tuple[int, ...]]]
    tree: Any
    rest: Any


def fitting(network: Any, spec: Spec) -> Any:
    """The network of an agent's settings, or the usual one; a recipe that cannot take these channels is refused."""
    if network is None:
        return usual_network(spec)
    if isinstance(network, NetworkSettings):
        network.refuse(spec)
    return network


def told_of_images(network: Any, spec: Spec) -> str:
    """What a network sees (`sees ...`) of the images among the channels, in words; empty where there are none, or it is
    a function of the user's own."""
    network = usual_network(spec) if network is None else network
    if isinstance(network, Recurrent):
        network = usual_network(spec) if network.before is None else network.before
    if not isinstance(network, Convolutional) or not spec.images:
        return ""
    return f"sees {'; '.join(network.describe(channel) for channel in spec.images)}"


class Layout:
    """Where each weight of a network is in its flat vector, so that a step moves one array.

    Parameters
    ----------
    network : NetworkSettings or callable
        What the module is made by.
    build : callable
        Makes the module. It is called when the module is first needed: a process that lets others train never loads the
        compiler. With a function of one's own it is called at once, so that what is wrong is said early.

    Examples
    --------
    >>> import jokulmist as jm
    >>> spec, network = jm.parts.spec_of(jm.gallery.Tarn()), jm.Dense(16)
    >>> layout = jm.parts.Layout(network, lambda: jm.parts.build_network(network, spec, outputs=2, seed=1))
    >>> layout.size
    82
    >>> layout.module(layout.initial_weights()).layers[0].weight.shape
    (2, 16)
    """

    def __init__(self, network: Any, build: Callable[[], Any]) -> None:
        self._build = build
        if not isinstance(network, NetworkSettings):
            _ = self._cut

    @cached_property
    def _cut(self) -> _Cut:
        import jax

        arrays, rest = _parted(self._build())
        leaves, tree = jax.tree.flatten(arrays)
        names = [jax.tree_util.keystr(path) for path, _ in jax.tree_util.tree_leaves_with_path(arrays)]
        first = [np.asarray(leaf, np.float32) for leaf in leaves]
        ends = np.cumsum([leaf.size for leaf in first]).tolist()
        places = list(zip([0, *ends], ends, [leaf.shape for leaf in first], strict=False))
        return _Cut(first, names, places, tree, rest)

    @property
    def size(self) -> int:
        """Length of the vector."""
        return self._cut.places[-1][1]

    @property
    def parts(self) -> dict[str, slice]:
        """Where the arrays of the module are in the vector, by their path in it, e.g.
        ``.policy.layers[0].weight``."""
        places = [slice(begin, end) for begin, end, _ in self._cut.places]
        return dict(zip(self._cut.names, places, strict=True))

    def moving(self, frozen: Sequence[str]) -> Any:
        """Which weights learn: 1, or 0 where the path of an array begins with one of these names; float32, shape
        ``(size,)``.

        Raises
        ------
        SettingError
            When a name is of no array.
        """
        mask = np.ones(self.size, np.float32)
        for name in frozen:
            paths = [
                place
                for path, place in self.parts.items()
                if f"{path}.".lstrip(".").startswith((f"{name}.", f"{name}["))
            ]
            if not paths:
                layer_names = list(
                    dict.fromkeys(re.sub(r"\.(weight|bias)$", "", path.lstrip(".")) for path in self.parts)
                )
                raise SettingError(
                    f"`frozen` names `{name}`, which the network has not; it has "
                    f"{listed(layer_names)}.{nearest(name, layer_names)}"
                )
            for place in paths:
                mask[place] = 0.0
        return mask

    def still(self, frozen: Sequence[str], before: Array, after: Array) -> Array:
        """The weights after a step; those that are frozen as before: what an optimiser remembers would move them
        without a gradient, too."""
        if not frozen:
            return after
        import jax.numpy as jnp

        return jnp.where(self.moving(frozen) > 0.0, after, before)

    def initial_weights(self) -> Any:
        """The weights as they begin, a float32 vector of shape ``(size,)``."""
        return np.concatenate([leaf.reshape(-1) for leaf in self._cut.first])

    def module(self, weights: Array) -> Any:
        """The module with these weights."""
        return self.combined(self.leaves(weights))

    def leaves(self, weights: Array) -> list[Any]:
        """The arrays of the module, cut out of the vector."""
        return [weights[begin:end].reshape(shape) for begin, end, shape in self._cut.places]

    def through_numpy(self, weights: Any, rows: Any, activation: Activation) -> Any:
        """Outputs of the first tower of a `Dense` module for rows of numbers, by NumPy: on a plain lane a call into a
        compiled function would cost several times the arithmetic."""
        leaves = [weights[begin:end].reshape(shape) for begin, end, shape in self._cut.places[: 2 * self._first]]
        active = np.tanh if activation == "tanh" else _rectified
        for k in range(0, len(leaves) - 2, 2):
            rows = active(rows @ leaves[k] + leaves[k + 1])
        return rows @ leaves[-2] + leaves[-1]

    @cached_property
    def _first(self) -> int:
        """Layers of the first tower: those before the second that takes the first one's inputs again."""
        towers = [name.partition(".layers")[0] for name in self._cut.names]
        return towers.count(towers[0]) // 2

    def combined(self, leaves: list[Any]) -> Any:
        """The module with these arrays."""
        import jax

        arrays = jax.tree.unflatten(self._cut.tree, leaves)
        return jax.tree.map(
            lambda a, b: b if a is None else a, arrays, self._cut.rest, is_leaf=lambda leaf: leaf is None
        )


def _rectified(x: Any) -> Any:
    return np.maximum(x, 0.0)


def _parted(module: Any) -> tuple[Any, Any]:
    """The arrays of a module that learn, those of numbers that are not whole; and the rest. In each the other's leaves
    are None."""
    import jax

    def learns(leaf: Any) -> bool:
        return isinstance(leaf, (jax.Array, np.ndarray)) and bool(jax.numpy.issubdtype(leaf.dtype, jax.numpy.inexact))

    arrays, rest = (
        jax.tree.map(lambda leaf, learnable=learnable: leaf if learns(leaf) is learnable else None, module)
        for learnable in (True, False)
    )
    return arrays, rest
