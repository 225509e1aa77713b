"""Whether a class can be compiled is found out, not declared.

It is traced once, and then its single transitions are compared with the plain ones on states met in random play, with
the same noise. Where tracing fails or a field differs, the finding says why, with the method, the line and how to fix
it.
"""

from __future__ import annotations

import traceback
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np

from jokulmist.arrays import Array
from jokulmist.environments.chance.draws import Draw, PlainDraw, RowDraw
from jokulmist.environments.chance.noise import Domain, Noise, Stream
from jokulmist.environments.declaration.instance import describe
from jokulmist.environments.declaration.state import State
from jokulmist.environments.environment import Environment
from jokulmist.environments.simulator import Simulator
from jokulmist.environments.spaces.legal import Mask
from jokulmist.environments.transition.stepping import Stepper, place_of
from jokulmist.errors import JokulmistError

if TYPE_CHECKING:
    from jokulmist.lanes.compiled.copies import CompiledEnvironment

COMPARED_STEPS = 256
# float32 keeps 7 digits; a transition may lose two of them, relative to the range that a field moves in.
TOLERANCE = 1e-4
ROUNDING = 2e-6
MOST_SHOWN = 16
_CACHE: dict[Any, Compilability] = {}


@dataclass(frozen=True)
class Compilability:
    """Whether a class compiles, and if not, why and how to fix it.

    Attributes
    ----------
    differs : str
        The method whose plain and compiled results differ; empty where the class compiles, or cannot be traced at all.
    """

    compiles: bool
    why: str = ""
    differs: str = ""


@dataclass
class PlainTransitions:
    """Plain transitions met in random play."""

    befores: list[State]
    actions: list[Any]
    advances: list[int]
    afters: list[State]
    terms: list[list[float]]
    measures: list[list[float]]
    satisfied: list[int]
    rows: list[list[float]]
    images: list[dict[str, Any]]
    masks: list[Mask]
    begins: list[State]


def find(environment: Environment, steps: int = COMPARED_STEPS) -> Compilability:
    """Trace the class and compare it with itself; kept per class and parameters."""
    if isinstance(environment, Simulator):
        return Compilability(False)  # there is nothing to find out, and nothing to fix

    from jokulmist.lanes.compiled.copies import CompiledEnvironment

    compiled = CompiledEnvironment(environment)
    key = (compiled.static_key, environment)
    if key not in _CACHE:
        _CACHE[key] = _analyse(environment, compiled, meet(environment, steps))
    return _CACHE[key]


def meet(environment: Environment, steps: int) -> PlainTransitions:
    """Play randomly and keep every transition. The noise of turn t is in row t of its streams."""
    noise = Noise(0, 1, Domain.CHECK)
    draws = {stream: PlainDraw(noise, stream) for stream in Stream}
    step = Stepper(environment)
    action_of = describe(environment).action
    met = PlainTransitions([], [], [], [], [], [], [], [], [], [], [])
    state = step.begin(draws[Stream.BEGIN].for_step(0, 0))
    met.begins.append(state)
    advances = 0
    for turn in range(steps):
        action = action_of.random(draws[Stream.PLAY].for_step(turn, 0), step.decidable(state) or None)
        advances += 1
        after, terms, satisfied, measures = _transition(
            step, state, action, draws[Stream.ADVANCE].for_step(turn, 0), advances
        )
        met.befores.append(state)
        met.actions.append(action)
        met.advances.append(advances)
        met.afters.append(after)
        met.terms.append(terms)
        met.measures.append(measures)
        met.satisfied.append(satisfied)
        met.rows.append(step.observe(after, draws[Stream.SENSE].for_step(turn, 0)))
        met.images.append(step.look(after, draws[Stream.LOOK].for_step(turn, 0)))
        met.masks.append((*step.legal(after), step.asks(after)))
        state = after
        if satisfied:
            state = step.begin(draws[Stream.BEGIN].for_step(turn + 1, 0))
            advances = 0
        met.begins.append(step.begin(draws[Stream.BEGIN].for_step(turn + 1, 0)))
    return met


