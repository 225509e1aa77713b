"""Jokulmist: declare a simulated environment, train agents on it, and see what was learned.

``import jokulmist as jm`` and use the names below. Each is bound on first use, so that importing the package loads
nothing heavy.
"""

from __future__ import annotations

from importlib import import_module
from typing import Any

__version__ = "0.1.0"

_WHERE: dict[str, str] = {
    "Environment": "environments.environment",
    "Simulator": "environments.simulator",
    "Outcome": "environments.simulator",
    "channel": "environments.simulator",
    "State": "environments.state",
    "seen": "environments.state",
    "field": "environments.state",
    "flow": "environments.state",
    "parameter": "environments.parts",
    "derived": "environments.parts",
    "series": "environments.parts",
    "sensor": "environments.parts",
    "reward": "environments.parts",
    "ending": "environments.parts",
    "cut": "environments.parts",
    "measure": "environments.parts",
    "reference": "environments.parts",
    "Choice": "environments.actions",
    "Range": "environments.actions",
    "Actions": "environments.actions",
    "Stack": "environments.modifiers",
    "Delay": "environments.modifiers",
    "Noisy": "environments.modifiers",
    "Hide": "environments.modifiers",
    "LastAction": "environments.modifiers",
    "TimeLeft": "environments.modifiers",
    "Crop": "environments.modifiers",
    "Shrink": "environments.modifiers",
    "Grey": "environments.modifiers",
    "Brighter": "environments.modifiers",
    "Repeat": "environments.modifiers",
    "Late": "environments.modifiers",
    "Shaky": "environments.modifiers",
    "Scaled": "environments.modifiers",
    "Clipped": "environments.modifiers",
    "Signed": "environments.modifiers",
    "Potential": "environments.modifiers",
    "Opening": "environments.modifiers",
    "LearningEnd": "environments.modifiers",
    "between": "environments.varying",
    "Levels": "environments.varying",
    "Episode": "environments.episode",
    "repeat": "environments.loops",
    "until": "environments.loops",
    "put": "environments.loops",
    "window": "environments.loops",
    "linear": "learning.schedules",
    "geometric": "learning.schedules",
    "Agent": "agents.protocol",
    "Scheduled": "agents.protocol",
    "QLearning": "agents.q_learning",
    "Sarsa": "agents.sarsa",
    "ExpectedSarsa": "agents.sarsa",
    "LinearQ": "agents.linear_q",
    "DQN": "agents.dqn",
    "Reinforce": "agents.reinforce",
    "ActorCritic": "agents.actor_critic",
    "PPO": "agents.ppo",
    "DDPG": "agents.ddpg",
    "TD3": "agents.td3",
    "SAC": "agents.sac",
    "Dense": "learning.networks",
    "Convolutional": "learning.networks",
    "RandomPlay": "agents.random_play",
    "check": "workshop.check",
    "trace": "workshop.trace",
    "train": "training.train",
    "resume": "training.resuming",
    "redo": "training.redoing",
    "evaluate": "training.evaluation",
    "evaluate_grid": "training.grid",
    "Run": "training.run",
    "Runs": "training.run",
    "Policy": "training.policy",
    "read_rollouts": "records.rollouts",
    "Rollout": "records.rollouts",
    "save_rollout": "training.rollouts",
    "follow": "training.rollouts",
    "plot": "pictures.curve",
    "ledger": "pictures.ledger",
    "plot_choices": "pictures.behaviour",
    "plot_policy": "pictures.behaviour",
    "plot_rollout": "pictures.behaviour",
    "save_replay": "pictures.replay",
    "save_report": "pictures.report.page",
    "plot_grid": "pictures.grid",
    "compare": "studies.comparing",
    "Comparison": "studies.comparing",
    "tune": "studies.search",
    "Search": "studies.search",
    "among": "studies.space",
    "JokulmistError": "errors",
}
_MODULES = ("errors", "gallery")
__all__ = ["__version__", *_MODULES, *_WHERE]


def __getattr__(name: str) -> Any:
    if name in _MODULES:
        return import_module(f"jokulmist.{name}")
    if name not in _WHERE:
        from jokulmist.errors import nearest

        raise AttributeError(f"jokulmist has no `{name}`.{nearest(name, __all__)}")
    found = getattr(import_module(f"jokulmist.{_WHERE[name]}"), name)
    globals()[name] = found
    return found


def __dir__() -> list[str]:
    return sorted(__all__)
