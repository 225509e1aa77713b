"""Episodes to look at: recorded ones, or fresh ones of a policy, with what a picture of each moment needs."""

from __future__ import annotations

from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import numpy as np

from jokulmist.agents.contract import hyperparameters_at
from jokulmist.arrays import NumpyArray
from jokulmist.environments.chance.draws import PlainDraw
from jokulmist.environments.chance.noise import Domain, Noise, Stream
from jokulmist.environments.declaration.instance import describe
from jokulmist.environments.environment import Environment
from jokulmist.environments.simulator import Simulator
from jokulmist.environments.spaces.player_actions import owner_of
from jokulmist.errors import SettingError
from jokulmist.judging.evaluate import evaluate, weights_of
from jokulmist.loops.partners import with_partners
from jokulmist.loops.policy import Policy
from jokulmist.loops.rollouts import recorded_of
from jokulmist.records.episodes import telling_return
from jokulmist.records.rollouts import ROLLOUTS, Rollout, read_rollouts, rollout_of
from jokulmist.records.run_index import LAST
from jokulmist.running.runs.run import Run

UNTRAINED = "0"
ALIKE = 20  # episodes whose mean stands beside the one that is shown
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
    mean : float, optional
        The mean return of episodes like it: one alone may be luck.
    alike : str
        Which episodes those are.
    player : str
        Whose return is told; empty for the mean over players.
    """

    title: str
    rollout: Rollout
    states: list[Any]
    images: list[Any]
    mean: float | None = None
    alike: str = ""
    player: str = ""

    @property
    def mean_text(self) -> str:
        """The mean and its episodes; empty where it is not known."""
        return "" if self.mean is None else f"mean{self.suffix} of {self.alike} {self.mean:.4g}"

    @property
    def suffix(self) -> str:
        return f" for {self.player}" if self.player else ""

    def rewards(self, environment: Environment) -> NumpyArray:
        """What each decision brought to the one whose return is told, float64 of shape (steps,)."""
        table = self.rollout.table.iloc[:-1]
        if not self.player:
            return table["reward"].to_numpy(np.float64)
        weights = self.weights(environment)
        amounts: NumpyArray = table[list(weights)].to_numpy(np.float64) @ np.array(list(weights.values()))
        return amounts

    def weights(self, environment: Environment) -> dict[str, float]:
        """The weights of the reward terms that the return told is made of."""
        description = describe(environment)
        if not self.player:
            return weights_of(description)
        k = description.players.index(self.player)
        shares = {term.name: float(row[k]) for term, row in zip(description.terms, description.shares, strict=True)}
        return {name: share for name, share in shares.items() if share}


def recorded_scene(run: Run, name: str, with_mean: bool = True) -> Scene:
    """A recorded episode of a run: ``"best"``, ``"worst"``, ``"last"`` or the number of an episode; its mean asks for
    all episodes to be read."""
    assert run.path is not None
    folder = run.path / ROLLOUTS
    if name in ("best", "worst", "last"):
        rollout = read_rollouts(folder / f"{name}.parquet")[0]
        return _in_training(run, rollout, f"{name} recorded, episode {rollout.episode:,}", with_mean)
    if not name.isdecimal() or len(name) > LONGEST_NUMBER:
        raise SettingError(
            f"a recorded episode is `best`, `worst`, `last` or the number of an episode; got {name!r:.80}."
        )
    rollout = read_rollouts(folder, int(name))[0]
    return _in_training(run, rollout, f"episode {rollout.episode:,}", with_mean)


def _in_training(run: Run, rollout: Rollout, title: str, with_mean: bool) -> Scene:
    scene = scene_of(title, rollout, run.environment)
    if not with_mean:
        return scene
    episodes = run.episodes
    until = episodes[episodes["episode"] <= rollout.episode].tail(LAST)
    if len(until) < 2:
        return scene
    telling = telling_return({str(name): until[name] for name in until})
    alike = f"the {len(until):,} episodes up to it"
    return replace(scene, mean=float(until[telling].mean()), alike=alike, player=owner_of(telling))


def fresh_scene(run: Run, checkpoint: str, seed: int, act: Any = "greedy") -> Scene:
    """A fresh episode of a policy of a run: ``"last"``, ``"best"``, a checkpoint's decisions, or 0 for the
    untrained."""
    policy = untrained(run) if checkpoint == UNTRAINED else run.checkpoint(checkpoint)
    return played_scene(policy, run.environment, seed, _after(policy), act)


def _after(policy: Policy) -> str:
    return f"after {policy.decisions:,} decisions" if policy.decisions else "untrained"


def played_scene(policy: Policy | str, environment: Environment, seed: int, title: str, act: Any = "greedy") -> Scene:
    """A fresh episode: the first of an evaluation with the seed. Of a simulator, whose episodes take long, it is the
    only one."""
    if isinstance(environment, Simulator):
        return _simulated(policy, environment, seed, title)
    result = evaluate(policy, environment, episodes=ALIKE, seed=seed, act=act, record=1)
    scene = scene_of(title, rollout_of(describe(environment), result.recorded[0][1], title, 0), environment)
    player = result.telling
    return replace(scene, mean=result.told_of(player)[0], alike=f"{ALIKE} such episodes", player=player)


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
