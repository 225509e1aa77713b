"""The methods that ship, by the names that plans use. A new method is one file here and one line in this table."""

from __future__ import annotations

from jokulmist.agents.contract import Agent
from jokulmist.agents.critics.ddpg import DDPG
from jokulmist.agents.critics.sac import SAC
from jokulmist.agents.critics.td3 import TD3
from jokulmist.agents.fixed import Fixed
from jokulmist.agents.policies.actor_critic import ActorCritic
from jokulmist.agents.policies.ppo import PPO
from jokulmist.agents.policies.reinforce import Reinforce
from jokulmist.agents.random_play import RandomPlay
from jokulmist.agents.recorded.cloning import Cloning
from jokulmist.agents.recorded.implicit_q import ImplicitQ
from jokulmist.agents.roster import Roster
from jokulmist.agents.tables.double_q import DoubleQLearning
from jokulmist.agents.tables.q_learning import QLearning
from jokulmist.agents.tables.sarsa import ExpectedSarsa, Sarsa
from jokulmist.agents.values.dqn import DQN
from jokulmist.agents.values.linear_q import LinearQ

AGENTS: dict[str, type[Agent]] = {
    "QLearning": QLearning,
    "Sarsa": Sarsa,
    "ExpectedSarsa": ExpectedSarsa,
    "DoubleQLearning": DoubleQLearning,
    "LinearQ": LinearQ,
    "DQN": DQN,
    "Reinforce": Reinforce,
    "ActorCritic": ActorCritic,
    "PPO": PPO,
    "DDPG": DDPG,
    "TD3": TD3,
    "SAC": SAC,
    "Cloning": Cloning,
    "ImplicitQ": ImplicitQ,
    "RandomPlay": RandomPlay,
    "Fixed": Fixed,
    "Roster": Roster,
}
