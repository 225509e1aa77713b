"""The contract between an environment's copies and the loop that drives them.

A lane owns N copies: their states, observations and returns so far. Whatever is inside, it offers the same three
things: begin all, advance all with N actions, and what came out.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any, NamedTuple, Protocol

import numpy as np

from jokulmist.environments.declaration.description import Description
from jokulmist.environments.spaces.channels import ObservationBatch, Spec
from jokulmist.environments.spaces.legal import Mask
from jokulmist.errors import BrokenEnvironment


class Observed:
    """What all copies see.

    Attributes
    ----------
    rows : list of list of float
        The number channels of each copy, as Python numbers, in the units of the environment.
    images : list of dict of str to uint8 array
        The image channels of each copy; empty where there are none.
    masks : list of tuple of bool array
        What each copy is allowed; empty where the class does not say.
    ages : list of int
        Decisions since each copy's episode began.
    """

    __slots__ = ("ages", "images", "masks", "rows")

    def __init__(
        self,
        rows: list[list[float]],
        images: list[dict[str, Any]] | None = None,
        masks: list[Mask] | None = None,
        ages: list[int] | None = None,
    ) -> None:
        self.rows = rows
        self.images = images or []
        self.masks = masks or []
        self.ages = ages or [0] * len(rows)

    def for_copy(self, copy: int) -> Observed:
        """What one copy sees."""
        return Observed(
            [self.rows[copy]],
            [self.images[copy]] if self.images else None,
            [self.masks[copy]] if self.masks else None,
            [self.ages[copy]],
        )

    def filled_up(self, count: int) -> Observed:
        """The same with copies of the first behind it, so that there are `count`."""
        more = count - len(self.rows)
        if not more:
            return self
        parts = (self.rows, self.images, self.masks, self.ages)
        return Observed(*(part and [*part, *part[:1] * more] for part in parts))  # type: ignore[arg-type]

    def saved(self) -> dict[str, Any]:
        """As a tree of arrays."""
        seen = self.seen
        return {
            "rows": np.array(self.rows, np.float64),
            "images": seen.images,
            "masks": list(seen.legal),
            "ages": np.array(self.ages, np.int64),
        }

    def restored(self, arrays: dict[str, Any]) -> Observed:
        """What `saved` told, under its paths, of an observation of this form."""
        copies = range(len(self.rows))
        names = list((self.images or [{}])[0])
        parts = len(self.masks[0]) if self.masks else 0
        return Observed(
            arrays["rows"].tolist(),
            [{name: arrays[f"images/{name}"][i] for name in names} for i in copies] if self.images else None,
            [tuple(arrays[f"masks/{k}"][i] for k in range(parts)) for i in copies] if self.masks else None,
            arrays["ages"].tolist(),
        )

    @property
    def seen(self) -> ObservationBatch:
        """The same as arrays, with a leading axis of copies."""
        images = {name: np.stack([image[name] for image in self.images]) for name in (self.images or [{}])[0]}
        legal = tuple(np.stack(part) for part in zip(*self.masks, strict=True))
        try:
            rows = np.array(self.rows, np.float32)
        except (TypeError, ValueError):
            raise BrokenEnvironment(no_number(self.rows)) from None
        return ObservationBatch(rows, images, legal, np.array(self.ages, np.int32))


def joined_moments(moments: Sequence[Observed]) -> Observed:
    """What was seen at several moments, one after another, as if copies side by side saw it."""
    parts = [
        [row for moment in moments for row in getattr(moment, name)] for name in ("rows", "images", "masks", "ages")
    ]
    return Observed(*parts)


def no_number(rows: Sequence[Sequence[Any]]) -> str:
    """What to say of rows that are no table of numbers; empty where they are one."""
    for row in rows:
        for value in row:
            try:
                float(value)
            except (TypeError, ValueError):
                return f"a sensor gave {value!r:.80}; it must give one number. `jokulmist check` says which."
    lengths = {len(row) for row in rows}
    return "the sensors gave rows of different lengths. `jokulmist check` says which." if len(lengths) > 1 else ""


class Finished(NamedTuple):
    """One episode that closed: its copy, length, unweighted totals, measures, the closings that held, the
    parameters that were its own, and the return that was learned from where rewards are modified."""

    copy: int
    steps: int
    satisfied: int
    totals: tuple[float, ...]
    measures: tuple[float, ...]
    varied: tuple[float, ...] = ()
    learned: float = 0.0
    advances: int = 0
    agent_records: tuple[float, ...] = ()


class LaneOutcome(NamedTuple):
    """What came out of one turn of all copies.

    Attributes
    ----------
    rewards : list of float
        Weighted sums of the terms.
    ended : list of bool
        A true end: nothing is bootstrapped.
    closed : list of bool
        A true end or a cut: the copy began again.
    last : Observed
        The true observation after the advance, of the old episode where one closed.
    observed : Observed
        What is decided on next, of the new episode where one closed.
    finished : list of Finished
        The episodes that closed, by copy.
    lost : sequence of int
        Copies whose worker process was lost: their rows are of no use, and they are decided on again.
    advances : sequence of int
        How many advances each copy's decision lasted; empty where each lasts one.
    """

    rewards: list[float]
    ended: list[bool]
    closed: list[bool]
    last: Observed
    observed: Observed
    finished: list[Finished]
    lost: Sequence[int] = ()
    advances: Sequence[int] = ()


class Lane(Protocol):
    """N copies of one environment."""

    description: Description
    copies: int

    @property
    def spec(self) -> Spec: ...

    def begin(self) -> Observed:
        """Begin an episode in every copy; called once."""
        ...

    def advance(self, actions: list[Any]) -> LaneOutcome:
        """Advance every copy by its action, in own form; copies that close start again at once."""
        ...
