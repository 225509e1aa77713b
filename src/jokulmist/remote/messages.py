"""What goes over the wire, as docs/protocol.md has it: written, read and checked. No transport."""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np

from jokulmist.environments.declaration.simulator import Outcome, Simulator
from jokulmist.environments.spaces.actions import Action, Actions
from jokulmist.environments.spaces.legal import mask_from
from jokulmist.environments.spaces.player_actions import PlayerActions, by_own_names
from jokulmist.environments.transition.simulator_stepping import Reader, SimulatorState
from jokulmist.errors import BrokenEnvironment, JokulmistError, listed, nearest

PROTOCOL = 1
MOST_BYTES = 64 << 20
MOST_QUOTED = 200


class BadMessage(JokulmistError):
    """What the other end sent is no answer to what it was asked."""


def request(number: int, method: str, params: Mapping[str, Any]) -> str:
    """A JSON-RPC 2.0 request."""
    return json.dumps(
        {"jsonrpc": "2.0", "id": number, "method": method, "params": params}, separators=(",", ":"), allow_nan=False
    )


def result_of(number: int, method: str, text: Any) -> Any:
    """The result of an answer to a request.

    Raises
    ------
    BadMessage
        When it is none, or tells of an error.
    """
    if not isinstance(text, str):
        raise BadMessage(f"`{method}` was answered by a binary frame; the answer is JSON in a text frame.")
    try:
        answer = json.loads(text, parse_constant=_no_number)
    except (ValueError, RecursionError):
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


def _no_number(word: str) -> Any:
    raise ValueError(word)


def columns_of(action: Action, owns: Sequence[Any]) -> Any:
    """The actions of several arenas, in own form, as columns: a list, or a dict of lists by part or by player."""
    if isinstance(action, PlayerActions):
        return {
            player: columns_of(part, [action.of(player, own) for own in owns])
            for player, part in action.players.items()
        }
    if isinstance(action, Actions):
        return {name: columns_of(part, [getattr(own, name) for own in owns]) for name, part in action.parts.items()}
    return [np.asarray(own).tolist() for own in owns]


def entry_of(columns: Any, k: int) -> Any:
    """What columns, or dicts of columns, have for one arena."""
    if isinstance(columns, Mapping):
        return {name: entry_of(part, k) for name, part in columns.items()}
    return columns[k] if isinstance(columns, list) and k < len(columns) else columns


def outcome_of(moment: Any, images: Mapping[str, Any], k: int) -> Outcome:
    """What one arena is told of in a moment, unchecked: whoever steps a simulator by hand checks it."""
    if not isinstance(moment, Mapping):
        raise BrokenEnvironment(f"the program answered {moment!r:.80}; a moment is an object.")
    found = {name: entry_of(moment.get(name), k) for name in ("legal", "closed_by", "turn")}
    observed = entry_of(moment.get("observation", {}), k)
    if isinstance(observed, dict):
        observed.update({name: image[k] for name, image in images.items()})
    out = entry_of(moment.get("out"), k)
    return Outcome(
        observed, entry_of(moment.get("terms") or {}, k), found["closed_by"], entry_of(moment.get("measures") or {}, k), found["legal"],
        found["turn"], tuple(out) if isinstance(out, list) else (),
    )  # fmt: skip


