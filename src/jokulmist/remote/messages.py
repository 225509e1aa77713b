"""What goes over the wire, as docs/protocol.md has it: written, read and checked. No transport."""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np
import orjson

from jokulmist.environments.declaration.outcome import Outcome
from jokulmist.environments.simulator import Simulator
from jokulmist.environments.spaces.actions import Action, Actions
from jokulmist.environments.spaces.legal import mask_from
from jokulmist.environments.spaces.player_actions import PlayerActions, by_own_names
from jokulmist.environments.transition.simulator_stepping import Reader, SimulatorState
from jokulmist.errors import BrokenEnvironment, JokulmistError, listed, nearest

PROTOCOL = 1
MOST_BYTES = 64 << 20
MOST_QUOTED = 200
# It refuses what is no number, where the faster writer would send null.
_WRITER = json.JSONEncoder(separators=(",", ":"), allow_nan=False)


class BadMessage(JokulmistError):
    """What the other end sent is no answer to what it was asked."""


def request(number: int, method: str, params: Mapping[str, Any]) -> str:
    """A JSON-RPC 2.0 request."""
    return _WRITER.encode({"jsonrpc": "2.0", "id": number, "method": method, "params": params})


def result_of(number: int, method: str, text: Any) -> Any:
    """The result of an answer to a request."""
    if not isinstance(text, str):
        raise BadMessage(f"`{method}` was answered by a binary frame; the answer is JSON in a text frame.")
    try:
        answer = orjson.loads(text)
    except ValueError:
        raise BadMessage(f"`{method}` was answered by what is no JSON: {text[:MOST_QUOTED]!r}.") from None
    if not isinstance(answer, dict) or answer.get("jsonrpc") != "2.0":
        raise BadMessage(f'`{method}` was answered without `"jsonrpc": "2.0"`: {text[:MOST_QUOTED]!r}.')
    if answer.get("id") != number or isinstance(answer.get("id"), bool):
        raise BadMessage(
            f"`{method}` was answered out of order: its id is {number}, the answer's {answer.get('id')!r:.60}."
        )
    if "error" in answer:
        error = answer["error"] if isinstance(answer["error"], dict) else {}
        raise BadMessage(
            f"`{method}` failed in the program: {str(error.get('message', 'it does not say why'))[:MOST_QUOTED]}"
        )
    if "result" not in answer:
        raise BadMessage(f"the answer to `{method}` has neither a result nor an error.")
    return answer["result"]


def columns_of(action: Action, owns: Sequence[Any]) -> Any:
    """The actions of several arenas, in own form, as columns: a list, or a dict of lists by part or by player."""
    if isinstance(action, PlayerActions):
        return {
            player: columns_of(part, [action.for_player(player, native) for native in owns])
            for player, part in action.players.items()
        }
    if isinstance(action, Actions):
        return {
            name: columns_of(part, [getattr(native, name) for native in owns]) for name, part in action.parts.items()
        }
    return [native if type(native) is int else np.asarray(native).tolist() for native in owns]


def entry_of(columns: Any, k: int) -> Any:
    """What columns, or dicts of columns, have for one arena."""
    if isinstance(columns, Mapping):
        return {name: entry_of(part, k) for name, part in columns.items()}
    return columns[k] if isinstance(columns, list) and k < len(columns) else columns


def outcome_of(moment: Any, images: Mapping[str, Any], k: int) -> Outcome:
    """What one arena is told of in a moment, unchecked: whoever steps a simulator by hand checks it."""
    if not isinstance(moment, Mapping):
        raise BrokenEnvironment(f"the program answered {moment!r:.80}; a moment is an object.")
    entries = {name: entry_of(moment.get(name), k) for name in ("legal", "closed_by", "turn")}
    observed = entry_of(moment.get("observation", {}), k)
    if isinstance(observed, dict):
        observed.update({name: image[k] for name, image in images.items()})
    out = entry_of(moment.get("out"), k)
    return Outcome(
        observed,
        entry_of(moment.get("terms") or {}, k),
        entries["closed_by"],
        entry_of(moment.get("measures") or {}, k),
        entries["legal"],
        entries["turn"],
        tuple(out) if isinstance(out, list) else (),
    )


