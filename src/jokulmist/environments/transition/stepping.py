"""One transition at a time, in plain Python: what `Episode`, the plain lane and the checks step with.

Everything that can be prepared is prepared once: bound methods in tuples, the fields to cast, the flows to zero. What
is left for a step is calling them.
"""

from __future__ import annotations

import bdb
import sysconfig
import traceback
from collections.abc import Callable, Mapping, Sequence
from operator import itemgetter
from pathlib import Path
from typing import TYPE_CHECKING, Any, NoReturn

import numpy as np

from jokulmist.environments.chance.draws import Draw
from jokulmist.environments.declaration.instance import describe, revalue
from jokulmist.environments.declaration.outline import DEADLINE, TIME_LIMIT, StepMethod
from jokulmist.environments.declaration.state import Field, State, zero_of
from jokulmist.environments.spaces.actions import plain_form
from jokulmist.environments.spaces.legal import Mask, mask_from
from jokulmist.environments.spaces.player_actions import name_in
from jokulmist.environments.transition.waiting import MOST_WAITING
from jokulmist.errors import BrokenEnvironment, JokulmistError

if TYPE_CHECKING:
    from jokulmist.environments.environment import Environment

Judge = Callable[[Any, Any, Any], Any]


def _called_with(method: Callable[..., Any], takes: tuple[str, ...]) -> Judge:
    """The method as a function of (before, action, after), whichever of them it takes."""
    if takes == ("before", "action", "after"):
        return method
    places = [("before", "action", "after").index(name) for name in takes]
    if len(places) == 2:
        first, second = places

        def of_two(*arguments: Any) -> Any:
            return method(arguments[first], arguments[second])

        return of_two
    if len(places) == 1:
        only = places[0]
        return lambda *arguments: method(arguments[only])
    return lambda *arguments: method(*[arguments[place] for place in places])


def _call_method(method: Any, judge: Judge | None, before: Any, action: Any, after: Any) -> Any:
    return method(after) if judge is None else judge(before, action, after)


# For each kind its type, and the types that convert to it without losing anything. A flag is NumPy's: `~True` of
# Python's is -2.
_WHOLE_TYPES = (bool, int, np.bool_, np.int64, np.int32, np.int16, np.int8, np.uint8, np.uint16, np.uint32)
SAFE: dict[str, tuple[type, frozenset[type]]] = {
    "float": (float, frozenset((*_WHOLE_TYPES, np.float64, np.float32, np.float16))),
    "int": (int, frozenset(_WHOLE_TYPES)),
    "bool": (np.bool_, frozenset((bool,))),
}


