"""In which settings runs differ, from their plans as written; nothing is imported for it."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from typing import Any

# What is kept and looked at while a run trains does not change what is learned; how long it trained is told apart.
BESIDE = (
    "training.seeds",
    "training.steps",
    "training.episodes",
    "training.evaluate_every",
    "training.evaluate_episodes",
    "training.panel",
    "training.checkpoint_every",
    "training.checkpoint_minutes",
    "training.keep_checkpoints",
    "training.keep_diff",
    "training.best_by",
    "training.record_every",
    "training.lane",
    "training.processes",
)
USES = ("environment.use", "agent.use")
# What a heading says instead of the word of a plan.
WORDS = {"environment.use": "environment", "agent.use": "method"}
Flat = dict[str, Any]


def flat(values: Any, prefix: str = "") -> Flat:
    """A plan's sections as one mapping of ``section.name`` to value."""
    flat_values: Flat = {}
    for name, value in values.items():
        if isinstance(value, Mapping):
            flat_values.update(flat(value, f"{prefix}{name}."))
        else:
            flat_values[f"{prefix}{name}"] = value
    return flat_values


def differing(plans: Sequence[Flat], beside: Iterable[str] = BESIDE) -> list[str]:
    """The names of the settings that are not the same in all plans, in the order of the plans."""
    hidden = set(beside)
    names = list(dict.fromkeys(name for plan in plans for name in plan))
    return [name for name in names if name not in hidden and len({repr(plan.get(name)) for plan in plans}) > 1]


def short_names(names: Sequence[str]) -> dict[str, str]:
    """Each name by its last part, where that says which it is."""
    last = [WORDS.get(name, name.rpartition(".")[2]) for name in names]
    return {name: end if last.count(end) == 1 else name for name, end in zip(names, last, strict=True)}
