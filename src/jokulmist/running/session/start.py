"""Agents that begin with what another run has learned: read from its newest checkpoint, and kept with the new run,
which names the other as its parent."""

from __future__ import annotations

from pathlib import Path
from typing import Any, NamedTuple

import numpy as np

from jokulmist.agents.beginnings import started_from
from jokulmist.agents.contract import Agent, hyperparameters_at
from jokulmist.agents.novelty import refuse_novelty
from jokulmist.agents.players import PlayerAgents
from jokulmist.environments.chance.draws import PlainDraw
from jokulmist.environments.chance.noise import Domain, Noise, Stream
from jokulmist.environments.declaration.instance import describe
from jokulmist.environments.spaces.channels import refuse_mismatch
from jokulmist.errors import LookupFailed, SettingError, listed
from jokulmist.learning.observation_scaling import Running, counted_fully
from jokulmist.learning.schedules import Progress
from jokulmist.loops.agent_calls import as_numpy
from jokulmist.loops.policy import Policy
from jokulmist.plans.plan import Plan
from jokulmist.records.checkpoints import open_arrays, save_arrays
from jokulmist.records.files import path_of
from jokulmist.records.run_folder import is_run
from jokulmist.running.session.checkpointing import Arrays, is_replay, latest_checkpoint, spec_in
from jokulmist.trees import filled, flattened

START = "start.safetensors"
LEARNER = "learner"


class Start(NamedTuple):
    """What some agents begin with.

    Attributes
    ----------
    arrays : dict of str to array
        Of the learners, by path.
    parent : dict
        The run that learned it, and after how many decisions.
    """

    arrays: Arrays
    parent: dict[str, Any]

    def save(self, folder: Path) -> None:
        """Write it into the folder of the run that begins with it."""
        save_arrays(folder / START, self.arrays, self.parent)


def start_of(plan: Plan, *folders: Path | None) -> Start | None:
    """What a plan's agents begin with: as a run keeps it, else as the run has it that the plan names; None where they
    start again."""
    if plan.training.start is None:
        for agent in _learning(plan.agent).values():
            if getattr(agent, "near_start", 0.0):
                raise SettingError(
                    "`near_start` keeps a policy near the one that the run begins with. Say which: `start=RUN`, or "
                    "leave it out."
                )
        return None
    for folder in folders:
        if folder is not None and (folder / START).exists():
            arrays, parent = open_arrays(folder / START)
            return Start(_fitting(plan, arrays, str(folder / START)), parent)
    refuse_novelty(plan.agent, "cannot go on from what another run learned yet")
    path = path_of(plan.training.start, "`start`")
    if path.is_file():
        return _of_policy(plan, path)
    if not is_run(path):
        raise LookupFailed(
            f"`start` is {plan.training.start!r}, which is no run. Name the folder of a run, or a file of a policy "
            "that `policy.save` wrote."
        )
    checkpoint, _ = latest_checkpoint(path)
    if checkpoint is None:
        raise LookupFailed(f"{path} has no checkpoint, so nothing can begin with what it has learned.")
    stage = describe(plan.stage)
    refuse_mismatch(spec_in(checkpoint), stage.spec, f"what {path.name} learned", f"`{stage.name}`")
    arrays = {
        name: array
        for name, array in checkpoint.arrays.items()
        if name.startswith(f"{LEARNER}/") and not is_replay(name)
    }
    return Start(_fitting(plan, arrays, str(path)), {"run": path.name, "decisions": int(checkpoint.state["decisions"])})


def _of_policy(plan: Plan, path: Path) -> Start:
    """What an agent begins with that a policy's file holds."""
    if isinstance(plan.agent, PlayerAgents):
        raise SettingError(f"{path} is one policy, and players begin with a run of players. Name the folder of a run.")
    policy, spec = Policy.open(path), describe(plan.stage).spec
    refuse_mismatch(policy.spec, spec, f"the policy in {path}", f"`{describe(plan.stage).name}`")
    learner = started_from(plan.agent, plan.agent.config(spec, plan.copies), _fresh(plan), policy, str(path))
    arrays = {name: array for name, array in flattened(learner, LEARNER).items() if not is_replay(name)}
    return Start(_fitting(plan, arrays, str(path)), {"run": path.name, "decisions": policy.decisions})


