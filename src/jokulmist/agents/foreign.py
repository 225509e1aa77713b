"""What is checked of agents that do not ship: that no override is ignored, and that their actions exist."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np

from jokulmist.agents.configs import Config
from jokulmist.agents.contract import Agent, hyperparameters_at
from jokulmist.arrays import Array
from jokulmist.environments.chance.draws import PlainDraw
from jokulmist.environments.chance.noise import Domain, Noise, Stream
from jokulmist.environments.spaces.actions import Action, Actions, Choice
from jokulmist.errors import BrokenEnvironment, SettingError, listed
from jokulmist.loading import ships


def refuse_foreign(agent: Agent, config: Config) -> None:
    """Raise `SettingError` where an agent of a user's own lacks a function, or begins with what could not be saved.

    It is told before a training: else it would come to light at the first checkpoint, after hours.
    """
    kind = type(agent)
    if ships(kind):
        return
    missing = [name for name in ("fresh_learner", "choose", "learn") if getattr(kind, name) is getattr(Agent, name)]
    if missing:
        raise SettingError(
            f"`{kind.__name__}` has no {listed(missing)}; an agent of your own writes `fresh_learner`, `choose` and "
            "`learn`, see docs/methods.md."
        )
    draw = PlainDraw(Noise(0, 1, Domain.CHECK), Stream.FRESH).for_step(0, 0)
    hyperparameters = hyperparameters_at(agent.schedules())
    _refuse_unsaved(f"`{kind.__name__}.fresh_learner`", "learner", kind.fresh_learner(config, hyperparameters, draw))
    _refuse_unsaved(f"`{kind.__name__}.fresh_memory`", "memory", kind.fresh_memory(config, hyperparameters))


def _refuse_unsaved(method: str, path: str, tree: Any) -> None:
    if tree is None:
        return
    if isinstance(tree, dict):
        parts = list(tree.items())
    elif isinstance(tree, tuple):
        parts = list(zip(getattr(tree, "_fields", map(str, range(len(tree)))), tree, strict=True))
    elif hasattr(tree, "dtype") or isinstance(tree, (bool, int, float)):
        if np.asarray(tree).dtype.kind not in "biufV":  # V: numbers of few bits, as JAX has them
            raise SettingError(
                f"{method} gave `{path}` as an array of {np.asarray(tree).dtype}, which cannot be saved. Use numbers."
            )
        return
    else:
        import jax

        leaves = jax.tree.leaves(tree)
        if len(leaves) == 1 and leaves[0] is tree:
            raise SettingError(
                f"{method} gave `{path}` as {type(tree).__name__}, which cannot be saved. A learner and a memory are "
                "arrays, in tuples, NamedTuples and dicts; make the rest from the settings."
            )
        return
    for name, part in parts:
        _refuse_unsaved(method, f"{path}.{name}", part)


def three(kind: type[Agent], name: str, values: Any) -> tuple[Any, Any, Any]:
    """What `choose` or `learn` gave, if it is what they give."""
    if ships(kind):
        triple: tuple[Any, Any, Any] = values
        return triple
    wanted = "(actions, memory, policy_extras)" if name == "choose" else "(learner, memory, readings)"
    if not isinstance(values, tuple) or len(values) != 3:
        got = f"{len(values)} values" if isinstance(values, tuple) else type(values).__name__
        raise BrokenEnvironment(f"`{kind.__name__}.{name}` gave {got}; it gives three, {wanted}.")
    if name == "learn" and (not isinstance(values[2], (tuple, list)) or len(values[2]) != len(kind.reading_names)):
        count = len(values[2]) if isinstance(values[2], (tuple, list)) else 1
        raise BrokenEnvironment(
            f"`{kind.__name__}.learn` gave {count} reading{'' if count == 1 else 's'}; `reading_names` has "
            f"{len(kind.reading_names)}: {listed(kind.reading_names)}."
        )
    return values


def twin_holds(kind: type[Agent], twin: str, *functions: str) -> bool:
    """Whether a twin of some functions still does what they do: a class of a user's own that overrides one of them has
    no twin."""
    declared = next(k for k, cls in enumerate(kind.__mro__) if twin in vars(cls))
    return not any(name in vars(cls) for cls in kind.__mro__[:declared] if not ships(cls) for name in functions)


def refuse_foreign_actions(kind: type[Agent], action: Action, actions: Sequence[Any], copies: int) -> None:
    """Raise `BrokenEnvironment` where an agent of a user's own gives what the environment does not have."""
    name = f"`{kind.__name__}.choose`"
    if np.ndim(actions) == 0:
        raise BrokenEnvironment(
            f"{name} gave {actions!r} for {copies} copies. Give one action a copy, in a leading axis."
        )
    if len(actions) != copies:
        raise BrokenEnvironment(
            f"{name} gave {len(actions)} actions for {copies} copies. Give one a copy, in a leading axis."
        )
    for copy, native in enumerate(actions):
        for part, value in (
            ((getattr(native, n), p) for n, p in action.parts.items())
            if isinstance(action, Actions)
            else ((native, action),)
        ):
            _refuse_foreign(name, copy, part, value)


def _refuse_foreign(name: str, copy: int, native: Any, part: Any) -> None:
    array = np.asarray(native)
    if isinstance(part, Choice):
        if array.shape != () or array.dtype.kind not in "iu" or not 0 <= int(array) < part.count:
            raise BrokenEnvironment(
                f"{name} gave {native!r} in copy {copy}; a choice among {part.count} is a whole number from 0 to "
                f"{part.count - 1}."
            )
    elif array.shape != part.shape or array.dtype.kind not in "iuf" or not np.isfinite(array).all():
        raise BrokenEnvironment(
            f"{name} gave {native!r} in copy {copy}; the range takes finite numbers of shape {part.shape}."
        )


def outside(action: Action, actions: Array) -> Array:
    """The copies in which a traced action is none that the environment has; bool of shape ``(copies,)``."""
    import jax.numpy as jnp

    if isinstance(action, Actions):
        return jnp.stack([outside(part, getattr(actions, name)) for name, part in action.parts.items()]).any(axis=0)
    if isinstance(action, Choice):
        return (actions < 0) | (actions >= action.count)
    return ~jnp.isfinite(actions).reshape(actions.shape[0], -1).all(axis=1)
