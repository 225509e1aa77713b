"""Copies that stand side by side in arrays: each method of a class is called once for all of them, in NumPy.

For classes that are array code and cannot be compiled, such as one that calls NumPy by its name. In a state each number is then an array with
one entry a copy, and each array has a leading axis of copies; so has what a draw gives. Whether a class works so is found out as it is for
compiling: by its own transitions, one copy at a time.
"""

from __future__ import annotations

import math
from typing import Any

import numpy as np

from jokulmist.environments.chance.draws import PlainDraw
from jokulmist.environments.chance.noise import BaseKind, Domain, Noise, Stream
from jokulmist.environments.declaration.description import Description
from jokulmist.environments.declaration.environment import Environment, describe
from jokulmist.environments.declaration.simulator import Simulator
from jokulmist.environments.declaration.state import State
from jokulmist.environments.spaces.actions import Record
from jokulmist.errors import BrokenEnvironment, JokulmistError
from jokulmist.lanes.plain import PlainLane
from jokulmist.lanes.protocol import Finished, Observed, Outcome

# With fewer copies one call for each costs no more.
LEAST_COPIES = 8
COMPARED_COPIES, COMPARED_TURNS = 7, 64  # a number of copies that no class has as a size
RELATIVE, ABSOLUTE = 1e-5, 1e-6
RANKS = {"b": 0, "u": 1, "i": 1, "f": 2}
KINDS: dict[str, type] = {"float": np.float64, "int": np.int64, "bool": np.bool_}
_FOUND: dict[Any, str] = {}


class CopiesDraw(PlainDraw):
    """The draws of one stream for all copies at once: the same numbers that each copy would be given."""

    def _number(self, kind: BaseKind) -> Any:
        return self._take(kind, ())

    def _take(self, kind: BaseKind, shape: tuple[int, ...]) -> Any:
        asked = self._asked
        self._asked = asked + 1
        width, copies = math.prod(shape), self._noise.copies
        number, row = divmod(self._turn, self._noise.block_turns(width, copies))
        found = self._block(asked, kind, width, number)[row]
        return found.reshape(copies, *shape) if shape else found[:, 0]

    def _block(self, asked: int, kind: BaseKind, width: int, number: int) -> Any:
        """A block in the width that a class computes in, made once."""
        key = (asked, kind, width)
        kept = self._arrays.get(key)
        if kept is None or kept[0] != number:
            block = self._noise.block(self._stream, asked, kind, width, number, self._noise.copies)
            kept = self._arrays[key] = (number, block.astype(np.float64))
        return kept[1]


