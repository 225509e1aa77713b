"""Trees of arrays, without JAX: tuples, NamedTuples, dicts and records, as memories, notes and actions are made of."""

from __future__ import annotations

from typing import Any

import numpy as np


def replaced(where: np.ndarray[Any, Any], new: Any, old: Any) -> Any:
    """A tree of arrays with a leading axis of copies, some of which are taken from another."""
    if isinstance(old, tuple):
        parts = [replaced(where, a, b) for a, b in zip(new, old, strict=True)]
        return type(old)(*parts) if hasattr(old, "_fields") else tuple(parts)
    if isinstance(old, dict):
        return {name: replaced(where, new[name], old[name]) for name in old}
    if hasattr(old, "__dict__") and not hasattr(old, "shape"):
        return type(old)(**{name: replaced(where, vars(new)[name], vars(old)[name]) for name in vars(old)})
    old, new = np.asarray(old), np.asarray(new)
    return np.where(where.reshape((-1,) + (1,) * (old.ndim - 1)), new, old)
