"""A learner that begins with what a policy knows: the policy of the same method, or for a policy that is learned the
one that records have taught."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np

from jokulmist.agents.configs import PolicyConfig
from jokulmist.agents.contract import Agent
from jokulmist.agents.critics.critic_method import CriticAgent
from jokulmist.agents.policies.policy_method import PolicyAgent
from jokulmist.agents.recorded.recorded_policy import RecordedPolicy
from jokulmist.agents.values.dqn import DQN
from jokulmist.errors import SettingError

if TYPE_CHECKING:
    from jokulmist.loops.policy import Policy

VALUE = ".value"


def started_from(agent: Agent, config: Any, fresh: Any, policy: Any, context: str) -> Any:
    """The learner of an agent with what a policy has learned; all else of it (moments of the optimiser, replay) begins
    again."""
    teacher_learner, teacher = policy.learner, policy.agent
    if isinstance(teacher, RecordedPolicy) and isinstance(agent, PolicyAgent):
        return _cloned(config, fresh, policy, context)
    if type(teacher) is not type(agent):
        clones = (
            " A policy of `Cloning` or `ImplicitQ` begins `PPO`, `ActorCritic` or `Reinforce`."
            if isinstance(teacher, RecordedPolicy)
            else ""
        )
        raise SettingError(
            f"{context} is a policy of `{type(teacher).__name__}`, and what is to begin with it is "
            f"`{type(agent).__name__}`. Give the same method.{clones}"
        )
    learner = copy_matching(fresh, teacher_learner, context)
    if isinstance(agent, DQN) and config.target:
        return learner._replace(target=np.array(learner.weights))
    if isinstance(agent, CriticAgent):
        learning = learner.learning
        target = np.array(learning.policy) if len(learning.policy_target) else learning.policy_target
        return learner._replace(
            learning=learning._replace(policy_target=target, critics_target=np.array(learning.critics))
        )
    return learner


def copy_matching(fresh: Any, source: Any, context: str, path: str = "") -> Any:
    """A tree of arrays, with those of a policy wherever it has some."""
    if (isinstance(source, tuple) and not hasattr(source, "_fields") and not source) or source is None:
        return fresh
    if hasattr(source, "_fields"):
        parts = {
            name: copy_matching(getattr(fresh, name), getattr(source, name), context, f"{path}/{name}".strip("/"))
            for name in source._fields
        }
        return fresh._replace(**parts)
    array, wanted = np.asarray(source), np.asarray(fresh)
    if array.shape != wanted.shape:
        raise SettingError(
            f"{context} has `{path}` of shape {array.shape}, and what is to begin with it needs {wanted.shape}. Give "
            "the same network, bins and scaling."
        )
    return array.astype(wanted.dtype)


def _cloned(config: PolicyConfig, fresh: Any, policy: Policy, context: str) -> Any:
    """A policy method that begins with the policy that records have taught, and with a value of its own that begins
    again."""
    teacher_config: Any = policy.config
    teacher_learner = policy.learner
    comparisons = [
        ("network", teacher_config.network, config.network),
        ("scaling", teacher_config.scaling, config.scaling),
    ]
    if config.acting.width:
        comparisons.append(("spread_by_state", teacher_config.spread_by_state, config.spread_by_state))
    differences = [
        f"`{name}` is {theirs_value!r} there and {ours_value!r} here"
        for name, theirs_value, ours_value in comparisons
        if theirs_value != ours_value
    ]
    if config.shared:
        differences.append("`shared` is True here")
    if differences:
        raise SettingError(
            f"{context} cannot begin it: {'; '.join(differences)}. Give both the same, and `shared=False`."
        )
    weights, parts = np.array(fresh.weights), config.layout.parts
    for name, place in teacher_config.layout.parts.items():
        if not name.startswith(VALUE):
            weights[parts[name]] = teacher_learner.weights[place]
    return fresh._replace(
        weights=weights, statistics=teacher_learner.statistics if fresh.statistics is not None else None
    )
