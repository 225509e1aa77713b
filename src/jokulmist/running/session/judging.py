"""Policies that stay the same, against which those that learn a game are measured while they train: what a player gets
from others who learn, too, tells nothing of how well it plays."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import NamedTuple

from jokulmist.agents.players import TOGETHER, PlayerAgents
from jokulmist.environments.declaration.instance import describe
from jokulmist.errors import SettingError
from jokulmist.judging.evaluate import RANDOM
from jokulmist.loops.partners import joined_policy, policy_at
from jokulmist.loops.policy import Policy
from jokulmist.plans.plan import Plan

FOLDER = "panel"


class Pairing(NamedTuple):
    """A policy that learns in the seat of one player, greedy, and a member of the panel in all others, sampling."""

    player: str
    member: str
    policy: Policy


@dataclass(frozen=True)
class JudgingPanel:
    """The members of a plan's panel by name, each a policy or ``"random"``."""

    plan: Plan
    members: dict[str, Policy | str]

    @classmethod
    def of(cls, plan: Plan, *folders: Path | None) -> JudgingPanel:
        """As a run keeps it, else as the plan names it."""
        members: dict[str, Policy | str] = {}
        for k, text in enumerate(plan.training.panel or ()):
            name = text if text == RANDOM else Path(text).stem
            if name in members:
                raise SettingError(
                    f"`panel` has two members called {name!r}. Give each folder or file a name of its own."
                )
            stored = (folder / FOLDER / f"{k}.safetensors" for folder in folders if folder is not None)
            file = next((path for path in stored if path.exists()), None)
            members[name] = (
                RANDOM if text == RANDOM else policy_at(text) if file is None else Policy.open(file, file.parent.parent)
            )
        panel = cls(plan, members)
        for name in members:
            panel._joined(dict.fromkeys(describe(plan.environment).players, name), {})
        return panel

    def save(self, folder: Path) -> None:
        """Keep its policies with a run."""
        for k, member in enumerate(self.members.values()):
            if isinstance(member, Policy):
                (folder / FOLDER).mkdir(exist_ok=True)
                member.save(folder / FOLDER / f"{k}.safetensors")

    @property
    def learning(self) -> list[str]:
        """The players whose policies learn."""
        agent = self.plan.agent
        assert isinstance(agent, PlayerAgents)
        if agent.rotating_roster is not None:
            return list(describe(self.plan.environment).players)
        return [player for group, member in agent.agents.items() if member.learns for player in group.split(TOGETHER)]

    def pairings(self, policy: Policy) -> Iterator[Pairing]:
        """Each player's policy against each member."""
        for player in self.learning if self.members else ():
            for name in self.members:
                seats = dict.fromkeys(describe(self.plan.environment).players, name)
                yield Pairing(player, name, self._joined(seats, {player: policy.player(player)}))

    def _joined(self, names: dict[str, str], learned: dict[str, Policy]) -> Policy:
        seats = {player: learned.get(player, self.members[name]) for player, name in names.items()}
        act = {player: "greedy" if player in learned else "sampled" for player in seats}
        return joined_policy(seats, self.plan.environment, act)
