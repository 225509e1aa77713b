"""A policy as one file of Python that needs NumPy only."""

from __future__ import annotations

import base64
from typing import Any

import numpy as np

from jokulmist.arrays import NumpyArray
from jokulmist.environments.spaces.actions import Choice
from jokulmist.exporting.graph import Graph, Op, Value, kind_of

DTYPES = {"float": "np.float32", "int": "np.int32", "bool": "bool", "byte": "np.uint8"}
BINARY = {
    "add": "+",
    "sub": "-",
    "mul": "*",
    "div": "/",
    "lt": "<",
    "le": "<=",
    "gt": ">",
    "ge": ">=",
    "eq": "==",
    "ne": "!=",
    "and": "&",
    "or": "|",
    "pow": "**",
}
CALLED = {
    "max": "np.maximum",
    "min": "np.minimum",
    "exp": "np.exp",
    "log": "np.log",
    "log1p": "np.log1p",
    "tanh": "np.tanh",
    "floor": "np.floor",
    "ceil": "np.ceil",
    "abs": "np.abs",
    "sqrt": "np.sqrt",
    "sign": "np.sign",
    "not": "np.logical_not",
    "neg": "np.negative",
    "square": "np.square",
    "is_finite": "np.isfinite",
    "erf": "_erf",
    "rem": "np.fmod",
}
REDUCTIONS = {
    "reduce_sum": "np.sum",
    "reduce_max": "np.max",
    "reduce_min": "np.min",
    "reduce_and": "np.all",
    "reduce_or": "np.any",
}
LETTERS = "abcdefghijklmnopqrstuvwxyz"


def letters_of(op: Op) -> tuple[str, str, str]:
    """The subscripts of a product of arrays: of both, and of what is made."""
    (left_contracted, right_contracted), (batch, their_batch) = op.params["dimension_numbers"]
    left, right = (len(np.shape(v) if isinstance(v, np.ndarray) else v.shape) for v in op.inputs)
    names = iter(LETTERS)
    left_letters = [next(names) for _ in range(left)]
    right_letters = [""] * right
    for a, b in zip((*left_contracted, *batch), (*right_contracted, *their_batch), strict=True):
        right_letters[b] = left_letters[a]
    right_letters = [letter or next(names) for letter in right_letters]
    shared = [left_letters[a] for a in batch]
    free = [left_letters[a] for a in range(left) if a not in (*left_contracted, *batch)] + [
        right_letters[b] for b in range(right) if b not in (*right_contracted, *their_batch)
    ]
    return "".join(left_letters), "".join(right_letters), "".join(shared + free)


def row_gather(op: Op) -> bool:
    """Whether a gather takes whole entries of the first axis, by indices with a last axis of one."""
    numbers = op.params["dimension_numbers"]
    operand, indices = (v.shape for v in op.inputs)
    sizes = op.params["slice_sizes"]
    return (
        tuple(numbers.start_index_map) == (0,)
        and tuple(numbers.collapsed_slice_dims) == (0,)
        and tuple(sizes[1:]) == tuple(operand[1:])
        and indices[-1] == 1
        and tuple(numbers.offset_dims) == tuple(range(len(indices) - 1, len(indices) - 1 + len(operand) - 1))
        and not getattr(numbers, "operand_batching_dims", ())
    )


class Constants:
    """The arrays that the file holds, and values as they are written in it."""

    def __init__(self) -> None:
        self.lines: list[str] = []

    def written(self, value: Value | NumpyArray) -> str:
        """A value's name, or a constant; one that is large gets a line of its own."""
        if isinstance(value, Value):
            return value.name
        array = np.asarray(value)
        dtype = DTYPES[kind_of(array.dtype)]
        if array.size == 1 and array.ndim == 0:
            return f"{dtype}({array.item()!r})" if np.isfinite(array.item()) else f"{dtype}('{array.item()}')"
        if array.size <= 16 and np.isfinite(array.astype(float)).all():
            return f"np.array({array.tolist()!r}, {dtype})"
        name = f"C{len(self.lines)}"
        data = base64.b85encode(np.ascontiguousarray(array.astype(eval_dtype(dtype))).tobytes()).decode()
        self.lines.append(f"{name} = _array({data!r}, {dtype}, {array.shape!r})")
        return name