class ArrayLane(PlainLane):
    """N copies of an environment, stepped by one call of each method."""

    def __init__(self, environment: Environment, noise: Noise) -> None:
        super().__init__(environment, noise)
        self.bare = False  # nothing may step one copy by itself
        copies, description = self.copies, self.description
        self._advance_draw, self._sense_draw = CopiesDraw(noise, Stream.ADVANCE), CopiesDraw(noise, Stream.SENSE)
        self._state: Any = None
        self._forms: dict[str, tuple[Any, Any]] = {
            f.name: (np.dtype(KINDS[f.kind] if f.scalar else f.dtype), (copies, *f.shape))  # type: ignore[misc]
            for f in description.fields
        }
        # By term and by measure, so that those of all copies lie side by side.
        self._totals = np.zeros((len(description.terms), copies))
        self._measures = np.zeros((len(description.measures), copies))
        self._advances = np.zeros(copies, np.int64)
        self._flows = {f.name: self._as_field(0, f) for f in description.fields if f.role == "flow"}

    def begin(self) -> Observed:
        observed = super().begin()
        self._gather()
        return observed

    def restore(self, arrays: dict[str, Any], turn: int) -> None:
        super().restore(arrays, turn)
        self._gather()

    def saved(self) -> dict[str, Any]:
        for i in range(self.copies):
            self._show(i)
        return super().saved()

    def advance(self, actions: list[Any]) -> Outcome:
        step, given = self.step, as_arrays(actions)
        before = self._state.replace(**self._flows) if self._flows else self._state
        with np.errstate(all="ignore"):  # a branch that is not taken may divide by 0
            try:
                after = self._cast(step.environment.advance(before, given, self._advance_draw.at(self.turn, 0)))
                asked = (before, given, after)
                terms = [self._numbers(m, j, asked) for m, j, _ in step.direct_terms]
                measures = [self._numbers(m, j, asked) for m, j, _ in step.direct_measures]
                held = np.zeros(self.copies, np.int64)
                for method, judge, bit in step.direct_closers:
                    held |= bit * np.asarray(_called(method, judge, asked), bool)
                rows = self._rows_of(after)
            except Exception as failure:
                step.failed_among(step.step_methods, failure)
        self._advances = self._advances + 1
        for limit, bit in ((step.deadline, step.deadline_bit), (step.time_limit, step.time_limit_bit)):
            if limit:
                held |= bit * (self._advances >= limit)
        rewards = np.zeros(self.copies)
        for k, ((_, _, weight), term) in enumerate(zip(step.direct_terms, terms, strict=True)):
            self._totals[k] += term
            rewards += weight * term
        if not math.isfinite(rewards.sum()):
            i = int(np.flatnonzero(~np.isfinite(rewards))[0])
            self.each[i]._refuse([float(term[i]) for term in terms], self._single(before, i))
        marked = self._measure(measures)
        self._state = after
        ended = (held & self.end_bits != 0) | marked
        closed = (ended | (held != 0)).tolist()
        last = Observed(rows.tolist(), ages=self._advances.tolist())
        if self.watched is not None:
            self._show(self.watched)
        done = [self.finish(i, int(held[i])) for i in np.flatnonzero(held).tolist()]
        anew = [one.copy for one in done]
        if self.first_ages is not None:
            anew = self._cut_first(self.first_ages, last.ages, closed, anew)
        observed = self._begin_anew(last, anew) if anew else last
        self.turn += 1
        return Outcome(rewards.tolist(), ended.tolist(), closed, last, observed, done)

    def finish(self, i: int, held: int) -> Finished:
        self._show(i)
        return super().finish(i, held)

    def _begin_anew(self, last: Observed, copies: list[int]) -> Observed:
        observed = super()._begin_anew(last, copies)
        if self._state is None:
            return observed
        fields = {name: np.array(value) for name, value in self._state.__dict__.items()}
        for i in copies:
            for name, array in fields.items():
                array[i] = self.each[i].state.__dict__[name]
        self._state = self._state_of(fields)
        for array in (self._totals, self._measures, self._advances):
            array[..., copies] = 0
        return observed

    def _measure(self, measures: list[Any]) -> Any:
        """Take the measures of a turn; which copies one of them made an end for learning in."""
        marked = np.zeros(self.copies, bool)
        for k, ((_, _, over), value) in enumerate(zip(self.step.direct_measures, measures, strict=True)):
            so_far = self._measures[k]
            if over in ("sum", "mean"):
                value = so_far + value
            elif over in ("max", "min"):
                value = np.where(
                    self._advances == 1, value, (np.maximum if over == "max" else np.minimum)(so_far, value)
                )
            if k in self.description.ending_measures:
                marked |= measures[k] != 0.0
            self._measures[k] = value
        return marked

    def _numbers(self, method: Any, judge: Any, asked: tuple[Any, Any, Any]) -> Any:
        return _spread(np.asarray(_called(method, judge, asked), np.float64), (self.copies,))

    def _rows_of(self, state: Any) -> Any:
        """The number channels of all copies, shape ``(copies, width)``."""
        draw = self._sense_draw.at(self.turn, 0)
        rows, at = np.empty((self.copies, self.spec.width)), 0
        for channel, (name, sensor, noisy, _) in zip(self.description.bare.numbers, self.step.channels, strict=True):
            value = state.__dict__[name] if sensor is None else sensor(state, draw) if noisy else sensor(state)
            if channel.shape:  # in float32, as one copy gives it
                value = _spread(np.asarray(value, np.float32), (self.copies, *channel.shape))
                rows[:, at : at + channel.size] = value.reshape(self.copies, -1)
            else:
                rows[:, at] = value
            at += channel.size
        return rows

    def _as_field(self, value: Any, field: Any) -> Any:
        """A field of all copies, of its declared kind; what would lose something is refused."""
        wanted, shape = self._forms[field.name]
        array = np.asarray(value)
        if array.dtype is wanted and array.shape == shape:
            if array.flags.writeable:
                array = array.view()  # the class may keep the array, and write into it
                array.flags.writeable = False
            return array
        if RANKS.get(array.dtype.kind, 3) > RANKS[wanted.kind]:
            raise BrokenEnvironment(
                f"`{self.description.name}.advance` gave `{field.name}` the dtype {array.dtype}; it is declared {field.kind}."
            )
        return np.broadcast_to(array.astype(wanted), shape)

    def _cast(self, state: Any) -> Any:
        if type(state) is not self.step.state_class:
            raise BrokenEnvironment(f"`{self.description.name}.advance` returned {type(state).__name__}.")
        return self._state_of({f.name: self._as_field(state.__dict__[f.name], f) for f in self.description.fields})

    def _state_of(self, fields: dict[str, Any]) -> Any:
        state = object.__new__(self.step.state_class)
        state.__dict__.update(fields)
        return state

    def _single(self, state: Any, i: int) -> State:
        """One copy's state, as its methods see it on a plain lane."""
        single: State = self._state_of({
            f.name: state.__dict__[f.name][i].item() if f.scalar else state.__dict__[f.name][i] for f in self.description.fields
        })  # fmt: skip
        return single

    def _show(self, i: int) -> None:
        """Have one copy say where it stands."""
        copy = self.each[i]
        copy.state, copy.advances = self._single(self._state, i), int(self._advances[i])
        copy.totals, copy.measures = self._totals[:, i].tolist(), self._measures[:, i].tolist()

    def _gather(self) -> None:
        """Stand where the copies stand."""
        each = self.each
        fields = {}
        for field in self.description.fields:
            fields[field.name] = self._as_field(
                np.stack([np.asarray(one.state.__dict__[field.name]) for one in each]), field
            )
        self._state = self._state_of(fields)
        for array, own in (
            (self._totals, [one.totals for one in each]),
            (self._measures, [one.measures for one in each]),
        ):
            array[:] = np.array(own, np.float64).reshape(self.copies, -1).T
        self._advances = np.array([one.advances for one in each], np.int64)


