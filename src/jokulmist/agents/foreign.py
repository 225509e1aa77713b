"""What is checked of agents that do not ship: that no override is ignored, and that their actions exist."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np

from jokulmist.agents.contract import Agent
from jokulmist.environments.spaces.actions import Action, Actions, Choice
from jokulmist.errors import BrokenEnvironment
from jokulmist.loading import ships


def twin_holds(kind: type[Agent], twin: str, *functions: str) -> bool:
    """Whether a twin of some functions still does what they do: a class of a user's own that overrides one of them has no twin."""
    declared = next(k for k, cls in enumerate(kind.__mro__) if twin in vars(cls))
    return not any(name in vars(cls) for cls in kind.__mro__[:declared] if not ships(cls) for name in functions)


def refuse_foreign_actions(kind: type[Agent], action: Action, given: Sequence[Any], copies: int) -> None:
    """Raise `BrokenEnvironment` where an agent of a user's own gives what the environment does not have."""
    name = f"`{kind.__name__}.choose`"
    if len(given) != copies:
        raise BrokenEnvironment(
            f"{name} gave {len(given)} actions for {copies} copies. Give one a copy, in a leading axis."
        )
    for copy, own in enumerate(given):
        for part, value in (
            ((getattr(own, n), p) for n, p in action.parts.items()) if isinstance(action, Actions) else ((own, action),)
        ):
            _refuse_foreign(name, copy, part, value)


def _refuse_foreign(name: str, copy: int, own: Any, part: Any) -> None:
    array = np.asarray(own)
    if isinstance(part, Choice):
        if array.shape != () or array.dtype.kind not in "iu" or not 0 <= int(array) < part.count:
            raise BrokenEnvironment(
                f"{name} gave {own!r} in copy {copy}; a choice among {part.count} is a whole number from 0 to {part.count - 1}."
            )
    elif array.shape != part.shape or array.dtype.kind not in "iuf" or not np.isfinite(array).all():
        raise BrokenEnvironment(
            f"{name} gave {own!r} in copy {copy}; the range takes finite numbers of shape {part.shape}."
        )


def outside(action: Action, given: Any) -> Any:
    """The copies in which a traced action is none that the environment has; bool of shape ``(copies,)``."""
    import jax.numpy as jnp

    if isinstance(action, Actions):
        return jnp.stack([outside(part, getattr(given, name)) for name, part in action.parts.items()]).any(axis=0)
    if isinstance(action, Choice):
        return (given < 0) | (given >= action.count)
    return ~jnp.isfinite(given).reshape(given.shape[0], -1).all(axis=1)
