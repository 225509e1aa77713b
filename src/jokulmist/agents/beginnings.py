"""A learner that begins with what a policy knows: the policy of the same method, or for a policy that is learned the
one that records have taught."""

from __future__ import annotations

from typing import Any

import numpy as np

from jokulmist.agents.contract import Agent
from jokulmist.agents.critics.critic_method import CriticAgent
from jokulmist.agents.policies.policy_method import PolicyAgent
from jokulmist.agents.recorded.recorded_policy import RecordedPolicy
from jokulmist.agents.values.dqn import DQN
from jokulmist.errors import SettingError

VALUE = ".value"


def begun_with(agent: Agent, shapes: Any, fresh: Any, policy: Any, where: str) -> Any:
    """The learner of an agent with what a policy has learned; all else of it (moments of the optimiser, replay) begins
    anew."""
    known, teacher = policy.learner, policy.agent
    if isinstance(teacher, RecordedPolicy) and isinstance(agent, PolicyAgent):
        return _cloned(shapes, fresh, policy, where)
    if type(teacher) is not type(agent):
        clones = (
            " A policy of `Cloning` or `ImplicitQ` begins `PPO`, `ActorCritic` or `Reinforce`."
            if isinstance(teacher, RecordedPolicy)
            else ""
        )
        raise SettingError(
            f"{where} is a policy of `{type(teacher).__name__}`, and what is to begin with it is "
            f"`{type(agent).__name__}`. Give the same method.{clones}"
        )
    learner = _taken(fresh, known, where)
    if isinstance(agent, DQN) and shapes.target:
        return learner._replace(target=np.array(learner.weights))
    if isinstance(agent, CriticAgent):
        now = learner.learning
        target = np.array(now.policy) if len(now.policy_target) else now.policy_target
        return learner._replace(learning=now._replace(policy_target=target, critics_target=np.array(now.critics)))
    return learner


def _taken(fresh: Any, known: Any, where: str, path: str = "") -> Any:
    """A tree of arrays, with those of a policy wherever it has some."""
    if (isinstance(known, tuple) and not hasattr(known, "_fields") and not known) or known is None:
        return fresh
    if hasattr(known, "_fields"):
        parts = {
            name: _taken(getattr(fresh, name), getattr(known, name), where, f"{path}/{name}".strip("/"))
            for name in known._fields
        }
        return fresh._replace(**parts)
    found, wanted = np.asarray(known), np.asarray(fresh)
    if found.shape != wanted.shape:
        raise SettingError(
            f"{where} has `{path}` of shape {found.shape}, and what is to begin with it needs {wanted.shape}. Give "
            "the same network, bins and scaling."
        )
    return found.astype(wanted.dtype)


def _cloned(shapes: Any, fresh: Any, policy: Any, where: str) -> Any:
    """A policy method that begins with the policy that records have taught, and with a value of its own that begins
    anew."""
    theirs, known = policy.shapes, policy.learner
    told = [("network", theirs.network, shapes.network), ("scaling", theirs.scaling, shapes.scaling)]
    if shapes.acting.width:
        told.append(("spread_by_state", theirs.spread_by_state, shapes.spread_by_state))
    apart = [f"`{name}` is {there!r} there and {here!r} here" for name, there, here in told if there != here]
    if shapes.shared:
        apart.append("`shared` is True here")
    if apart:
        raise SettingError(f"{where} cannot begin it: {'; '.join(apart)}. Give both the same, and `shared=False`.")
    weights, here = np.array(fresh.weights), shapes.layout.parts
    for name, place in theirs.layout.parts.items():
        if not name.startswith(VALUE):
            weights[here[name]] = known.weights[place]
    return fresh._replace(weights=weights, statistics=known.statistics if fresh.statistics is not None else None)
