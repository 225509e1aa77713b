"""What the two training loops have in common: their contract, and what comes out of them."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, Protocol

import numpy as np

from jokulmist.agents.contract import Agent
from jokulmist.environments.chance.draws import PlainDraw
from jokulmist.environments.chance.noise import Domain, Noise, Stream
from jokulmist.environments.declaration.description import Description
from jokulmist.lanes.plain import NEVER_CUT
from jokulmist.records.episodes import Episodes

# Evaluation episodes that are played together, and the advances after which one counts as never closing.
SIDE_BY_SIDE, MOST_ADVANCES = 64, 100_000


@dataclass(frozen=True)
class Planned:
    """How long a run is: one of the two is given. What is asked for later moves no schedule: they stay at their last
    value."""

    steps: int | None = None
    episodes: int | None = None
    more_steps: int = 0
    more_episodes: int = 0

    @property
    def last_step(self) -> int | None:
        """Decisions after which it is over, with what was asked for later."""
        return None if self.steps is None else self.steps + self.more_steps

    @property
    def last_episode(self) -> int | None:
        return None if self.episodes is None else self.episodes + self.more_episodes

    def share(self, decisions: int, episodes: int) -> float:
        """How much of the run is done."""
        done = decisions / self.steps if self.steps is not None else episodes / (self.episodes or 1)
        return min(done, 1.0)


def never_closed(name: str) -> str:
    """Told of an evaluation episode that goes on for ever."""
    return (
        f"an episode of `{name}` did not close within {MOST_ADVANCES:,} advances. Declare `time_limit = 1000`, or an "
        "ending that can be reached."
    )


def first_ages(agent: Agent, description: Description, seed: int, copies: int) -> Any:
    """The decision at which the first episode of each copy is cut, int32, shape ``(copies,)``; None where none is.

    Copies that begin together and whose episodes are equally long stay in step for ever, and each batch of a method
    that learns from what just happened would hold one phase of the episodes only. So their first episodes are cut at
    ages that are spread evenly over the limit. What is learned from sees a cut; no episode is recorded. The first
    copy's is left whole.
    """
    if not agent.staggered or copies < 2 or description.limit is None:
        return None
    limit = max(1, description.limit // description.decide_every)
    u = PlainDraw(Noise(seed, 1, Domain.TRAINING), Stream.STAGGER).for_step(0, 0).uniform(shape=(copies,))
    ages = 1 + np.floor((np.arange(copies) + u) / copies * limit).astype(np.int32)
    ages[(ages >= limit) | (np.arange(copies) == 0)] = NEVER_CUT
    return ages


class Loop(Protocol):
    """A run in progress. `advance` may be called in pieces of any length: the pieces change nothing."""

    decisions: int
    episodes: int
    turn: int

    def advance(self, turns: int) -> Episodes:
        """Go on for so many turns of all copies (whole updates), or until the planned episodes are done."""
        ...

    def saved(self) -> dict[str, Any]:
        """All that the loop is between two updates, as NumPy arrays by path; `restore` makes a fresh loop of the same
        plan be it."""
        ...

    def restore(self, arrays: dict[str, Any]) -> None: ...

    def start_from(self, arrays: dict[str, Any]) -> None:
        """Before the first turn: begin with these arrays of a learner, by path as in `saved`."""
        ...

    def follow_first(self, every: int) -> None:
        """Record episodes of the first copy: one in so many, and those that are better or worse than all before."""
        ...

    def followed(self) -> Any:
        """The episodes of the first copy that closed since the last call; see `rollout_recorder.Recorded`."""
        ...

    def count_episodes(self, episodes: int) -> None:
        """So many episodes have closed; those of the last turn or batch beyond that are not counted."""
        ...

    def set_level(self, value: float) -> None:
        """The level of the curriculum for episodes that begin from now on."""
        ...

    def readings(self) -> dict[str, float]:
        """Means of the readings since the last call."""
        ...

    def learner(self) -> Any:
        """What a policy needs of what was learned so far, as NumPy arrays; a copy."""
        ...

    @property
    def turns_per_update(self) -> int: ...

    @property
    def most_turns(self) -> int:
        """The largest piece that `advance` takes."""
        ...
