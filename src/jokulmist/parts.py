"""The parts that the shipped methods are made of, for authors of methods and of searches.

Advantages, replay memory, networks, schedules, distributions over actions, and steps down a gradient. The docstring of
each says what it takes; docs/extending.md puts some of them together.
"""

from jokulmist.agents.contract import Experience, Scheduled
from jokulmist.environments.declaration.instance import spec_of
from jokulmist.environments.spaces.channels import ObservationBatch, Spec
from jokulmist.learning.action_distributions import ActionDistribution, action_distribution
from jokulmist.learning.advantages import discounted_sums, explained_variance, generalised_advantages, standardise
from jokulmist.learning.networks.inputs import Inputs, apply_network
from jokulmist.learning.networks.layout import Layout, NetworkSettings, build_network
from jokulmist.learning.optimisation import descend, first_moments, huber
from jokulmist.learning.replay import Replay, Sample, add_to_replay, fresh_replay, replay_draws, sample_replay
from jokulmist.learning.schedules import Schedule
from jokulmist.studies.search.methods import SearchMethod

__all__ = [
    "ActionDistribution",
    "Experience",
    "Inputs",
    "Layout",
    "NetworkSettings",
    "ObservationBatch",
    "Replay",
    "Sample",
    "Schedule",
    "Scheduled",
    "SearchMethod",
    "Spec",
    "action_distribution",
    "add_to_replay",
    "apply_network",
    "build_network",
    "descend",
    "discounted_sums",
    "explained_variance",
    "first_moments",
    "fresh_replay",
    "generalised_advantages",
    "huber",
    "replay_draws",
    "sample_replay",
    "spec_of",
    "standardise",
]
