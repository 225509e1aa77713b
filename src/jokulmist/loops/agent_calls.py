"""How an agent's functions are called on a plain lane where it has no scalar agent: each compiled by itself, or as they
are."""

from __future__ import annotations

import math
from typing import Any, Protocol

import numpy as np

from jokulmist.agents.configs import Config, Hyperparameters
from jokulmist.agents.contract import Agent, Experience
from jokulmist.agents.foreign import refuse_foreign_actions, three, twin_holds
from jokulmist.arrays import Array
from jokulmist.environments.chance.draws import Draw, Request
from jokulmist.environments.spaces.actions import Actions, split
from jokulmist.environments.spaces.channels import ObservationBatch
from jokulmist.lanes.protocol import Observed
from jokulmist.loading import ships
from jokulmist.trees import filled, joined


class Calls(Protocol):
    """An agent's functions as the plain loop calls them. `noise` is a draw that already stands at its turn."""

    def fresh_learner(self, hyperparameters: Hyperparameters, noise: Any) -> Any: ...

    def fresh_memory(self, hyperparameters: Hyperparameters) -> Any: ...

    def seen(self, observed: Observed) -> Any:
        """The observation in the form that `choose` takes."""
        ...

    def choose(
        self, hyperparameters: Hyperparameters, learner: Any, memory: Any, observed: Any, noise: Any, explore: bool
    ) -> tuple[Any, Any, Any]: ...

    def native_actions(self, actions: Any) -> list[Any]:
        """The actions as a lane takes them: one a copy, in own form."""
        ...

    def placed(self, learner: Any) -> Any:
        """A learner that does not change any more, where `choose` reads it."""
        ...

    def stacked(self, turns: list[Experience]) -> Experience: ...

    def learn(
        self, hyperparameters: Hyperparameters, learner: Any, memory: Any, experience: Any, noise: Any
    ) -> tuple[Any, Any, Any]: ...

    def restored(self, model: Any, arrays: dict[str, Any], prefix: str) -> Any:
        """A learner or a memory as it was saved, in the form of another."""
        ...


def calls_for(agent: Agent, config: Config) -> Calls:
    """The way to call an agent's functions on a plain lane."""
    return TracedCalls(agent, config) if agent.traced else ArrayCalls(agent, config)


class ArrayCalls:
    """An agent's functions over NumPy arrays, as they are written."""

    def __init__(self, agent: Agent, config: Config) -> None:
        self._kind = type(agent)
        self._config = config
        self._foreign = not ships(self._kind)

    def fresh_learner(self, hyperparameters: Hyperparameters, noise: Draw) -> Any:
        return self._kind.fresh_learner(self._config, hyperparameters, noise)

    def fresh_memory(self, hyperparameters: Hyperparameters) -> Any:
        return self._kind.fresh_memory(self._config, hyperparameters)

    def seen(self, observed: Observed) -> ObservationBatch:
        return observed.seen

    def choose(
        self,
        hyperparameters: Hyperparameters,
        learner: Any,
        memory: Any,
        observed: ObservationBatch,
        noise: Draw,
        explore: bool,
    ) -> tuple[Any, Any, Any]:
        chosen = self._kind.choose(self._config, hyperparameters, learner, memory, observed, noise, explore)
        return three(self._kind, "choose", chosen)

    def native_actions(self, actions: Any) -> list[Any]:
        if self._foreign and not isinstance(self._config.spec.action, Actions) and np.ndim(actions) == 0:
            refuse_foreign_actions(self._kind, self._config.spec.action, actions, self._config.copies)
        actions_of_copies = split(actions, self._config.copies)
        if self._foreign:
            refuse_foreign_actions(self._kind, self._config.spec.action, actions_of_copies, self._config.copies)
        return actions_of_copies

    def placed(self, learner: Any) -> Any:
        return learner

    def stacked(self, turns: list[Experience]) -> Experience:
        return Experience(
            observed=_stacked([t.observed for t in turns]),
            actions=_stacked([t.actions for t in turns]),
            rewards=np.array([t.rewards for t in turns], np.float32),
            ended=np.array([t.ended for t in turns], bool),
            closed=np.array([t.closed for t in turns], bool),
            last=_stacked([t.last for t in turns]),
            following=_stacked([t.following for t in turns]),
            policy_extras=_stacked([t.policy_extras for t in turns]),
            broken=_stacked([t.broken for t in turns]),
            advances=_stacked([t.advances for t in turns]),
        )

    def restored(self, model: Any, arrays: dict[str, Any], prefix: str) -> Any:
        return _written_into(model, filled(model, arrays, prefix))

    def learn(
        self, hyperparameters: Hyperparameters, learner: Any, memory: Any, experience: Experience, noise: Draw
    ) -> tuple[Any, Any, Any]:
        learned = self._kind.learn(self._config, hyperparameters, learner, memory, experience, noise)
        return three(self._kind, "learn", learned)


