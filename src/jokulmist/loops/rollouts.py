"""Recording episodes: of a policy by hand, and following what was recorded through the environment again."""

from __future__ import annotations

import json
from dataclasses import asdict, dataclass
from pathlib import Path
from typing import Any

import numpy as np

from jokulmist.arrays import NumpyArray
from jokulmist.environments.chance.noise import Domain, Noise
from jokulmist.environments.declaration.instance import describe
from jokulmist.environments.environment import Environment
from jokulmist.environments.simulator import Simulator
from jokulmist.environments.spaces.legal import choices_of
from jokulmist.environments.transition.episode import Episode
from jokulmist.environments.transition.simulator_stepping import SimulatorState
from jokulmist.errors import SettingError
from jokulmist.lanes.plain import PlainLane
from jokulmist.lanes.protocol import Observed
from jokulmist.loops.policy import Policy
from jokulmist.records.files import path_of
from jokulmist.records.rollouts import MASK, EpisodeWriter, RecordedEpisode, Rollout, columns_of, save_rollouts


def state_values(state: Any) -> dict[str, Any]:
    """The fields of a state, in the order in which they are declared; a simulator's cannot be told, but for what it
    says is legal."""
    if isinstance(state, SimulatorState):
        return {f"{MASK}{k}": np.asarray(mask, bool) for k, mask in enumerate(state.mask)}
    values = state.__dict__
    return {name: values[name] for name in type(state)._fields}


def policy_outputs_of(policy: Policy, observed: Observed) -> dict[str, NumpyArray]:
    """What a policy says of observations, one a row: the value of each action, or each one's probability, or mean and
    spread.

    Nothing of a recurrent network: one observation does not say what it thinks.
    """
    kind, agent = type(policy.agent), policy.agent
    config, seen = policy.config, observed.seen
    if config.state_width:
        return {}
    columns_found: dict[str, Any] = {}
    if hasattr(kind, "values"):
        values = kind.values(config, policy.learner, seen)
        columns_found = {f"value.{label}": value for label, value in values.items()}
    elif hasattr(kind, "probabilities"):
        choices = choices_of(policy.spec.action)
        for name, part in kind.probabilities(config, policy.learner, seen).items():
            prefix = f"{name}." if name else ""
            if name in choices:
                columns = zip(choices[name].labels, part.T, strict=True)
                columns_found.update({f"probability.{prefix}{label}": column for label, column in columns})
                continue
            for quantity in ("mean", "spread"):
                flat = np.asarray(part[quantity]).reshape(len(observed.rows), -1).T
                columns_found.update({f"{quantity}.{prefix}{k}": column for k, column in enumerate(flat)})
        if hasattr(kind, "state_values") and getattr(agent, "baseline", True):
            columns_found["value"] = kind.state_values(config, policy.learner, seen)
    return {name: np.asarray(column, np.float32) for name, column in columns_found.items()}


@dataclass(frozen=True)
class Draws:
    """Whose draws an episode had: what it takes to step it again."""

    seed: int
    copies: int
    domain: str
    first_turn: int = 0

    def noise(self, episode: int) -> Noise:
        """The noise, whose first copy is the episode's."""
        domain = Domain[self.domain]
        if domain is Domain.EVALUATION:
            return Noise(self.seed, 1, domain, (episode,))
        return Noise(self.seed, self.copies, domain)


def save_recorded(
    path: Path,
    environment: Environment,
    recorded_episode: list[tuple[int, Any]],
    run: str,
    draws: list[Draws] | None = None,
) -> Path:
    """Episodes with their numbers, as one file."""
    description = describe(environment)
    tables = [columns_of(description, episode, run, number) for number, episode in recorded_episode]
    metadata = {"environment": description.name, "run": run}
    if draws is not None:
        metadata["draws"] = json.dumps({str(n): asdict(d) for (n, _), d in zip(recorded_episode, draws, strict=True)})
    return save_rollouts(path, tables, metadata)


