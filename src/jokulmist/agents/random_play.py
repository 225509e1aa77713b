"""Random play: the level below which nothing was learned."""

from __future__ import annotations

from typing import Any, ClassVar, NamedTuple

from jokulmist.agents.protocol import Agent
from jokulmist.environments.actions import Record, split


class Nothing(NamedTuple):
    """A learner or a memory that holds nothing."""


class RandomPlay(Agent):
    """Every action drawn uniformly; learns nothing. Useful as a run to compare with."""

    plain: ClassVar[bool] = True

    @staticmethod
    def fresh(shapes: Any, numbers: Any, noise: Any) -> tuple[Nothing, Nothing]:
        return Nothing(), Nothing()

    @staticmethod
    def choose(
        shapes: Any, numbers: Any, learner: Any, memory: Any, observed: Any, noise: Any, explore: bool
    ) -> tuple[Any, Any, tuple[()]]:
        return _many(shapes.spec.action, shapes.copies, noise), memory, ()

    @staticmethod
    def learn(
        shapes: Any, numbers: Any, learner: Any, memory: Any, experience: Any, noise: Any
    ) -> tuple[Any, Any, tuple[()]]:
        return learner, memory, ()

    @staticmethod
    def choose_plain(
        shapes: Any, numbers: Any, learner: Any, memory: Any, observed: Any, noise: Any, explore: bool
    ) -> tuple[list[Any], Any, tuple[()]]:
        return split(_many(shapes.spec.action, shapes.copies, noise), shapes.copies), memory, ()

    learn_plain = learn


def _many(action: Any, copies: int, noise: Any) -> Any:
    """Random actions of all copies at once: the leading axis is the copies."""
    if hasattr(action, "parts"):
        return Record(**{name: _many(part, copies, noise) for name, part in action.parts.items()})
    if hasattr(action, "count"):
        return noise.integers(0, action.count, shape=(copies,))
    return noise.uniform(action.low, action.high, shape=(copies, *action.shape))
