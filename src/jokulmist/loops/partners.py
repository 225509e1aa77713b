"""Policies that play a player and do not learn: read, kept with a run, and put together to one policy of all
players."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from pathlib import Path
from typing import Any

from jokulmist.agents.contract import Agent
from jokulmist.agents.fixed import Fixed
from jokulmist.agents.players import TOGETHER, PlayerAgents, agents_of
from jokulmist.agents.random_play import RandomPlay
from jokulmist.agents.roster import Roster
from jokulmist.environments.declaration.instance import describe
from jokulmist.environments.environment import Environment
from jokulmist.environments.spaces.player_actions import players_of
from jokulmist.errors import LookupFailed, SettingError, listed
from jokulmist.loops.policy import Policy
from jokulmist.plans.plan import Plan
from jokulmist.records.checkpoints import ARRAYS, whole_checkpoint
from jokulmist.records.files import path_of
from jokulmist.records.run_folder import is_run

PARTNERS = "partners"


def with_partners(plan: Plan, *folders: Path | None) -> Plan:
    """A plan whose fixed policies are read: from the partners that a run keeps, else from where the plan says."""
    agent = plan.agent
    if not isinstance(agent, PlayerAgents) or all(member.is_held for _, member in _fixed_in(agent)):
        return plan
    agents: dict[str, Agent] = {}
    for group, member in agent.agents.items():
        player = group.partition(TOGETHER)[0]
        if isinstance(member, Roster):
            agents[group] = member.with_policies(
                tuple(_read(policy, f"{player}-{k}", player, folders) for k, policy in enumerate(member.policies))
            )
        else:
            agents[group] = _read(member, player, player, folders)
    return replace(plan, agent=agents_of(agents, describe(plan.environment).action))


def _fixed_in(agent: PlayerAgents) -> list[tuple[str, Fixed]]:
    """The fixed policies of all players, by the names of their files."""
    members_found: list[tuple[str, Fixed]] = []
    for group, member in agent.agents.items():
        player = group.partition(TOGETHER)[0]
        members = (
            [(f"{player}-{k}", policy) for k, policy in enumerate(member.policies)]
            if isinstance(member, Roster)
            else [(player, member)]
        )
        members_found += [(name, policy) for name, policy in members if isinstance(policy, Fixed)]
    return members_found


def _read(agent: Agent, name: str, player: str, folders: tuple[Path | None, ...]) -> Agent:
    """A fixed policy with what it learned; any other agent as it is."""
    if not isinstance(agent, Fixed) or agent.is_held:
        return agent
    for folder in folders:
        stored = None if folder is None else folder / PARTNERS / f"{name}.safetensors"
        if stored is not None and stored.exists():
            return freeze_seat(agent, Policy.open(stored, folder), player)
    return freeze_seat(agent, policy_at(agent.policy), player)


def freeze_seat(fixed: Fixed, policy: Policy, player: str) -> Fixed:
    """A fixed agent that holds a policy, or of one of several players the same player's."""
    seat_policy = policy.player(player) if players_of(policy.spec.action) else policy
    return fixed.holding(seat_policy.agent, seat_policy.spec, seat_policy.learner, seat_policy.decisions)


def policy_at(place: str) -> Policy:
    """The policy of a run's folder, or of a file."""
    path = path_of(place, "a partner's `policy`")
    if not path.exists():
        raise LookupFailed(f"there is no run and no policy {path}, which a player is to play by.")
    if not path.is_dir():
        return Policy.open(path)
    if not is_run(path):
        raise LookupFailed(f"{path} is no run. Name the folder of a run, or a file that `policy.save` wrote.")
    checkpoint, _ = whole_checkpoint(path)
    if checkpoint is None:
        raise LookupFailed(f"{path} has no checkpoint yet, so it has no policy.")
    return Policy.open(checkpoint / ARRAYS, path)


def keep_partners(agent: Agent, folder: Path) -> None:
    """Write the fixed policies of a run into its folder."""
    if not isinstance(agent, PlayerAgents):
        return
    for name, fixed in _fixed_in(agent):
        if fixed.is_held:
            (folder / PARTNERS).mkdir(exist_ok=True)
            policy = Policy(fixed.inner, fixed._spec, fixed._frozen.learner, fixed._decisions)
            policy.save(folder / PARTNERS / f"{name}.safetensors")


def joined_policy(members: Mapping[Any, Any], environment: Environment, act: Any = "greedy") -> Policy:
    """Policies of single players as one of all; ``act`` is of all of them, or a dict by player."""
    action = describe(environment).action
    players = players_of(action)
    if not players:
        raise SettingError(
            f"`{describe(environment).name}` has no players, so one policy plays it; got a dict with {listed(members)}."
        )
    agents: dict[str, Agent] = {}
    for player, member in members.items():
        member = getattr(member, "policy", member)
        if isinstance(member, str) and member == "random":
            agents[str(player)] = RandomPlay()
            continue
        policy = member if isinstance(member, Policy) else policy_at(str(member))
        agents[str(player)] = freeze_seat(
            Fixed(str(member), act=act[player] if isinstance(act, Mapping) else act), policy, str(player)
        )
    joined = agents_of(agents, action)
    spec = describe(environment).spec
    joined.config(spec, 1)  # refuses what was learned elsewhere
    assert isinstance(joined, PlayerAgents)
    learner = {name: agent._frozen.learner if isinstance(agent, Fixed) else () for name, agent in joined.agents.items()}
    decisions = max((agent._decisions for agent in joined.agents.values() if isinstance(agent, Fixed)), default=0)
    return Policy(joined, spec, learner, decisions)