def readings(graph: Graph) -> list[str]:
    """The lines that read the observation, what is legal, and what is remembered."""
    spec, inputs, lines = graph.policy.spec, graph.inputs, []
    if graph.state is not None:
        lines += [
            "if memory is None:",
            '    raise TypeError("this policy remembers: memory = begin(), then decide(observation, legal, memory)")',
        ]
        if "state" in inputs:
            lines.append(f"{inputs['state'].name} = memory.copy()")
    if "numbers" in inputs:
        flat = "[np.reshape(np.asarray(observation[n], np.float32), -1) for n, _ in CHANNELS]"
        lines.append(f"{inputs['numbers'].name} = np.concatenate({flat})[None]")
    for channel in spec.images:
        if channel.name in inputs:
            lines.append(f"{inputs[channel.name].name} = np.asarray(observation[{channel.name!r}], np.uint8)[None]")
    choices = [part for part, space in graph.parts.items() if isinstance(space, Choice)] if spec.masked else []
    for k, part in enumerate(choices):
        if f"legal {k}" in inputs:
            mask_text, value = "legal" if part == "" else f"legal.get({part!r})", inputs[f"legal {k}"]
            every = f"np.ones({value.shape[1]}, bool)"
            lines.append(
                f"{value.name} = np.asarray({every} if legal is None or {mask_text} is None else {mask_text}, "
                "bool)[None]"
            )
    return lines


def eval_dtype(name: str) -> Any:
    return {"np.float32": np.float32, "np.int32": np.int32, "bool": np.bool_, "np.uint8": np.uint8}[name]


def expression(op: Op, operands: list[str]) -> str:
    """An operation as an expression of NumPy."""
    name, params, out = op.name, op.params, op.out
    if name in BINARY:
        return f"{operands[0]} {BINARY[name]} {operands[1]}"
    if name in CALLED:
        return f"{CALLED[name]}({', '.join(operands)})"
    if name == "integer_pow":
        return f"{operands[0]} ** {params['y']}"
    if name == "rsqrt":
        return f"1.0 / np.sqrt({operands[0]})"
    if name == "logistic":
        return f"1.0 / (1.0 + np.exp(-{operands[0]}))"
    if name == "clamp":
        return f"np.clip({operands[1]}, {operands[0]}, {operands[2]})"
    if name == "select_n":
        return f"np.where({operands[0]}, {operands[2]}, {operands[1]})"
    if name == "convert_element_type":
        return f"np.asarray({operands[0]}).astype({DTYPES[out.kind]})"
    if name == "broadcast_in_dim":
        places = params["broadcast_dimensions"]
        shape = [op.inputs[0].shape[places.index(k)] if k in places else 1 for k in range(len(out.shape))]
        return f"np.broadcast_to(np.reshape({operands[0]}, {tuple(shape)}), {out.shape})"
    if name in ("reshape", "squeeze", "expand_dims"):
        return f"np.reshape({operands[0]}, {out.shape})"
    if name == "transpose":
        return f"np.transpose({operands[0]}, {tuple(params['permutation'])})"
    if name == "slice":
        strides = params["strides"] or (1,) * len(out.shape)
        parts = ", ".join(
            f"{a}:{b}:{s}" if s != 1 else f"{a}:{b}"
            for a, b, s in zip(params["start_indices"], params["limit_indices"], strides, strict=True)
        )
        return f"{operands[0]}[{parts}]"
    if name == "concatenate":
        return f"np.concatenate([{', '.join(operands)}], axis={params['dimension']})"
    if name == "dynamic_slice":
        limits = [length - size for length, size in zip(op.inputs[0].shape, params["slice_sizes"], strict=True)]
        sliced = [
            f"(lambda s: slice(s, s + {size}))(int(np.clip({start}, 0, {most})))"
            for start, size, most in zip(operands[1:], params["slice_sizes"], limits, strict=True)
        ]
        return f"{operands[0]}[{', '.join(sliced)}]"
    if name == "gather" and row_gather(op):
        return f"np.take({operands[0]}, np.clip({operands[1]}[..., 0], 0, {op.inputs[0].shape[0] - 1}), axis=0)"
    if name in REDUCTIONS:
        return f"{REDUCTIONS[name]}({operands[0]}, axis={tuple(params['axes'])})"
    if name in ("argmax", "argmin"):
        return f"np.{name}({operands[0]}, axis={params['axes'][0]}).astype(np.int32)"
    if name == "cumsum":
        return f"np.cumsum({operands[0]}, axis={params['axis']})"
    if name == "dot_general":
        left, right, out_letters = letters_of(op)
        return f'np.einsum("{left},{right}->{out_letters}", {operands[0]}, {operands[1]})'
    from jokulmist.errors import SettingError

    raise SettingError(f"the policy computes `{name}` in a way that this form does not hold.")