def _fitting(plan: Plan, arrays: Arrays, context: str) -> Arrays:
    """Those arrays that the plan's agents that learn begin with."""
    agent, fitting = plan.agent, {}
    learner = _fresh(plan)
    for group, member in _learning(agent).items():
        prefix = f"{LEARNER}/{group}" if group else LEARNER
        wanted = flattened(learner[group] if group else learner, prefix)
        names_below = [name for name in arrays if name.startswith(f"{prefix}/") or name == prefix]
        if group and not names_below:
            continue  # it begins without what was learned
        for name, array in wanted.items():
            # It remembers its own decisions, and counts them until there are enough to learn from. The optimiser's
            # moments are of another run's last, small gradients: the first steps by them would be several times too
            # long.
            if is_replay(name) or "moments" in name.split("/") or name in (f"{prefix}/updates", f"{prefix}/decisions"):
                continue
            if name == f"{prefix}/random_play":
                fitting[name] = np.zeros_like(array)
                continue
            has = arrays.get(f"{prefix}/weights" if name == f"{prefix}/beginning" else name)
            if has is None or has.shape != array.shape or has.dtype != array.dtype:
                problem = "lacks it" if has is None else f"has {has.dtype} of shape {has.shape}"
                whose = f"`{group}`" if group else "it"
                raise SettingError(
                    f"{context} has not learned what {whose} is to begin with, {member!r}: of `{name}`, "
                    f"{array.dtype} of "
                    f"shape {array.shape}, it {problem}. Give the same method, network and copies, or leave `start` "
                    "out."
                )
            fitting[name] = has
        statistics = f"{prefix}/statistics/"
        if f"{statistics}count" in fitting:
            running = counted_fully(Running(*(fitting[f"{statistics}{part}"] for part in Running._fields)))
            fitting.update({f"{statistics}{part}": array for part, array in running._asdict().items()})
    if not fitting:
        raise SettingError(
            f"no agent that learns here learned in {context}; here learn {listed(_learning(agent))}. Leave `start` out."
        )
    if isinstance(agent, PlayerAgents):
        fitting.update(_earlier_states(plan, learner, fitting))
    return fitting


def _learning(agent: Agent) -> dict[str, Agent]:
    """The agents that learn, by player; one that is alone has the empty name."""
    if not isinstance(agent, PlayerAgents):
        return {"": agent}
    return {group: member for group, member in agent.agents.items() if member.learns}


def _fresh(plan: Plan) -> Any:
    """A learner that has learned nothing."""
    agent = plan.agent
    config = agent.config(describe(plan.stage).spec, plan.copies)
    hyperparameters = hyperparameters_at(agent.schedules(), Progress(0, 0, 0.0))
    return type(agent).fresh_learner(
        config, hyperparameters, PlainDraw(Noise(0, 1, Domain.CHECK), Stream.FRESH).for_step(0, 0)
    )


def _earlier_states(plan: Plan, learner: Any, arrays: Arrays) -> Arrays:
    """A roster's earlier states are those of an agent that begins with what it had learned."""
    assert isinstance(plan.agent, PlayerAgents)
    learning = _learning(plan.agent)
    states: Arrays = {}
    for group, member in plan.agent.agents.items():
        source = next(iter(learning))
        if getattr(member, "past", 0) and any(name.startswith(f"{LEARNER}/{source}/") for name in arrays):
            stored = type(learning[source]).policy_state(
                filled(as_numpy(learner[source]), arrays, f"{LEARNER}/{source}")
            )
            for name, array in flattened(stored, f"{LEARNER}/{group}/past").items():
                states[name] = np.repeat(array[None], member.past, axis=0)
    return states
