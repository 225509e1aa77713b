"""Episodes to look at: recorded ones, or fresh ones of a policy, with what a picture of each moment needs."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import Any

from jokulmist.agents.contract import hyperparameters_at
from jokulmist.environments.chance.draws import PlainDraw
from jokulmist.environments.chance.noise import Domain, Noise, Stream
from jokulmist.environments.declaration.environment import Environment, describe
from jokulmist.environments.declaration.simulator import Simulator
from jokulmist.errors import SettingError
from jokulmist.records.rollouts import ROLLOUTS, Rollout, read_rollouts, rollout_of
from jokulmist.training.evaluation.evaluate import evaluate
from jokulmist.training.policies.partners import with_partners
from jokulmist.training.policies.policy import Policy
from jokulmist.training.rollouts.rollouts import recorded_of
from jokulmist.training.runs.run import Run

UNTRAINED = "0"
LONGEST_NUMBER = 18  # digits: more than a whole number of a file can have


@dataclass(frozen=True)
class Scene:
    """One episode to show.

    Attributes
    ----------
    title : str
    rollout : Rollout
    states : list
        One a moment; empty where the class's state was not recorded.
    images : list of uint8 array
        Of a simulator, one a moment; else empty.
    """

    title: str
    rollout: Rollout
    states: list[Any]
    images: list[Any]


def recorded_scene(run: Run, name: str) -> Scene:
    """A recorded episode of a run: ``"best"``, ``"worst"``, ``"last"`` or the number of an episode."""
    assert run.path is not None
    folder = run.path / ROLLOUTS
    if name in ("best", "worst", "last"):
        rollouts = read_rollouts(folder / f"{name}.parquet")
        return scene_of(f"{name} recorded, episode {rollouts[0].episode:,}", rollouts[0], run.environment)
    if not name.isdecimal() or len(name) > LONGEST_NUMBER:
        raise SettingError(
            f"a recorded episode is `best`, `worst`, `last` or the number of an episode; got {name!r:.80}."
        )
    rollout = read_rollouts(folder, int(name))[0]
    return scene_of(f"episode {rollout.episode:,}", rollout, run.environment)


def fresh_scene(run: Run, checkpoint: str, seed: int, act: Any = "greedy") -> Scene:
    """A fresh episode of a policy of a run: ``"last"``, ``"best"``, a checkpoint's decisions, or 0 for the
    untrained."""
    policy = untrained(run) if checkpoint == UNTRAINED else run.checkpoint(checkpoint)
    return played_scene(policy, run.environment, seed, _after(policy), act)


def _after(policy: Policy) -> str:
    return f"after {policy.decisions:,} decisions" if policy.decisions else "untrained"


def played_scene(policy: Policy | str, environment: Environment, seed: int, title: str, act: Any = "greedy") -> Scene:
    """A fresh episode: the first of an evaluation with the seed."""
    if isinstance(environment, Simulator):
        return _simulated(policy, environment, seed, title)
    result = evaluate(policy, environment, episodes=1, seed=seed, act=act, record=1)
    return scene_of(title, rollout_of(describe(environment), result.recorded[0][1], title, 0), environment)


def scene_of(title: str, rollout: Rollout, environment: Environment) -> Scene:
    """A recorded episode with its states."""
    states = [] if isinstance(environment, Simulator) else rollout.states(environment)
    return Scene(title, rollout, states, [])


def _simulated(policy: Policy | str, environment: Simulator, seed: int, title: str) -> Scene:
    """A simulator is looked at while it is played: afterwards there is nothing to look at."""
    action_of, episode = describe(environment).action, environment.episode(seed)
    draw = PlainDraw(Noise(seed, 1, Domain.EVALUATION, (0,)), Stream.PLAY)
    images = [episode.image()]
    while not episode.over:
        if isinstance(policy, Policy):
            episode.act(policy.choose_in(episode))
        else:
            episode.act(action_of.random(draw.for_step(episode.steps, 0), episode.mask or None))
        images.append(episode.image())
    rollout = rollout_of(describe(environment), recorded_of(episode), title, 0)
    return Scene(title, rollout, [], [] if any(image is None for image in images) else images)


def untrained(run: Run) -> Policy:
    """The policy that a run began with."""
    plan = with_partners(run.plan, run.path)
    spec = describe(plan.stage).spec
    draw = PlainDraw(Noise(run.seed, 1, Domain.TRAINING), Stream.FRESH).for_step(0, 0)
    hyperparameters = hyperparameters_at(plan.agent.schedules())
    learner = plan.agent.fresh_learner(plan.agent.config(spec, plan.copies), hyperparameters, draw)
    return Policy(plan.agent, spec, plan.agent.policy_state(learner), 0)


def usual_name(run: Run, scenes: list[Scene], kind: str) -> Path:
    """Where a replay goes if nobody says."""
    if run.path is None:
        raise SettingError("say where the replay goes by `path=`: the run has no folder.")
    stem = "-and-".join(scene.title.replace(",", "").replace(" ", "-") for scene in scenes)
    return run.path / "pictures" / f"replay-{stem[:80]}.{kind}"
