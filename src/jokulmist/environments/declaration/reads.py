"""Which fields of a state a method reads: it is given a state that notes what is asked of it."""

from __future__ import annotations

from typing import Any

from jokulmist.environments.declaration.state import State


def watched(state: State) -> tuple[State, set[str]]:
    """A twin of a state, and the set that fills with the names of the fields that are read from it.

    What ``replace`` takes over is not read.
    """
    cls, read = type(state), set[str]()

    class Watched(cls):  # type: ignore[misc, valid-type]
        def __getattribute__(self, name: str) -> Any:
            if name in cls._fields:
                read.add(name)
            return super().__getattribute__(name)

    twin: State = object.__new__(Watched)
    twin.__dict__.update(state.__dict__)
    return twin, read
