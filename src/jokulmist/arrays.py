"""Types of arrays, for annotations."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, TypeAlias

import numpy as np

if TYPE_CHECKING:
    from jax import Array
else:  # so that a process that needs no compiler does not load it
    Array = Any

# Of NumPy, whatever its shape and type. What is traced, or may be either, is an `Array`.
NumpyArray: TypeAlias = np.ndarray[Any, Any]

__all__ = ["Array", "NumpyArray"]
