"""Chances of actions: from a network's outputs to an action, its log-probability and the entropy.

A policy over several named parts is the product of one over each, so log-probabilities and entropies add up. Choices
have a softmax; one that is not allowed gets a finite low output before it, its chance is then 0, and the entropy skips
it. Ranges have a Gaussian for each number (see `gaussians.py`).
"""

from __future__ import annotations

import math
from functools import lru_cache
from types import ModuleType
from typing import Any, NamedTuple

from jokulmist.arrays import Array
from jokulmist.environments.chance.draws import Draw
from jokulmist.environments.spaces.actions import Action, Actions, Choice, Record
from jokulmist.environments.spaces.legal import choices_of
from jokulmist.errors import SettingError
from jokulmist.learning.gaussians import (
    HALF_LOG_TAU,
    LEAST_LOG_SPREAD,
    MOST_LOG_SPREAD,
    AtBounds,
    Units,
    log_density,
    log_slope,
    ranges_of,
)

LOW = -1.0e9
SMALLEST = 2.0**-25


class Likelihood(NamedTuple):
    """What a policy says of actions: log-probability and entropies, each of the shape of the leading axes.

    Attributes
    ----------
    choice_entropy, range_entropy
        Of all choices, and of all numbers (differential); 0 where there are none.
    """

    log_probability: Any
    choice_entropy: Any
    range_entropy: Any

    @property
    def entropy(self) -> Any:
        """Of the whole action."""
        return self.choice_entropy + self.range_entropy


class SampledRanges(NamedTuple):
    """What stood behind the numbers of an action.

    Attributes
    ----------
    before : float32, shape ``(..., width)``
        The Gaussian sample, before the bounds.
    chance : float32, shape ``(..., width)``
        The standard normal numbers it was made of; empty where samples are clipped.
    """

    before: Any
    chance: Any


