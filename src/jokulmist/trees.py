"""Trees of arrays, without JAX: tuples, NamedTuples, dicts, lists and records, as memories, notes and learners are made
of."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np

from jokulmist.arrays import NumpyArray
from jokulmist.errors import RecordError


def flattened(tree: Any, prefix: str = "") -> dict[str, NumpyArray]:
    """The arrays of a tree of NamedTuples, dicts, lists and tuples, by path."""
    if tree is None:
        return {}
    if isinstance(tree, tuple) and hasattr(tree, "_fields"):
        items = list(zip(tree._fields, tree, strict=True))
    elif isinstance(tree, dict):
        items = [(str(name), part) for name, part in tree.items()]
    elif isinstance(tree, (tuple, list)):
        items = [(str(i), part) for i, part in enumerate(tree)]
    elif hasattr(tree, "__dict__") and not hasattr(tree, "shape"):
        items = list(vars(tree).items())
    else:
        return {prefix or "value": np.asarray(tree, order="C")}
    arrays: dict[str, NumpyArray] = {}
    for name, part in items:
        arrays.update(flattened(part, f"{prefix}/{name}" if prefix else name))
    return arrays


def filled(model: Any, arrays: dict[str, NumpyArray], prefix: str = "") -> Any:
    """A tree shaped like `model` with the arrays of `flattened` in it; where it has a Python number, so does the
    tree."""
    if model is None:
        return None
    if isinstance(model, tuple) and hasattr(model, "_fields"):
        parts = [filled(p, arrays, f"{prefix}/{n}" if prefix else n) for n, p in zip(model._fields, model, strict=True)]
        return type(model)(*parts)
    if isinstance(model, dict):
        return {n: filled(p, arrays, f"{prefix}/{n}" if prefix else str(n)) for n, p in model.items()}
    if isinstance(model, (tuple, list)):
        return type(model)(filled(p, arrays, f"{prefix}/{i}" if prefix else str(i)) for i, p in enumerate(model))
    if hasattr(model, "__dict__") and not hasattr(model, "shape"):
        twin = object.__new__(type(model))
        twin.__dict__.update({n: filled(p, arrays, f"{prefix}/{n}" if prefix else n) for n, p in vars(model).items()})
        return twin
    name = prefix or "value"
    if name not in arrays:
        raise RecordError(f"the checkpoint lacks `{name}`: it was written by another version of this agent.")
    array, wanted = arrays[name], np.shape(model)
    if array.shape != wanted:
        raise RecordError(f"`{name}` of the checkpoint has the shape {array.shape}; this agent needs {wanted}.")
    return array.item() if isinstance(model, (bool, int, float)) else array


def replaced(mask: NumpyArray, new: Any, old: Any) -> Any:
    """A tree of arrays with a leading axis of copies, or of one player's copies after another's, some of which are
    taken from another."""
    if isinstance(old, tuple):
        parts = [replaced(mask, a, b) for a, b in zip(new, old, strict=True)]
        return type(old)(*parts) if hasattr(old, "_fields") else tuple(parts)
    if isinstance(old, dict):
        return {name: replaced(mask, new[name], old[name]) for name in old}
    if hasattr(old, "__dict__") and not hasattr(old, "shape"):
        return type(old)(**{name: replaced(mask, vars(new)[name], vars(old)[name]) for name in vars(old)})
    old, new = np.asarray(old), np.asarray(new)
    rows = np.tile(mask, len(old) // len(mask))
    return np.where(rows.reshape((-1,) + (1,) * (old.ndim - 1)), new, old)


def below(arrays: dict[str, NumpyArray], prefix: str) -> dict[str, NumpyArray]:
    """The arrays whose path begins with a name, under the rest of it."""
    return {name[len(prefix) + 1 :]: array for name, array in arrays.items() if name.startswith(f"{prefix}/")}


def joined(trees: list[Any], join: Callable[[list[Any]], Any]) -> Any:
    """Trees of one shape as one; `join` makes one array of those that are in the same place."""
    first = trees[0]
    if first is None:
        return None
    if isinstance(first, np.ndarray):
        return join(trees)
    if isinstance(first, tuple):
        parts = [joined([tree[k] for tree in trees], join) for k in range(len(first))]
        return type(first)(*parts) if hasattr(first, "_fields") else tuple(parts)
    if isinstance(first, dict):
        return {name: joined([tree[name] for tree in trees], join) for name in first}
    if hasattr(first, "__dict__") and not hasattr(first, "shape"):
        return type(first)(**{name: joined([vars(tree)[name] for tree in trees], join) for name in vars(first)})
    return join([np.asarray(tree) for tree in trees])
