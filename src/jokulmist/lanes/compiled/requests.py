"""What an environment asks of chance, by stream, and the base noise that answers it."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from jokulmist.arrays import NumpyArray
from jokulmist.environments.chance.draws import Request
from jokulmist.environments.chance.noise import Noise, Stream


@dataclass(frozen=True)
class Requests:
    """What `begin`, `advance` and the sensors ask of chance, counted by the first trace."""

    begin: tuple[Request, ...]
    advance: tuple[Request, ...]
    sense: tuple[Request, ...]
    look: tuple[Request, ...]
    vary: tuple[Request, ...]
    first_observation: tuple[Request, ...]
    observation: tuple[Request, ...]
    action: tuple[Request, ...]
    wait: tuple[Request, ...]

    def for_stream(self, stream: Stream) -> tuple[Request, ...]:
        if stream in (Stream.BEGIN, Stream.FIRST_BEGIN):
            return self.begin
        if stream in (Stream.LOOK, Stream.BEGIN_LOOK, Stream.FIRST_LOOK):
            return self.look
        if stream in (Stream.VARY, Stream.FIRST_VARY):
            return self.vary
        if stream in (Stream.FIRST_OBSERVATION, Stream.BEGIN_OBSERVATION):
            return self.first_observation
        if stream in (Stream.WAIT, Stream.BEGIN_WAIT, Stream.FIRST_WAIT):
            return self.wait
        if stream in (Stream.OBSERVATION, Stream.ACTION):
            return self.observation if stream is Stream.OBSERVATION else self.action
        return self.advance if stream is Stream.ADVANCE else self.sense


def stacked_rows(
    noise: Noise,
    stream: Stream,
    requests: tuple[Request, ...],
    start: int,
    count: int,
    room: int,
    copies: int | None = None,
) -> list[NumpyArray]:
    """The base noise of turns ``start`` to ``start + count``: a request gives one array ``(room, copies, width)``."""
    arrays = []
    copies = noise.copies if copies is None else copies
    for number, request in enumerate(requests):
        array = np.empty((room, copies, request.width), np.float32)  # rows beyond count are never read
        array[:count] = noise.rows(stream, number, request.kind, request.width, start, count, copies)
        arrays.append(array)
    return arrays
