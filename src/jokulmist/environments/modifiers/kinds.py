"""The modifiers that a user may name: the one list of them."""

from jokulmist.environments.modifiers.actions import ActionDelay, ActionNoise, StickyAction
from jokulmist.environments.modifiers.base import ActionModifier, Modifier, ObservationModifier, RewardModifier
from jokulmist.environments.modifiers.episodes import LearningEnd, Opening
from jokulmist.environments.modifiers.observations import (
    Brighter,
    Crop,
    Grey,
    Hide,
    LastAction,
    ObservationDelay,
    ObservationNoise,
    OneHot,
    Shrink,
    TimeLeft,
)
from jokulmist.environments.modifiers.rewards import Clipped, ForPlayer, Potential, Scaled, Signed
from jokulmist.environments.modifiers.stack import Stack

__all__ = [
    "ActionDelay",
    "ActionModifier",
    "ActionNoise",
    "Brighter",
    "Clipped",
    "Crop",
    "ForPlayer",
    "Grey",
    "Hide",
    "LastAction",
    "LearningEnd",
    "ObservationDelay",
    "ObservationModifier",
    "ObservationNoise",
    "OneHot",
    "Opening",
    "Potential",
    "RewardModifier",
    "Scaled",
    "Shrink",
    "Signed",
    "Stack",
    "StickyAction",
    "TimeLeft",
]

# What a plan names by `use`.
KINDS: dict[str, type[Modifier]] = {
    name: globals()[name]
    for name in __all__
    if globals()[name] not in (ActionModifier, ObservationModifier, RewardModifier)
}
