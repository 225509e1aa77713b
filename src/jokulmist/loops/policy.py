"""A policy is what was learned, in a form that a person can hold: choose, look at values, save, open."""

from __future__ import annotations

from collections.abc import Mapping
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from jokulmist import cells
from jokulmist.agents.configs import Config, TableConfig, groups_of
from jokulmist.agents.contract import Agent, hyperparameters_at
from jokulmist.agents.fixed import Fixed
from jokulmist.agents.players import TOGETHER, PlayerAgents, agents_of
from jokulmist.environments.chance.draws import PlainDraw
from jokulmist.environments.chance.noise import Domain, Noise, Stream
from jokulmist.environments.declaration.instance import describe
from jokulmist.environments.environment import Environment
from jokulmist.environments.spaces.actions import Action
from jokulmist.environments.spaces.channels import Observation, Spec, refuse_mismatch
from jokulmist.environments.spaces.legal import Mask, choices_of, mask_widths
from jokulmist.environments.spaces.player_actions import players_of
from jokulmist.environments.spaces.players import refuse_unknown, view_of
from jokulmist.errors import JokulmistError, RecordError, SettingError, listed
from jokulmist.lanes.protocol import Observed
from jokulmist.learning.action_distributions import joint_over
from jokulmist.loading import looking_in
from jokulmist.loops.acting import Act, Actor
from jokulmist.plans.sources import agent_described, agent_from
from jokulmist.records.checkpoints import open_arrays, save_arrays
from jokulmist.records.files import path_of
from jokulmist.trees import filled

if TYPE_CHECKING:
    import pandas as pd

    from jokulmist.environments.transition.episode import Episode

KEPT_ACTORS = 8


