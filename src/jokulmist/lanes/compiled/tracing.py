"""What JAX must be told of states, actions and loops, so that an environment's methods can be traced."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import jax
import jax.numpy as jnp
from jax import lax

from jokulmist.environments.declaration import loops
from jokulmist.environments.declaration.state import State
from jokulmist.environments.spaces.actions import Actions, Choice, Record

_REGISTERED: set[type] = set()


def register_state(cls: type[State]) -> None:
    """Make a state class a pytree: its fields, in order."""
    if cls in _REGISTERED:
        return
    names = tuple(cls._fields)

    def flatten(state: State) -> tuple[tuple[Any, ...], None]:
        return tuple(state.__dict__[name] for name in names), None

    def unflatten(_: None, values: Any) -> State:
        state = object.__new__(cls)
        state.__dict__.update(zip(names, values, strict=True))
        return state

    jax.tree_util.register_pytree_node(cls, flatten, unflatten)
    _REGISTERED.add(cls)


def action_like(action: Any) -> Any:
    """A stand-in for an action, for tracing."""
    if isinstance(action, Actions):
        return Record(**{name: action_like(part) for name, part in action.parts.items()})
    if isinstance(action, Choice):
        return jax.ShapeDtypeStruct((), jnp.int32)  # type: ignore[no-untyped-call]
    return jax.ShapeDtypeStruct(action.shape, jnp.float32)  # type: ignore[no-untyped-call]


class TracedLoops:
    """The traced loops of JAX, as `environments.loops` asks for them."""

    def traces(self, value: Any) -> bool:
        return any(isinstance(leaf, jax.core.Tracer) for leaf in jax.tree.leaves(value))

    def repeat(self, start: int, n: Any, body: Callable[[Any, Any], Any], value: Any) -> Any:
        return lax.fori_loop(start, n, lambda i, v: _like(body(i, v), v), self._arrays(value))

    def repeat_until(self, done: Callable[[Any], Any], body: Callable[[Any], Any], value: Any, at_most: int) -> Any:
        start = (jnp.int32(0), self._arrays(value))
        return lax.while_loop(
            lambda turn: (turn[0] < at_most) & ~jnp.asarray(done(turn[1]), dtype=bool),
            lambda turn: (turn[0] + 1, _like(body(turn[1]), turn[1])),
            start,
        )[1]

    def replace_item(self, array: Any, index: Any, value: Any) -> Any:
        return jnp.asarray(array).at[index].set(value)

    def slice_array(self, array: Any, at: tuple[Any, ...], shape: tuple[int, ...]) -> Any:
        return lax.dynamic_slice(jnp.asarray(array), [jnp.int32(start) for start in at], shape)

    def _arrays(self, value: Any) -> Any:
        return jax.tree.map(lambda leaf: lax.convert_element_type(jnp.asarray(leaf), jnp.asarray(leaf).dtype), value)


def _like(value: Any, model: Any) -> Any:
    """The value in the types of the loop's first value: a loop must give back what it takes."""
    return jax.tree.map(lambda new, old: lax.convert_element_type(jnp.asarray(new), old.dtype), value, model)


loops.register(TracedLoops())
