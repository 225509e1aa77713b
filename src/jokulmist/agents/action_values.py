"""What methods share that hold a value for each action: choosing, masks, labels."""

from __future__ import annotations

from typing import Any

import numpy as np

from jokulmist.environments.spaces.channels import Spec
from jokulmist.environments.spaces.legal import draw_legal
from jokulmist.errors import SettingError
from jokulmist.learning.action_distributions import LOW, joint_over

MOST_COMBINATIONS = 4096


def refuse_combinations(method: str, count: int, most: int = MOST_COMBINATIONS) -> None:
    """Raise `SettingError` where choices have too many combinations."""
    if count > most:
        raise SettingError(
            f"`{method}` has a value for each combination of choices, and there are {count:,}; at most "
            f"{most:,} are allowed. Use `PPO`, which treats each choice by itself."
        )


def masked_values(spec: Spec, values: Any, legal: Any) -> Any:
    """Values with a finite low one for what is not allowed; shape ``(..., actions)``."""
    if not legal:
        return values
    allowed = joint_over(spec.action).legal(legal)
    if allowed is None:
        return values
    if isinstance(values, np.ndarray):
        return np.where(allowed, values, LOW)
    import jax.numpy as jnp

    return jnp.where(allowed, values, LOW)


def chosen_index(config: Any, values: Any, legal: Any, noise: Any, exploration: Any) -> Any:
    """The best action of each copy, or with a chance of `exploration` any that is allowed; None for the best alone."""
    xp = noise.xp
    best = values.argmax(axis=1).astype("int32")
    if exploration is None:
        return best
    u = noise.uniform(shape=(2, config.copies))
    joint = config.joint
    allowed = joint.legal(legal)
    if allowed is None:
        any_action = xp.minimum(xp.floor(u[1] * joint.count), joint.count - 1).astype("int32")
    else:
        any_action = draw_legal(xp, allowed, u[1]).astype("int32")
    return xp.where(u[0] < exploration, any_action, best)


def by_label(spec: Spec, values: Any) -> dict[str, Any]:
    """Values of shape ``(rows, actions)`` by the label of the action, or of the combination; one a row."""
    return dict(zip(joint_over(spec.action).labels, np.asarray(values).T, strict=True))
