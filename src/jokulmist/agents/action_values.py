"""What methods share that hold a value for each action: choosing, masks, labels."""

from __future__ import annotations

from typing import Annotated, Any

import numpy as np
from pydantic import BeforeValidator, PlainSerializer

from jokulmist.agents.configs import ChoiceConfig
from jokulmist.arrays import Array
from jokulmist.environments.chance.draws import Draw
from jokulmist.environments.spaces.channels import ObservationBatch, Spec
from jokulmist.environments.spaces.legal import draw_legal
from jokulmist.errors import SettingError
from jokulmist.learning.action_distributions import LOW, joint_over
from jokulmist.loading import function_setting, name_of

MOST_COMBINATIONS = 4096


def refuse_combinations(method: str, count: int, most: int = MOST_COMBINATIONS) -> None:
    """Raise `SettingError` where choices have too many combinations."""
    if count > most:
        raise SettingError(
            f"`{method}` has a value for each combination of choices, and there are {count:,}; at most "
            f"{most:,} are allowed. Use `PPO`, which treats each choice by itself."
        )


def masked_values(spec: Spec, values: Array, legal: Any) -> Array:
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


def _read_explorer(value: Any) -> Any:
    if value is None or callable(value):
        return value
    if isinstance(value, str) and ":" in value:
        return function_setting(value)
    raise ValueError('must be a function (observed, best, probabilities, draw) -> action, in a plan "file.py:name"')


Explorer = Annotated[
    Any, BeforeValidator(_read_explorer), PlainSerializer(lambda value: None if value is None else name_of(value))
]


def explored_index(
    config: ChoiceConfig, observed: ObservationBatch, best: Any, probabilities: Any, allowed: Any, noise: Draw
) -> Any:
    """What a function of the user's own explores, one action a copy; the best where that is not allowed."""
    xp, explorer = noise.xp, config.explorer
    assert explorer is not None
    try:
        index = xp.asarray(explorer(observed, best, probabilities, noise))
    except Exception as failure:  # whatever the user's function raises
        raise SettingError(
            f"the function `{name_of(explorer)}` failed: {type(failure).__name__}: {failure}. It is called with "
            "(observed, best, probabilities, draw), whose arrays have a row a copy, and gives an action for each."
        ) from failure
    if index.shape != best.shape or index.dtype.kind not in "iu":
        raise SettingError(
            f"the function `{name_of(explorer)}` gave {index.dtype} of shape {tuple(index.shape)}; it must give "
            f"whole numbers of shape {tuple(best.shape)}, the index of an action for each copy."
        )
    index = xp.clip(index, 0, config.joint.count - 1).astype("int32")
    if allowed is None:
        return index
    return xp.where(xp.take_along_axis(allowed, index[:, None], axis=1)[:, 0], index, best)


def chosen_index(config: ChoiceConfig, values: Any, observed: ObservationBatch, noise: Draw, exploration: Any) -> Any:
    """The best action of each copy, or with a chance of `exploration` any that is allowed; None for the best alone."""
    xp = noise.xp
    best = values.argmax(axis=1).astype("int32")
    if exploration is None:
        return best
    joint = config.joint
    allowed = joint.legal(observed.legal)
    if config.explorer is not None:
        able = xp.ones(values.shape, bool) if allowed is None else allowed
        any_action = able / able.sum(axis=1, keepdims=True)
        is_best = xp.arange(joint.count) == best[:, None]
        probabilities = exploration * any_action + (1.0 - exploration) * is_best
        return explored_index(config, observed, best, probabilities, allowed, noise)
    u = noise.uniform(shape=(2, config.copies))
    if allowed is None:
        any_action = xp.minimum(xp.floor(u[1] * joint.count), joint.count - 1).astype("int32")
    else:
        any_action = draw_legal(xp, allowed, u[1]).astype("int32")
    return xp.where(u[0] < exploration, any_action, best)


def by_label(spec: Spec, values: Any) -> dict[str, Any]:
    """Values of shape ``(rows, actions)`` by the label of the action, or of the combination; one a row."""
    return dict(zip(joint_over(spec.action).labels, np.asarray(values).T, strict=True))