def _transition(step: Stepper, state: State, action: Any, draw: Draw, advances: int) -> tuple[State, Any, int, Any]:
    """One plain transition with everything that is compared: after, terms, held, measures."""
    before = step.cleared(state)
    after = step.advance(before, action, draw)
    return (
        after,
        step.reward_terms(before, action, after),
        step.satisfied(before, action, after, advances),
        step.measured(before, action, after),
    )


def _analyse(environment: Environment, compiled: CompiledEnvironment, met: PlainTransitions) -> Compilability:
    name = describe(environment).name
    try:
        _ = compiled.requests
        results = _traced(environment, compiled, met)
    except JokulmistError as failure:
        return Compilability(False, str(failure))
    except Exception as failure:
        return Compilability(False, _reason(environment, failure))
    difference = _difference(environment, met, *results)
    if difference:
        method, words = difference
        return Compilability(False, f"`{name}` differs when compiled: {words}", method)
    return Compilability(True)


def _traced(environment: Environment, compiled: CompiledEnvironment, met: PlainTransitions) -> tuple[Any, Any, State]:
    """All the transitions met, in one traced call."""
    import jax
    import jax.numpy as jnp

    from jokulmist.lanes.compiled.requests import stacked_rows

    count = len(met.befores)
    noise = Noise(0, 1, Domain.CHECK)

    def rows(stream: Stream) -> list[Any]:
        requests = compiled.requests.for_stream(stream)
        return [r[:, 0] for r in stacked_rows(noise, stream, requests, 0, count, count)]

    def stack(values: list[Any]) -> Any:
        return jax.tree.map(lambda *leaves: np.stack([np.asarray(leaf) for leaf in leaves]), *values)

    def narrow(tree: Any) -> Any:
        kinds = {"f": jnp.float32, "i": jnp.int32, "u": jnp.uint8, "b": jnp.bool_}
        return jax.tree.map(lambda leaf: jnp.asarray(leaf, dtype=kinds[leaf.dtype.kind]), tree)

    @jax.jit
    def everything(numbers: Any, befores: State, actions: Any, advances: Array, noise: Any, unit: Array) -> Any:
        outcome = compiled.advance(numbers, {}, befores, actions, advances, noise[0], unit)
        channel_values = compiled.observe(numbers, {}, outcome.after, noise[1], noise[2], unit)
        allowed = (*compiled.legal(numbers, {}, outcome.after), compiled.asks(numbers, {}, outcome.after))
        seen = (channel_values.numbers, channel_values.images, allowed)
        return outcome, seen, compiled.begin(numbers, {}, noise[3], unit)

    fields = {f.name: np.dtype(f.dtype) for f in describe(environment).fields}
    befores = stack(met.befores)
    befores = befores.replace(**{n: np.asarray(befores.__dict__[n], dtype) for n, dtype in fields.items()})
    outcome, observed, first_states = everything(
        compiled.numbers,
        befores,
        narrow(stack(met.actions)),
        np.asarray(met.advances, np.int32),
        (rows(Stream.ADVANCE), rows(Stream.SENSE), rows(Stream.LOOK), rows(Stream.BEGIN)),
        np.float32(1.0),
    )
    return jax.device_get(outcome), jax.device_get(observed), jax.device_get(first_states)