def recorded_of(episode: Episode) -> RecordedEpisode:
    """An episode that was stepped by hand, decision by decision."""
    description, writer = describe(episode.environment), EpisodeWriter()
    for k, moment in enumerate(episode.moments):
        if k:
            writer.did(moment.action, moment.amounts, moment.measures)
        observation = moment.observation
        row = description.spec.flat({name: observation[name] for name in observation.keys()})  # noqa: SIM118
        writer.saw(row, {c.name: observation[c.name] for c in description.spec.images}, state_values(moment.state))
    return writer.closed(episode.moments[-1].satisfied)


def save_rollout(episode: Episode, path: str | Path, run: str = "by hand") -> Path:
    """Keep an episode that was stepped by hand, as training and evaluation keep theirs: one Parquet file.

    Parameters
    ----------
    episode : Episode
        Closed or not.
    path : path
    run : str
        The column ``run``.

    Examples
    --------
    >>> import jokulmist as jm
    >>> import pathlib, tempfile
    >>> tarn, path = jm.gallery.Tarn(), pathlib.Path(tempfile.mkdtemp()) / "kept.parquet"
    >>> episode = tarn.episode(seed=1)
    >>> while not episode.over:
    ...     _ = episode.act(0)
    >>> jm.save_rollout(episode, path).name
    'kept.parquet'
    """
    if not isinstance(episode, Episode):
        raise SettingError(
            f"`save_rollout` takes an episode first, as `environment.episode()` gives it; got {episode!r:.80}."
        )
    if not episode.steps:
        raise SettingError("nothing was decided yet; act at least once before saving.")
    return save_recorded(
        path_of(path, "where an episode is saved"), episode.environment, [(episode.seed, recorded_of(episode))], run
    )


def follow(rollout: Rollout, environment: Environment) -> float:
    """Step a recorded episode through the environment again: each action from the state that was recorded, with the
    draws it had.

    Parameters
    ----------
    rollout : Rollout
        Recorded in training or evaluation.
    environment : Environment
        With the parameters and modifiers that it was recorded with.

    Returns
    -------
    float
        The largest difference between a state that follows and the one that was recorded, relative to the range that
        the field moves in: 0, or a rounding error where it was recorded on a compiled lane. Anything else was not this
        environment.

    Raises
    ------
    SettingError
        When it was recorded by hand, or by a simulator.

    Examples
    --------
    >>> import jokulmist as jm
    >>> import pathlib, tempfile
    >>> ferry = jm.gallery.Ferry()
    >>> played = jm.evaluate("brake_in_time", ferry, episodes=3, record=3)
    >>> log = played.save_rollouts(pathlib.Path(tempfile.mkdtemp()) / "log.parquet", ferry)
    >>> jm.follow(jm.read_rollouts(log)[0], ferry) < 1e-3  # the largest difference that was met
    True
    """
    if not isinstance(rollout, Rollout):
        raise SettingError(f"`follow` takes a rollout first, as `jm.read_rollouts` gives them; got {rollout!r:.80}.")
    if isinstance(environment, Simulator) or rollout.draws is None:
        raise SettingError("this episode cannot be followed: it is a simulator's, or its draws were not recorded.")
    draws = Draws(**rollout.draws)
    lane = PlainLane(environment, draws.noise(rollout.episode))
    lane.begin()
    copy, modified = lane.each[0], bool(describe(environment).action_pipeline.modifiers)
    fields = describe(environment).fields
    states, actions = rollout.states(environment), rollout.actions(environment)
    recorded = {f.name: np.stack([np.asarray(s.__dict__[f.name], np.float64) for s in states]) for f in fields}
    worst = 0.0
    for k, action in enumerate(actions):
        lane.turn = draws.first_turn + k
        copy.state = states[k]
        lane.advance_one(0, copy.handled(action, lane.turn) if modified else action)
        for name, values in recorded.items():
            differences = np.abs(np.asarray(copy.state.__dict__[name], np.float64) - values[k + 1])
            worst = max(worst, float(np.max(differences, initial=0.0)) / max(float(np.ptp(values)), 1e-6))
    return worst
