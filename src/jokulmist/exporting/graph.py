"""What a policy computes when it decides, as a list of array operations: the agent's own `choose`, traced and folded.

Every method that can be traced is exported by the same few operations, with its tables, networks, scaling and masks.
What does not depend on what is seen is computed here and becomes a constant.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, field
from functools import partial
from typing import Any, NamedTuple

import numpy as np

from jokulmist.agents.configs import groups_of
from jokulmist.agents.contract import hyperparameters_at
from jokulmist.arrays import Array, NumpyArray
from jokulmist.environments.chance.draws import CountingDraw
from jokulmist.environments.spaces.actions import parts_of
from jokulmist.environments.spaces.channels import ObservationBatch
from jokulmist.environments.spaces.legal import mask_widths
from jokulmist.errors import SettingError, listed
from jokulmist.exporting.escapes import unique_names
from jokulmist.lanes.compiled.backend import start_backend
from jokulmist.learning.schedules import Progress
from jokulmist.loops.policy import Policy

ELEMENTWISE = (
    "add",
    "sub",
    "mul",
    "div",
    "max",
    "min",
    "pow",
    "lt",
    "le",
    "gt",
    "ge",
    "eq",
    "ne",
    "and",
    "or",
    "not",
    "neg",
    "exp",
    "log",
    "log1p",
    "tanh",
    "logistic",
    "floor",
    "ceil",
    "abs",
    "sqrt",
    "rsqrt",
    "sign",
    "select_n",
    "convert_element_type",
    "integer_pow",
    "erf",
    "square",
    "clamp",
    "is_finite",
    "rem",
)
SHAPED = (
    "broadcast_in_dim",
    "reshape",
    "squeeze",
    "expand_dims",
    "transpose",
    "slice",
    "concatenate",
    "dynamic_slice",
    "gather",
    "iota",
)
REDUCING = ("reduce_sum", "reduce_max", "reduce_min", "argmax", "argmin", "reduce_and", "reduce_or", "cumsum")
KNOWN_PRIMITIVES = (*ELEMENTWISE, *SHAPED, *REDUCING, "dot_general")
INSIDE = (
    "jit",
    "pjit",
    "custom_jvp_call",
    "custom_vjp_call",
    "custom_vjp_call_jaxpr",
    "closed_call",
    "remat",
    "core_call",
)
EPISODE = 20
SAME = ("stop_gradient", "copy", "optimization_barrier", "sharding_constraint")


class Value(NamedTuple):
    """An array that an operation makes, or an input.

    Attributes
    ----------
    name : str
    shape : tuple of int
    kind : {"float", "int", "bool", "byte"}
    """

    name: str
    shape: tuple[int, ...]
    kind: str

    @property
    def size(self) -> int:
        return math.prod(self.shape)


class Op(NamedTuple):
    """One operation; its inputs are values of others, or constant arrays."""

    name: str
    inputs: tuple[Value | NumpyArray, ...]
    params: dict[str, Any]
    out: Value


@dataclass
class Graph:
    """A policy's decision.

    Attributes
    ----------
    inputs : dict of str to Value
        ``numbers``, each image, each mask (``legal 0``, ...), that it reads.
    ops : list of Op
    outputs : list of (part, Value or NumpyArray)
        By part of the action; one action has the empty name.
    policy_outputs : list of (name, Value or NumpyArray)
        What the policy says beside it, flat; empty unless it is asked for.
    state : Value or NumpyArray, optional
        Of a recurrent network what it remembers after the decision; what it remembered before is the input ``state``.
    """

    policy: Policy
    inputs: dict[str, Value] = field(default_factory=dict)
    ops: list[Op] = field(default_factory=list)
    outputs: list[tuple[str, Value | NumpyArray]] = field(default_factory=list)
    policy_outputs: list[tuple[str, Value | NumpyArray]] = field(default_factory=list)
    state: Value | NumpyArray | None = None

    @property
    def state_width(self) -> int:
        """How many numbers a recurrent network remembers; 0 without one."""
        return (
            0
            if self.state is None
            else int(np.prod(np.shape(self.state) if isinstance(self.state, np.ndarray) else self.state.shape))
        )

    @property
    def parts(self) -> dict[str, Any]:
        """The parts of the action by name."""
        return parts_of(self.policy.spec.action)


def kind_of(dtype: Any) -> str:
    name = np.dtype(dtype).kind
    if np.dtype(dtype) == np.uint8:
        return "byte"
    return {"f": "float", "b": "bool"}.get(name, "int")


def decision_of(policy: Policy, copies: int, says: bool = False) -> tuple[Any, Any]:
    """What a policy does without exploration in so many copies, as a function of the learner and of what they see that
    can be traced, and the learner; and what it says beside it, if asked for.

    Of a recurrent network it is also a function of what they remember, and gives what they remember then.
    """
    import jax
    import jax.numpy as jnp

    start_backend()  # before any action of several parts is looked into
    agent = policy.agent
    kind = type(agent)
    if not kind.traced:
        raise SettingError(
            f"`{kind.__name__}` is not traced, so it is known to nobody what it computes. Only a method that can be "
            "compiled leaves Python."
        )
    hyperparameters = hyperparameters_at(agent.schedules(), Progress(policy.decisions, 0, 1.0))
    config = agent.config(policy.spec, copies)
    memory: Any = agent.fresh_memory(config, hyperparameters) if agent.remembers() else ()
    width = state_width_of(policy)
    if width and says:
        raise SettingError("what a recurrent policy says beside its decisions does not leave yet. Leave out `says`.")
    learner = jax.tree.map(jnp.asarray, policy.learner)
    middle = CountingDraw(jnp)  # where values are equal, the one in the middle is chosen

    def remembering(learner: Any, seen: ObservationBatch, state: Array) -> Any:
        # It begins where its state is that of a begin, and nowhere else.
        going = seen._replace(age=jnp.ones_like(seen.age))
        own_memory = {**memory, "state": state}
        actions, after, _ = kind.choose(config, hyperparameters, learner, own_memory, going, middle, False)
        return actions, after["state"]

    def decided(learner: Any, seen: ObservationBatch) -> Any:
        actions = kind.choose(config, hyperparameters, learner, memory, seen, middle, False)[0]
        return (actions, kind.policy_outputs(config, learner, seen)) if says else actions

    return (remembering if width else decided), learner


def state_width_of(policy: Policy) -> int:
    """How many numbers a policy remembers from decision to decision; 0 without a recurrent network."""
    config = policy.config
    if any(group.config.state_width for group in groups_of(config)):
        raise SettingError(
            "a policy of several players leaves one player at a time where one remembers. Take "
            "`policy.player(NAME)`, or `--player NAME`."
        )
    return config.state_width


def graph_of(policy: Policy, says: bool = False) -> Graph:
    """The decision of a policy without exploration, for one observation; and what it says beside it, if asked for."""
    import jax
    import jax.numpy as jnp

    decide, learner = decision_of(policy, 1, says)
    decided, spec = partial(decide, learner), policy.spec
    widths = mask_widths(spec.action) if spec.masked else []
    seen = ObservationBatch(
        jnp.zeros((1, spec.width), jnp.float32),
        {c.name: jnp.zeros((1, *c.shape), jnp.uint8) for c in spec.images},
        tuple(jnp.ones((1, n), bool) for n in widths),
        jnp.zeros(1, jnp.int32),
    )

    width = state_width_of(policy)
    arguments: tuple[Any, ...] = (seen, jnp.zeros((1, width), jnp.float32)) if width else (seen,)
    traced = jax.make_jaxpr(decided)(*arguments)
    order = jax.tree.leaves(
        ObservationBatch(
            "numbers", {c.name: c.name for c in spec.images}, tuple(f"legal {k}" for k in range(len(widths))), "age"
        )
    )
    order += ["state"] if width else []
    graph = Graph(policy)
    values: dict[Any, Any] = {}
    words = unique_names((f"seen_{name}" for name in order), ())
    for variable, name in zip(traced.jaxpr.invars, order, strict=True):
        graph.inputs[name] = values[variable] = Value(
            words[f"seen_{name}"], tuple(variable.aval.shape), kind_of(variable.aval.dtype)
        )
    for variable, constant in zip(traced.jaxpr.constvars, traced.consts, strict=True):
        values[variable] = np.asarray(constant)
    _walk(traced.jaxpr, values, graph)
    outputs = [values[o] if not hasattr(o, "val") else np.asarray(o.val) for o in traced.jaxpr.outvars]
    tree = jax.tree.structure(jax.eval_shape(decided, *arguments))
    placed, extras = jax.tree.unflatten(tree, outputs), {}
    if width:
        placed, graph.state = placed
    if says:
        placed, extras = placed
        if not extras:
            raise SettingError(f"`{type(policy.agent).__name__}` says nothing beside its decisions. Leave out `says`.")
    graph.policy_outputs = list(extras.items())
    graph.outputs = [(part, getattr(placed, part) if part else placed) for part in graph.parts]
    _drop_unused(graph)
    return graph


def _walk(jaxpr: Any, values: dict[Any, Any], graph: Graph) -> None:
    """Fold what is known; keep the rest as operations."""
    for equation in jaxpr.eqns:
        operands = [np.asarray(v.val) if hasattr(v, "val") else values[v] for v in equation.invars]
        name = equation.primitive.name
        if name in SAME:
            for variable, value in zip(equation.outvars, operands, strict=True):
                values[variable] = value
            continue
        if all(isinstance(value, np.ndarray) for value in operands) and name not in INSIDE:
            result = equation.primitive.bind(*operands, **equation.params)
            for variable, value in zip(
                equation.outvars, result if equation.primitive.multiple_results else [result], strict=True
            ):
                values[variable] = np.asarray(value)
            continue
        if name in INSIDE:
            inner = next(equation.params[key] for key in ("jaxpr", "call_jaxpr", "fun_jaxpr") if key in equation.params)
            body, constants = getattr(inner, "jaxpr", inner), getattr(inner, "consts", [])
            inside: dict[Any, Any] = dict(zip(body.invars, operands, strict=True))
            inside.update(zip(body.constvars, map(np.asarray, constants), strict=True))
            _walk(body, inside, graph)
            for variable, out in zip(equation.outvars, body.outvars, strict=True):
                values[variable] = np.asarray(out.val) if hasattr(out, "val") else inside[out]
            continue
        simpler = REWRITTEN.get(name)
        if simpler is not None:
            values[equation.outvars[0]] = simpler(graph, operands, dict(equation.params))
            continue
        if name not in KNOWN_PRIMITIVES:
            raise SettingError(
                f"the policy computes `{name}`, which no form holds; there are {listed(KNOWN_PRIMITIVES)}. Use "
                "another network."
            )
        (variable,) = equation.outvars
        values[variable] = _added(
            graph, name, operands, dict(equation.params), variable.aval.shape, kind_of(variable.aval.dtype)
        )


def _added(graph: Graph, name: str, operands: Sequence[Any], params: dict[str, Any], shape: Any, kind: str) -> Value:
    """One operation more, and what it makes."""
    result = Value(f"t{len(graph.ops)}", tuple(shape), kind)
    graph.ops.append(Op(name, tuple(operands), params, result))
    return result


# What a few others make, so that each form holds these few only.


def _padded(graph: Graph, operands: Sequence[Any], params: dict[str, Any]) -> Any:
    """Padding as constants before and after, one axis after another."""
    value, fill = operands
    if not isinstance(fill, np.ndarray) or any(
        low < 0 or high < 0 or inner for low, high, inner in params["padding_config"]
    ):
        raise SettingError("the policy pads an array in a way that no form holds. Use another network.")
    kind = value.kind
    for axis, (low, high, _) in enumerate(params["padding_config"]):
        borders = [np.full((*value.shape[:axis], count, *value.shape[axis + 1 :]), fill) for count in (low, high)]
        parts = [part for part in (borders[0], value, borders[1]) if part.shape[axis]]
        if len(parts) > 1:
            shape = (*value.shape[:axis], low + value.shape[axis] + high, *value.shape[axis + 1 :])
            value = _added(graph, "concatenate", parts, {"dimension": axis}, shape, kind)
    return value


def _chosen_among(graph: Graph, operands: Sequence[Any], params: dict[str, Any]) -> Any:
    """One of several arrays by a whole number, as a choice of two at a time."""
    selector, *cases = operands
    shape, kind = np.shape(cases[0]) if isinstance(cases[0], np.ndarray) else cases[0].shape, _kind_of(cases[0])
    if len(cases) == 2:
        return _added(graph, "select_n", operands, params, shape, kind)
    chosen = cases[0]
    for k, case in enumerate(cases[1:], start=1):
        is_case = _added(graph, "eq", (selector, np.full(selector.shape, k, np.int32)), {}, selector.shape, "bool")
        chosen = _added(graph, "select_n", (is_case, chosen, case), params, shape, kind)
    return chosen


def _summed_along(graph: Graph, operands: Sequence[Any], params: dict[str, Any]) -> Any:
    """A running sum; from the end backwards it is the product with a triangle of ones."""
    (value,), axis = operands, params["axis"]
    if not params.get("reverse"):
        return _added(graph, "cumsum", operands, params, value.shape, value.kind)
    count, free = value.shape[axis], [k for k in range(len(value.shape)) if k != axis]
    triangle = np.tril(np.ones((count, count), np.float32 if value.kind == "float" else np.int32))
    numbers = {"dimension_numbers": (((axis,), (0,)), ((), ()))}
    result = _added(
        graph, "dot_general", (value, triangle), numbers, (*(value.shape[k] for k in free), count), value.kind
    )
    order = [*free, axis]
    back = {"permutation": tuple(order.index(k) for k in range(len(order)))}
    return _added(graph, "transpose", (result,), back, value.shape, value.kind)


def _kind_of(value: Any) -> str:
    return value.kind if isinstance(value, Value) else kind_of(value.dtype)


REWRITTEN = {"pad": _padded, "select_n": _chosen_among, "cumsum": _summed_along}


def _drop_unused(graph: Graph) -> None:
    needed = {
        value.name
        for _, value in [*graph.outputs, *graph.policy_outputs, ("", graph.state)]
        if isinstance(value, Value)
    }
    needed_ops = []
    for op in reversed(graph.ops):
        if op.out.name in needed:
            needed_ops.append(op)
            needed |= {value.name for value in op.inputs if isinstance(value, Value)}
    graph.ops = needed_ops[::-1]
    graph.inputs = {name: value for name, value in graph.inputs.items() if value.name in needed}


def begins(k: int) -> bool:
    """Whether an episode begins with the k-th of the observations that an export is held against."""
    return k % EPISODE == 0


def decided_by(
    policy: Policy, rows: Any, images: list[dict[str, Any]], masks: list[tuple[Any, ...]], says: bool = False
) -> tuple[list[dict[str, Any]], list[dict[str, Any]]]:
    """What the policy itself decides, one observation after another, by part, and what it says: what an export is held
    against."""
    import jax
    import jax.numpy as jnp

    decide, learner = decision_of(policy, 1, says)
    decided = partial(jax.jit(decide), learner)
    decisions: list[dict[str, Any]] = []
    extras_list: list[dict[str, Any]] = []
    parts, width = parts_of(policy.spec.action), state_width_of(policy)
    state: Any = None
    for k, row in enumerate(rows):
        seen = ObservationBatch(
            jnp.asarray(row, jnp.float32)[None],
            {name: jnp.asarray(image)[None] for name, image in images[k].items()},
            tuple(jnp.asarray(mask)[None] for mask in masks[k]),
            jnp.zeros(1, jnp.int32),
        )
        if width:
            decision, state = decided(seen, jnp.zeros((1, width), jnp.float32) if begins(k) else state)
        else:
            decision = decided(seen)
        if says:
            decision, extras = decision
            extras_list.append({name: np.asarray(values)[0] for name, values in extras.items()})
        decisions.append({part: np.asarray(getattr(decision, part) if part else decision)[0] for part in parts})
    return decisions, extras_list