def _stacked(trees: list[Any]) -> Any:
    return joined(trees, lambda arrays: arrays[0][None] if len(arrays) == 1 else np.stack(arrays))


def as_numpy(tree: Any) -> Any:
    """A tree with NumPy arrays in it."""
    return joined([tree], lambda arrays: arrays[0])


def _written_into(model: Any, tree: Any) -> Any:
    """The tree; arrays that someone else holds, too, such as the table of a scalar agent, are written over instead."""
    if isinstance(model, np.ndarray) and model.flags.writeable:
        model[...] = tree
        return model
    if isinstance(model, tuple):
        parts = [_written_into(a, b) for a, b in zip(model, tree, strict=True)]
        return type(model)(*parts) if hasattr(model, "_fields") else tuple(parts)
    if isinstance(model, dict):
        return {name: _written_into(part, tree[name]) for name, part in model.items()}
    return tree


class TracedCalls(ArrayCalls):
    """An agent's functions, each compiled by itself: one call a turn for all copies.

    Handing an argument over costs microseconds, so the settings and the noise go as one array each, and `choose` is
    given only what a policy needs of the learner. `learn` may write over the learner: replay memory would else be
    copied.
    """

    def __init__(self, agent: Agent, config: Config) -> None:
        super().__init__(agent, config)
        from jokulmist.lanes.compiled.backend import start_backend

        start_backend()  # before any array is made, and any action of several parts is looked into
        self._requests: dict[Any, tuple[Request, ...]] = {}
        self._compiled: dict[Any, Any] = {}
        self._by_numpy = twin_holds(type(agent), "chooses_by_numpy", "choose") and agent.chooses_by_numpy(config)
        self._packing: Packing | None = None
        self._learner: Any = None
        self._learned: Any = None

    def _call(
        self,
        name: str,
        hyperparameters: Hyperparameters,
        noise: Draw,
        owned: Any,
        *arguments: Any,
        explore: bool | None = None,
    ) -> Any:
        key = (name, explore)
        values = vars(hyperparameters)
        if key not in self._compiled:
            self._compile(key, tuple(values), owned, arguments)
        rows = [noise._take(r.kind, (r.width,)) for r in self._requests[key]]
        joined = rows[0] if len(rows) == 1 else np.concatenate(rows) if rows else np.zeros(0, np.float32)
        settings = np.array([*values.values(), 1.0], np.float32)
        return self._compiled[key](owned, settings, joined, arguments)

    def _compile(self, key: Any, names: tuple[str, ...], owned: Any, arguments: Any) -> None:
        import jax
        import jax.numpy as jnp

        from jokulmist.environments.chance.draws import CountingDraw, RowDraw

        name, explore = key
        unpacked = self._packing.unpacked if name == "learn" and self._packing is not None else None
        function, config = getattr(self._kind, name), self._config
        last = () if explore is None else (explore,)
        counting = CountingDraw(jnp)
        settings = jax.ShapeDtypeStruct((len(names) + 1,), jnp.float32)  # type: ignore[no-untyped-call]

        def named(settings: Array) -> Hyperparameters:
            return Hyperparameters(**{name: settings[k] for k, name in enumerate(names)})

        def arrays_of(arguments: Any) -> Any:
            return arguments if unpacked is None else (unpacked(arguments[0]),)

        jax.eval_shape(
            lambda s, o, a: function(config, named(s), *o, *arrays_of(a), counting, *last), settings, owned, arguments
        )
        self._requests[key] = requests = tuple(counting.requests)

        def run(owned: Any, settings: Array, joined: Array, arguments: Any) -> Any:
            rows, start = [], 0
            for request in requests:
                rows.append(joined[start : start + request.width])
                start += request.width
            draw = RowDraw(jnp, rows, settings[-1])
            result = three(
                self._kind, name, function(config, named(settings), *owned, *arrays_of(arguments), draw, *last)
            )
            if name == "learn":  # the readings as one array: one thing to hand back
                learner, memory, readings = result
                return learner, memory, jnp.stack(readings) if readings else jnp.zeros(0)
            return result

        self._compiled[key] = jax.jit(run, donate_argnums=(0,) if name == "learn" else ())

    def choose(
        self,
        hyperparameters: Hyperparameters,
        learner: Any,
        memory: Any,
        observed: ObservationBatch,
        noise: Draw,
        explore: bool,
    ) -> tuple[Any, Any, Any]:
        if self._by_numpy:
            if learner is not self._learner:
                self._learner, self._learned = learner, as_numpy(self._kind.policy_state(learner))
            by_numpy: tuple[Any, Any, Any] = self._kind.choose(
                self._config, hyperparameters, self._learned, memory, observed, noise, explore
            )
            return by_numpy
        needed = (self._kind.policy_state(learner), memory)
        chosen: tuple[Any, Any, Any] = self._call("choose", hyperparameters, noise, needed, observed, explore=explore)
        return chosen

    def native_actions(self, actions: Any) -> list[Any]:
        if not self._by_numpy:
            import jax

            actions = jax.tree.map(np.asarray, actions)
        return super().native_actions(actions)

    def placed(self, learner: Any) -> Any:
        if self._by_numpy:
            return learner
        import jax

        return jax.device_put(self._kind.policy_state(learner))  # a table of NumPy would be copied at every call

    def learn(
        self, hyperparameters: Hyperparameters, learner: Any, memory: Any, experience: Experience, noise: Draw
    ) -> tuple[Any, Any, Array]:
        import jax

        leaves, tree = jax.tree.flatten(experience)
        if self._packing is None:
            self._packing = Packing(tree, [(leaf.shape, leaf.dtype) for leaf in leaves])
        packed = self._packing.packed(leaves)
        learned: tuple[Any, Any, Any] = self._call("learn", hyperparameters, noise, (learner, memory), packed)
        return learned


