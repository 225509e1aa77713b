"""Jokulmist: declare a simulated environment, train agents on it, and see what was learned.

``import jokulmist as jm`` and use the names below. Each is bound on first use, so that importing the package loads
nothing heavy.
"""

from __future__ import annotations

from importlib import import_module
from typing import Any

__version__ = "0.2.0"

_HOMES: dict[str, str] = {
    "Environment": "environments.declaration.environment",
    "Simulator": "environments.declaration.simulator",
    "Outcome": "environments.declaration.simulator",
    "channel": "environments.declaration.simulator",
    "State": "environments.declaration.state",
    "seen": "environments.declaration.state",
    "field": "environments.declaration.state",
    "flow": "environments.declaration.state",
    "parameter": "environments.declaration.parts",
    "derived": "environments.declaration.parts",
    "series": "environments.declaration.parts",
    "sensor": "environments.declaration.parts",
    "reward": "environments.declaration.parts",
    "ending": "environments.declaration.parts",
    "cut": "environments.declaration.parts",
    "measure": "environments.declaration.parts",
    "reference": "environments.declaration.parts",
    "Choice": "environments.spaces.actions",
    "Range": "environments.spaces.actions",
    "Actions": "environments.spaces.actions",
    "export": "exporting.save",
    "Remote": "remote.environment",
    "between": "environments.varying",
    "Levels": "environments.varying",
    "Episode": "environments.transition.episode",
    "repeat": "environments.declaration.loops",
    "repeat_until": "environments.declaration.loops",
    "replace_item": "environments.declaration.loops",
    "slice_array": "environments.declaration.loops",
    "linear": "learning.schedules",
    "geometric": "learning.schedules",
    "piecewise": "learning.schedules",
    "Agent": "agents.contract",
    "QLearning": "agents.tables.q_learning",
    "Sarsa": "agents.tables.sarsa",
    "DoubleQLearning": "agents.tables.double_q",
    "ExpectedSarsa": "agents.tables.sarsa",
    "LinearQ": "agents.values.linear_q",
    "DQN": "agents.values.dqn",
    "Reinforce": "agents.policies.reinforce",
    "ActorCritic": "agents.policies.actor_critic",
    "PPO": "agents.policies.ppo",
    "DDPG": "agents.critics.ddpg",
    "TD3": "agents.critics.td3",
    "SAC": "agents.critics.sac",
    "Dense": "learning.networks.layout",
    "Convolutional": "learning.networks.layout",
    "Recurrent": "learning.networks.layout",
    "Cloning": "agents.recorded.cloning",
    "ImplicitQ": "agents.recorded.implicit_q",
    "Records": "training.teaching.records",
    "learn_from": "training.teaching.learn_from",
    "estimate": "training.teaching.estimating",
    "Novelty": "learning.novelty_setting",
    "RandomPlay": "agents.random_play",
    "Fixed": "agents.fixed",
    "Roster": "agents.roster",
    "check": "workshop.check.check",
    "tabulate_steps": "workshop.step_table",
    "train": "training.train",
    "train_seeds": "training.train",
    "trust": "sources.trust",
    "Observer": "training.plans.observers",
    "resume": "training.session.resume",
    "redo": "training.redo",
    "evaluate": "training.evaluation.evaluate",
    "evaluate_grid": "training.evaluation.grid",
    "evaluate_references": "training.evaluation.evaluate",
    "Run": "training.runs.run",
    "Policy": "training.policies.policy",
    "read_rollouts": "records.rollouts",
    "save_rollout": "training.rollouts.rollouts",
    "follow": "training.rollouts.rollouts",
    "plot": "pictures.figures.curve",
    "ledger": "pictures.figures.ledger",
    "compare": "studies.comparison.compare",
    "adapt": "training.adapt",
    "cross_play": "studies.cross_play",
    "solve": "training.solving.solution",
    "tune": "studies.search.tune",
    "Search": "studies.search.search",
    "among": "studies.search.space",
    "JokulmistError": "errors",
}
_MODULES = ("errors", "gallery", "modifiers", "parts", "pictures", "results")
__all__ = ["__version__", *_HOMES, *_MODULES]


def __getattr__(name: str) -> Any:
    if name in _MODULES:
        return import_module(f"jokulmist.{name}")
    if name not in _HOMES:
        from jokulmist.errors import nearest

        raise AttributeError(f"jokulmist has no `{name}`.{nearest(name, __all__)}")
    value = getattr(import_module(f"jokulmist.{_HOMES[name]}"), name)
    globals()[name] = value
    return value


def __dir__() -> list[str]:
    return sorted(__all__)
