"""A policy as an ONNX model: channels by name in, the action by part out."""

from __future__ import annotations

import json
from typing import Any

import numpy as np

from jokulmist.environments.spaces.actions import Choice
from jokulmist.errors import SettingError
from jokulmist.exporting.graph import Graph, Op, Value, kind_of
from jokulmist.exporting.numpy_form import letters_of, row_gather

OPSET = 18
STATE, STATE_AFTER = "state", "state_after"
KINDS: dict[str, Any] = {"float": np.float32, "int": np.int32, "bool": np.bool_, "byte": np.uint8}
BINARY = {
    "add": "Add",
    "sub": "Sub",
    "mul": "Mul",
    "div": "Div",
    "max": "Max",
    "min": "Min",
    "pow": "Pow",
    "lt": "Less",
    "le": "LessOrEqual",
    "gt": "Greater",
    "ge": "GreaterOrEqual",
    "eq": "Equal",
    "and": "And",
    "or": "Or",
}
UNARY = {
    "exp": "Exp",
    "log": "Log",
    "tanh": "Tanh",
    "logistic": "Sigmoid",
    "floor": "Floor",
    "ceil": "Ceil",
    "abs": "Abs",
    "sqrt": "Sqrt",
    "neg": "Neg",
    "not": "Not",
    "sign": "Sign",
    "erf": "Erf",
}


def inputs_of(graph: Graph, observation: dict[str, Any], legal: Any) -> dict[str, Any]:
    """What the model takes, of one observation."""
    spec = graph.policy.spec
    inputs: dict[str, Any] = {c.name: np.asarray(observation[c.name], np.float32)[None] for c in spec.numbers}
    inputs.update({c.name: np.asarray(observation[c.name], np.uint8)[None] for c in spec.images})
    if spec.masked:
        for part, space in graph.parts.items():
            if isinstance(space, Choice):
                labels = legal if part == "" else (legal or {}).get(part)
                inputs[_legal(part)] = np.asarray(np.ones(space.count, bool) if labels is None else labels, bool)[None]
    return inputs


def output_name(part: str) -> str:
    """The output of a part of the action."""
    return f"action.{part}" if part else "action"


def _legal(part: str) -> str:
    return f"legal.{part}" if part else "legal"


REDUCTIONS = {"reduce_sum": "ReduceSum", "reduce_max": "ReduceMax", "reduce_min": "ReduceMin"}