def _difference(
    environment: Environment, met: PlainTransitions, outcome: Any, observed: Any, first_states: State
) -> tuple[str, str] | None:
    """The first field, term, measure, channel or closing that differs: the method that gives it, and in words; or None.

    Rounding can tip a comparison or a count over its edge, and then everything that follows from it differs. So where
    few states differ, each is stepped plain again with its floats and its noise moved by a rounding error: if that
    gives what the compiled step gave, it was rounding.
    """
    description = describe(environment)
    count = len(met.befores)
    compared = _compared(environment, met, outcome, observed)
    for field in description.fields:
        firsts = [s.__dict__[field.name] for s in met.begins[:count]]
        compared.append((f"field `{field.name}` from `begin`", firsts, first_states.__dict__[field.name]))
    differences = np.array(
        [_differences(plain_values, traced_values, count) for _, plain_values, traced_values in compared]
    )
    few = differences.any(axis=0).sum() <= count // 100
    for (quantity, plain_values, traced_values), differs in zip(compared, differences, strict=True):
        for index in np.flatnonzero(differs):
            in_begin = quantity.endswith("from `begin`")
            if few and (in_begin or _tipped(environment, met, outcome, observed, int(index))):
                continue
            plain, traced = (
                np.asarray(plain_values)[index],
                np.broadcast_to(traced_values, np.shape(plain_values))[index],
            )
            if np.size(plain) > MOST_SHOWN:
                spot = tuple(int(i[0]) for i in np.nonzero(plain != traced))
                quantity, plain, traced = f"{quantity} at {spot}", plain[spot], traced[spot]
            named = quantity.split("`")[1]
            method = "begin" if in_begin else "advance" if quantity.startswith("field ") else named
            return method, f"{quantity} is {plain} plain and {traced} compiled, after step {index} of random play."
    return None


def _compared(
    environment: Environment, met: PlainTransitions, outcome: Any, observed: Any
) -> list[tuple[str, Any, Any]]:
    """What is compared: its name, and its plain and compiled values, one row a state."""
    description = describe(environment)
    pairs: list[tuple[str, Any, Any]] = []
    for field in description.fields:
        values = [s.__dict__[field.name] for s in met.afters]
        pairs.append((f"field `{field.name}`", values, outcome.after.__dict__[field.name]))
    for k, term in enumerate(description.terms):
        pairs.append((f"reward term `{term.name}`", [t[k] for t in met.terms], outcome.terms[k]))
    for k, measure in enumerate(description.measures):
        pairs.append((f"measure `{measure.name}`", [m[k] for m in met.measures], outcome.measures[k]))
    numbers, images, masks = observed
    for k, name in enumerate(c.name for c in description.bare.numbers for _ in range(c.size)):
        pairs.append((f"channel `{name}`", [float(row[k]) for row in met.rows], numbers[:, k]))
    for name, image in images.items():
        # A level of brightness is a whole number, so rounding moves it by one.
        plain_image = np.stack([seen[name] for seen in met.images]).astype(int)
        traced_image = np.asarray(image).astype(int)
        pairs.append(
            (
                f"image `{name}`",
                plain_image,
                np.where(np.abs(traced_image - plain_image) <= 1, plain_image, traced_image),
            )
        )
    for part, mask in enumerate(masks):
        label = "`legal`" if part < len(masks) - 1 else "`decide_when`"
        pairs.append(
            (label, [seen[part] for seen in met.masks], np.broadcast_to(mask, (len(met.masks), *np.shape(mask)[1:])))
        )
    satisfied = np.asarray(outcome.satisfied)
    for bit, name in enumerate(description.closings):
        pairs.append((f"`{name}`", [h >> bit & 1 for h in met.satisfied], satisfied >> bit & 1))
    return pairs


def _differences(plain: Any, traced: Any, count: int) -> Any:
    """Which rows differ by more than rounding, relative to the range that the plain values move in."""
    plain_rows = np.asarray(plain, np.float64).reshape(count, -1)
    traced_rows = np.broadcast_to(np.asarray(traced, np.float64), np.shape(plain)).reshape(count, -1)
    reach = max(float(np.max(np.abs(plain_rows), initial=0.0)), 1e-6)
    return (~np.isclose(plain_rows, traced_rows, rtol=0.0, atol=TOLERANCE * reach, equal_nan=True)).any(axis=1)