class MomentReader:
    """Checks the moments that a program tells of many arenas at once, column by column.

    Parameters
    ----------
    environment : Simulator
    """

    def __init__(self, environment: Simulator) -> None:
        self._reader = Reader(environment)
        self._description = self._reader.description
        self._players = self._description.players
        self.image_shapes = {c.name: c.shape for c in self._description.bare.images}
        closings = (*self._description.outline.endings, *self._description.outline.cuts)
        self._bits = {c.name: 1 << self._description.closings.index(c.name) for c in closings}

    def states(self, moment: Any, count: int, images: Mapping[str, Any], method: str) -> list[SimulatorState]:
        """The states of so many arenas.

        Raises
        ------
        BadMessage
            When something is missing, of another shape, or no number.
        """
        if not isinstance(moment, Mapping):
            raise BadMessage(f"`{method}` answered {moment!r:.80} for a moment, which is an object.")
        numbers = self._description.bare.numbers
        observed = self._named(moment.get("observation", {} if not numbers else None), "observation", method)
        self._refuse_others(observed, [c.name for c in numbers], "observation", method, whole=True)
        parts = [self._column(observed[c.name], (count, *c.shape), c.name, method).reshape(count, -1) for c in numbers]
        rows = np.concatenate(parts, axis=1).tolist() if parts else [[] for _ in range(count)]
        begun = method == "begin"
        terms = self._amounts(moment, "terms", [t.name for t in self._description.terms], count, method)
        measures = self._amounts(moment, "measures", [m.name for m in self._description.measures], count, method)
        held = [0] * count if begun else self._held(moment.get("closed_by"), count, method)
        return [
            SimulatorState(
                rows[k], {name: image[k] for name, image in images.items()}, terms[k], measures[k], held[k], self._mask(moment, k, method)
            )
            for k in range(count)
        ]  # fmt: skip

    def images_of(self, data: Any, count: int, method: str) -> dict[str, Any]:
        """The image channels of a binary frame: one after another, each of all arenas, rows first."""
        wanted = {name: count * int(np.prod(shape)) for name, shape in self.image_shapes.items()}
        if not isinstance(data, bytes) or len(data) != sum(wanted.values()):
            got = f"{len(data):,} bytes" if isinstance(data, bytes) else "a text frame"
            raise BadMessage(
                f"`{method}` told images by {got}; a binary frame of {sum(wanted.values()):,} bytes is wanted."
            )
        found, at = {}, 0
        for name, size in wanted.items():
            found[name] = np.frombuffer(data, np.uint8, size, at).reshape(count, *self.image_shapes[name]).copy()
            at += size
        return found

    def _named(self, given: Any, what: str, method: str) -> dict[str, Any]:
        if not isinstance(given, Mapping):
            raise BadMessage(f"`{method}` gave `{what}` as {type(given).__name__}; it is an object with a list a name.")
        return by_own_names(given, self._players)

    def _refuse_others(
        self, given: Mapping[str, Any], known: list[str], what: str, method: str, whole: bool = False
    ) -> None:
        for name in given:
            if name not in known:
                raise BadMessage(
                    f"`{method}` gave `{what}` a `{name!s:.60}`; declared are {listed(known)}.{nearest(name, known)}"
                )
        missing = [name for name in known if name not in given]
        if whole and missing:
            raise BadMessage(f"`{method}` left {listed(missing)} out of `{what}`; declared are {listed(known)}.")

    def _column(self, given: Any, shape: tuple[int, ...], name: str, method: str, dtype: Any = np.float32) -> Any:
        try:
            column = np.asarray(given, dtype)
        except (TypeError, ValueError):
            raise BadMessage(f"`{method}` gave `{name}` what are no numbers: {given!r:.80}.") from None
        if column.shape != shape:
            raise BadMessage(f"`{method}` gave `{name}` the shape {column.shape}; of {shape[0]} arenas it is {shape}.")
        if not np.isfinite(column).all():
            raise BadMessage(f"`{method}` gave `{name}` a value that is not finite.")
        return column

    def _amounts(self, moment: Any, what: str, names: list[str], count: int, method: str) -> list[tuple[float, ...]]:
        given = self._named(moment.get(what) or {}, what, method)
        self._refuse_others(given, names, what, method)
        if not names:
            return [()] * count
        zeros = np.zeros(count)
        columns = [self._column(given[n], (count,), n, method, np.float64) if n in given else zeros for n in names]
        return [tuple(row) for row in np.stack(columns, axis=1).tolist()]

    def _held(self, given: Any, count: int, method: str) -> list[int]:
        if given is None:
            return [0] * count
        if not isinstance(given, list) or len(given) != count:
            raise BadMessage(
                f"`{method}` gave `closed_by` as {given!r:.80}; it is a list with a name, or null, an arena."
            )
        found = []
        for name in given:
            if name is not None and (not isinstance(name, str) or name not in self._bits):
                raise BadMessage(
                    f"`{method}` says that {name!r:.60} closed an episode; declared are {listed(self._bits)}."
                )
            found.append(0 if name is None else self._bits[name])
        return found

    def _mask(self, moment: Any, k: int, method: str) -> Any:
        if not self._description.bare.masked:
            return ()
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
