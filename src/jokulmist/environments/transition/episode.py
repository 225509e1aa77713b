"""An episode stepped by hand, before any training: act, look, rewind."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, Any

import numpy as np

from jokulmist import cells
from jokulmist.arrays import NumpyArray
from jokulmist.environments.chance.draws import PlainDraw
from jokulmist.environments.chance.noise import Domain, Noise, Stream, checked_seed
from jokulmist.environments.declaration.state import State
from jokulmist.environments.modifiers.base import idle_of
from jokulmist.environments.spaces.actions import Record, plain_form
from jokulmist.environments.spaces.channels import Observation
from jokulmist.environments.spaces.legal import Mask, choices_of, refuse_illegal
from jokulmist.environments.spaces.player_actions import ByPlayer, PlayerActions, own_name
from jokulmist.environments.spaces.players import PlayerObservation, view_of
from jokulmist.environments.transition.copy import FIRST, Copy, draws_of
from jokulmist.environments.transition.simulator_stepping import SimulatorStepper, stepper_for
from jokulmist.environments.transition.stepping import finished
from jokulmist.errors import ActionError, SettingError

if TYPE_CHECKING:
    from jokulmist.environments.environment import Environment


@dataclass(frozen=True)
class Moment:
    """All that an episode is at one decision; going back is taking up an earlier one."""

    state: State
    observation: Observation
    terms: tuple[float, ...]
    totals: tuple[float, ...]
    measures: tuple[float, ...]
    satisfied: int
    steps: int
    mask: Mask = ()
    memories: Any = None
    action_memories: tuple[Any, ...] = ()
    advances: int = 0
    action: Any = None
    amounts: tuple[float, ...] = ()


def _draws(seed: int) -> dict[Stream, PlainDraw]:
    return draws_of(Noise(seed, 1, Domain.HAND))


class Episode:
    """One episode, decision by decision.

    Parameters
    ----------
    environment : Environment
    seed : int
        The same seed and actions give the same episode.

    Attributes
    ----------
    state : State
    observation : Observation
        What the agent sees, by name.
    reward : float
        Of the last step.
    terms, totals : dict of str to float
        Weighted terms of the last step, and so far; they add up to `reward` and to `total`.
    total : float
        The return so far.
    measures : dict of str to float
    steps, advances : int
        Decisions so far, and advances; more of these where a decision is held for several.
    legal : list of str, dict of them by part, or None
        What may be done now, where the class says so.
    closed_by : str or None
        The ending or cut that closed the episode.

    Examples
    --------
    >>> import jokulmist as jm
    >>> episode = jm.gallery.Tarn().episode(seed=1)
    >>> while not episode.over:
    ...     episode.act("half")
    >>> episode.closed_by
    'deadline'
    """

    def __init__(self, environment: Environment, seed: int = 0) -> None:
        self.environment = environment
        self.seed = checked_seed(seed)
        stepper = stepper_for(environment)
        self._description = stepper.description
        self._copy = copy = Copy(stepper, _draws(self.seed), varies=False)
        row = copy.begin(0, FIRST)
        terms, _ = self._gathered()
        observation = self._observation(*copy.first_shown(row, 0, FIRST))
        nothing = (0.0,) * len(terms)
        self._moments = [
            Moment(
                state=copy.state,
                observation=observation,
                terms=nothing,
                totals=terms,
                measures=tuple(copy.measures),
                satisfied=0,
                steps=0,
                mask=copy.legal(),
                memories=copy.memories,
                action_memories=copy.action_memories,
                advances=copy.advances,
            )
        ]

    @classmethod
    def from_state(cls, environment: Environment, state: State, *, advances: int = 0, seed: int = 0) -> Episode:
        """An episode that begins at a given state, e.g. at one that was recorded, with other chance from there on.

        Parameters
        ----------
        environment : Environment
        state : State
        advances : int
            How many there were before, so that limits close it where they would have.
        seed : int

        Raises
        ------
        SettingError
            When it is a simulator, whose state cannot be given.

        Examples
        --------
        >>> import jokulmist as jm
        >>> first = jm.gallery.Tarn().episode(seed=1)
        >>> first.act("half")
        >>> jm.Episode.from_state(jm.gallery.Tarn(), first.state, advances=1).observation.hour
        1
        """
        episode = cls(environment, seed)
        copy = episode._copy
        if isinstance(copy.step, SimulatorStepper):
            raise SettingError(f"`{episode._description.name}` is a simulator, whose state cannot be given.")
        copy.state, copy.advances = state, advances
        row = copy.step.observe(state, episode._copy._draws[FIRST.sense].for_step(0, 0))
        observation = episode._observation(*copy.first_shown(row, 0, FIRST))
        first_moment = episode._moments[0]
        episode._moments = [
            replace(
                first_moment,
                state=state,
                observation=observation,
                mask=copy.legal(),
                memories=copy.memories,
                advances=advances,
            )
        ]
        return episode

    def _gathered(self) -> tuple[tuple[float, ...], tuple[float, ...]]:
        """The terms that the copy has summed up, weighted and not."""
        amounts = tuple(self._copy.totals)
        return tuple(w * t for w, t in zip(self._description.weights, amounts, strict=True)), amounts

    def _observation(self, row: list[float], images: dict[str, Any]) -> Observation:
        values: dict[str, Any] = {}
        spec = self._description.observation_pipeline.spec
        for channel in spec.numbers:
            part = row[spec.slices[channel.name]]
            values[channel.name] = part[0] if channel.shape == () else np.array(part, np.float32).reshape(channel.shape)
        values.update(images)
        if not self._description.players:
            return Observation(values)
        views = {player: view_of(spec, player).spec for player in self._description.players}
        each = {
            player: Observation(
                {
                    c.name: values[own_name(player, c.name)] if own_name(player, c.name) in values else values[c.name]
                    for c in view.channels
                }
            )
            for player, view in views.items()
        }
        return PlayerObservation(values, each)

    def _restore(self, moment: Moment) -> None:
        """Put the copy where a moment was, with sums that begin at nothing."""
        copy = self._copy
        copy.state, copy.measures, copy.advances = moment.state, list(moment.measures), moment.advances
        copy.memories, copy.action_memories = moment.memories, moment.action_memories
        copy.totals = [0.0] * len(moment.terms)

    def act(self, action: Any) -> None:
        """Take one decision.

        Parameters
        ----------
        action : str, int, float, array or dict
            A label, an index or an array; for several parts a dict of them.

        Raises
        ------
        ActionError
            When the environment has no such action, it is not allowed now, or the episode is over.
        """
        moment = self._moments[-1]
        if self.over:
            raise ActionError(
                f"the episode was closed by `{self.closed_by}` after {moment.steps} decisions; "
                f"begin another with `environment.episode(seed={self.seed + 1})`, or rewind with `episode.back(3)`."
            )
        copy, turn = self._copy, moment.steps
        decided = done = self._description.action.native(self._of_all(action))
        if moment.mask:
            refuse_illegal(self._description.action, decided, moment.mask)
        self._restore(moment)
        if self._description.action_pipeline.modifiers:
            done = copy.handled(decided, turn)
        _, satisfied, row = copy.decide(done, turn)
        terms, amounts = self._gathered()
        observation = self._observation(*copy.observe_after(row, decided, turn))
        self._moments.append(
            Moment(
                state=copy.state,
                observation=observation,
                terms=terms,
                totals=tuple(a + b for a, b in zip(moment.totals, terms, strict=True)),
                measures=tuple(copy.measures),
                satisfied=satisfied,
                steps=turn + 1,
                mask=() if satisfied else copy.legal(),
                memories=copy.memories,
                action_memories=copy.action_memories,
                advances=copy.advances,
                action=decided,
                amounts=amounts,
            )
        )

    def _of_all(self, action: Any) -> Any:
        """An action a player, where only those who are asked were given one."""
        joint = self._description.action
        if not isinstance(joint, PlayerActions) or isinstance(action, Record):
            return action
        deciding = self.deciding
        if not isinstance(action, (Mapping, ByPlayer)) and len(deciding) == 1:
            action = {deciding[0]: action}
        if isinstance(action, Mapping) and joint.asks:
            idle = joint.by_player(plain_form(idle_of(np, joint)))
            rest = {player: idle[player] for player in joint.players if player not in deciding}
            return {**rest, **{str(player): part for player, part in action.items()}}
        return action

    def back(self, decisions: int = 1, seed: int | None = None) -> None:
        """Rewind.

        Parameters
        ----------
        decisions : int
            How many decisions to take back.
        seed : int, optional
            Another chance from here on; without it the same actions give the same steps again.
        """
        if isinstance(decisions, bool) or not isinstance(decisions, int) or not 0 <= decisions <= self.steps:
            raise SettingError(f"`back` takes a number of decisions from 0 to {self.steps}; got {decisions!r}.")
        if decisions and isinstance(self._copy.step, SimulatorStepper):
            raise SettingError(
                f"`{self._description.name}` is a simulator, whose state cannot be kept: it does not go back. "
                f"Start again with `environment.episode(seed={self.seed})` and take the same actions."
            )
        del self._moments[len(self._moments) - decisions :]
        if seed is not None:
            self._copy.reseed(_draws(checked_seed(seed)))

    @property
    def moments(self) -> tuple[Moment, ...]:
        """All that was, from the begin; each but the first with the action that led to it."""
        return tuple(self._moments)

    def image(self) -> NumpyArray | None:
        """What a simulator looks like now, uint8 of shape ``(height, width, 3)``; None where it does not say."""
        look = getattr(self._copy.step.environment, "image", None)
        return None if not isinstance(self._copy.step, SimulatorStepper) or look is None else look()

    @property
    def state(self) -> State:
        return self._moments[-1].state

    @property
    def observation(self) -> Observation:
        """What is seen; of several players ``observation["north"]`` is what one of them sees."""
        return self._moments[-1].observation

    @property
    def deciding(self) -> tuple[str, ...]:
        """The players who decide now; empty where there are no several."""
        return self._deciding(-1)

    @property
    def decided(self) -> tuple[str, ...]:
        """The players who took the last decision; empty where there are no several."""
        return self._deciding(-2)

    def _deciding(self, moment: int) -> tuple[str, ...]:
        players = self._description.players
        joint = self._description.action
        if not isinstance(joint, PlayerActions) or not joint.asks:
            return players
        return tuple(player for player, able in zip(players, self._moments[moment].mask[-1], strict=True) if able)

    @property
    def legal(self) -> Any:
        """What may be done now: labels, or a dict of labels by part; None where the class does not say."""
        mask = self.mask
        if not mask:
            return None
        choices = choices_of(self._description.action)
        labels = {
            name: [label for label, able in zip(choice.labels, allowed, strict=True) if able]
            for (name, choice), allowed in zip(choices.items(), mask, strict=False)
        }
        return labels.get("", labels)

    @property
    def mask(self) -> Mask:
        """What may be done now as truth values, one array a choice; empty where the class does not say."""
        return self._moments[-1].mask

    @property
    def steps(self) -> int:
        return self._moments[-1].steps

    @property
    def advances(self) -> int:
        return self._moments[-1].advances

    @property
    def terms(self) -> dict[str, float]:
        return self._by_term(self._moments[-1].terms)

    @property
    def totals(self) -> dict[str, float]:
        """The weighted terms so far, which add up to `total`; see `returns` for what each of several players got."""
        return self._by_term(self._moments[-1].totals)

    @property
    def returns(self) -> dict[str, float]:
        """What each of several players got so far; their mean is `total`."""
        d = self._description
        weights = [total / w if w else 0.0 for total, w in zip(self._moments[-1].totals, d.weights, strict=True)]
        return {
            player: float(sum(amount * share[k] for amount, share in zip(weights, d.shares, strict=True)))
            for k, player in enumerate(d.players)
        }

    @property
    def reward(self) -> float:
        return sum(self._moments[-1].terms)

    @property
    def total(self) -> float:
        return sum(self._moments[-1].totals)

    @property
    def measures(self) -> dict[str, float]:
        moment = self._moments[-1]
        parts = zip(self._description.measures, moment.measures, strict=True)
        return {m.name: finished(m.over, value, moment.advances) for m, value in parts}

    @property
    def satisfied(self) -> list[str]:
        """Every ending and cut that holds now."""
        return self._description.held_names(self._moments[-1].satisfied)

    @property
    def over(self) -> bool:
        return self._moments[-1].satisfied != 0

    @property
    def closed_by(self) -> str | None:
        satisfied = self.satisfied
        return satisfied[0] if satisfied else None

    def _by_term(self, values: tuple[float, ...]) -> dict[str, float]:
        return {t.name: v for t, v in zip(self._description.terms, values, strict=True)}

    @cells.safely
    def _repr_html_(self) -> str:
        state = f"closed by {self.closed_by}" if self.over else "open"
        facts = {
            "decisions": self.steps,
            "return": float(self.total),
            "observation": repr(self.observation),
            "state": repr(self.state),
        }
        return cells.html_card(
            f"episode of {self._description.name}, {state}", facts, cells.table([self.totals], "reward terms so far")
        )

    def __repr__(self) -> str:
        state = f"closed by `{self.closed_by}`" if self.over else "open"
        return f"<episode of {self._description.name}, {state}, {self.steps} decisions, return {self.total:.4g}>"
