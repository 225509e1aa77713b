"""Immutable wrappers that change observations, actions, rewards or how an episode starts."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from jokulmist.environments.modifiers.base import (
    ActionModifier,
    ChannelValues,
    Modifier,
    ObservationModifier,
    RewardModifier,
    Surroundings,
)
from jokulmist.environments.modifiers.kinds import KINDS
from jokulmist.environments.modifiers.pipeline import ActionPipeline, ObservationPipeline, RewardPipeline
from jokulmist.errors import SettingError, listed, nearest
from jokulmist.loading import beside_use, plugin_from

__all__ = [
    "ActionModifier",
    "ActionPipeline",
    "ChannelValues",
    "Modifier",
    "ObservationModifier",
    "ObservationPipeline",
    "RewardModifier",
    "RewardPipeline",
    "Surroundings",
    "modifier_from",
]

BASES = "`jm.modifiers.ObservationModifier`, `jm.modifiers.ActionModifier` or `jm.modifiers.RewardModifier`"


def modifier_from(written: Any, base: Path | None = None) -> Modifier:
    """The modifier that an entry of a plan's ``modify`` names; the file of one of your own starts from `base`."""
    use = written.get("use") if isinstance(written, dict) else None
    if isinstance(use, str) and ":" in use:
        return plugin_from(written, Modifier, "modifier", BASES, base)
    kind = KINDS.get(use) if isinstance(use, str) else None
    if kind is None:
        raise SettingError(
            f"an entry of `modify` is a table with `use`, one of {listed(KINDS)}, or `file.py:Name`; got "
            f"{written!r}.{nearest(str(use), KINDS)} "
            f'Write for instance `modify = [{{ use = "Stack", count = 4 }}]`.'
        )
    modifier: Modifier = kind.made_from(beside_use(written))
    return modifier