class Stepper:
    """An instance's methods, prepared for stepping.

    Attributes
    ----------
    direct_terms, direct_measures, direct_closers : tuple of (method, judge, extra)
        The method itself where it takes `after` alone, else its `Judge`; and its weight, its `over` or its bit.
    deadline_bit, time_limit_bit : int
        The limit's bit among the description's closings, or 0.
    """

    def __init__(self, environment: Environment) -> None:
        self.environment = environment
        self.description = description = describe(environment)
        outline = description.outline
        self.state_class: type[State] = type(environment).State
        self.flows = {f.name: zero_of(f) for f in description.fields if f.role == "flow"}
        self.scalars = tuple((f.name, *SAFE[f.kind]) for f in description.fields if f.scalar)
        self.arrays = tuple(f for f in description.fields if not f.scalar)
        self.weights = description.weights
        closings = list(description.closings)

        def direct(methods: Sequence[StepMethod], more: Sequence[Any]) -> tuple[tuple[Any, ...], ...]:
            return tuple(
                (getattr(environment, m.name), None, extra)
                if m.takes == ("after",)
                else (None, _called_with(getattr(environment, m.name), m.takes), extra)
                for m, extra in zip(methods, more, strict=True)
            )

        self.prepare_limits()
        ends = (*outline.endings, *outline.cuts)
        # Of several players each gets a share of its own: a reward is then an array, one number a player.
        shares = [np.array(share) for share in description.shares]
        self.direct_terms = direct(outline.terms, shares or self.weights)
        self.shared = bool(shares)
        self.direct_measures = direct(outline.measures, [m.over for m in outline.measures])
        self.direct_closers = direct(ends, [1 << closings.index(m.name) for m in ends])
        sensors = {s.name: s for s in outline.sensors}
        self.channels: tuple[tuple[str, Any, bool, bool], ...] = tuple(
            (
                c.name,
                getattr(environment, c.name) if c.computed else None,
                c.computed and sensors[c.name].noisy,
                c.shape == (),
            )
            for c in description.bare.numbers
        )
        self.image_sensors = tuple(
            (c, getattr(environment, c.name), sensors[c.name].noisy) for c in description.bare.images
        )
        self.noisy = any(noisy for _, _, noisy, _ in self.channels) or any(s.noisy for s in outline.sensors)
        names = [name for name, sensor, _, scalar in self.channels if sensor is None and scalar]
        # Where every channel is a number of the state, one call gathers the row.
        self._gather = itemgetter(*names) if len(names) == len(self.channels) and len(names) > 1 else None

    def prepare_limits(self) -> None:
        """The limits as numbers, 0 where there is none, and their bits."""
        closings = list(self.description.closings)
        self.deadline = self.description.deadline or 0
        self.time_limit = self.description.time_limit or 0
        self.deadline_bit = 1 << closings.index(DEADLINE) if self.deadline else 0
        self.time_limit_bit = 1 << closings.index(TIME_LIMIT) if self.time_limit else 0

    def revalue(self, values: Mapping[str, Any]) -> None:
        """Other parameters from the next episode on; the instance must be a lane's own."""
        revalue(self.environment, values)

    def begin(self, draw: Draw) -> State:
        """The first state of an episode, cast to its declared types."""
        try:
            state = self.environment.begin(draw)
        except Exception as failure:
            self.failed("begin", failure)
        state = self.cast(state, "begin")
        return state if self.description.opening is None else self._opened(state, draw)

    def _opened(self, state: State, draw: Any) -> State:
        """The state after the advances that nobody decides on."""
        opening = self.description.opening
        assert opening is not None
        for j in range(opening.count(draw)):
            action = plain_form(opening.done(np, self.description.action, j))
            before = self.cleared(state)
            after = self.advance(before, action, draw)
            if self.satisfied(before, action, after, 0):
                break
            state = after
        return self.cleared(state)

    def advance(self, state: State, action: Any, draw: Draw | None) -> State:
        """The state after one advance; flows are zero before it."""
        try:
            after = self.environment.advance(state, action, draw)
        except Exception as failure:
            self.failed("advance", failure)
        return self.cast(after, "advance")

    def cleared(self, state: State) -> State:
        """The state with its flows at zero, as `advance` gets it."""
        return state.replace(**self.flows) if self.flows else state

    def cast(self, state: State, method: str) -> State:
        """The state with every field of its declared type; a cast that would lose something is refused by name."""
        if type(state) is not self.state_class:
            raise BrokenEnvironment(
                f"`{self.description.name}.{method}` returned {type(state).__name__}; it must return a "
                f"`{self.state_class.__qualname__}`, e.g. "
                f"{'`self.State(...)`' if method == 'begin' else '`state.replace(...)`'}."
            )
        values = state.__dict__
        for name, kind, safe in self.scalars:
            value = values[name]
            state_class = type(value)
            if state_class is not kind:
                values[name] = kind(value) if state_class in safe else self.cast_number(value, kind, name, method)
        # a flow of several numbers is left out at a begin: how many may depend on a parameter
        for field in self.arrays:
            value = values[field.name] if field.name in values else zero_of(field)
            values[field.name] = self.cast_array(value, field, method)
        return state

    def cast_number(self, value: Any, kind: type, name: str, method: str) -> Any:
        """A number as a plain Python one, a flag as NumPy's."""
        array = np.asarray(value)
        if array.shape == ():
            have = array.dtype.kind
            if (
                (kind is float and have in "fiub")
                or (kind is int and have in "iub")
                or (kind is np.bool_ and have == "b")
            ):
                return kind(array.item())
        fix = {
            float: "Return one number.",
            int: "Use `xp.int32(...)` where a fraction is to be cut off.",
            np.bool_: "Use a comparison, e.g. `level > 0`.",
        }[kind]
        raise BrokenEnvironment(
            f"`{self.description.name}.{method}` gave `{name}` the value {value!r}; it is declared "
            f"`{kind.__name__}`. {fix}"
        )

    def cast_array(self, value: Any, field: Field, method: str) -> Any:
        """An array in its declared dtype and shape."""
        array = np.asarray(value)
        if array.shape != field.shape:
            raise BrokenEnvironment(
                f"`{self.description.name}.{method}` gave `{field.name}` the shape {array.shape}; "
                f"it is declared {field.shape}."
            )
        wanted = np.dtype(field.dtype)
        if array.dtype != wanted:
            rank = {"b": 0, "u": 1, "i": 1, "f": 2}
            if rank.get(array.dtype.kind, 3) > rank[wanted.kind]:
                raise BrokenEnvironment(
                    f"`{self.description.name}.{method}` gave `{field.name}` the dtype {array.dtype}; it is declared "
                    f"{wanted}. Use `xp.asarray(value, {wanted})` where that is meant."
                )
            array = array.astype(wanted)
        if array.flags.writeable:  # a state is immutable, and so are its arrays
            array = array.view()
            array.flags.writeable = False
        return array

    def reward_terms(self, before: State, action: Any, after: State) -> list[float]:
        """The unweighted terms of one step, in order."""
        try:
            return [float(_call_method(m, judge, before, action, after)) for m, judge, _ in self.direct_terms]
        except Exception as failure:
            self.failed_among([t.name for t in self.description.terms], failure)

    def satisfied(self, before: State, action: Any, after: State, advances: int) -> int:
        """A bit for each closing that holds after the episode's `advances`-th advance."""
        bits = 0
        try:
            for method, judge, bit in self.direct_closers:
                if _call_method(method, judge, before, action, after):
                    bits |= bit
        except Exception as failure:
            self.failed_among(list(self.description.closings), failure)
        if self.deadline_bit and advances >= self.deadline:
            bits |= self.deadline_bit
        if self.time_limit_bit and advances >= self.time_limit:
            bits |= self.time_limit_bit
        return bits

    def measured(self, before: State, action: Any, after: State) -> list[float]:
        """The measures of one step, in order."""
        try:
            return [float(_call_method(m, judge, before, action, after)) for m, judge, _ in self.direct_measures]
        except Exception as failure:
            self.failed_among([m.name for m in self.description.measures], failure)

    def observe(self, state: State, draw: Draw | None) -> list[float]:
        """The flat row of the number channels, as Python floats, in the units of the environment."""
        values = state.__dict__
        if self._gather is not None:
            return list(self._gather(values))
        row: list[Any] = []
        try:
            for name, sensor, noisy, scalar in self.channels:
                if sensor is None:
                    value = values[name]
                elif noisy:
                    value = sensor(state, draw)
                else:
                    value = sensor(state)
                if scalar:
                    row.append(value)
                else:
                    row.extend(self._entries(value, name))
        except Exception as failure:
            self.failed_among([c[0] for c in self.channels], failure)
        return row

    def _entries(self, value: Any, name: str) -> list[float]:
        try:
            array = np.asarray(value, np.float32)
        except (TypeError, ValueError):
            raise BrokenEnvironment(
                f"`{self.description.name}.{name}` gave {value!r:.80}; it must give numbers."
            ) from None
        channel = next(c for c in self.description.bare.numbers if c.name == name)
        if array.shape != channel.shape:
            raise BrokenEnvironment(
                f"`{self.description.name}.{name}` gave the shape {array.shape}; it is declared {channel.shape}."
            )
        entries: list[float] = array.reshape(-1).tolist()
        return entries

    def look(self, state: State, draw: Draw) -> dict[str, Any]:
        """The image channels, uint8, by name."""
        images = {}
        for channel, sensor, noisy in self.image_sensors:
            try:
                image = np.asarray(sensor(state, draw) if noisy else sensor(state))
            except Exception as failure:
                self.failed(channel.name, failure)
            if image.shape != channel.shape or image.dtype != np.uint8:
                raise BrokenEnvironment(
                    f"`{self.description.name}.{channel.name}` gave {image.dtype} of shape {image.shape}; "
                    f"it is declared uint8 of shape {channel.shape}."
                )
            images[channel.name] = image
        return images

    def legal(self, state: State) -> Mask:
        """The choices that are allowed in a state; empty where the class does not say."""
        if not self.description.bare.masked:
            return ()
        name = f"{self.description.name}.legal"
        try:
            allowed = self.environment.legal(state)  # type: ignore[attr-defined]
        except Exception as failure:
            self.failed("legal", failure)
        return mask_from(allowed, self.description.action, np, name)

    def asks(self, state: State) -> bool:
        """Whether the agent is asked in a state."""
        if not self.description.gated:
            return True
        try:
            answer = self.environment.decide_when(state)  # type: ignore[attr-defined]
        except Exception as failure:
            self.failed("decide_when", failure)
        if isinstance(answer, (bool, np.bool_)) or getattr(answer, "dtype", None) == np.bool_:
            return bool(answer)
        raise BrokenEnvironment(not_a_truth_value(self.description.name, answer))

    def decidable(self, state: State, copy: int = 0) -> Mask:
        """`legal` of a state that is decided on: each choice must have an allowed alternative."""
        mask = self.legal(state)
        for allowed in mask:
            if not allowed.any():
                raise BrokenEnvironment(none_allowed(self.description.name, copy, state, self.description.players))
        return mask

    def failed(self, method: str, failure: Exception) -> NoReturn:
        """Tell a failure of the researcher's code with its method, file and line."""
        if isinstance(failure, JokulmistError):
            raise failure
        if isinstance(failure, bdb.BdbQuit):  # left by `q` in the debugger: as if interrupted
            raise KeyboardInterrupt from None
        file, line = place_of(failure)
        problem = f"failed: {type(failure).__name__}: {failure}"
        if "read-only" in str(failure):
            problem = (
                "writes into an array of the state, which is immutable; use `jm.replace_item(array, index, value)`."
            )
        raise BrokenEnvironment(f"`{self.description.name}.{method}` ({file}:{line}) {problem}") from failure

    def failed_among(self, methods: Sequence[str], failure: Exception) -> NoReturn:
        """The same, where one of several methods was called: the traceback tells which."""
        method_names = {name_in(method) for method in methods}  # of `north.fuel` the method is `fuel`
        named = [f.name for f in traceback.extract_tb(failure.__traceback__) if f.name in method_names]
        self.failed(named[0] if named else methods[0], failure)

    @property
    def step_methods(self) -> list[str]:
        """Every method that one advance calls."""
        outline = self.description.outline
        methods = (*outline.terms, *outline.endings, *outline.cuts, *outline.measures)
        return ["advance", *[m.name for m in methods], *[s.name for s in outline.sensors]]


