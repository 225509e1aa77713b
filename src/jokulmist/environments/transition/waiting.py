"""Chance while a copy waits to be asked: how many advances that takes is not known beforehand, so nothing can be drawn
ahead.

Two base numbers of the turn are the key, and a hash of key, advance and request gives the bits: pcg3d (Jarzynski and
Olano, 2020, "Hash Functions for GPU Rendering", listing 1), applied twice. It is written in whole numbers, so both
lanes have the same bits, and what a copy meets depends on seed, copy, turn and advance alone.
"""

from __future__ import annotations

import math
from types import ModuleType
from typing import Any

import numpy as np

from jokulmist.environments.chance.draws import Draw, Request, normal_quantile
from jokulmist.environments.chance.noise import BaseKind

MOST_WAITING = 10_000
KEY_REQUESTS = (Request("uniform", 1), Request("uniform", 1))
WORD = 0xFFFFFFFF
TO_SHARE = 2.0**-24


def mixed(a: Any, b: Any, c: Any, word: Any) -> tuple[Any, Any, Any]:
    """pcg3d of three 32-bit words; `word` makes a constant of their type and keeps a result to 32 bits."""
    factor, summand, sixteen = word(1664525), word(1013904223), word(16)
    a, b, c = (word(v * factor + summand) for v in (a, b, c))
    a = word(a + b * c)
    b = word(b + c * a)
    c = word(c + a * b)
    a, b, c = (v ^ (v >> sixteen) for v in (a, b, c))
    a = word(a + b * c)
    b = word(b + c * a)
    c = word(c + a * b)
    return a, b, c


def _of_number(value: int) -> int:
    return value & WORD


class WaitDraw(Draw):
    """Draws of one copy's waiting in one turn; `at` moves it to an advance."""

    def __init__(self, xp: ModuleType, first: Any, second: Any, unit: Any = None) -> None:
        self.xp = xp
        self._unit = unit
        self._j: Any = 0
        self._requests = 0
        if unit is None:
            self._key: tuple[Any, Any] = (int(first * 2**24), int(second * 2**24))
        else:
            self._key = tuple(xp.asarray(xp.reshape(u, ()) * 2.0**24, dtype=xp.uint32) for u in (first, second))

    def for_advance(self, j: Any) -> WaitDraw:
        self._j, self._requests = j, 0
        return self

    def _take(self, kind: BaseKind, shape: tuple[int, ...]) -> Any:
        request = self._requests
        self._requests = request + 1
        count = math.prod(shape)
        if self._unit is None and not shape:
            a, b, c = mixed(self._key[0], self._key[1], self._j, _of_number)
            u: Any = (mixed(a, b ^ request, c, _of_number)[0] >> 8) * TO_SHARE
        else:
            u = self._shares(request, count).reshape(shape)
        if kind == "order":
            return self.xp.asarray(self.xp.argsort(u, axis=-1), dtype=self.xp.float32)
        if kind == "normal":
            normal = normal_quantile(self.xp, u + 0.5 * TO_SHARE)
            return float(normal) if self._unit is None and not shape else normal
        return u

    def _shares(self, request: int, count: int) -> Any:
        """Uniform numbers of 24 bits, float32, shape ``(count,)``."""
        xp = self.xp

        def word(value: Any) -> Any:
            return xp.asarray(value, dtype=xp.uint32)

        first, second, j = (xp.broadcast_to(word(k), (1,)) for k in (self._key[0], self._key[1], self._j))
        a, b, c = mixed(first, second, j, word)
        a, b, c = mixed(a, b ^ word(request), c + xp.arange(count, dtype=xp.uint32), word)
        return xp.asarray(a >> word(8), dtype=xp.float32) * np.float32(TO_SHARE)

    def settle(self, value: Any) -> Any:
        return value