class MomentReader:
    """Checks the moments that a program tells of many arenas at once, column by column."""

    def __init__(self, environment: Simulator) -> None:
        self._reader = Reader(environment)
        self._description = self._reader.description
        self._players = self._description.players
        self.image_shapes = {c.name: c.shape for c in self._description.bare.images}
        closings = (*self._description.outline.endings, *self._description.outline.cuts)
        self._arrays = any(c.shape for c in self._description.bare.numbers)
        self._bits = {c.name: 1 << self._description.closings.index(c.name) for c in closings}

    def states(self, moment: Any, count: int, images: Mapping[str, Any], method: str) -> list[SimulatorState]:
        """The states of so many arenas."""
        if not isinstance(moment, Mapping):
            raise BadMessage(f"`{method}` answered {moment!r:.80} for a moment, which is an object.")
        numbers = self._description.bare.numbers
        observed = self._named(moment.get("observation", {} if not numbers else None), "observation", method)
        self._refuse_others(observed, [c.name for c in numbers], "observation", method, needs_all=True)
        rows = self._rows(observed, count, method)
        is_begin = method == "begin"
        terms = self._amounts(moment, "terms", [t.name for t in self._description.terms], count, method)
        measures = self._amounts(moment, "measures", [m.name for m in self._description.measures], count, method)
        satisfied = [0] * count if is_begin else self._closings(moment.get("closed_by"), count, method)
        images_of_rows = [{name: image[k] for name, image in images.items()} for k in range(count)]
        masked = self._description.bare.masked
        masks = [self._mask(moment, k, method) for k in range(count)] if masked else [()] * count
        return list(map(SimulatorState, rows, images_of_rows, terms, measures, satisfied, masks))

    def images_of(self, data: Any, count: int, method: str) -> dict[str, Any]:
        """The image channels of a binary frame: one after another, each of all arenas, rows first."""
        wanted = {name: count * int(np.prod(shape)) for name, shape in self.image_shapes.items()}
        if not isinstance(data, bytes) or len(data) != sum(wanted.values()):
            got = f"{len(data):,} bytes" if isinstance(data, bytes) else "a text frame"
            raise BadMessage(
                f"`{method}` gave images by {got}; a binary frame of {sum(wanted.values()):,} bytes is wanted."
            )
        images, start = {}, 0
        for name, size in wanted.items():
            images[name] = np.frombuffer(data, np.uint8, size, start).reshape(count, *self.image_shapes[name]).copy()
            start += size
        return images

    def _named(self, values: Any, subject: str, method: str) -> dict[str, Any]:
        if not isinstance(values, Mapping):
            raise BadMessage(
                f"`{method}` gave `{subject}` as {type(values).__name__}; it is an object with a list a name."
            )
        return by_own_names(values, self._players)

    def _refuse_others(
        self, values: Mapping[str, Any], names: list[str], subject: str, method: str, needs_all: bool = False
    ) -> None:
        for name in values:
            if name not in names:
                raise BadMessage(
                    f"`{method}` gave `{subject}` a `{name!s:.60}`; declared are {listed(names)}.{nearest(name, names)}"
                )
        missing = [name for name in names if name not in values]
        if needs_all and missing:
            raise BadMessage(f"`{method}` left {listed(missing)} out of `{subject}`; declared are {listed(names)}.")

    def _column(self, values: Any, shape: tuple[int, ...], name: str, method: str, dtype: Any = np.float32) -> Any:
        try:
            column = np.asarray(values, dtype)
        except (TypeError, ValueError):
            raise BadMessage(f"`{method}` gave `{name}` what are no numbers: {values!r:.80}.") from None
        if column.shape != shape:
            raise BadMessage(f"`{method}` gave `{name}` the shape {column.shape}; of {shape[0]} arenas it is {shape}.")
        if not np.isfinite(column).all():
            raise BadMessage(f"`{method}` gave `{name}` a value that is not finite.")
        return column

    def _rows(self, observed: Mapping[str, Any], count: int, method: str) -> list[list[float]]:
        """The number channels of each arena side by side."""
        numbers = self._description.bare.numbers
        if not numbers:
            return [[] for _ in range(count)]
        if not self._arrays:
            rows: list[list[float]] = self._together(
                observed, [c.name for c in numbers], count, method, np.float32
            ).T.tolist()
            return rows
        parts = [self._column(observed[c.name], (count, *c.shape), c.name, method).reshape(count, -1) for c in numbers]
        rows = np.concatenate(parts, axis=1).tolist()
        return rows

    def _amounts(self, moment: Any, subject: str, names: list[str], count: int, method: str) -> list[tuple[float, ...]]:
        amounts = self._named(moment.get(subject) or {}, subject, method)
        self._refuse_others(amounts, names, subject, method)
        if not names:
            return [()] * count
        return list(zip(*self._together(amounts, names, count, method, np.float64).tolist(), strict=True))

    def _together(self, values: Mapping[str, Any], names: list[str], count: int, method: str, dtype: Any) -> Any:
        """Columns of one number an arena as one array, shape ``(names, count)``; what is left out is 0."""
        columns = [values.get(name, [0.0] * count) for name in names]
        try:
            table = np.array(columns, dtype)
            if table.shape == (len(names), count) and np.isfinite(table).all():
                return table
        except (TypeError, ValueError):
            pass
        # One of them is wrong: each is looked at, so that it is named.
        return np.stack([self._column(c, (count,), n, method, dtype) for n, c in zip(names, columns, strict=True)])

    def _closings(self, values: Any, count: int, method: str) -> list[int]:
        if values is None:
            return [0] * count
        if not isinstance(values, list) or len(values) != count:
            raise BadMessage(
                f"`{method}` gave `closed_by` as {values!r:.80}; it is a list with a name, or null, an arena."
            )
        closings = []
        for name in values:
            if name is not None and (not isinstance(name, str) or name not in self._bits):
                raise BadMessage(
                    f"`{method}` says that {name!r:.60} closed an episode; declared are {listed(self._bits)}."
                )
            closings.append(0 if name is None else self._bits[name])
        return closings

    def _mask(self, moment: Any, k: int, method: str) -> Any:
        try:
            outcome = outcome_of({n: moment.get(n) for n in ("legal", "turn", "out")}, {}, k)
            if self._players:
                return self._reader.mask_of_players(outcome, method)
            return (
                self._reader.free
                if outcome.legal is None
                else mask_from(outcome.legal, self._description.action, np, method)
            )
        except BrokenEnvironment as wrong:
            raise BadMessage(str(wrong)) from None