class ActionDistribution:
    """The policy over an action.

    The outputs of a network are in this order: one number an alternative of each choice, the means of all ranges, the
    logarithms of their spreads.

    Parameters
    ----------
    action : Action
    at_bounds : {"clipped", "squashed"}
        What happens to a Gaussian sample at the bounds of a range.

    Attributes
    ----------
    outputs : int
        How many numbers a policy is made of.

    Examples
    --------
    >>> import jokulmist as jm
    >>> jm.parts.ActionDistribution(jm.Range(-1.0, 1.0)).outputs
    2
    """

    def __init__(self, action: Action, at_bounds: AtBounds = "clipped") -> None:
        self.action = action
        self.squashed = at_bounds == "squashed"
        self.choices = choices_of(action)
        self.units = Units(ranges_of(action))
        self.width = self.units.width
        self.alternatives = sum(choice.count for choice in self.choices.values())
        self.outputs = self.alternatives + 2 * self.width

    def completed(self, outputs: Any, log_spread: Any, xp: Any = None) -> Any:
        """A network's outputs with the logarithms of the spreads that hold everywhere.

        Parameters
        ----------
        outputs : array, shape ``(..., alternatives + width)`` or ``(..., alternatives + 2 width)``
            With as many numbers more as there are spreads, these are added to them.
        log_spread : array, shape ``(width,)``, optional
            None where there are no ranges.
        """
        if log_spread is None:
            return outputs
        xp = xp or _traced()
        spreads = xp.broadcast_to(log_spread, (*outputs.shape[:-1], self.width))
        without = self.alternatives + self.width
        if outputs.shape[-1] > without:
            spreads = spreads + outputs[..., without:]
        return xp.concatenate([outputs[..., :without], spreads], axis=-1)

    def parts(self, outputs: Array, legal: Any, xp: ModuleType | None = None) -> list[Any]:
        """The outputs of each choice, shape ``(..., count)``, with a low one for what is not allowed.

        Parameters
        ----------
        outputs : array, shape ``(..., outputs)``
        legal : tuple of bool array, shape ``(..., count)``
            One a choice, or empty.
        """
        log_probabilities, start = [], 0
        for k, choice in enumerate(self.choices.values()):
            part = outputs[..., start : start + choice.count]
            start += choice.count
            if legal:
                part = (xp or _traced()).where(legal[k], part, LOW)
            log_probabilities.append(part)
        return log_probabilities

    def gaussians(self, outputs: Any) -> tuple[Array, Array]:
        """Means and bounded logarithms of the spreads of all numbers, shape ``(..., width)``."""
        mean = outputs[..., self.alternatives : self.alternatives + self.width]
        return mean, outputs[..., self.alternatives + self.width :].clip(LEAST_LOG_SPREAD, MOST_LOG_SPREAD)

    def log_probabilities(self, outputs: Array, legal: Any) -> list[Any]:
        """Logarithms of the probabilities of each choice's alternatives, shape ``(..., count)``; see `parts`."""
        import jax

        return [jax.nn.log_softmax(part, axis=-1) for part in self.parts(outputs, legal)]

    def entropies(self, logs: list[Any], legal: Any) -> list[Any]:
        """The entropy of each choice from the logarithms of its probabilities, shape ``(...)`` each."""
        import jax.numpy as jnp

        entropies = []
        for k, log in enumerate(logs):
            surprise = jnp.exp(log) * log
            entropies.append(-jnp.sum(jnp.where(legal[k], surprise, 0.0) if legal else surprise, axis=-1))
        return entropies

    def likelihood(self, outputs: Array, legal: Any, actions: Any, samples: Any = ()) -> Likelihood:
        """Log-probability of the actions taken, and the entropies.

        Parameters
        ----------
        samples : Drawn
            What `sampled` gave along; not looked at where there are no ranges.

        Notes
        -----
        The entropy of a squashed Gaussian has no formula: it is that of the Gaussian plus the mean logarithm of the
        slope, estimated from the sample that the kept normal numbers give under this policy.
        """
        import jax.numpy as jnp

        log_probability: Any = 0.0
        choice_entropy: Any = 0.0
        range_entropy: Any = 0.0
        if self.choices:
            logs = self.log_probabilities(outputs, legal)
            for log, index in zip(logs, self.indices(actions), strict=True):
                hit = index[..., None] == jnp.arange(log.shape[-1])
                log_probability = log_probability + jnp.sum(jnp.where(hit, log, 0.0), axis=-1)
            choice_entropy = sum(self.entropies(logs, legal))
        if self.width:
            mean, log_spread = self.gaussians(outputs)
            assert samples.before.shape == mean.shape
            each, spread = log_density(samples.before, mean, log_spread), log_spread + (0.5 + HALF_LOG_TAU)
            if self.squashed:
                each = each - log_slope(samples.before)
                spread = spread + log_slope(mean + jnp.exp(log_spread) * samples.chance)
            log_probability = log_probability + jnp.sum(each, axis=-1)
            range_entropy = jnp.sum(spread, axis=-1)
        return Likelihood(log_probability, choice_entropy, range_entropy)

    def sampled(self, outputs: Array, legal: Any, noise: Draw) -> tuple[Any, Any]:
        """Actions drawn from the policy, in own form, one a row; and what stood behind their numbers.

        The largest of outputs plus Gumbel noise has the probabilities of the softmax (Gumbel, 1954; Maddison et al.,
        2014), and costs fewer steps than adding up probabilities.
        """
        xp, indices = noise.xp, []
        for part in self.parts(outputs, legal, xp):
            u = noise.uniform(shape=part.shape)
            indices.append((part - xp.log(-xp.log(xp.maximum(u, SMALLEST)))).argmax(axis=-1).astype("int32"))
        if not self.width:
            return self.native(indices), ()
        mean, log_spread = self.gaussians(outputs)
        chance = noise.normal(shape=mean.shape)
        before = mean + xp.exp(log_spread) * chance
        return self.native(indices, self.bounded(before, xp)), SampledRanges(before, chance if self.squashed else ())

    def likeliest(self, outputs: Any, legal: Any, xp: Any = None) -> Any:
        """The likeliest allowed alternative of each choice, among equals the first; the mean of each range, at its
        bounds."""
        indices = [part.argmax(axis=-1).astype("int32") for part in self.parts(outputs, legal, xp)]
        return self.native(indices, self.bounded(self.gaussians(outputs)[0], xp or _traced()))

    def bounded(self, before: Array, xp: ModuleType) -> Array:
        """Samples or means as they act, in [-1, 1] where they are squashed; else what lies outside is clipped in
        `own`."""
        return xp.tanh(before) if self.squashed else before

    def native(self, indices: list[Any], unit: Any = None) -> Any:
        """Actions in own form from the index of each choice, and the numbers of all ranges in [-1, 1]."""
        values = iter(self.units.native(unit) if self.width else ())
        indices_left = iter(indices)
        if not isinstance(self.action, Actions):
            return next(indices_left if self.choices else values)
        return Record(**{name: next(indices_left if name in self.choices else values) for name in self.action.parts})

    def indices(self, actions: Any) -> list[Any]:
        """The index of each choice from actions in own form."""
        return [getattr(actions, name) for name in self.choices] if isinstance(self.action, Actions) else [actions]


