"""A policy as loops over flat arrays, which C and JavaScript write alike: the operations once, two dialects."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import Any

import numpy as np

from jokulmist.arrays import NumpyArray
from jokulmist.errors import SettingError
from jokulmist.exporting.graph import Graph, Op, Value, kind_of
from jokulmist.exporting.numpy_form import letters_of, row_gather

SYMBOLS = {
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
}


class Dialect:
    """How a language says what all loops are made of."""

    integer = "int"
    functions: dict[str, str] = {}

    def number(self, value: float, kind: str) -> str:
        raise NotImplementedError

    def truth(self, text: str) -> str:
        """A comparison as a number that a flag is kept as."""
        return text

    def as_integer(self, text: str) -> str:
        """A number cut off to a whole one."""
        raise NotImplementedError

    def buffer(self, name: str, kind: str, size: int) -> str:
        raise NotImplementedError

    def constant(self, name: str, array: NumpyArray, kind: str) -> str:
        raise NotImplementedError


class C(Dialect):
    functions = {
        "max": "fmaxf",
        "min": "fminf",
        "exp": "expf",
        "log": "logf",
        "log1p": "log1pf",
        "tanh": "tanhf",
        "floor": "floorf",
        "ceil": "ceilf",
        "abs": "fabsf",
        "sqrt": "sqrtf",
        "pow": "powf",
        "erf": "erff",
        "rem": "fmodf",
    }
    types = {"float": "float", "int": "int", "bool": "unsigned char", "byte": "unsigned char"}

    def number(self, value: float, kind: str) -> str:
        if kind != "float":
            return str(int(value))
        if not math.isfinite(value):
            return "NAN" if math.isnan(value) else ("INFINITY" if value > 0 else "-INFINITY")
        text = repr(float(np.float32(value)))
        return f"{text}f" if "." in text or "e" in text else f"{text}.0f"

    def as_integer(self, text: str) -> str:
        return f"(int)({text})"

    def buffer(self, name: str, kind: str, size: int) -> str:
        return f"static {self.types[kind]} {name}[{size}];"

    def constant(self, name: str, array: NumpyArray, kind: str) -> str:
        return _long(
            f"static const {self.types[kind]} {name}[{array.size}] = {{",
            [self.number(v, kind) for v in array.reshape(-1).tolist()],
            "};",
        )


class JavaScript(Dialect):
    integer = "let"
    functions = {
        "max": "Math.max",
        "min": "Math.min",
        "exp": "Math.exp",
        "log": "Math.log",
        "log1p": "Math.log1p",
        "tanh": "Math.tanh",
        "floor": "Math.floor",
        "ceil": "Math.ceil",
        "abs": "Math.abs",
        "sqrt": "Math.sqrt",
        "pow": "Math.pow",
        "erf": "erf",
        "rem": "remainder",
    }
    types = {"float": "Float32Array", "int": "Int32Array", "bool": "Uint8Array", "byte": "Uint8Array"}

    def number(self, value: float, kind: str) -> str:
        if kind != "float":
            return str(int(value))
        if not math.isfinite(value):
            return "NaN" if math.isnan(value) else ("Infinity" if value > 0 else "-Infinity")
        return repr(float(np.float32(value)))

    def truth(self, text: str) -> str:
        return f"({text} ? 1 : 0)"

    def as_integer(self, text: str) -> str:
        return f"Math.trunc({text})"

    def buffer(self, name: str, kind: str, size: int) -> str:
        return f"const {name} = new {self.types[kind]}({size});"

    def constant(self, name: str, array: NumpyArray, kind: str) -> str:
        return _long(
            f"const {name} = new {self.types[kind]}([",
            [self.number(v, kind) for v in array.reshape(-1).tolist()],
            "]);",
        )


def _long(head: str, numbers: Sequence[str], tail: str, width: int = 16) -> str:
    rows = [", ".join(numbers[k : k + width]) for k in range(0, len(numbers), width)]
    return head + ("\n  " + ",\n  ".join(rows) + "\n" if len(rows) > 1 else "".join(rows)) + tail


class Loops:
    """The body of a decision in a dialect.

    Attributes
    ----------
    buffers, constants, body : list of str
    """

    def __init__(self, graph: Graph, dialect: Dialect) -> None:
        self.graph, self.dialect = graph, dialect
        self.buffers: list[str] = []
        self.constants: list[str] = []
        self.body: list[str] = []
        self._names: dict[str, str] = {value.name: value.name for value in graph.inputs.values()}
        self._cached_constants: dict[tuple[bytes, str], str] = {}
        for op in graph.ops:
            self._emit_operation(op)
        self.outputs = [(part, self._place(value), self._kind(value)) for part, value in graph.outputs]
        self.policy_outputs = [(name, self._place(value), self._kind(value)) for name, value in graph.policy_outputs]
        self.state = "" if graph.state is None else self._place(graph.state)

    # An operand is a flat array, and strides into it.
    def _place(self, value: Value | NumpyArray) -> str:
        if isinstance(value, Value):
            return self._names[value.name]
        array, kind = np.ascontiguousarray(value), self._kind(value)
        key = (array.tobytes(), kind)
        if key not in self._cached_constants:
            self._cached_constants[key] = f"k{len(self._cached_constants)}"
            self.constants.append(self.dialect.constant(self._cached_constants[key], array, kind))
        return self._cached_constants[key]

    @staticmethod
    def _kind(value: Value | NumpyArray) -> str:
        return value.kind if isinstance(value, Value) else kind_of(value.dtype)

    def _entry(self, value: Value | NumpyArray, index: str) -> str:
        """One number of an operand; of a constant with one value the number itself."""
        if isinstance(value, np.ndarray) and value.size and (value == value.reshape(-1)[0]).all():
            return self.dialect.number(value.reshape(-1)[0].item(), self._kind(value))
        return f"{self._place(value)}[{index}]"

    def _emit_operation(self, op: Op) -> None:
        name, params, out = op.name, op.params, op.out
        if name in ("reshape", "squeeze", "expand_dims"):  # the same numbers in the same order
            self._names[out.name] = self._place(op.inputs[0])
            return
        self._names[out.name] = out.name
        self.buffers.append(self.dialect.buffer(out.name, out.kind, out.size))
        method = getattr(self, f"_{name}", None)
        if method is not None:
            method(op, params)
            return
        indices, shape = self._loop_over(out.shape)
        entries = [self._entry(v, self._flat(indices, v.shape) if v.shape else "0") for v in op.inputs]
        self._emit(shape, f"{out.name}[{self._flat(indices, out.shape)}] = {self._element(op, entries)};")

    def _loop_over(self, shape: tuple[int, ...]) -> tuple[list[str], tuple[int, ...]]:
        return [f"i{k}" for k in range(len(shape))], shape

    @staticmethod
    def _flat(indices: Sequence[str], shape: tuple[int, ...], strides: Sequence[int] | None = None) -> str:
        """The place of an entry; dimensions of one do not count."""
        own_strides = strides if strides is not None else _strides(shape)
        parts = [
            i if s == 1 else f"{i} * {s}"
            for i, s, n in zip(indices, own_strides, shape, strict=True)
            if n > 1 and i != "0"
        ]
        return " + ".join(parts) or "0"

    def _emit(self, shape: tuple[int, ...], *lines: str, names: Sequence[str] | None = None) -> None:
        index_names = names or [f"i{k}" for k in range(len(shape))]
        loops = [(i, n) for i, n in zip(index_names, shape, strict=True) if n > 1]
        pad = "  "
        for depth, (i, n) in enumerate(loops):
            self.body.append(f"{pad * (depth + 1)}for ({self.dialect.integer} {i} = 0; {i} < {n}; {i}++) {{")
        for line in lines:
            self.body.append(f"{pad * (len(loops) + 1)}{line}")
        for depth in reversed(range(len(loops))):
            self.body.append(f"{pad * (depth + 1)}}}")

    def _element(self, op: Op, operands: list[str]) -> str:
        name, dialect, kind = op.name, self.dialect, op.out.kind
        if name in ("max", "min") and kind != "float":
            sign = ">" if name == "max" else "<"
            return f"{operands[0]} {sign} {operands[1]} ? {operands[0]} : {operands[1]}"
        if name == "div" and kind != "float":
            return dialect.as_integer(f"{operands[0]} / {operands[1]}")
        if name in SYMBOLS:
            text = f"{operands[0]} {SYMBOLS[name]} {operands[1]}"
            return dialect.truth(text) if kind == "bool" else text
        if name in ("and", "or"):
            return f"{operands[0]} {'&' if name == 'and' else '|'} {operands[1]}"
        if name == "not":
            return dialect.truth(f"!{operands[0]}") if kind == "bool" else f"~{operands[0]}"
        if name == "neg":
            return f"-{operands[0]}"
        if name == "square":
            return f"{operands[0]} * {operands[0]}"
        if name == "integer_pow":
            return (
                " * ".join([operands[0]] * op.params["y"])
                if op.params["y"] > 0
                else f"{dialect.functions['pow']}({operands[0]}, {dialect.number(op.params['y'], 'float')})"
            )
        if name == "rsqrt":
            return f"{dialect.number(1.0, 'float')} / {dialect.functions['sqrt']}({operands[0]})"
        if name == "logistic":
            unit = dialect.number(1.0, "float")
            return f"{unit} / ({unit} + {dialect.functions['exp']}(-{operands[0]}))"
        if name == "sign":
            return f"({operands[0]} > 0) - ({operands[0]} < 0)"
        if name == "clamp":
            low, value, high = operands
            return f"{value} < {low} ? {low} : {value} > {high} ? {high} : {value}"
        if name == "select_n" and len(operands) == 3:
            return f"{operands[0]} ? {operands[2]} : {operands[1]}"
        if name == "convert_element_type":
            came = self._kind(op.inputs[0])
            if kind == "bool" and came != "bool":
                return dialect.truth(f"{operands[0]} != 0")
            return dialect.as_integer(operands[0]) if kind in ("int", "byte") and came == "float" else operands[0]
        if name in dialect.functions:
            return f"{dialect.functions[name]}({', '.join(operands)})"
        raise SettingError(
            f"the policy computes `{name}`, which neither C nor JavaScript has here. The forms `python` and `onnx` "
            "may hold it."
        )

    def _broadcast_in_dim(self, op: Op, params: dict[str, Any]) -> None:
        (value,), out = op.inputs, op.out
        indices, shape = self._loop_over(out.shape)
        source_indices = [indices[k] for k in params["broadcast_dimensions"]]
        self._emit(
            shape,
            f"{out.name}[{self._flat(indices, out.shape)}] = "
            f"{self._entry(value, self._flat(source_indices, value.shape))};",
        )

    def _transpose(self, op: Op, params: dict[str, Any]) -> None:
        (value,), out = op.inputs, op.out
        indices, shape = self._loop_over(out.shape)
        source_indices = [""] * len(indices)
        for k, axis in enumerate(params["permutation"]):
            source_indices[axis] = indices[k]
        self._emit(
            shape,
            f"{out.name}[{self._flat(indices, out.shape)}] = "
            f"{self._entry(value, self._flat(source_indices, value.shape))};",
        )

    def _slice(self, op: Op, params: dict[str, Any]) -> None:
        (value,), out = op.inputs, op.out
        indices, shape = self._loop_over(out.shape)
        steps = params["strides"] or (1,) * len(shape)
        strides = _strides(value.shape)
        start = sum(s * a for s, a in zip(strides, params["start_indices"], strict=True))
        parts = [
            f"{i} * {s * t}" if s * t != 1 else i
            for i, s, t, n in zip(indices, strides, steps, shape, strict=True)
            if n > 1
        ]
        place = " + ".join([*parts, str(start)] if start or not parts else parts)
        self._emit(shape, f"{out.name}[{self._flat(indices, out.shape)}] = {self._entry(value, place)};")

    def _concatenate(self, op: Op, params: dict[str, Any]) -> None:
        out, position, axis = op.out, 0, params["dimension"]
        strides = _strides(out.shape)
        for value in op.inputs:
            indices, shape = self._loop_over(value.shape)
            parts = [f"{i} * {s}" if s != 1 else i for i, s, n in zip(indices, strides, shape, strict=True) if n > 1]
            offset = position * strides[axis]
            place = " + ".join([*parts, str(offset)] if offset or not parts else parts)
            self._emit(shape, f"{out.name}[{place}] = {self._entry(value, self._flat(indices, value.shape))};")
            position += value.shape[axis]

    def _dynamic_slice(self, op: Op, params: dict[str, Any]) -> None:
        value, out = op.inputs[0], op.out
        indices, shape = self._loop_over(out.shape)
        strides = _strides(value.shape)
        parts = []
        for k, (start, size) in enumerate(zip(op.inputs[1:], params["slice_sizes"], strict=True)):
            most = value.shape[k] - size
            start_entry = self._entry(start, "0")
            if most:
                parts.append(
                    f"({start_entry} < 0 ? 0 : {start_entry} > {most} ? {most} : {start_entry}) * {strides[k]}"
                )
            if size > 1:
                parts.append(f"{indices[k]} * {strides[k]}")
        self._emit(
            shape, f"{out.name}[{self._flat(indices, out.shape)}] = {self._place(value)}[{' + '.join(parts) or '0'}];"
        )

    def _gather(self, op: Op, params: dict[str, Any]) -> None:
        if not row_gather(op):
            raise SettingError("the policy looks numbers up in a way that this form does not hold.")
        (value, indices_value), out = op.inputs, op.out
        indices, shape = self._loop_over(out.shape)
        index_rank = len(indices_value.shape) - 1
        most, strides = value.shape[0] - 1, _strides(value.shape)
        row_entry = self._entry(indices_value, self._flat([*indices[:index_rank], "0"], indices_value.shape))
        rest = [
            f"{i} * {s}" if s != 1 else i
            for i, s, n in zip(indices[index_rank:], strides[1:], value.shape[1:], strict=True)
            if n > 1
        ]
        place = " + ".join(
            [f"({row_entry} < 0 ? 0 : {row_entry} > {most} ? {most} : {row_entry}) * {strides[0]}", *rest]
        )
        self._emit(shape, f"{out.name}[{self._flat(indices, out.shape)}] = {self._place(value)}[{place}];")

    def _reduced(self, op: Op, axes: Sequence[int], first: str, line: str) -> None:
        """Over some axes: a first value, then a line with `{to}` and `{of}`."""
        (value,), out = op.inputs, op.out
        indices, shape = self._loop_over(value.shape)
        free = [k for k in range(len(shape)) if k not in axes]
        target = f"{out.name}[{self._flat([indices[k] for k in free], out.shape)}]"
        self._emit(tuple(shape[k] for k in free), f"{target} = {first};", names=[indices[k] for k in free])
        source = self._entry(value, self._flat(indices, value.shape))
        self._emit(shape, line.format(to=target, of=source))

    def _reduce_sum(self, op: Op, params: dict[str, Any]) -> None:
        self._reduced(op, params["axes"], "0", "{to} += {of};")

    def _reduce_max(self, op: Op, params: dict[str, Any]) -> None:
        self._reduced(
            op,
            params["axes"],
            self.dialect.number(-3.4e38 if op.out.kind == "float" else -(2**31) + 1, op.out.kind),
            "if ({of} > {to}) {to} = {of};",
        )

    def _reduce_min(self, op: Op, params: dict[str, Any]) -> None:
        self._reduced(
            op,
            params["axes"],
            self.dialect.number(3.4e38 if op.out.kind == "float" else 2**31 - 1, op.out.kind),
            "if ({of} < {to}) {to} = {of};",
        )

    def _reduce_and(self, op: Op, params: dict[str, Any]) -> None:
        self._reduced(op, params["axes"], "1", "if (!{of}) {to} = 0;")

    def _reduce_or(self, op: Op, params: dict[str, Any]) -> None:
        self._reduced(op, params["axes"], "0", "if ({of}) {to} = 1;")

    def _best(self, op: Op, params: dict[str, Any], sign: str) -> None:
        (value,), out = op.inputs, op.out
        indices, shape = self._loop_over(value.shape)
        (axis,) = params["axes"]
        free = [k for k in range(len(shape)) if k != axis]
        target = f"{out.name}[{self._flat([indices[k] for k in free], out.shape)}]"
        self._emit(tuple(shape[k] for k in free), f"{target} = 0;", names=[indices[k] for k in free])
        best = [target if k == axis else i for k, i in enumerate(indices)]
        first, second = (
            self._entry(value, self._flat(indices, value.shape)),
            self._entry(value, self._flat(best, value.shape)),
        )
        self._emit(shape, f"if ({first} {sign} {second}) {target} = {indices[axis]};" if shape[axis] > 1 else ";")

    def _argmax(self, op: Op, params: dict[str, Any]) -> None:
        self._best(op, params, ">")

    def _argmin(self, op: Op, params: dict[str, Any]) -> None:
        self._best(op, params, "<")

    def _cumsum(self, op: Op, params: dict[str, Any]) -> None:
        (value,), out = op.inputs, op.out
        indices, shape = self._loop_over(value.shape)
        axis, stride = params["axis"], _strides(out.shape)[params["axis"]]
        place = self._flat(indices, out.shape)
        before = f"({indices[axis]} > 0 ? {out.name}[{place} - {stride}] : 0)" if shape[axis] > 1 else "0"
        self._emit(shape, f"{out.name}[{place}] = {self._entry(value, self._flat(indices, value.shape))} + {before};")

    def _dot_general(self, op: Op, params: dict[str, Any]) -> None:
        left, right, out_letters = letters_of(op)
        (left_contracted, right_contracted), out = op.inputs, op.out
        size = {
            **dict(zip(left, left_contracted.shape, strict=True)),
            **dict(zip(right, right_contracted.shape, strict=True)),
        }
        summed = [letter for letter in left if letter not in out_letters]
        names = {letter: f"i{k}" for k, letter in enumerate([*out_letters, *summed])}

        def place(letters: str, shape: tuple[int, ...]) -> str:
            return self._flat([names[letter] for letter in letters], shape)

        target = f"{out.name}[{place(out_letters, out.shape)}]"
        shape = tuple(size[letter] for letter in out_letters)
        inner = tuple(size[letter] for letter in summed)
        self._emit(shape, f"{target} = 0;", names=[names[letter] for letter in out_letters])
        product = (
            f"{self._entry(left_contracted, place(left, left_contracted.shape))} * "
            f"{self._entry(right_contracted, place(right, right_contracted.shape))}"
        )
        self._emit(
            (*shape, *inner), f"{target} += {product};", names=[names[letter] for letter in [*out_letters, *summed]]
        )


def _strides(shape: tuple[int, ...]) -> list[int]:
    strides, stride = [], 1
    for size in reversed(shape):
        strides.append(stride)
        stride *= size
    return strides[::-1]
