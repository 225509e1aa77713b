"""Base noise: uniform and normal numbers, and random orders, that depend on seed, stream, copy and turn, and on nothing
else.

Both lanes take their chance from here, ahead of the loop, so that the same seed gives the same draws plain and
compiled, however a run is cut into chunks. The numbers come from NumPy's counter-based Philox generator (Salmon et
al., 2011, "Parallel random numbers: as easy as 1, 2, 3"): the key holds the seed and what is asked for, the counter
holds the block of turns, so that any block can be made without those before it.

One *request* is one call on a draw, in the order in which a method makes its calls. Each request has numbers of its
own, so a method that asks for one more does not move the others.
"""

from __future__ import annotations

from enum import IntEnum
from typing import Any, Literal

import numpy as np

from jokulmist.arrays import NumpyArray
from jokulmist.errors import SettingError

BaseKind = Literal["uniform", "normal", "order"]
KIND_CODES: dict[str, int] = {"uniform": 0, "normal": 1, "order": 2}
BLOCK_NUMBERS = 16384
OWNED_BLOCK_TURNS = 256
SEED_LIMIT = 2**63


class Domain(IntEnum):
    """What the noise is for: equal seed numbers in two domains share nothing."""

    TRAINING = 0
    EVALUATION = 1
    HAND = 2
    CHECK = 3


class Stream(IntEnum):
    """Who asks. `FIRST_*` serve the very first states of all copies, before turn 0; `*LOOK` are the image
    sensors, `*OBSERVATION` and `ACTION` the modifiers of the observation and of the action, `*WAIT` advances on which
    nobody is asked."""

    FIRST_BEGIN = 0
    FIRST_SENSE = 1
    ADVANCE = 2
    SENSE = 3
    BEGIN = 4
    BEGIN_SENSE = 5
    EXPLORE = 6
    LEARN = 7
    FRESH = 8
    PLAY = 9
    FIRST_LOOK = 10
    LOOK = 11
    BEGIN_LOOK = 12
    FIRST_VARY = 13
    VARY = 14
    FIRST_OBSERVATION = 15
    OBSERVATION = 16
    BEGIN_OBSERVATION = 17
    ACTION = 18
    WAIT = 19
    BEGIN_WAIT = 20
    FIRST_WAIT = 21
    STAGGER = 22


def checked_seed(seed: Any) -> int:
    """A seed as an int, or an error that says what a seed is."""
    if isinstance(seed, bool) or not isinstance(seed, (int, np.integer)) or not 0 <= int(seed) < SEED_LIMIT:
        raise SettingError(f"a seed is a whole number from 0 to 2^63 - 1; got {seed!r}. Use for instance `seed=0`.")
    return int(seed)


class Noise:
    """The base noise of one run."""

    def __init__(self, seed: int, copies: int, domain: Domain, owners: tuple[int, ...] | None = None) -> None:
        self.seed = checked_seed(seed)
        self.copies = copies
        self.domain = domain
        self.owners = owners
        self._newest: dict[tuple[Stream, int, str, int], tuple[int, NumpyArray]] = {}

    def block_turns(self, width: int, copies: int) -> int:
        """Turns in one block: a power of two that follows from the numbers asked for, never from the clock."""
        if self.owners is not None:
            return OWNED_BLOCK_TURNS
        turns = max(16, BLOCK_NUMBERS // max(1, width * copies))
        return 1 << (turns.bit_length() - 1)

    def block(self, stream: Stream, request: int, kind: BaseKind, width: int, number: int, copies: int) -> Any:
        """One block, float32, shape ``(block_turns, copies, width)``."""
        turns = self.block_turns(width, copies)
        if self.owners is None:
            return self._generated(stream, request, kind, (turns, copies, width), number, 0)
        parts = [self._generated(stream, request, kind, (turns, 1, width), number, owner) for owner in self.owners]
        return np.concatenate(parts, axis=1)

    def rows(
        self,
        stream: Stream,
        request: int,
        kind: BaseKind,
        width: int,
        start: int,
        count: int,
        copies: int | None = None,
    ) -> NumpyArray:
        """The numbers of turns ``start`` to ``start + count``, float32, shape ``(count, copies, width)``."""
        copies = self.copies if copies is None else copies
        turns = self.block_turns(width, copies)
        first, last = start // turns, (start + count - 1) // turns
        # Stretches follow each other, so the block in which one ends is the one in which the next begins.
        key = (stream, request, kind, width)
        number, newest = self._newest.get(key, (-1, None))
        blocks = [
            newest if newest is not None and n == number else self.block(stream, request, kind, width, n, copies)
            for n in range(first, last + 1)
        ]
        self._newest[key] = (last, blocks[-1])
        joined = blocks[0] if len(blocks) == 1 else np.concatenate(blocks)
        return joined[start - first * turns : start - first * turns + count]

    def _generated(
        self, stream: Stream, request: int, kind: BaseKind, shape: tuple[int, ...], number: int, owner: int
    ) -> NumpyArray:
        code = (self.domain << 60) | (stream << 52) | (KIND_CODES[kind] << 50) | ((request & 0x3FFFF) << 32) | owner
        # The generator counts in the lowest word; the block is in the highest, so blocks never overlap.
        bits = np.random.Philox(
            key=np.array([self.seed, code], np.uint64), counter=np.array([0, 0, 0, number], np.uint64)
        )
        generator = np.random.Generator(bits)
        if kind == "uniform":
            return generator.random(shape, dtype=np.float32)
        if kind == "order":  # sorted here, where it is several times faster than in a compiled loop
            return np.argsort(generator.random(shape), axis=-1).astype(np.float32)
        return generator.standard_normal(shape, dtype=np.float32)
