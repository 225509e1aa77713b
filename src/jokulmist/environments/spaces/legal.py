"""Which choices are allowed now: what `legal(self, state)` gives, in one form for both lanes.

The mask is a tuple with one truth-value array for each Choice of the action, in order; Ranges have none.
"""

from __future__ import annotations

from collections.abc import Mapping
from types import ModuleType
from typing import Any

import numpy as np

from jokulmist.environments.spaces.actions import Action, Actions, Choice, Record
from jokulmist.errors import ActionError, BrokenEnvironment, listed, nearest

Mask = tuple[Any, ...]
# Of several players: who decides now, and who is not out.
DECIDING, STAYS = "asked", "stays"


def choices_of(action: Action) -> dict[str, Choice]:
    """The Choices of an action by part; a Choice by itself has the empty name."""
    if isinstance(action, Choice):
        return {"": action}
    parts = action.parts if isinstance(action, Actions) else {}
    return {name: part for name, part in parts.items() if isinstance(part, Choice)}


def mask_from(labels: Any, action: Action, xp: ModuleType, context: str) -> Mask:
    """What a researcher's `legal` returned, checked."""
    choices = choices_of(action)
    if isinstance(action, Actions):
        named = vars(labels) if isinstance(labels, Record) else labels
        if not isinstance(named, Mapping):
            raise BrokenEnvironment(
                f"`{context}` returned {type(labels).__name__}; with several parts it must return a dict of arrays, "
                f"e.g. `{{{next(iter(choices), 'part')!r}: ...}}`."
            )
        for name in named:
            if name not in choices and name not in (DECIDING, STAYS):
                raise BrokenEnvironment(
                    f"`{context}` names `{name}`, which is no choice of the action; the choices are {listed(choices)}."
                    f"{nearest(name, choices)}"
                )
    else:
        named = {"": labels}
    mask = []
    for name, choice in choices.items():
        allowed = xp.asarray(named[name]) if name in named else xp.ones(choice.count, dtype=bool)
        if allowed.dtype != np.bool_ or allowed.shape != (choice.count,):
            raise BrokenEnvironment(
                f"`{context}` gave {allowed.dtype} of shape {allowed.shape}{f' for `{name}`' if name else ''}; it must "
                f"give {choice.count} truth values, one for each of {listed(choice.labels)}."
            )
        mask.append(allowed)
    if getattr(action, "leaves", False):
        mask.append(named[STAYS])
    if getattr(action, "asks", False):  # who decides is asked of the class together with what is allowed
        mask.append(named[DECIDING])
    return tuple(mask)


def mask_widths(action: Action) -> list[int]:
    """The lengths of the arrays of a mask."""
    players = getattr(action, "players", {})
    more = [len(players) for name in ("leaves", "asks") if getattr(action, name, False)]
    return [choice.count for choice in choices_of(action).values()] + more


def draw_legal(xp: ModuleType, allowed: Any, u: Any) -> Any:
    """The index of an allowed alternative, each equally likely."""
    reach = xp.cumsum(xp.asarray(allowed, dtype=xp.int32), axis=-1)
    count = reach[..., -1]
    wanted = xp.minimum(xp.floor(u * count), count - 1)
    return xp.sum(reach <= wanted[..., None], axis=-1)


def refuse_illegal(action: Action, native: Any, mask: Mask) -> None:
    """Raise `ActionError` where an action in own form is not allowed now."""
    for (name, choice), allowed in zip(choices_of(action).items(), mask, strict=False):
        index = getattr(native, name) if name else native
        if not allowed[index]:
            legal_labels = [label for label, able in zip(choice.labels, allowed, strict=True) if able]
            raise ActionError(f"`{choice.label(index)}` is not allowed now; allowed are {listed(legal_labels)}.")