class Policy:
    """What an agent learned, with the channels and the action that it learned on.

    Parameters
    ----------
    agent : Agent
    spec : Spec
    learner : the agent's learner, as NumPy arrays
    decisions : int
        How long it had learned.

    Examples
    --------
    >>> import jokulmist as jm
    >>> run = jm.train(jm.gallery.Tarn(), jm.QLearning(bins=8), steps=2000, lane="plain", folder=None)
    >>> run.policy
    <policy of QLearning(bins=8) after 2,000 decisions>
    >>> observation = jm.gallery.Tarn().episode(seed=1).observation
    >>> run.policy.choose(observation)
    2
    """

    def __init__(self, agent: Agent, spec: Spec, learner: Any, decisions: int = 0) -> None:
        if isinstance(agent, PlayerAgents):
            agent, learner = agent.evaluated(spec, learner)
        self.agent = agent
        self.spec = spec
        self.learner = learner
        self.decisions = decisions
        # What `choose` has compiled, by how it acts and its seed: made once, because making it takes longer than a
        # thousand choices.
        self._actors: dict[tuple[str, int], Actor] = {}

    @cached_property
    def config(self) -> Config:
        """The static settings of the agent, for one copy."""
        config: Config = self.agent.config(self.spec, 1)
        return config

    def choose(self, observation: Any, act: Act = "greedy", seed: int = 0, legal: Any = None) -> Any:
        """The action for one observation, by itself.

        Parameters
        ----------
        observation : Observation, mapping or array
            A value a channel, or the flat row.
        act : {"greedy", "sampled"}
            Without exploration, or as in training at its end.
        seed : int
            Of the draws that break ties and sample. Each sampled call has the next ones; greedy calls break ties alike.
        legal : list of labels, or dict of them by part, optional
            What may be done now, as ``episode.legal`` gives it; everything where it is left out.

        Returns
        -------
        The action in own form: an index, a float or array, or a record.

        Raises
        ------
        SettingError
            When the policy has a recurrent network: one observation does not say what it saw before. Use `actor`.
        """
        if self.remembers:
            raise SettingError(
                "this policy remembers what it saw, and `choose` would forget it between calls. Make `actor = "
                "policy.actor()`, then call `actor.choose(observation)` at each decision and `actor.reset()` where an "
                "episode begins; of an episode by hand `policy.choose_in(episode)`."
            )
        actor = self._actor_of(act, seed)
        actor.reset(draws=act == "greedy")
        return actor.choose(observation, legal)

    def actor(self, act: Act = "greedy", seed: int = 0) -> Actor:
        """The policy for a loop of your own: it remembers what it saw in an episode, and has draws of its own.

        Parameters
        ----------
        act, seed
            As `choose` takes them.
        """
        return Actor(self, act, seed)

    def choose_in(self, episode: Episode, act: Act = "greedy", seed: int = 0) -> Any:
        """The action for the moment at which an episode stands that is stepped by hand.

        A policy that remembers goes through all that was seen in it before; another one looks at the moment alone.

        Parameters
        ----------
        episode : Episode
        act, seed
            As `choose` takes them.

        Examples
        --------
        >>> import jokulmist as jm
        >>> run = jm.train(jm.gallery.Ferry(), jm.QLearning(bins=4), steps=100, lane="plain", folder=None)
        >>> run.policy.choose_in(jm.gallery.Ferry().episode(seed=1)) in (0, 1, 2)
        True
        """
        if not self.remembers:
            return self.choose(episode.observation, act, seed, episode.legal)
        actor, chosen = self._actor_of(act, seed), None
        actor.reset()
        for moment in episode.moments:
            observed = self.observed(moment.observation)
            if self.spec.masked:
                observed.masks = [moment.mask]
            chosen = actor._next(observed)
        return chosen

    @cached_property
    def remembers(self) -> bool:
        """Whether a recurrent network is in it, so that what it does depends on what it saw before."""
        every = [self.config, *(group.config for group in groups_of(self.config))]
        return any(config.state_width for config in every)

    def _actor_of(self, act: Act, seed: int) -> Actor:
        try:
            actor = self._actors.get((act, seed))
        except TypeError:  # of what cannot be a key, and neither a way to act nor a seed
            return Actor(self, act, seed)
        if actor is None:
            if len(self._actors) >= KEPT_ACTORS:
                self._actors.clear()
            actor = self._actors[act, seed] = Actor(self, act, seed)
        return actor

    @property
    def table(self) -> pd.DataFrame:
        """What a table method learned: one row a cell, one column an action.

        The index has a level for each number that is seen, with the interval ``[low, high)`` of the cell in the units
        of the environment; a whole number is a level of its own. Select with ``table.xs(...)``, save with
        ``table.to_csv(...)``.

        Raises
        ------
        SettingError
            When the method keeps no table.
        """
        import pandas as pd

        grid = self.config.grid if isinstance(self.config, TableConfig) else None
        values = getattr(self.learner, "values", None)
        if values is not None and np.ndim(values) == 3:  # two tables, whose mean is acted by
            values = np.mean(np.asarray(values), axis=0)
        if grid is None or values is None or np.ndim(values) != 2:
            raise SettingError(
                f"`{type(self.agent).__name__}` keeps no table. Its weights are written by `policy.save(file)`, and "
                "`policy.learner` holds them."
            )
        names: list[str] = []
        levels: list[Any] = []
        for channel in self.spec.numbers:
            for k in range(channel.size):
                width = len(names)
                edges = grid.low[width] + np.arange(grid.counts[width] + 1) / grid.per_unit[width]
                names.append(channel.name if channel.shape == () else f"{channel.name}[{k}]")
                is_whole = channel.whole and np.allclose(np.diff(edges), 1.0)
                levels.append(
                    np.arange(round(channel.low), round(channel.low) + grid.counts[width])
                    if is_whole
                    else pd.IntervalIndex.from_breaks(edges.round(10), closed="left")
                )
        cells = np.indices(grid.counts).reshape(len(names), -1)
        order = np.array(grid.strides) @ cells
        index = pd.MultiIndex.from_arrays([level[cell] for level, cell in zip(levels, cells, strict=True)], names=names)
        return pd.DataFrame(np.asarray(values)[order], index=index, columns=joint_over(self.spec.action).labels)

    def values(self, observation: Any) -> dict[str, float]:
        """The value of each action, by label; for methods that have values of actions."""
        judge = getattr(type(self.agent), "values", None)
        if judge is None:
            raise SettingError(
                f"`{type(self.agent).__name__}` has no values of actions; use `probabilities`, or `value` for the "
                "value of an observation."
            )
        by_action: dict[str, Any] = judge(self.config, self.learner, self.observed(observation).seen)
        return {label: float(values[0]) for label, values in by_action.items()}

    def quantiles(self, observation: Any) -> dict[str, Any]:
        """Quantiles of the return of each action, by label, the lowest first; for `DQN(quantiles=...)`.

        Returns
        -------
        dict of str to array, shape ``(quantiles,)``
            At the levels 1/2n, 3/2n, ... of n quantiles.
        """
        judge = getattr(type(self.agent), "quantiles_of", None)
        if judge is None or getattr(self.agent, "quantiles", None) is None:
            raise SettingError(
                f"`{type(self.agent).__name__}` has no quantiles of returns. Use `jm.DQN(quantiles=32)`."
            )
        values: dict[str, Any] = judge(self.config, self.learner, self.observed(observation).seen)
        return values

    def value(self, observation: Any) -> float:
        """The value of an observation: as it was learned, or that of the best action."""
        judge = getattr(type(self.agent), "state_values", None)
        if judge is None or not getattr(self.agent, "baseline", True):
            return max(self.values(observation).values())
        return float(judge(self.config, self.learner, self.observed(observation).seen)[0])

    def probabilities(self, observation: Any, legal: Any = None) -> dict[str, Any]:
        """The chance of each action when sampled, by label; with several parts a dict of them by part.

        Parameters
        ----------
        observation, legal
            As `choose` takes them.

        Returns
        -------
        dict
            Of a Choice the chance of each label. Of a Range ``{"mean", "spread"}`` in its unit: the greedy action, and
            the spread of the Gaussian before the bounds.
        """
        judge = getattr(type(self.agent), "probabilities", None)
        if judge is None:
            raise SettingError(
                f"`{type(self.agent).__name__}` has values of actions instead of probabilities; use `values`."
            )
        parts = judge(self.config, self.learner, self.observed(observation, legal).seen)
        choices = choices_of(self.spec.action)
        named = {
            name: dict(zip(choices[name].labels, map(float, part[0]), strict=True))
            if name in choices
            else {quantity: _number_or_array(value[0]) for quantity, value in part.items()}
            for name, part in parts.items()
        }
        return named.get("", named)

    def observed(self, observation: Any, legal: Any = None) -> Observed:
        """One observation as the agent takes it."""
        row = [float(v) for v in self._row(observation)]
        images = {}
        for channel in self.spec.images:
            image = np.asarray(observation[channel.name])
            if image.shape != channel.shape or image.dtype != np.uint8:
                raise SettingError(
                    f"`{channel.name}` is a uint8 image of shape {channel.shape}; got {image.dtype} of shape "
                    f"{image.shape}."
                )
            images[channel.name] = image
        masks: list[Any] = []
        if self.spec.masked:
            masks = [_mask(self.spec.action, legal)]
        return Observed([row], [images] if images else None, masks)

    def _row(self, observation: Any) -> Any:
        if isinstance(observation, (Observation, Mapping)):
            return self.spec.flat({name: observation[name] for name in list(observation.keys())})
        if self.spec.images:
            raise SettingError(f"an observation is a mapping with {listed(c.name for c in self.spec.channels)}.")
        try:
            row = np.asarray(observation, np.float32)
        except (TypeError, ValueError):
            raise SettingError(
                f"an observation is a mapping with {listed(c.name for c in self.spec.channels)}, or its numbers in "
                f"that order; got {observation!r:.80}."
            ) from None
        if row.shape != (self.spec.width,):
            raise SettingError(
                f"an observation has {self.spec.width} numbers ({', '.join(self.spec.slices)}); got shape {row.shape}."
            )
        return row

    def player(self, name: str | int) -> Policy:
        """The policy of one of several players, with what that player sees and does.

        Raises
        ------
        SettingError
            When there is no such player.
        """
        player, players = str(name), players_of(self.spec.action)
        if not players or not isinstance(self.agent, PlayerAgents):
            raise SettingError(f"this policy plays an environment without players, so it has no part for {name!r}.")
        refuse_unknown(player, players, "`player`")
        group = next(group for group in self.agent.agents if player in group.split(TOGETHER))
        agent = self.agent.agents[group]
        if isinstance(agent, Fixed):
            agent = agent.inner
        return Policy(agent, view_of(self.spec, player).spec, self.learner[group], self.decisions)

    def fits(self, environment: Environment) -> None:
        """Raise `SettingError` where the environment's channels or action differ, saying which."""
        description = describe(environment)
        refuse_mismatch(self.spec, description.spec, "the policy", f"`{description.name}`")

    def metadata(self) -> dict[str, Any]:
        """For records: all but the arrays."""
        return {
            "agent": agent_described(self.agent),
            "decisions": self.decisions,
            "spec": self.spec.described(),
        }

    def save(self, path: str | Path) -> Path:
        """Write one safetensors file that `Policy.open` reads back."""
        target = path_of(path, "where a policy is saved")
        save_arrays(target, self.learner, self.metadata())
        return target

    @classmethod
    def open(cls, path: str | Path, base: Path | None = None, current: bool = False) -> Policy:
        """A saved policy.

        Parameters
        ----------
        path : str or Path
            A file that `save` wrote, or a checkpoint's ``arrays.safetensors``.
        base : Path, optional
            Where the file of an agent of one's own lies, if its path is relative; of a run's folder the code that it
            keeps is used.
        current : bool
            The code as it is now, and not what the run keeps.
        """
        path = path_of(path, "a saved policy")
        if path.is_dir():
            raise SettingError(
                f"{path} is a folder. Of a run take `jm.Run.open({str(path)!r}).policy` (or `.best`); `Policy.open` "
                "reads a file that `save` wrote."
            )
        arrays, metadata = open_arrays(path)
        try:
            if base is None:
                _refuse_code(path, metadata["agent"])
            spec = Spec.from_described(metadata["spec"])
            with looking_in(base, current):
                agent = agents_of(agent_from(metadata["agent"], base), spec.action)
            decisions = int(metadata["decisions"])
            draw = PlainDraw(Noise(0, 1, Domain.TRAINING), Stream.FRESH).for_step(0, 0)
            model = agent.fresh_learner(agent.config(spec, 1), hyperparameters_at(agent.schedules()), draw)
        except (KeyError, TypeError, ValueError, AttributeError, IndexError, ArithmeticError, MemoryError) as damaged:
            if isinstance(damaged, JokulmistError):
                raise
            raise RecordError(
                f"{path} cannot be read: what its head says of the policy was damaged, or written by another version "
                f"({damaged!r:.80})."
            ) from None
        return cls(agent, spec, filled(agent.policy_state(model), arrays), decisions)

    @cells.safely
    def _repr_html_(self) -> str:
        seen = ", ".join(c.name for c in self.spec.channels)
        facts = {
            "method": repr(self.agent),
            "decisions": self.decisions,
            "is shown": seen,
            "decides": repr(self.spec.action),
        }
        return cells.html_card("policy", facts)

    def __repr__(self) -> str:
        return f"<policy of {self.agent!r} after {self.decisions:,} decisions>"


