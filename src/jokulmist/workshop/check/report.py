"""What a check found, as data: findings, what was seen, known levels, speeds."""

from __future__ import annotations

import math
from dataclasses import asdict, dataclass, field
from typing import Any, Literal

from jokulmist import cells
from jokulmist.judging.evaluate import Evaluation

Level = Literal["error", "warning"]


@dataclass(frozen=True)
class Finding:
    """One problem of an environment: how bad it is, what is wrong, its place in the class, why it matters, how to fix
    it."""

    level: Level
    problem: str
    place: str
    why: str
    fix: str


@dataclass
class Reach:
    """What a channel or a reward term was seen to do under random play."""

    name: str
    declared: str
    least: float = math.inf
    most: float = -math.inf
    total: float = 0.0
    count: int = 0
    outside: int = 0

    @property
    def mean(self) -> float:
        """The mean over all steps that were seen."""
        return self.total / max(self.count, 1)


@dataclass
class CheckReport:
    """What `check` found.

    Attributes
    ----------
    findings : list of Finding
    channels, terms : list of Reach
    images : dict of str to str
        The channels that are images, with their shape.
    seen_of_images : str
        What the usual network sees of them.
    closed_by : dict of str to int
        How the episodes of random play closed.
    levels : dict of str to Evaluation
        Random play and the references.
    compiles : bool
    stepped : str
        How a simulator is stepped, in words.
    simulated : bool
        A `jm.Simulator`, which is never compiled.
    why_plain : str
    speeds : dict of str to float
        Steps per second under random play, by lane.
    """

    name: str
    findings: list[Finding] = field(default_factory=list)
    steps: int = 0
    channels: list[Reach] = field(default_factory=list)
    images: dict[str, str] = field(default_factory=dict)
    seen_of_images: str = ""
    terms: list[Reach] = field(default_factory=list)
    closed_by: dict[str, int] = field(default_factory=dict)
    levels: dict[str, Evaluation] = field(default_factory=dict)
    sees_more: dict[str, bool] = field(default_factory=dict)
    compiles: bool = False
    simulated: bool = False
    stepped: str = ""
    why_plain: str = ""
    speeds: dict[str, float] = field(default_factory=dict)

    @property
    def ok(self) -> bool:
        """Whether there is no error; warnings are allowed."""
        return not any(f.level == "error" for f in self.findings)

    def as_json(self) -> dict[str, Any]:
        return {
            "environment": self.name,
            "ok": self.ok,
            "findings": [asdict(f) for f in self.findings],
            "steps": self.steps,
            "channels": [asdict(c) for c in self.channels],
            "images": self.images,
            "terms": [asdict(t) for t in self.terms],
            "closed_by": self.closed_by,
            "levels": {
                name: {
                    "mean": e.mean,
                    "sd": e.sd,
                    "interval": list(e.interval),
                    "sees_more": self.sees_more.get(name, False),
                }
                for name, e in self.levels.items()
            },
            "compiles": self.compiles,
            "why_plain": self.why_plain,
            "steps_per_second": self.speeds,
        }

    @cells.safely
    def _repr_html_(self) -> str:
        facts: dict[str, Any] = {
            "steps of random play": self.steps,
            "found": "no error" if self.ok else "see below",
        }
        facts |= {
            f"{'random play' if name == 'random' else f'reference {name}'} returns": "{0:.4g} (sd {3:.3g})".format(
                *level.told_of(level.telling)
            )
            for name, level in self.levels.items()
        }
        facts["compiles"] = "yes" if self.compiles else self.stepped or f"no: {self.why_plain}"
        table_rows = [{"": f.level, "problem": f.problem, "place": f.place, "fix": f.fix} for f in self.findings]
        ranges = [
            {"": kind, "name": r.name, "declared": r.declared, "least": r.least, "most": r.most}
            for kind, rows in (("observed", self.channels), ("reward", self.terms))
            for r in rows
        ]
        return cells.html_card(
            f"check of {self.name}",
            facts,
            cells.table(table_rows, "findings", most=40),
            cells.table(ranges, "ranges", most=40),
        )

    def __str__(self) -> str:
        from jokulmist.workshop.check.text import text_of

        return text_of(self)

    __repr__ = __str__
