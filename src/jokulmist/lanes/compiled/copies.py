"""An environment as pure functions over all copies, traced by JAX.

The same class that runs plain is given a twin whose ``xp`` is ``jax.numpy`` and whose number parameters are traced, and
its methods are mapped over copies. What this module offers is functions, not a loop: the training loop joins them with
an agent's functions into one program.
"""

from __future__ import annotations

from collections.abc import Callable
from functools import cached_property
from typing import Any, NamedTuple

import jax
import jax.numpy as jnp
import numpy as np
from jax import lax

from jokulmist.arrays import Array
from jokulmist.environments.chance.draws import CountingDraw, Draw, Request, RowDraw
from jokulmist.environments.declaration.description import Description
from jokulmist.environments.declaration.instance import describe, outline_of
from jokulmist.environments.declaration.outline import DEADLINE, TIME_LIMIT
from jokulmist.environments.declaration.state import State, zero_of
from jokulmist.environments.environment import Environment
from jokulmist.environments.modifiers import ChannelValues, Surroundings
from jokulmist.environments.spaces.legal import Mask, mask_from
from jokulmist.environments.transition.stepping import not_a_truth_value
from jokulmist.environments.transition.waiting import KEY_REQUESTS, WaitDraw
from jokulmist.errors import BrokenEnvironment
from jokulmist.lanes.compiled.backend import start_backend
from jokulmist.lanes.compiled.computed import computed_by
from jokulmist.lanes.compiled.requests import Requests
from jokulmist.lanes.compiled.tracing import action_like, register_state


class Advanced(NamedTuple):
    """What one advance of all copies gave: one array over copies for each term and measure."""

    after: Any
    terms: tuple[Any, ...]
    measures: tuple[Any, ...]
    satisfied: Any


