"""Going on with some players of a run beside other partners: a new run, and how it did with them before and after."""

from __future__ import annotations

import sys
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from jokulmist.agents.contract import Agent
from jokulmist.agents.players import PlayerAgents, agents_of
from jokulmist.environments.declaration.instance import describe
from jokulmist.environments.spaces.players import refuse_unknown
from jokulmist.errors import SettingError, listed
from jokulmist.judging.evaluate import Evaluation, evaluate
from jokulmist.loops.partners import with_partners
from jokulmist.loops.policy import Policy
from jokulmist.plans.plan import Plan
from jokulmist.plans.progress import ProgressDisplay, usual_display
from jokulmist.records.files import path_of
from jokulmist.running.runs.run import Run
from jokulmist.running.train import train_plan


@dataclass(frozen=True)
class Adapted:
    """What going on beside other partners came to.

    Attributes
    ----------
    run : Run
        The new run; ``run.origin["parent"]`` names the other.
    before, after : Evaluation
        With the new partners: of what the parent had learned, and of what was learned since; the same episodes.
    """

    run: Run
    before: Evaluation
    after: Evaluation

    def as_json(self) -> dict[str, Any]:
        """For other programs: the new run, its parent, and both means with their 95 % intervals."""
        results = {name: {"mean": e.mean, "interval": list(e.interval), **e.players} for name, e in self._both()}
        return {"run": str(self.run.path), "parent": self.run.origin.get("parent"), **results}

    def _both(self) -> list[tuple[str, Evaluation]]:
        return [("before", self.before), ("after", self.after)]

    def __repr__(self) -> str:
        parts = [f"{name} {e.mean:.4g}, 95 % [{e.interval[0]:.4g}, {e.interval[1]:.4g}]" for name, e in self._both()]
        return f"<{self.run.name}, with its partners: {'; '.join(parts)}>"


def adapt(
    run: Run | str | Path,
    agents: Mapping[Any, Agent],
    *,
    steps: int | None = None,
    episodes: int | None = None,
    evaluate_episodes: int = 100,
    name: str | None = None,
    display: ProgressDisplay | None = None,
    command: list[str] | None = None,
) -> Adapted:
    """Go on training the players of a run beside other partners.

    Parameters
    ----------
    run : Run or path
        Of an environment with players.
    agents : dict of str to Agent
        By player, those that take the place of the run's own: ``{"south": jm.Fixed("runs/haul-002")}``, a `Roster`, or
        a method that starts again.
    steps, episodes : int
        How long, one of the two.
    evaluate_episodes : int
        Episodes of the evaluations before and after.
    name : str, optional
        Of the new run, which is beside the other.
    display : ProgressDisplay, optional
        As in `train`.

    Returns
    -------
    Adapted

    Raises
    ------
    SettingError
        When the run has no players, or nobody who learned in it learns on.

    Examples
    --------
    >>> import tempfile
    >>> import jokulmist as jm
    >>> place, quick = tempfile.mkdtemp(), {"lane": "plain", "steps": 60}
    >>> pair = jm.train(jm.gallery.Lots(), {"elder": jm.QLearning(), "younger": jm.QLearning()}, folder=place, **quick)
    >>> found = jm.adapt(pair, {"younger": jm.RandomPlay()}, steps=60, evaluate_episodes=5)
    >>> found.run.origin["parent"]["run"], len(found.after.returns)
    ('lots-qlearning-001', 5)
    """
    parent = Run.as_run(run)
    if parent.path is None:
        raise SettingError("a run in memory keeps no checkpoint to go on from. Train it with `folder=`.")
    plan = _plan_beside(parent, agents, steps, episodes)
    if display is None:
        display = usual_display()
    folder = path_of(parent.path.parent, "the run's folder")
    new = train_plan(plan, folder=folder, name=name, display=display, command=command or sys.argv)[0]
    policy = new.policy
    learned = {group: part for group, part in parent.policy.learner.items() if group in _going_on(parent.plan, plan)}
    before = Policy(policy.agent, policy.spec, {**policy.learner, **learned}, 0)
    results = [
        evaluate(policy_measured, plan.measured, episodes=evaluate_episodes) for policy_measured in (before, policy)
    ]
    return Adapted(new, *results)


def _plan_beside(parent: Run, agents: Mapping[Any, Agent], steps: int | None, episodes: int | None) -> Plan:
    from dataclasses import replace

    parent_plan = with_partners(parent.plan, parent.path)
    players = describe(parent_plan.environment).players
    if not isinstance(parent_plan.agent, PlayerAgents):
        raise SettingError(
            f"`{describe(parent_plan.environment).name}` has no players. Go on with its run by `resume`."
        )
    by_player = {str(player): agent for player, agent in agents.items()}
    for player in by_player:
        refuse_unknown(player, players, "an agent")
    groups = [
        group for group in parent_plan.agent.agents if group in by_player or not set(group.split("+")) & set(by_player)
    ]
    divided = [group for group in parent_plan.agent.agents if group not in groups]
    if divided:
        raise SettingError(
            f"in {parent.name} one agent plays {listed(divided[0].split('+'))}, so it cannot leave one of them to "
            f"another. Train the players apart, or `jm.Fixed({str(parent.path)!r})` as the partner of a new agent."
        )
    agent = agents_of({**parent_plan.agent.agents, **by_player}, describe(parent_plan.environment).action)
    training = parent_plan.training.changed(
        steps=steps, episodes=episodes, seeds=(parent.seed,), start=str(parent.path)
    )
    plan = replace(parent_plan, agent=agent, training=training)
    if not _going_on(parent_plan, plan):
        raise SettingError(
            f"nobody who learned in {parent.name} learns on. Give partners to some of its players, and leave one "
            "that learns."
        )
    return plan


def _going_on(before_plan: Plan, plan: Plan) -> list[str]:
    """The players who learned in the one and learn on in the other, as they are."""
    assert isinstance(before_plan.agent, PlayerAgents)
    assert isinstance(plan.agent, PlayerAgents)
    before = before_plan.agent.agents
    return [
        g for g, agent in plan.agent.agents.items() if agent.learns and g in before and type(before[g]) is type(agent)
    ]
