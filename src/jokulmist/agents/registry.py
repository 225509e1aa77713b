"""The methods that ship, by the names that plans use. A new method is one file here and one line in this table."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from importlib import import_module

from jokulmist.agents.contract import Agent

PLACES = {
    "QLearning": "tables.q_learning",
    "Sarsa": "tables.sarsa",
    "ExpectedSarsa": "tables.sarsa",
    "DoubleQLearning": "tables.double_q",
    "LinearQ": "values.linear_q",
    "DQN": "values.dqn",
    "Reinforce": "policies.reinforce",
    "ActorCritic": "policies.actor_critic",
    "PPO": "policies.ppo",
    "DDPG": "critics.ddpg",
    "TD3": "critics.td3",
    "SAC": "critics.sac",
    "Cloning": "recorded.cloning",
    "ImplicitQ": "recorded.implicit_q",
    "RandomPlay": "random_play",
    "Fixed": "fixed",
    "Roster": "roster",
}


class ShippedAgents(Mapping[str, type[Agent]]):
    """The classes by name, each imported where it is asked for: a run takes one or two of them, and all take a tenth of its start."""

    def __getitem__(self, name: str) -> type[Agent]:
        found: type[Agent] = getattr(import_module(f"jokulmist.agents.{PLACES[name]}"), name)
        return found

    def __iter__(self) -> Iterator[str]:
        return iter(PLACES)

    def __len__(self) -> int:
        return len(PLACES)

    def __contains__(self, name: object) -> bool:
        return name in PLACES


AGENTS = ShippedAgents()
