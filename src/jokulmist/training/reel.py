"""Episodes of the first copy out of the film that a compiled program writes, chunk by chunk."""

from __future__ import annotations

from typing import Any

import numpy as np

from jokulmist.environments.description import Description
from jokulmist.records.rollouts import Taped
from jokulmist.training.taping import COPY, Recorded


class Reel:
    """Cuts a film at the ends of its episodes.

    Parameters
    ----------
    description : Description
    known : bool
        Whether the film begins with an episode: after going on with a run it begins in the middle of one, which is left out.
    """

    def __init__(self, description: Description, known: bool) -> None:
        self._description = description
        self.known = known
        self._pieces: list[Any] = []
        self._found: list[Recorded] = []

    def take(self, film: Any, rows: Any, first_turn: int, turns: int, copies: int) -> None:
        """The film of a chunk, and the rows that say which closings held."""
        held = np.asarray(rows[:turns, 0, COPY]).astype(np.int64)
        begin = 0
        for end in np.flatnonzero(held):
            self._pieces.append(_piece(film, begin, int(end) + 1))
            if self.known:
                taped = self._joined(int(held[end]))
                self._found.append(Recorded((first_turn + int(end) + 1) * copies, taped))
            self._pieces, self.known, begin = [], True, int(end) + 1
        if begin < turns:
            self._pieces.append(_piece(film, begin, turns))

    def taken(self) -> list[Recorded]:
        found, self._found = self._found, []
        return found

    def _joined(self, held: int) -> Taped:
        film = self._pieces[0] if len(self._pieces) == 1 else _together(self._pieces)
        n = len(film.numbers)
        states, after = film.states.__dict__, film.states_after.__dict__
        return Taped(
            numbers=np.concatenate([film.numbers, film.numbers_after[-1:]]),
            images={name: np.concatenate([film.images[name], film.images_after[name][-1:]]) for name in film.images},
            actions=film.actions,
            terms=np.stack(film.terms, axis=-1) if film.terms else np.zeros((n, 0), np.float32),
            measures=np.stack(film.measures, axis=-1) if film.measures else np.zeros((n, 0), np.float32),
            held=held,
            states={f.name: np.concatenate([states[f.name], after[f.name][-1:]]) for f in self._description.fields},
        )


def _mapped(function: Any, *trees: Any) -> Any:
    """A function over the arrays of trees of one form."""
    first = trees[0]
    if isinstance(first, tuple):
        parts = [_mapped(function, *[tree[k] for tree in trees]) for k in range(len(first))]
        return type(first)(*parts) if hasattr(first, "_fields") else tuple(parts)
    if isinstance(first, dict):
        return {name: _mapped(function, *[tree[name] for tree in trees]) for name in first}
    if hasattr(first, "__dict__") and not hasattr(first, "shape"):
        twin = object.__new__(type(first))
        twin.__dict__.update({n: _mapped(function, *[vars(tree)[n] for tree in trees]) for n in vars(first)})
        return twin
    return function(*[np.asarray(tree) for tree in trees])


def _piece(film: Any, begin: int, end: int) -> Any:
    return _mapped(lambda array: array[begin:end].copy(), film)


def _together(pieces: list[Any]) -> Any:
    return _mapped(lambda *arrays: np.concatenate(arrays), *pieces)
