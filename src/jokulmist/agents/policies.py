"""What the methods that learn a policy share: settings, the two networks, choosing, and the batch they learn from."""

from __future__ import annotations

from functools import lru_cache
from typing import Annotated, Any, NamedTuple

import numpy as np
from pydantic import Field

from jokulmist.agents.protocol import Agent, Experience, FixedShare, Limit, Numbers, Scheduled, Shapes
from jokulmist.environments.channels import Seen, Spec
from jokulmist.learning.acting import Acting, acting_over, refuse_ranges
from jokulmist.learning.descent import Optimiser, descended, transform
from jokulmist.learning.inputs import Running, Scaling, fresh_statistics, gathered, prepared
from jokulmist.learning.networks import Dense, Layout, NetworkSetting, built, usual_network

Count = Annotated[int, Field(ge=1, strict=True)]
READINGS = ("policy_loss", "value_loss", "entropy", "explained_variance", "gradient_norm")
TOWARDS_ACTIONS, TOWARDS_VALUE = 0.01, 1.0


class Learned(NamedTuple):
    """What a policy method has learned.

    Attributes
    ----------
    weights : float32, shape ``(size,)``
        Of both networks.
    statistics : Running, optional
        That scale the numbers.
    moments : the optimiser's state
    """

    weights: Any
    statistics: Running | None
    moments: Any


class PolicyAgent(Agent):
    """Settings and functions of the methods that learn a policy and a value. Not used by itself.

    Parameters
    ----------
    learning_rate : float or schedule
    discount : float, in [0, 1]
        Weight of the reward one decision later.
    horizon : int
        Decisions of each copy between two updates.
    entropy_bonus : float or schedule
        Weight of the policy's entropy in what is maximised.
    value_weight : float
        Weight of the value's loss beside the policy's.
    network : Dense, Convolutional or function, optional
        By default `Dense` where only numbers are seen, `Convolutional` where images are.
    shared : bool, optional
        One network with outputs for both policy and value, or two; by default one where there are images.
    scaling : {"bounds", "running", "none"}
        How numbers are scaled: from their declared bounds to [-1, 1] (those without bounds by running mean and spread),
        all by running mean and spread, or not at all.
    optimiser : {"adam", "rmsprop", "sgd"}
    gradient_clip : float, optional
        Largest norm of the gradient; None for no clipping (in a plan ``"off"``).
    """

    learning_rate: Scheduled = 1e-3
    discount: FixedShare = 0.99
    horizon: Count = 128
    entropy_bonus: Scheduled = 0.0
    value_weight: float = 0.5
    network: NetworkSetting | None = None
    shared: bool | None = None
    scaling: Scaling = "bounds"
    optimiser: Optimiser = "adam"
    gradient_clip: Limit = 0.5

    def refuse(self, spec: Spec) -> None:
        refuse_ranges(spec.action, type(self).__name__)

    def shapes(self, spec: Spec, copies: int) -> Shapes:
        shapes = super().shapes(spec, copies)
        if shapes.network is None:
            shapes.network = usual_network(spec, "tanh")
        if shapes.shared is None:
            shapes.shared = bool(spec.images)
        shapes.acting = acting_over(spec.action)
        shapes.layout = _layout(shapes.network, spec, shapes.shared, getattr(shapes, "baseline", True), 0)[0]
        return shapes

    def decisions_per_update(self, copies: int) -> int:
        return self.horizon

    @staticmethod
    def fresh(shapes: Any, numbers: Numbers, noise: Any) -> tuple[Any, Any]:
        value = getattr(shapes, "baseline", True)
        layout, modules = _layout(shapes.network, shapes.spec, shapes.shared, value, seed_from(noise))
        weights = layout.flat(modules)
        return Learned(
            weights, fresh_statistics(shapes.spec, shapes.scaling), transform(shapes.optimiser).init(weights)
        ), ()

    @staticmethod
    def choose(
        shapes: Any, numbers: Numbers, learner: Learned, memory: Any, observed: Seen, noise: Any, explore: bool
    ) -> tuple[Any, Any, tuple[()]]:
        inputs = prepared(shapes.spec, shapes.scaling, learner.statistics, observed)
        layout, acting = shapes.layout, shapes.acting
        if noise.xp is np:
            outputs = layout.through_numpy(learner.weights, inputs.numbers, shapes.network.activation)
            outputs = outputs[:, : acting.outputs]
        else:
            outputs = layout.module(learner.weights).outputs(inputs)
        if explore:
            return acting.sampled(outputs, observed.legal, noise), memory, ()
        return acting.likeliest(outputs, observed.legal, noise.xp), memory, ()

    @staticmethod
    def chooses_by_numpy(shapes: Any) -> bool:
        return isinstance(shapes.network, Dense)

    @staticmethod
    def kept(learner: Learned) -> Learned:
        return learner._replace(moments=())

    @staticmethod
    def probabilities(shapes: Any, learner: Learned, observed: Seen) -> dict[str, np.ndarray[Any, Any]]:
        """Chances of each alternative for one observation, by part; a Choice by itself has the empty name."""
        networks = shapes.layout.module(learner.weights)
        outputs = networks.outputs(prepared(shapes.spec, shapes.scaling, learner.statistics, observed))
        acting = shapes.acting
        logs = acting.log_chances(outputs, observed.legal)
        return {name: np.exp(np.asarray(part)[0]) for name, part in zip(acting.choices, logs, strict=True)}

    @staticmethod
    def state_value(shapes: Any, learner: Learned, observed: Seen) -> float:
        """The value that was learned of one observation."""
        networks = shapes.layout.module(learner.weights)
        inputs = prepared(shapes.spec, shapes.scaling, learner.statistics, observed)
        return float(networks(inputs)[1][0])