def _spread(array: Any, shape: tuple[int, ...]) -> Any:
    return array if array.shape == shape else np.broadcast_to(array, shape)


def _called(method: Any, judge: Any, asked: tuple[Any, Any, Any]) -> Any:
    return method(asked[2]) if judge is None else judge(*asked)


def as_arrays(actions: list[Any]) -> Any:
    """The actions of all copies, in own form, as one with a leading axis of copies."""
    first = actions[0]
    if isinstance(first, Record):
        return Record(**{name: as_arrays([vars(one)[name] for one in actions]) for name in vars(first)})
    return np.array(actions)


def why_not(environment: Environment) -> str:
    """What is against stepping all copies of an environment in arrays; empty where nothing is.

    The class is played at random both ways, with the same noise: each reward, closing and observation must be the same.
    """
    if isinstance(environment, Simulator):
        return "a simulator steps by itself"
    description = describe(environment)
    without = _left_out(description)
    if without:
        return f"arrays of copies have no {without}"
    key = (type(environment), environment)
    if key not in _FOUND:
        _FOUND[key] = _difference(environment, description)
    return _FOUND[key]


def _left_out(description: Description) -> str:
    """What an environment has that such a lane has not."""
    bare = description.bare
    found = {
        "modifiers": description.modifiers, "`legal`": bare.masked, "players": description.players, "images": bare.images,
        "held or awaited decisions": description.holds or description.gated, "parameters that vary": description.varying,
        "opening": description.opening,
    }  # fmt: skip
    return next((name for name, has in found.items() if has), "")


def _difference(environment: Environment, description: Description) -> str:
    """Why random play in arrays fails, or differs from play one copy at a time."""
    single = PlainLane(environment, Noise(0, COMPARED_COPIES, Domain.CHECK))
    try:
        together = ArrayLane(environment, Noise(0, COMPARED_COPIES, Domain.CHECK))
        play = PlainDraw(Noise(1, COMPARED_COPIES, Domain.CHECK), Stream.PLAY)
        wanted: Any = single.begin()
        found: Any = together.begin()
    except (JokulmistError, ValueError) as failure:
        single.begin()  # whose own failure is told instead
        return str(failure)
    for turn in range(COMPARED_TURNS):
        try:
            actions = [description.action.random(play.at(turn, i), None) for i in range(COMPARED_COPIES)]
        except JokulmistError as failure:
            return str(failure)
        wanted = single.advance(actions)
        try:
            found = together.advance(actions)
        except (JokulmistError, ValueError, TypeError, IndexError) as failure:
            return f"with a number for each copy {str(failure)[0].lower()}{str(failure)[1:]}"
        for name, one, other in (
            ("rewards", wanted.rewards, found.rewards), ("endings", wanted.ended, found.ended), ("closings", wanted.closed, found.closed),
            ("observations", wanted.last.rows, found.last.rows), ("first observations", wanted.observed.rows, found.observed.rows),
            ("totals and measures", *[[[*f.totals, *f.measures, f.held, f.steps] for f in outcome.finished] for outcome in (wanted, found)]),
        ):  # fmt: skip
            a, b = np.asarray(one, np.float64), np.asarray(other, np.float64)
            if a.shape != b.shape or not np.allclose(a, b, rtol=RELATIVE, atol=ABSOLUTE, equal_nan=True):
                return f"with a number for each copy `{description.name}` gives other {name}"
    return ""
