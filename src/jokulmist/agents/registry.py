"""The methods that ship, by the names that plans use. A new method is one file here and one line in this table."""

from __future__ import annotations

from jokulmist.agents.actor_critic import ActorCritic
from jokulmist.agents.ddpg import DDPG
from jokulmist.agents.dqn import DQN
from jokulmist.agents.linear_q import LinearQ
from jokulmist.agents.ppo import PPO
from jokulmist.agents.protocol import Agent
from jokulmist.agents.q_learning import QLearning
from jokulmist.agents.random_play import RandomPlay
from jokulmist.agents.reinforce import Reinforce
from jokulmist.agents.sac import SAC
from jokulmist.agents.sarsa import ExpectedSarsa, Sarsa
from jokulmist.agents.td3 import TD3

AGENTS: dict[str, type[Agent]] = {
    "QLearning": QLearning,
    "Sarsa": Sarsa,
    "ExpectedSarsa": ExpectedSarsa,
    "LinearQ": LinearQ,
    "DQN": DQN,
    "Reinforce": Reinforce,
    "ActorCritic": ActorCritic,
    "PPO": PPO,
    "DDPG": DDPG,
    "TD3": TD3,
    "SAC": SAC,
    "RandomPlay": RandomPlay,
}
