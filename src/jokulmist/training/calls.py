"""How an agent's functions are called on a plain lane where it has no pilot: each compiled by itself, or as they are."""

from __future__ import annotations

from typing import Any, Protocol

import numpy as np

from jokulmist.agents.protocol import Agent, Experience, Numbers, Shapes
from jokulmist.environments.actions import split
from jokulmist.environments.draws import Request
from jokulmist.lanes.protocol import Observed


class Calls(Protocol):
    """An agent's functions as the plain loop calls them. `noise` is a draw that already stands at its turn."""

    def fresh(self, numbers: Numbers, noise: Any) -> tuple[Any, Any]: ...

    def seen(self, observed: Observed) -> Any:
        """The observation in the form that `choose` takes."""
        ...

    def choose(
        self, numbers: Numbers, learner: Any, memory: Any, observed: Any, noise: Any, explore: bool
    ) -> tuple[Any, Any, Any]: ...

    def given(self, actions: Any) -> list[Any]:
        """The actions as a lane takes them: one a copy, in own form."""
        ...

    def stacked(self, turns: list[Experience]) -> Experience: ...

    def learn(
        self, numbers: Numbers, learner: Any, memory: Any, experience: Any, noise: Any
    ) -> tuple[Any, Any, Any]: ...


def calls_for(agent: Agent, shapes: Shapes) -> Calls:
    """The way to call an agent's functions on a plain lane."""
    return TracedCalls(agent, shapes) if agent.traced else ArrayCalls(agent, shapes)


class ArrayCalls:
    """An agent's functions over NumPy arrays, as they are written."""

    def __init__(self, agent: Agent, shapes: Shapes) -> None:
        self._kind = type(agent)
        self._shapes = shapes

    def fresh(self, numbers: Numbers, noise: Any) -> tuple[Any, Any]:
        return self._kind.fresh(self._shapes, numbers, noise)

    def seen(self, observed: Observed) -> Any:
        return observed.seen

    def choose(
        self, numbers: Numbers, learner: Any, memory: Any, observed: Any, noise: Any, explore: bool
    ) -> tuple[Any, Any, Any]:
        return self._kind.choose(self._shapes, numbers, learner, memory, observed, noise, explore)

    def given(self, actions: Any) -> list[Any]:
        return split(actions, self._shapes.copies)

    def stacked(self, turns: list[Experience]) -> Experience:
        return Experience(
            observed=_stacked([t.observed for t in turns]),
            actions=_stacked([t.actions for t in turns]),
            rewards=np.array([t.rewards for t in turns], np.float32),
            ended=np.array([t.ended for t in turns], bool),
            closed=np.array([t.closed for t in turns], bool),
            last=_stacked([t.last for t in turns]),
            following=_stacked([t.following for t in turns]),
            notes=_stacked([t.notes for t in turns]),
        )

    def learn(self, numbers: Numbers, learner: Any, memory: Any, experience: Any, noise: Any) -> tuple[Any, Any, Any]:
        return self._kind.learn(self._shapes, numbers, learner, memory, experience, noise)


def _stacked(trees: list[Any]) -> Any:
    first = trees[0]
    if isinstance(first, tuple):
        parts = [_stacked([tree[k] for tree in trees]) for k in range(len(first))]
        return type(first)(*parts) if hasattr(first, "_fields") else tuple(parts)
    if isinstance(first, dict):
        return {name: _stacked([tree[name] for tree in trees]) for name in first}
    if hasattr(first, "__dict__") and not hasattr(first, "shape"):
        return type(first)(**{name: _stacked([vars(tree)[name] for tree in trees]) for name in vars(first)})
    return np.stack([np.asarray(tree) for tree in trees])


class TracedCalls(ArrayCalls):
    """An agent's functions, each compiled by itself: one call a turn for all copies."""

    def __init__(self, agent: Agent, shapes: Shapes) -> None:
        super().__init__(agent, shapes)
        self._requests: dict[str, tuple[Request, ...]] = {}
        self._compiled: dict[Any, Any] = {}

    def _call(self, name: str, numbers: Numbers, noise: Any, *arguments: Any, explore: bool | None = None) -> Any:
        import jax
        import jax.numpy as jnp

        from jokulmist.environments.draws import CountingDraw, RowDraw

        kind, shapes = self._kind, self._shapes
        last = () if explore is None else (explore,)
        values = {n: np.float32(v) for n, v in vars(numbers).items()}
        key = (name, explore)
        if key not in self._compiled:
            counting = CountingDraw(jnp)
            jax.eval_shape(
                lambda v, a: getattr(kind, name)(shapes, Numbers(**v), *a, counting, *last), values, arguments
            )
            self._requests[name] = tuple(counting.requests)

            def run(v: Any, a: Any, rows: Any, one: Any) -> Any:
                return getattr(kind, name)(shapes, Numbers(**v), *a, RowDraw(jnp, rows, one), *last)

            self._compiled[key] = jax.jit(run)
        rows = [np.asarray(noise._take(r.kind, (r.width,))) for r in self._requests[name]]
        return self._compiled[key](values, arguments, rows, np.float32(1.0))

    def choose(
        self, numbers: Numbers, learner: Any, memory: Any, observed: Any, noise: Any, explore: bool
    ) -> tuple[Any, Any, Any]:
        chosen: tuple[Any, Any, Any] = self._call("choose", numbers, noise, learner, memory, observed, explore=explore)
        return chosen

    def given(self, actions: Any) -> list[Any]:
        import jax

        return split(jax.tree.map(np.asarray, actions), self._shapes.copies)

    def learn(self, numbers: Numbers, learner: Any, memory: Any, experience: Any, noise: Any) -> tuple[Any, Any, Any]:
        learned: tuple[Any, Any, Any] = self._call("learn", numbers, noise, learner, memory, experience)
        return learned
