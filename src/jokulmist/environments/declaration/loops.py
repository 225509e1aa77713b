"""Loops, writes and slices that work in both ways of running.

Plain, they are Python and NumPy. When the values are traced, the compiled lane's own loops take over; it registers
them here, so that this package need not know them.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, Protocol

import numpy as np

from jokulmist.errors import BrokenEnvironment


class LoopPrimitives(Protocol):
    """What a way of compiling offers in place of Python's loops."""

    def traces(self, value: Any) -> bool:
        """Whether a value (a number, an array, a state, or a tuple or dict of them) is traced."""
        ...

    def repeat(self, start: int, n: Any, body: Callable[[Any, Any], Any], value: Any) -> Any: ...

    def repeat_until(self, done: Callable[[Any], Any], body: Callable[[Any], Any], value: Any, at_most: int) -> Any: ...

    def replace_item(self, array: Any, index: Any, value: Any) -> Any: ...

    def slice_array(self, array: Any, at: tuple[Any, ...], shape: tuple[int, ...]) -> Any: ...


_TRACED: list[LoopPrimitives] = []


def register(loops: LoopPrimitives) -> None:
    """Make a way of compiling known; done once, when its module is first imported."""
    _TRACED.append(loops)


def _tracer(*values: Any) -> LoopPrimitives | None:
    return next((loops for loops in _TRACED if any(loops.traces(value) for value in values)), None)


def repeat(n: Any, body: Callable[[Any, Any], Any], value: Any) -> Any:
    """``for i in range(n): value = body(i, value)``.

    Parameters
    ----------
    n : int
        How often; may be computed.
    body : callable
        Takes the turn's number and the value, returns the value, of the same shape and type.
    value : number, array, State, or a tuple or dict of them

    Examples
    --------
    >>> repeat(4, lambda i, total: total + i, 0)
    6
    """
    start = 0
    while True:
        loops = _tracer(n, value)
        if loops is not None:
            return loops.repeat(start, n, body, value)
        if start >= n:
            return value
        value = body(start, value)
        start += 1


def repeat_until(done: Callable[[Any], Any], body: Callable[[Any], Any], value: Any, *, at_most: int) -> Any:
    """``while not done(value): value = body(value)``, at most `at_most` times.

    Examples
    --------
    >>> repeat_until(lambda x: x > 100, lambda x: 2 * x, 3, at_most=50)
    192
    """
    for turn in range(at_most):
        finished = done(value)
        loops = _tracer(value, finished)
        if loops is not None:
            return loops.repeat_until(done, body, value, at_most - turn)
        if finished:
            return value
        value = body(value)
    return value


def replace_item(array: Any, index: Any, value: Any) -> Any:
    """A copy of `array` with ``array[index] = value``.

    Examples
    --------
    >>> replace_item(np.zeros(3), 1, 5.0)
    array([0., 5., 0.])
    """
    loops = _tracer(array, index, value)
    if loops is not None:
        return loops.replace_item(array, index, value)
    changed = np.array(array)
    changed[index] = value
    return changed


def slice_array(array: Any, at: Any, shape: int | tuple[int, ...]) -> Any:
    """The block of `array` that begins at index `at` and has `shape`; moved inside where it would stick out.

    Examples
    --------
    >>> slice_array(np.arange(10), 8, 4)
    array([6, 7, 8, 9])
    """
    sizes = (shape,) if isinstance(shape, int) else tuple(shape)
    starts = tuple(at) if isinstance(at, (tuple, list)) else (at,)
    if len(sizes) != np.ndim(array) or len(starts) != len(sizes):
        raise BrokenEnvironment(
            f"`jm.slice_array` needs a start and a size for each of {np.ndim(array)} axes; got at={at!r}, "
            f"shape={shape!r}."
        )
    loops = _tracer(array, *starts)
    if loops is not None:
        return loops.slice_array(array, starts, sizes)
    inside = [
        slice(first, first + size)
        for first, size, length in (
            (max(0, min(int(s), length - size)), size, length)
            for s, size, length in zip(starts, sizes, np.shape(array), strict=True)
        )
    ]
    return np.asarray(array)[tuple(inside)]
