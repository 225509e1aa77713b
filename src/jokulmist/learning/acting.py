"""Chances of actions: from a network's outputs to an action, its log-probability and the entropy.

A policy over several named parts is the product of one over each, so log-probabilities and entropies add up. A choice
that is not allowed gets a finite low output before the softmax; its chance is then 0, and the entropy skips it.
"""

from __future__ import annotations

import math
from functools import lru_cache
from typing import Any, NamedTuple

from jokulmist.environments.actions import Action, Actions, Choice, Record
from jokulmist.environments.legal import choices_of
from jokulmist.errors import SettingError

LOW = -1.0e9
SMALLEST = 2.0**-25


class Judged(NamedTuple):
    """What a policy says of actions: log-probability and entropy, each of the shape of the leading axes."""

    log_probability: Any
    entropy: Any


class Acting:
    """The policy over an action made of choices.

    Parameters
    ----------
    action : Action
        A Choice, or Actions of Choices.

    Attributes
    ----------
    outputs : int
        How many numbers the network gives.
    """

    def __init__(self, action: Action) -> None:
        self.action = action
        self.choices = choices_of(action)
        self.outputs = sum(choice.count for choice in self.choices.values())

    def parts(self, outputs: Any, legal: Any, xp: Any = None) -> list[Any]:
        """The outputs of each part, shape ``(..., count)``, with a low one for what is not allowed.

        Parameters
        ----------
        outputs : array, shape ``(..., outputs)``
        legal : tuple of bool array, shape ``(..., count)``
            One a part, or empty.
        """
        found, at = [], 0
        for k, choice in enumerate(self.choices.values()):
            part = outputs[..., at : at + choice.count]
            at += choice.count
            if legal:
                part = (xp or _traced()).where(legal[k], part, LOW)
            found.append(part)
        return found

    def log_chances(self, outputs: Any, legal: Any) -> list[Any]:
        """Logarithms of the chances of each part's alternatives, shape ``(..., count)``; see `parts`."""
        import jax

        return [jax.nn.log_softmax(part, axis=-1) for part in self.parts(outputs, legal)]

    def judged(self, outputs: Any, legal: Any, actions: Any) -> Judged:
        """Log-probability of the actions taken, and the entropy."""
        import jax.numpy as jnp

        log_probability: Any = 0.0
        entropy: Any = 0.0
        for k, (logs, taken) in enumerate(zip(self.log_chances(outputs, legal), self.indices(actions), strict=True)):
            hit = taken[..., None] == jnp.arange(logs.shape[-1])
            log_probability = log_probability + jnp.sum(jnp.where(hit, logs, 0.0), axis=-1)
            surprise = jnp.exp(logs) * logs
            if legal:
                surprise = jnp.where(legal[k], surprise, 0.0)
            entropy = entropy - jnp.sum(surprise, axis=-1)
        return Judged(log_probability, entropy)

    def sampled(self, outputs: Any, legal: Any, noise: Any) -> Any:
        """Actions drawn from the policy, in own form, one a row.

        The largest of outputs plus Gumbel noise has the chances of the softmax (Gumbel, 1954; Maddison et al., 2014), and
        costs fewer steps than adding up chances.
        """
        xp, drawn = noise.xp, []
        for part in self.parts(outputs, legal, xp):
            u = noise.uniform(shape=part.shape)
            drawn.append((part - xp.log(-xp.log(xp.maximum(u, SMALLEST)))).argmax(axis=-1).astype("int32"))
        return self.own(drawn)

    def likeliest(self, outputs: Any, legal: Any, xp: Any = None) -> Any:
        """The likeliest allowed action of each row; among equals the first."""
        return self.own([part.argmax(axis=-1).astype("int32") for part in self.parts(outputs, legal, xp)])

    def own(self, indices: list[Any]) -> Any:
        """Actions in own form from the index of each part."""
        if isinstance(self.action, Actions):
            return Record(**dict(zip(self.choices, indices, strict=True)))
        return indices[0]

    def indices(self, actions: Any) -> list[Any]:
        """The index of each part from actions in own form."""
        return [getattr(actions, name) for name in self.choices] if isinstance(self.action, Actions) else [actions]


@lru_cache(maxsize=64)
def acting_over(action: Action) -> Acting:
    """The policy over an action; one object for equal actions."""
    return Acting(action)


@lru_cache(maxsize=64)
def joint_over(action: Action) -> Joint:
    """All combinations of an action's choices; one object for equal actions."""
    return Joint(action)


def _traced() -> Any:
    import jax.numpy as jnp

    return jnp


def refuse_ranges(action: Action, method: str) -> None:
    """Raise `SettingError` where an action has a part that is no choice."""
    parts = action.parts if isinstance(action, Actions) else {"": action}
    for name, part in parts.items():
        if not isinstance(part, Choice):
            where = f"the part `{name}` of the action" if name else "the action"
            raise SettingError(
                f"`{method}` chooses among alternatives, and {where} is {part!r}. "
                f'Declare `action = jm.Choice("low", "high")`, or several in `jm.Actions(...)`.'
            )


class Joint:
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
        return [self.action.label(self.own(index)) for index in range(self.count)]

    def own(self, index: Any) -> Any:
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