def not_a_truth_value(name: str, got: Any) -> str:
    """What to say where `decide_when` gives something else."""
    return f"`{name}.decide_when` gave {got!r}; it must give one truth value, e.g. `state.floor_reached > 0`."


def never_asked(name: str, copy: int, state: Any) -> str:
    """What to say where a copy waits for ever."""
    return (
        f"`{name}.decide_when` did not hold for {MOST_WAITING:,} advances in copy {copy}, and nothing closed the "
        f"episode; the state is {state}. Let it hold there, declare an ending, or choose another `meanwhile`."
    )


def closed_unasked(name: str, copy: int, state: Any) -> str:
    """What to say where an episode closes before its first decision."""
    return (
        f"an episode of `{name}` closed in copy {copy} before its first decision, in the state {state}. Let `begin` "
        "give a state from which `decide_when` comes to hold."
    )


def none_allowed(name: str, copy: int, state: Any, players: tuple[str, ...] = ()) -> str:
    """What to say where `legal` forbids everything, or of several players nobody is asked."""
    if players:
        return (
            f"in copy {copy} of `{name}` nobody can decide in the state {state}. Let `turn` give the index of a player "
            f"who is not out, from 0 to {len(players) - 1}, let `legal` allow at least one alternative of each choice, "
            "or declare an `@jm.ending` that holds there."
        )
    return (
        f"`{name}.legal` allows nothing in copy {copy} in the state {state}. Allow at least one alternative of each "
        f"choice, or declare an `@jm.ending` that holds there."
    )


def place_of(failure: BaseException) -> tuple[str, int]:
    """File and line of the innermost frame in code that is neither this library's nor an installed package's."""
    package, library = Path(__file__).resolve().parents[2], Path(sysconfig.get_path("stdlib"))
    frames = traceback.extract_tb(failure.__traceback__)

    def foreign(filename: str) -> bool:
        path = Path(filename)
        inside = package in path.parents and (package / "gallery") not in path.parents
        return inside or "site-packages" in path.parts or library in path.parents or filename.startswith("<frozen")

    own_frames = [f for f in frames if not foreign(f.filename)]
    frame = (own_frames or list(frames))[-1]
    return Path(frame.filename).name, frame.lineno or 0


def combined(aggregation: str, total: float, value: float, steps: int) -> float:
    """A measure's running value after `steps` steps, the newest of which gave `value`."""
    if aggregation == "sum" or aggregation == "mean":
        return total + value
    if aggregation == "last" or steps == 1:
        return value
    return max(total, value) if aggregation == "max" else min(total, value)


def finished(aggregation: str, total: float, steps: int) -> float:
    """A measure's value for a whole episode."""
    return total / max(steps, 1) if aggregation == "mean" else total