class _Model:
    def __init__(self, graph: Graph) -> None:
        import onnx

        self.onnx, self.graph = onnx, graph
        self.types = {
            "float": onnx.TensorProto.FLOAT,
            "int": onnx.TensorProto.INT32,
            "bool": onnx.TensorProto.BOOL,
            "byte": onnx.TensorProto.UINT8,
        }
        self.nodes: list[Any] = []
        self.constants: list[Any] = []
        self.count = 0

    def name(self, value: Any) -> str:
        if isinstance(value, Value):
            return value.name
        array = np.asarray(value)
        return self.constant(array.astype(KINDS[kind_of(array.dtype)]))

    def constant(self, array: Any) -> str:
        self.count += 1
        name = f"k{self.count}"
        self.constants.append(self.onnx.numpy_helper.from_array(np.ascontiguousarray(array), name))
        return name

    def as_integer(self, numbers: Any) -> str:
        return self.constant(np.asarray(numbers, np.int64))

    def node(self, kind: str, inputs: list[str], out: str = "", **settings: Any) -> str:
        self.count += 1
        name = out or f"n{self.count}"
        self.nodes.append(self.onnx.helper.make_node(kind, inputs, [name], **settings))
        return name

    def op(self, op: Op) -> None:
        """The nodes of an operation: by a node of ONNX alone, by some in a row, or by a method of its own."""
        name, out = op.name, op.out
        operands = [self.name(v) for v in op.inputs]
        if name in ("and", "or") and out.kind != "bool":
            raise SettingError(
                f"the policy computes `{name}` of whole numbers, which the ONNX form does not hold. The forms `c`, "
                "`javascript` and `python` do."
            )
        method = getattr(self, f"_{name}", None)
        if name in BINARY or name in UNARY:
            self.node(BINARY.get(name) or UNARY[name], operands, out.name)
        elif name in REDUCTIONS:
            self.node(REDUCTIONS[name], [operands[0], self.as_integer(op.params["axes"])], out.name, keepdims=0)
        elif method is not None and (name != "gather" or row_gather(op)):
            method(op, operands)
        else:
            raise SettingError(
                f"the policy computes `{name}` in a way that the ONNX form does not hold. The forms `c`, "
                "`javascript` and `python` may."
            )

    def _ne(self, op: Op, operands: list[str]) -> None:
        self.node("Not", [self.node("Equal", operands)], op.out.name)

    def _rem(self, op: Op, operands: list[str]) -> None:
        self.node("Mod", operands, op.out.name, fmod=1)

    def _square(self, op: Op, operands: list[str]) -> None:
        self.node("Mul", [operands[0], operands[0]], op.out.name)

    def _integer_pow(self, op: Op, operands: list[str]) -> None:
        self.node("Pow", [operands[0], self.constant(np.float32(op.params["y"]))], op.out.name)

    def _rsqrt(self, op: Op, operands: list[str]) -> None:
        self.node("Reciprocal", [self.node("Sqrt", operands)], op.out.name)

    def _log1p(self, op: Op, operands: list[str]) -> None:
        self.node("Log", [self.node("Add", [operands[0], self.constant(np.float32(1.0))])], op.out.name)

    def _clamp(self, op: Op, operands: list[str]) -> None:
        self.node("Min", [self.node("Max", [operands[1], operands[0]]), operands[2]], op.out.name)

    def _select_n(self, op: Op, operands: list[str]) -> None:
        self.node("Where", [operands[0], operands[2], operands[1]], op.out.name)

    def _convert_element_type(self, op: Op, operands: list[str]) -> None:
        self.node("Cast", operands, op.out.name, to=self.types[op.out.kind])

    def _reshape(self, op: Op, operands: list[str]) -> None:
        self.node("Reshape", [operands[0], self.as_integer(op.out.shape)], op.out.name)

    _squeeze = _expand_dims = _reshape

    def _broadcast_in_dim(self, op: Op, operands: list[str]) -> None:
        places = op.params["broadcast_dimensions"]
        shape = [op.inputs[0].shape[places.index(k)] if k in places else 1 for k in range(len(op.out.shape))]
        reshaped = self.node("Reshape", [operands[0], self.as_integer(shape)])
        self.node("Expand", [reshaped, self.as_integer(op.out.shape)], op.out.name)

    def _transpose(self, op: Op, operands: list[str]) -> None:
        self.node("Transpose", operands, op.out.name, perm=list(op.params["permutation"]))

    def _slice(self, op: Op, operands: list[str]) -> None:
        params, axes = op.params, list(range(len(op.out.shape)))
        steps = params["strides"] or (1,) * len(axes)
        places = map(self.as_integer, (params["start_indices"], params["limit_indices"], axes, steps))
        self.node("Slice", [operands[0], *places], op.out.name)

    def _concatenate(self, op: Op, operands: list[str]) -> None:
        self.node("Concat", operands, op.out.name, axis=op.params["dimension"])

    def _dynamic_slice(self, op: Op, operands: list[str]) -> None:
        sizes = op.params["slice_sizes"]
        starts = []
        for start, length, size in zip(operands[1:], op.inputs[0].shape, sizes, strict=True):
            wide = self.node(
                "Reshape", [self.node("Cast", [start], to=self.onnx.TensorProto.INT64), self.as_integer([1])]
            )
            starts.append(
                self.node("Min", [self.node("Max", [wide, self.as_integer([0])]), self.as_integer([length - size])])
            )
        first = self.node("Concat", starts, axis=0)
        last = self.node("Add", [first, self.as_integer(sizes)])
        self.node("Slice", [operands[0], first, last, self.as_integer(list(range(len(starts))))], op.out.name)

    def _gather(self, op: Op, operands: list[str]) -> None:
        index = self.node("Reshape", [operands[1], self.as_integer(op.inputs[1].shape[:-1])])
        last_row = self.constant(np.int32(op.inputs[0].shape[0] - 1))
        index = self.node("Min", [self.node("Max", [index, self.constant(np.int32(0))]), last_row])
        self.node("Gather", [operands[0], index], op.out.name, axis=0)

    def _argmax(self, op: Op, operands: list[str]) -> None:
        kind = "ArgMax" if op.name == "argmax" else "ArgMin"
        place = self.node(kind, operands, axis=op.params["axes"][0], keepdims=0)
        self.node("Cast", [place], op.out.name, to=self.types[op.out.kind])

    _argmin = _argmax

    def _cumsum(self, op: Op, operands: list[str]) -> None:
        self.node("CumSum", [operands[0], self.constant(np.int32(op.params["axis"]))], op.out.name)

    def _dot_general(self, op: Op, operands: list[str]) -> None:
        left, right, out_letters = letters_of(op)
        self.node("Einsum", operands, op.out.name, equation=f"{left},{right}->{out_letters}")


