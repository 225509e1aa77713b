"""Modifiers of an environment: what is observed, done and learned from, and how an episode begins and ends.

``environment.modified(jm.modifiers.Stack(4))`` puts one around an environment; a plan lists them under ``modify``.
"""

from jokulmist.environments.modifiers import kinds
from jokulmist.environments.modifiers.kinds import *  # noqa: F403

__all__ = kinds.__all__