@lru_cache(maxsize=64)
def action_distribution(action: Action, at_bounds: AtBounds = "clipped") -> ActionDistribution:
    """The policy over an action; one object for equal actions.

    Examples
    --------
    >>> import jax.numpy as jnp
    >>> import jokulmist as jm
    >>> policy = jm.parts.action_distribution(jm.Choice("hold", "tap"))
    >>> logits = jnp.asarray([[0.0, 2.0], [1.0, -1.0]])
    >>> policy.likeliest(logits, legal=()).tolist()
    [1, 0]
    >>> policy.likelihood(logits, (), jnp.asarray([1, 1])).log_probability.tolist()
    [-0.126..., -2.126...]
    """
    return ActionDistribution(action, at_bounds)


@lru_cache(maxsize=64)
def joint_over(action: Action) -> JointChoice:
    """All combinations of an action's choices; one object for equal actions."""
    return JointChoice(action)


def _traced() -> ModuleType:
    import jax.numpy as jnp

    return jnp


def refuse_ranges(action: Action, method: str) -> None:
    """Raise `SettingError` where an action has a part that is no choice."""
    parts = action.parts if isinstance(action, Actions) else {"": action}
    for name, part in parts.items():
        if not isinstance(part, Choice):
            context = f"the part `{name}` of the action" if name else "the action"
            raise SettingError(
                f"`{method}` chooses among alternatives, and {context} is {part!r}. "
                f'Declare `action = jm.Choice("low", "high")`, or several in `jm.Actions(...)`.'
            )


class JointChoice:
    """Several choices at once as one, for methods that hold a value for each action.

    Attributes
    ----------
    count : int
        Product of the counts.
    """

    def __init__(self, action: Action) -> None:
        self.action = action
        self.choices = choices_of(action)
        self.counts = [choice.count for choice in self.choices.values()]
        self.count = math.prod(self.counts)

    @property
    def labels(self) -> list[str]:
        """What each index means."""
        if isinstance(self.action, Choice):
            return list(self.action.labels)
        return [self.action.label(self.native(index)) for index in range(self.count)]

    def native(self, index: Any) -> Any:
        """Actions in own form from joint indices."""
        if isinstance(self.action, Choice):
            return index
        parts = []
        for count in reversed(self.counts):
            parts.append(index % count)
            index = index // count
        return Record(**dict(zip(self.choices, reversed(parts), strict=True)))

    def index(self, actions: Any) -> Any:
        """Joint indices from actions in own form."""
        if isinstance(self.action, Choice):
            return actions
        index: Any = 0
        for name, count in zip(self.choices, self.counts, strict=True):
            index = index * count + getattr(actions, name)
        return index

    def legal(self, legal: Any) -> Any:
        """What is allowed of the joint alternatives, shape ``(..., count)``; None where everything is."""
        if not legal:
            return None
        joint = legal[0]
        for part in legal[1:]:
            joint = (joint[..., :, None] & part[..., None, :]).reshape(*joint.shape[:-1], -1)
        return joint