def _refuse_code(path: Path, settings: Mapping[str, Any]) -> None:
    """A file of arrays by itself runs nothing: where code of somebody's own belongs to it, its place has to be
    named."""
    left: list[Any] = [settings]
    while left:
        entry = left.pop()
        if isinstance(entry, Mapping):
            left += entry.values()
        elif isinstance(entry, (list, tuple)):
            left += entry
        elif isinstance(entry, str) and ":" in entry and not entry.startswith("jokulmist."):
            raise SettingError(
                f"{path} needs code of somebody's own, {entry!r:.200}. Look at that file, and name the folder where it "
                "lies: `Policy.open(..., base=...)`."
            )


def _mask(action: Action, legal: Any) -> Mask:
    """Labels that are allowed as truth values, one array a choice."""
    mask = []
    for name, choice in choices_of(action).items():
        allowed = legal.get(name) if isinstance(legal, Mapping) else legal
        able = np.zeros(choice.count, bool)
        able[[choice.native(label) for label in (choice.labels if allowed is None else allowed)]] = True
        if not able.any():
            raise SettingError("`legal` allows nothing; give at least one label, or leave it out.")
        mask.append(able)
    mask += [np.ones(width, bool) for width in mask_widths(action)[len(mask) :]]  # of players: all are there and decide
    return tuple(mask)


def _number_or_array(value: Any) -> Any:
    """A plain Python number where there is one, which prints as what it is."""
    return value if np.ndim(value) else float(value)