@lru_cache(maxsize=64)
def _layout(network: Any, spec: Spec, shared: bool, value: bool, seed: int) -> tuple[Layout, Any]:
    from jokulmist.learning.modules import Joined, Separate

    count = Acting(spec.action).outputs
    if shared and value:
        gains = [TOWARDS_ACTIONS] * count + [TOWARDS_VALUE]
        modules: Any = Joined(built(network, spec, count + 1, seed, gains))
    else:
        policy = built(network, spec, count, seed, TOWARDS_ACTIONS)
        modules = Separate(policy, built(network, spec, 1, seed + 1, TOWARDS_VALUE) if value else None)
    return Layout(modules), modules


def seed_from(noise: Any) -> int:
    """A seed for the first weights, from the run's own noise."""
    return (int(noise.integers(0, 1 << 23)) << 23) | int(noise.integers(0, 1 << 23))


class Batch(NamedTuple):
    """What happened, with one leading axis of turns times copies.

    Attributes
    ----------
    inputs : Inputs
        What was decided on, in the scale of the network.
    legal : tuple of bool array
    actions : in own form
    """

    inputs: Any
    legal: Any
    actions: Any


def in_rows(tree: Any) -> Any:
    """Arrays with axes (turns, copies, ...) as one row a decision."""
    import jax

    return jax.tree.map(lambda leaf: leaf.reshape(leaf.shape[0] * leaf.shape[1], *leaf.shape[2:]), tree)


def in_parts(tree: Any, count: int, size: int) -> Any:
    """Rows as so many minibatches of a size, with a leading axis of minibatches."""
    import jax

    return jax.tree.map(lambda leaf: leaf.reshape(count, size, *leaf.shape[1:]), tree)


def batch_of(shapes: Any, learner: Learned, experience: Experience) -> tuple[Batch, Any]:
    """The batch, and the inputs of the true observations after each advance."""
    observed, last = in_rows(experience.observed), in_rows(experience.last)
    inputs = prepared(shapes.spec, shapes.scaling, learner.statistics, observed)
    after = prepared(shapes.spec, shapes.scaling, learner.statistics, last)
    return Batch(inputs, observed.legal, in_rows(experience.actions)), after


def after_update(learner: Learned, weights: Any, moments: Any, experience: Experience) -> Learned:
    """The learner after an update; only now the statistics move."""
    return Learned(weights, gathered(learner.statistics, experience.observed.numbers), moments)


def descended_by(shapes: Any, numbers: Numbers, weights: Any, moments: Any, loss: Any) -> tuple[Any, Any, Any, Any]:
    """One step down a loss of the networks.

    Parameters
    ----------
    loss : function of the networks
        Gives what is minimised, and readings.

    Returns
    -------
    weights, moments, readings, and the norm of the gradient
    """
    import jax

    layout = shapes.layout
    gradients, readings = jax.grad(lambda leaves: loss(layout.combined(leaves)), has_aux=True)(layout.leaves(weights))
    most = getattr(numbers, "gradient_clip", None)
    weights, moments, norm = descended(
        shapes.optimiser, weights, moments, as_flat(gradients), numbers.learning_rate, most
    )
    return weights, moments, readings, norm


def as_flat(gradients: list[Any]) -> Any:
    """Gradients of a module's arrays as one vector, in the order of `Layout`."""
    import jax.numpy as jnp

    return jnp.concatenate([gradient.reshape(-1) for gradient in gradients])