def _tipped(environment: Environment, met: PlainTransitions, outcome: Any, observed: Any, index: int) -> bool:
    """Whether a plain step with its floats and noise moved by a rounding error gives what the compiled step gave."""
    from jokulmist.lanes.compiled.copies import CompiledEnvironment
    from jokulmist.lanes.compiled.requests import stacked_rows

    requests = CompiledEnvironment(environment).requests
    noise = Noise(0, 1, Domain.CHECK)
    step = Stepper(environment)
    floats = [f.name for f in describe(environment).fields if f.kind == "float" and f.scalar]

    def moved(stream: Stream, shift: float) -> RowDraw:
        rows = [r[0, 0] for r in stacked_rows(noise, stream, requests.for_stream(stream), index, 1, 1)]
        return RowDraw(np, [np.float64(1.0) * row + shift for row in rows], 1.0)

    for shift in (0.0, ROUNDING, -ROUNDING):
        for scale in (1.0, 1.0 + ROUNDING, 1.0 - ROUNDING):
            before = met.befores[index]
            before = before.replace(**{name: before.__dict__[name] * scale for name in floats})
            action, advances = met.actions[index], met.advances[index]
            after, terms, satisfied, measures = _transition(
                step, before, action, moved(Stream.ADVANCE, shift), advances
            )
            row = step.observe(after, moved(Stream.SENSE, shift))
            images = step.look(after, moved(Stream.LOOK, shift))
            shifted = PlainTransitions(
                [],
                [],
                [],
                [after],
                [terms],
                [measures],
                [satisfied],
                [row],
                [images],
                [(*step.legal(after), step.asks(after))],
                [],
            )
            pairs = _compared(environment, shifted, _row_of(outcome, index), _row_of(observed, index))
            if not any(_differences(plain_values, traced_values, 1).any() for _, plain_values, traced_values in pairs):
                return True
    return False


def _row_of(outcome: Any, index: int) -> Any:
    """One row of what was judged; what does not depend on the state has a single one."""
    import jax

    return jax.tree.map(lambda leaf: leaf[index : index + 1] if len(leaf) > 1 else leaf, outcome)


def _reason(environment: Environment, failure: Exception) -> str:
    """Why tracing failed, in one line: method, file, line, fix."""
    import jax.errors as errors

    cls = type(environment)
    methods = set(dir(cls))
    frames = traceback.extract_tb(failure.__traceback__)
    own_files = ("copies.py", "compilability.py")
    named = [f.name for f in frames if f.name in methods and not f.filename.endswith(own_files)]
    method = named[0] if named else "advance"
    file, line = place_of(failure)
    kinds: list[tuple[Any, str]] = [
        (errors.TracerBoolConversionError, "branches on a value known only while it runs; use `self.xp.where`"),
        (
            errors.TracerIntegerConversionError,
            "uses a value known only while it runs as an index of a list or a count; "
            "use a `jm.series` for the list, `jm.repeat` for the loop",
        ),
        (errors.NonConcreteBooleanIndexError, "selects by a mask known only while it runs; use `self.xp.where`"),
        (errors.TracerArrayConversionError, "hands a value known only while it runs to NumPy; use `self.xp`"),
        (
            errors.ConcretizationTypeError,
            "turns a value known only while it runs into a Python number; use `self.xp` "
            "for `math`, and `jm.repeat` or `jm.repeat_until` for loops",
        ),
    ]
    for kind, words in kinds:
        if isinstance(failure, kind):
            return f"`{cls.__name__}.{method}` ({file}:{line}) {words}."
    text = str(failure).split("\n")[0]
    if isinstance(failure, TypeError) and "item assignment" in text:
        text = "writes into an array; use `jm.replace_item(array, index, value)`"
        return f"`{cls.__name__}.{method}` ({file}:{line}) {text}."
    return f"`{cls.__name__}.{method}` ({file}:{line}) cannot be traced: {type(failure).__name__}: {text[:200]}"