class Packing:
    """Many small arrays as one, and back: whole numbers and flags travel as floats, which hold them exactly."""

    def __init__(self, tree: Any, kinds: list[tuple[tuple[int, ...], Any]]) -> None:
        self._tree = tree
        self._kinds = kinds
        self._image_places = [k for k, (_, dtype) in enumerate(kinds) if dtype == np.uint8]

    def packed(self, leaves: list[Any]) -> tuple[Any, list[Any]]:
        """All but the images in one float32 vector, and the images."""
        together = [leaf.ravel() for k, leaf in enumerate(leaves) if k not in self._image_places]
        return np.concatenate(together, dtype=np.float32, casting="unsafe"), [leaves[k] for k in self._image_places]

    def unpacked(self, packed: tuple[Any, list[Any]]) -> Any:
        """The tree again, from traced arrays."""
        import jax

        vector, image_leaves = packed
        rest, leaves, start = iter(image_leaves), [], 0
        for k, (shape, dtype) in enumerate(self._kinds):
            if k in self._image_places:
                leaves.append(next(rest))
                continue
            size = math.prod(shape)
            part = vector[start : start + size].reshape(shape)
            leaves.append(part > 0.5 if dtype.kind == "b" else part.astype(dtype))
            start += size
        return jax.tree.unflatten(self._tree, leaves)