class CompiledEnvironment:
    """The pure functions of one environment."""

    def __init__(self, environment: Environment) -> None:
        start_backend()
        register_state(type(environment).State)
        self.environment = environment
        self.description: Description = describe(environment)
        self._outline = outline_of(type(environment))

    @cached_property
    def numbers(self) -> dict[str, Any]:
        """The parameters that are leaves of the program, and the weights under the key ``"weights"``."""
        env = self.environment
        values = {p.name: np.asarray(getattr(env, p.name)) for p in self._outline.parameters if not p.fixed}
        narrow = {"f": np.float32, "i": np.int32, "b": np.bool_}
        leaves: dict[str, Any] = {name: value.astype(narrow[value.dtype.kind]) for name, value in values.items()}
        leaves["weights"] = np.asarray(self.description.shares or self.description.weights, np.float32)
        return leaves

    @property
    def static_key(self) -> tuple[Any, ...]:
        """What decides the program beside the leaves: instances that share it share the compiled code."""
        env, d = self.environment, self.description
        fixed = tuple((p.name, getattr(env, p.name)) for p in self._outline.parameters if p.fixed)
        return (
            type(env),
            fixed,
            d.deadline,
            d.time_limit,
            d.bare.channels,
            d.modifiers,
            d.decide_every,
            str(d.meanwhile),
            d.varying and d.varying.key,
        )

    def twin(self, numbers: dict[str, Any]) -> Environment:
        """The instance with traced parameters, whose ``xp`` is ``jax.numpy``."""
        env = self.environment
        twin = object.__new__(type(env))
        values = {p.name: getattr(env, p.name) for p in self._outline.parameters if p.fixed}
        values.update({name: value for name, value in numbers.items() if name != "weights"})
        twin.__dict__.update(
            values, xp=jnp, weights=env.weights, _arguments=env._arguments, _description=self.description
        )
        return twin

    @cached_property
    def requests(self) -> Requests:
        """Traces `begin`, `advance` and the sensors once each, and counts their draws."""
        counted: dict[str, tuple[Request, ...]] = {}

        def begin(numbers: Any) -> Any:
            draw = CountingDraw(jnp)
            state = self._opened(self.twin(numbers), draw)
            counted["begin"] = tuple(draw.requests)
            return state

        def whole_step(numbers: Any, state: State, action: Any) -> Any:
            vary, advance, sense, look = (CountingDraw(jnp) for _ in range(4))
            varying = self.description.varying
            varied = varying.values(vary, jnp.float32(0.0)) if varying is not None else {}
            first_state = begin(numbers)
            twin = self.twin(numbers)
            after = self._cast(twin.advance(self._cleared(state), action, advance), "advance")
            outcome = self._judge(twin, state, action, after, jnp.int32(1))
            seen = self._sense(twin, state, sense), self._look(twin, state, look)
            for name, draw in {"vary": vary, "advance": advance, "sense": sense, "look": look}.items():
                counted[name] = tuple(draw.requests)
            return varied, first_state, after, outcome, seen, self._legal(twin, state), self._asks(twin, state)

        numbers = self.numbers
        state = jax.eval_shape(begin, numbers)
        self._traced = jax.jit(whole_step).trace(numbers, state, action_like(self.description.action))
        counted["first_observation"], counted["observation"], counted["action"] = self._modifying()
        return Requests(**counted, wait=KEY_REQUESTS if self.description.gated else ())

    @cached_property
    def computed(self) -> str | None:
        """All that the class's own methods compute, as `computed_by` has it; also of what they read from outside, such
        as a table of their module."""
        _ = self.requests
        return computed_by(self._traced.jaxpr)

    def _modifying(self) -> tuple[tuple[Request, ...], ...]:
        """What the modifiers ask of chance: at a first moment, later, and of an action."""
        d = self.description

        def like(shape: tuple[int, ...], dtype: Any = jnp.float32) -> Any:
            return jax.ShapeDtypeStruct(shape, dtype)  # type: ignore[no-untyped-call]

        draws = [CountingDraw(jnp) for _ in range(3)]
        channel_values = ChannelValues(like((d.bare.width,)), {c.name: like(c.shape, jnp.uint8) for c in d.bare.images})
        action = action_like(d.action)
        memories, _ = jax.eval_shape(
            lambda g: d.observation_pipeline.start(jnp, g, Surroundings(None, 1.0, draws[0])), channel_values
        )
        jax.eval_shape(
            lambda m, g, a: d.observation_pipeline.update(jnp, m, g, Surroundings(a, 1.0, draws[1])),
            memories,
            channel_values,
            action,
        )
        jax.eval_shape(lambda a: d.action_pipeline.modify(jnp, d.action_pipeline.start(jnp), a, draws[2]), action)
        return tuple(tuple(draw.requests) for draw in draws)

    def first_seen(self, channel_values: ChannelValues, rows: Any, unit: Array) -> tuple[Any, ChannelValues]:
        """Memories and what is seen through the modifiers at the first moments of all copies."""
        observation_pipeline = self.description.observation_pipeline
        if not observation_pipeline.modifiers:
            return (), channel_values
        return jax.vmap(
            lambda g, r: observation_pipeline.start(jnp, g, Surroundings(None, 1.0, RowDraw(jnp, r, unit)))
        )(channel_values, rows)

    def seen(
        self, memories: Any, channel_values: ChannelValues, actions: Any, steps: Array, rows: Any, unit: Array
    ) -> tuple[Any, ChannelValues]:
        """The same after an action; `steps` counts each episode's advances."""
        d = self.description
        if not d.observation_pipeline.modifiers:
            return (), channel_values

        def single(memory: Any, values: ChannelValues, action: Any, count: Any, rows: Any) -> tuple[Any, ChannelValues]:
            return d.observation_pipeline.update(
                jnp, memory, values, Surroundings(action, d.left(count), RowDraw(jnp, rows, unit))
            )

        return jax.vmap(single)(memories, channel_values, actions, steps, rows)

    def handled(self, action_memories: Any, actions: Any, rows: Any, unit: Array) -> tuple[Any, Any]:
        """What is done in all copies instead of the actions that were decided."""
        action_pipeline = self.description.action_pipeline
        if not action_pipeline.modifiers:
            return (), actions
        return jax.vmap(lambda g, a, r: action_pipeline.modify(jnp, g, a, RowDraw(jnp, r, unit)))(
            action_memories, actions, rows
        )

    def valued(
        self, memories: Any, rewards: Array, befores: State | None, afters: State | None, ended: Array | None
    ) -> tuple[Any, Array]:
        """Memories of the modifiers, and the rewards that are learned from."""
        reward_pipeline = self.description.reward_pipeline
        if not reward_pipeline.modifiers:
            return memories, rewards
        return jax.vmap(lambda *arguments: reward_pipeline.modify(jnp, *arguments))(
            memories, rewards, befores, afters, ended
        )

    # One function over all copies each; `numbers` is shared by them, everything else has a leading axis of copies.
    # `own` are the parameters that differ from copy to copy.

    def vary(self, level: Array, rows: Any, unit: Array, copies: int) -> dict[str, Any]:
        """The parameters of the next episode of each copy, by name; shape ``(copies,)``."""
        varying = self.description.varying
        if varying is None:
            return {}

        def single(rows: Any) -> Any:
            values = varying.values(RowDraw(jnp, rows, unit), level)
            return {name: jnp.asarray(values[name], self.numbers[name].dtype) for name in varying.names}

        values = self._mapped(single, rows)
        return {name: jnp.broadcast_to(value, (copies,)) for name, value in values.items()}

    def begin(self, numbers: Any, copy_parameters: Any, rows: Any, unit: Any) -> Any:
        """First states of all copies."""

        def single(copy_parameters: Any, rows: Any) -> Any:
            return self._opened(self.twin({**numbers, **copy_parameters}), RowDraw(jnp, rows, unit))

        if copy_parameters:
            return jax.vmap(single)(copy_parameters, rows)
        return self._mapped(lambda rows: single({}, rows), rows)

    def observe(
        self, numbers: Any, copy_parameters: Any, states: State, rows: Any, look_rows: Any, unit: Array
    ) -> ChannelValues:
        """The bare channels of all copies: numbers as float32 of shape ``(copies, width)``, and the images."""

        def single(copy_parameters: Any, state: Any, rows: Any, look_rows: Any) -> Any:
            twin = self.twin({**numbers, **copy_parameters})
            images = self._look(twin, state, RowDraw(jnp, look_rows, unit))
            return self._sense(twin, state, RowDraw(jnp, rows, unit)), images

        columns, images = jax.vmap(single)(copy_parameters, states, rows, look_rows)
        copies = jax.tree.leaves(states)[0].shape[0]
        stacked = jnp.stack(columns, axis=-1) if columns else jnp.zeros((copies, 0), jnp.float32)
        return ChannelValues(stacked, images)

    def legal(self, numbers: Any, copy_parameters: Any, states: State) -> Mask:
        """What is allowed in each copy: a tuple of truth values ``(copies, count)``; empty where the class does not
        say."""
        if not self.description.bare.masked:
            return ()
        mask: Mask = jax.vmap(
            lambda copy_parameters, state: self._legal(self.twin({**numbers, **copy_parameters}), state)
        )(copy_parameters, states)
        return mask

    def asks(self, numbers: Any, copy_parameters: Any, states: Any) -> Any:
        """Whether each copy is to be asked, bool of shape ``(copies,)``."""
        return jax.vmap(lambda copy_parameters, state: self._asks(self.twin({**numbers, **copy_parameters}), state))(
            copy_parameters, states
        )

    def advance(
        self,
        numbers: Any,
        copy_parameters: Any,
        states: State,
        actions: Any,
        advances: Array,
        rows: Any,
        unit: Array,
        waited: Any = None,
    ) -> Advanced:
        """States after one advance of all copies, with terms, measures and the closings that hold, as bits.

        In the advance of a wait that `waited` counts, `rows` hold its key.
        """

        def single(copy_parameters: Any, state: Any, action: Any, advances: Any, rows: Any) -> Advanced:
            twin = self.twin({**numbers, **copy_parameters})
            before = self._cleared(state)
            draw: Any = (
                RowDraw(jnp, rows, unit)
                if waited is None
                else WaitDraw(jnp, rows[0], rows[1], unit).for_advance(waited)
            )
            after = self._cast(twin.advance(before, action, draw), "advance")
            return self._judge(twin, before, action, after, advances)

        return jax.vmap(single)(copy_parameters, states, actions, advances, rows)

    def _opened(self, twin: Any, draw: Any) -> Any:
        """A first state, after the advances that nobody decides on."""
        state = self._cast(twin.begin(draw), "begin")
        opening = self.description.opening
        if opening is None:
            return state
        count = opening.count(draw)
        every = [opening.done(jnp, self.description.action, j) for j in range(opening.at_most)]
        requests = self._requests_of_advance(twin, state, every[0])
        rows = [[draw._take(r.kind, (r.width,)) for r in requests] for _ in every]
        if isinstance(draw, CountingDraw):
            return self._cleared(state)

        # A loop: written out, an opening of 30 advances took a quarter of a minute to compile.
        def once(carried: tuple[Any, Any], inputs: tuple[Any, Any, Any]) -> tuple[tuple[Any, Any], None]:
            (state, going), (j, action, rows) = carried, inputs
            before = self._cleared(state)
            after = self._cast(twin.advance(before, action, RowDraw(jnp, rows, draw._unit)), "advance")
            going = going & (j < count) & (self._judge(twin, before, action, after, jnp.int32(0)).satisfied == 0)
            return (jax.tree.map(lambda new, old: jnp.where(going, new, old), after, state), going), None

        actions, noise = (jax.tree.map(lambda *leaves: jnp.stack(leaves), *trees) for trees in (every, rows))
        (state, _), _ = lax.scan(once, (state, jnp.asarray(True)), (jnp.arange(len(every)), actions, noise))
        return self._cleared(state)

    def _requests_of_advance(self, twin: Any, state: Any, action: Any) -> list[Request]:
        """What one advance asks of chance."""
        draw = CountingDraw(jnp)
        jax.eval_shape(lambda: self._cast(twin.advance(self._cleared(state), action, draw), "advance"))
        return draw.requests

    def _mapped(self, single: Callable[[Any], Any], rows: Any) -> Any:
        if rows:
            return jax.vmap(single)(rows)
        # Nothing is drawn: one state, which the caller repeats; a leading axis of one broadcasts over copies.
        return jax.tree.map(lambda leaf: leaf[None], single(rows))

    def _cleared(self, state: State) -> State:
        flows = {f.name: jnp.asarray(zero_of(f), dtype=f.dtype) for f in self.description.fields if f.role == "flow"}
        return state.replace(**flows) if flows else state

    def _cast(self, state: State, method: str) -> State:
        cls = type(self.environment).State
        if type(state) is not cls:
            raise BrokenEnvironment(
                f"`{self.description.name}.{method}` returned {type(state).__name__}; it must return a "
                f"`{cls.__qualname__}`."
            )
        rank = {"b": 0, "u": 1, "i": 1, "f": 2}
        cast = {}
        for field in self.description.fields:
            value = jnp.asarray(state.__dict__.get(field.name, zero_of(field)))
            wanted = np.dtype(field.dtype)
            if value.shape != field.shape:
                raise BrokenEnvironment(
                    f"`{self.description.name}.{method}` gave `{field.name}` the shape {value.shape}; "
                    f"it is declared {field.shape}."
                )
            if rank.get(value.dtype.kind, 3) > rank[wanted.kind]:
                raise BrokenEnvironment(
                    f"`{self.description.name}.{method}` gave `{field.name}` the dtype {value.dtype}; it is declared "
                    f"{wanted}. Use `xp.{wanted}(...)` where that is meant."
                )
            cast[field.name] = lax.convert_element_type(value, wanted)
        fresh = object.__new__(cls)
        fresh.__dict__.update(cast)
        return fresh

    def _sense(self, twin: Environment, state: State, draw: Draw) -> list[Any]:
        sensors = {s.name: s for s in self._outline.sensors}
        entries: list[Any] = []
        for channel in self.description.bare.numbers:
            if channel.computed:
                sensor = getattr(twin, channel.name)
                value = sensor(state, draw) if sensors[channel.name].noisy else sensor(state)
            else:
                value = state.__dict__[channel.name]
            flat = jnp.asarray(value, dtype=jnp.float32)
            if flat.shape != channel.shape:
                raise BrokenEnvironment(
                    f"`{self.description.name}.{channel.name}` gave the shape {flat.shape}; it is declared "
                    f"{channel.shape}."
                )
            flat = flat.reshape(-1)
            entries.extend(flat[k] for k in range(channel.size))
        return entries

    def _look(self, twin: Environment, state: State, draw: Draw) -> dict[str, Any]:
        sensors = {s.name: s for s in self._outline.sensors}
        images = {}
        for channel in self.description.bare.images:
            sensor = getattr(twin, channel.name)
            image = jnp.asarray(sensor(state, draw) if sensors[channel.name].noisy else sensor(state))
            if image.shape != channel.shape or image.dtype != jnp.uint8:
                raise BrokenEnvironment(
                    f"`{self.description.name}.{channel.name}` gave {image.dtype} of shape {image.shape}; "
                    f"it is declared uint8 of shape {channel.shape}."
                )
            images[channel.name] = image
        return images

    def _legal(self, twin: Any, state: Any) -> Mask:
        if not self.description.bare.masked:
            return ()
        return mask_from(twin.legal(state), self.description.action, jnp, f"{self.description.name}.legal")

    def _asks(self, twin: Any, state: Any) -> Any:
        if not self.description.gated:
            return jnp.asarray(True)
        answer = jnp.asarray(twin.decide_when(state))
        if answer.dtype != jnp.bool_ or answer.shape != ():
            raise BrokenEnvironment(not_a_truth_value(self.description.name, f"{answer.dtype} of shape {answer.shape}"))
        return answer

    def _judge(self, twin: Environment, before: State, action: Any, after: State, advances: Array) -> Advanced:
        arguments = {"before": before, "action": action, "after": after}

        def call(method: Any) -> Any:
            return getattr(twin, method.name)(*[arguments[name] for name in method.takes])

        def number(method: Any) -> Array:
            value = jnp.asarray(call(method), dtype=jnp.float32)
            if value.shape != ():
                raise BrokenEnvironment(
                    f"`{self.description.name}.{method.name}` gave an array of shape {value.shape}; it must give one "
                    "number."
                )
            return value

        closings = self.description.closings
        satisfied = jnp.int32(0)
        for method in (*self._outline.endings, *self._outline.cuts):
            flag = jnp.asarray(call(method))
            if flag.dtype != jnp.bool_ or flag.shape != ():
                raise BrokenEnvironment(
                    f"`{self.description.name}.{method.name}` gave {flag.dtype} of shape {flag.shape}; it must give "
                    "one truth value, e.g. `after.level > 3.0`."
                )
            satisfied = satisfied | jnp.where(flag, jnp.int32(1 << closings.index(method.name)), 0)
        for name, limit in ((DEADLINE, self.description.deadline), (TIME_LIMIT, self.description.time_limit)):
            if limit is not None:
                satisfied = satisfied | jnp.where(advances >= limit, jnp.int32(1 << closings.index(name)), 0)
        terms = tuple(number(term) for term in self._outline.terms)
        measures = tuple(number(measure) for measure in self._outline.measures)
        return Advanced(after, terms, measures, satisfied)
