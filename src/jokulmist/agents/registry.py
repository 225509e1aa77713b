"""The methods that ship, by the names that plans use. A new method is one file here, one name in this list, and one
line among the public names of the package, which say where it stands."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from importlib import import_module

from jokulmist.agents.contract import Agent

SHIPPED = (
    "QLearning",
    "Sarsa",
    "ExpectedSarsa",
    "DoubleQLearning",
    "LinearQ",
    "DQN",
    "Reinforce",
    "ActorCritic",
    "PPO",
    "DDPG",
    "TD3",
    "SAC",
    "Cloning",
    "ImplicitQ",
    "RandomPlay",
    "Fixed",
    "Roster",
)


class ShippedAgents(Mapping[str, type[Agent]]):
    """The classes by name, each imported where it is asked for: a run takes one or two of them, and all take a tenth of
    its start."""

    def __getitem__(self, name: str) -> type[Agent]:
        if name not in SHIPPED:
            raise KeyError(name)
        kind: type[Agent] = getattr(import_module("jokulmist"), name)
        return kind

    def __iter__(self) -> Iterator[str]:
        return iter(SHIPPED)

    def __len__(self) -> int:
        return len(SHIPPED)

    def __contains__(self, name: object) -> bool:
        return name in SHIPPED


AGENTS = ShippedAgents()
