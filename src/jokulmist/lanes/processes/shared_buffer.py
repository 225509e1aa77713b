"""The memory that a lane of worker processes shares with its workers: a record a copy and advance, an action a copy.

It is an unlinked file that both sides map, handed on by its descriptor: when the last process that holds it ends,
killed or not, it is gone.
"""

from __future__ import annotations

import mmap
import os
import tempfile
from pathlib import Path
from typing import Any

import numpy as np

from jokulmist.arrays import NumpyArray
from jokulmist.environments.declaration.description import Description
from jokulmist.environments.spaces.actions import Action, Choice, Record, parts_of
from jokulmist.environments.spaces.legal import mask_widths
from jokulmist.environments.transition.simulator_stepping import SimulatorState

SHARED_FOLDER = Path("/dev/shm")


class SharedBuffer:
    """The shared memory of some copies."""

    def __init__(self, description: Description, copies: int, descriptor: int | None = None) -> None:
        self.description = description
        self.copies = copies
        self.action = description.action
        kind = _record_of(description)
        numbers = _numbers_of(self.action)
        action_bytes, done = kind.itemsize * copies * description.decide_every, 8 * numbers * copies
        if descriptor is None:
            place = SHARED_FOLDER if SHARED_FOLDER.is_dir() else None
            with tempfile.TemporaryFile(dir=place) as file:
                descriptor = os.dup(file.fileno())
            os.ftruncate(descriptor, max(action_bytes + done, 1))
        self.descriptor = descriptor
        self._map = mmap.mmap(descriptor, max(action_bytes + done, 1))
        self._counts = np.ndarray((copies, description.decide_every), kind, self._map)
        self._done = np.ndarray((copies, numbers), np.float64, self._map, offset=action_bytes)

    def write(self, copy: int, slot: int, state: SimulatorState) -> None:
        """Keep what a copy's simulator told."""
        record = self._counts[copy, slot]
        record["row"], record["terms"], record["measures"] = state.row, state.terms, state.measures
        record["held"] = state.satisfied
        for name, image in state.images.items():
            record[f"image {name}"] = image
        for k, allowed in enumerate(state.mask):
            record[f"mask {k}"] = allowed

    def read(self, copy: int, slot: int) -> SimulatorState:
        record = self._counts[copy, slot]
        return SimulatorState(
            row=record["row"].tolist(),
            images={c.name: record[f"image {c.name}"].copy() for c in self.description.bare.images},
            terms=tuple(record["terms"].tolist()),
            measures=tuple(record["measures"].tolist()),
            satisfied=int(record["held"]),
            mask=tuple(record[f"mask {k}"].copy() for k in range(len(_mask_counts(self.description)))),
        )

    def decide(self, copy: int, action: Any) -> None:
        """Keep the action that a copy is to take, in own form."""
        self._done[copy] = _as_numbers(self.action, action)

    def decided(self, copy: int) -> Any:
        return _from_numbers(self.action, self._done[copy])

    def close(self) -> None:
        os.close(self.descriptor)


def _record_of(description: Description) -> np.dtype[Any]:
    fields: list[Any] = [
        ("row", np.float32, (description.bare.width,)),
        ("terms", np.float64, (len(description.terms),)),
        ("measures", np.float64, (len(description.measures),)),
        ("held", np.int32),
    ]
    fields += [(f"image {c.name}", np.uint8, c.shape) for c in description.bare.images]
    fields += [(f"mask {k}", np.bool_, (count,)) for k, count in enumerate(_mask_counts(description))]
    return np.dtype(fields, align=True)


def _mask_counts(description: Description) -> list[int]:
    return mask_widths(description.action) if description.bare.masked else []


def _numbers_of(action: Action) -> int:
    return sum(1 if isinstance(part, Choice) else part.size for part in parts_of(action).values())


def _as_numbers(action: Action, native: Any) -> NumpyArray:
    values = [getattr(native, name) if name else native for name in parts_of(action)]
    return np.concatenate([np.asarray(value, np.float64).reshape(-1) for value in values])


def _from_numbers(action: Action, numbers: NumpyArray) -> Any:
    parts: dict[str, Any] = {}
    start = 0
    for name, part in parts_of(action).items():
        size = 1 if isinstance(part, Choice) else part.size
        piece = numbers[start : start + size]
        start += size
        if isinstance(part, Choice):
            parts[name] = int(piece[0])
        elif part.shape == ():
            parts[name] = float(piece[0])
        else:
            parts[name] = piece.astype(np.float32).reshape(part.shape)
    return parts[""] if "" in parts else Record(**parts)
