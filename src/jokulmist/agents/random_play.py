"""Random play: the level below which nothing was learned."""

from __future__ import annotations

from typing import Any, ClassVar, NamedTuple

from jokulmist.agents.configs import Config, Hyperparameters
from jokulmist.agents.contract import Agent, Experience
from jokulmist.arrays import Array
from jokulmist.environments.chance.draws import Draw, PlainDraw
from jokulmist.environments.spaces.actions import Record, split
from jokulmist.environments.spaces.channels import ObservationBatch, Spec
from jokulmist.environments.spaces.legal import draw_legal


class Nothing(NamedTuple):
    """A learner or a memory that holds nothing."""


class RandomPlay(Agent):
    """Every action drawn uniformly; learns nothing. Useful as a run to compare with, and as a player among others.

    Examples
    --------
    >>> import jokulmist as jm
    >>> run = jm.train(jm.gallery.Tarn(), jm.RandomPlay(), episodes=5, lane="plain", folder=None)
    >>> len(run.episodes)
    5
    """

    learns: ClassVar[bool] = False

    def refuse(self, spec: Spec) -> None:
        """Random play looks at nothing, so it works with anything."""

    @staticmethod
    def fresh_learner(config: Config, hyperparameters: Hyperparameters, noise: Draw) -> Nothing:
        return Nothing()

    @staticmethod
    def choose(
        config: Config,
        hyperparameters: Hyperparameters,
        learner: Any,
        memory: Any,
        observed: ObservationBatch,
        noise: Draw,
        explore: bool,
    ) -> tuple[Array, Any, tuple[()]]:
        return _many(config.spec.action, config.copies, noise, list(observed.legal)), memory, ()

    @staticmethod
    def learn(
        config: Config, hyperparameters: Hyperparameters, learner: Any, memory: Any, experience: Experience, noise: Draw
    ) -> tuple[Any, Any, tuple[()]]:
        return learner, memory, ()

    @classmethod
    def scalar(
        cls,
        config: Config,
        hyperparameters: Hyperparameters,
        learner: Any,
        explore: PlainDraw,
        learn: PlainDraw | None,
        exploring: bool = True,
    ) -> ScalarRandomPlay | None:
        return None if config.spec.masked else ScalarRandomPlay(config, explore)


class ScalarRandomPlay:
    """The `ScalarAgent` of random play."""

    def __init__(self, config: Config, explore: PlainDraw) -> None:
        self._action, self._copies, self._explore = config.spec.action, config.copies, explore
        self._actions_drawn: list[Any] = []

    def see(self, i: int, row: Any) -> None: ...

    def turn(self, turn: int) -> None:
        self._actions_drawn = split(_many(self._action, self._copies, self._explore.for_step(turn, 0)), self._copies)

    def decide(self, i: int) -> Any:
        return self._actions_drawn[i]

    def judge(self, i: int, reward: float, ended: bool, closed: bool, last: Any) -> None: ...

    def write(self) -> tuple[float, ...]:
        return ()

    def saved(self) -> dict[str, Any]:
        return {}

    def restore(self, saved: Any) -> None: ...


def _many(action: Any, copies: int, noise: Draw, legal: list[Any] | None = None) -> Any:
    """Random actions of all copies at once: the leading axis is the copies; masks are used up part by part."""
    if hasattr(action, "parts"):
        return Record(**{name: _many(part, copies, noise, legal) for name, part in action.parts.items()})
    if hasattr(action, "count"):
        if legal:
            return draw_legal(noise.xp, legal.pop(0), noise.uniform(shape=(copies,)))
        return noise.integers(0, action.count, shape=(copies,))
    return noise.uniform(action.low, action.high, shape=(copies, *action.shape))