def _metadata(graph: Graph, about: str) -> dict[str, str]:
    """Names, bounds, units and labels of channels and actions, as JSON."""
    channels = [
        {"name": c.name, "low": c.low, "high": c.high, "unit": c.unit, "shape": list(c.shape)}
        for c in graph.policy.spec.channels
    ]
    action = {
        part: list(space.labels)
        if isinstance(space, Choice)
        else {"low": np.ravel(space.low).tolist(), "high": np.ravel(space.high).tolist()}
        for part, space in graph.parts.items()
    }
    return {"about": about, "channels": json.dumps(channels), "action": json.dumps(action)}


def written(graph: Graph, about: str) -> bytes:
    """The bytes of the model, which the checker of the `onnx` package has passed."""
    try:
        import onnx
    except ImportError:
        raise SettingError(
            "the form `onnx` needs the package onnx. Install it by `pip install jokulmist[export]`."
        ) from None
    model, spec = _Model(graph), graph.policy.spec
    helper = onnx.helper
    inputs = []
    for c in spec.channels:
        inputs.append(helper.make_tensor_value_info(c.name, model.types["byte" if c.image else "float"], [1, *c.shape]))
    if "numbers" in graph.inputs:
        flat = [model.node("Reshape", [c.name, model.as_integer([1, c.size])]) for c in spec.numbers]
        model.node("Concat", flat, graph.inputs["numbers"].name, axis=1)
    for c in spec.images:
        if c.name in graph.inputs:
            model.node("Identity", [c.name], graph.inputs[c.name].name)
    if spec.masked:
        names = [part for part, space in graph.parts.items() if isinstance(space, Choice)]
        for k, part in enumerate(names):
            space = graph.parts[part]
            assert isinstance(space, Choice)
            inputs.append(helper.make_tensor_value_info(_legal(part), model.types["bool"], [1, space.count]))
            if f"legal {k}" in graph.inputs:
                model.node("Identity", [_legal(part)], graph.inputs[f"legal {k}"].name)
    after: list[Any] = []
    if graph.state is not None:
        inputs.append(helper.make_tensor_value_info(STATE, model.types["float"], [1, graph.state_width]))
        if "state" in graph.inputs:
            model.node("Identity", [STATE], graph.inputs["state"].name)
        after = [(STATE_AFTER, graph.state)]
    for op in graph.ops:
        model.op(op)
    outputs = []
    for name, value in [*((output_name(part), space) for part, space in graph.outputs), *graph.policy_outputs, *after]:
        kind = value.kind if isinstance(value, Value) else "float"
        model.node("Identity", [model.name(value)], name)
        outputs.append(
            helper.make_tensor_value_info(
                name,
                model.types[kind],
                list(np.shape(value) if not isinstance(value, Value) else value.shape),
            )
        )
    onnx_graph = helper.make_graph(model.nodes, "policy", inputs, outputs, model.constants, doc_string=about)
    model_made = helper.make_model(
        onnx_graph, producer_name="jokulmist", opset_imports=[helper.make_opsetid("", OPSET)], ir_version=9
    )
    helper.set_model_props(model_made, _metadata(graph, about))
    onnx.checker.check_model(model_made, full_check=True)
    data: bytes = model_made.SerializeToString()
    return data
