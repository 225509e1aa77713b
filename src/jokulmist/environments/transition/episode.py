"""An episode stepped by hand, before any training: act, look, rewind."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, NamedTuple

import numpy as np

from jokulmist.environments.chance.draws import Draw, PlainDraw
from jokulmist.environments.chance.noise import Domain, Noise, Stream, checked_seed
from jokulmist.environments.declaration.environment import Environment
from jokulmist.environments.declaration.state import State
from jokulmist.environments.modifiers import ChannelValues, Surroundings
from jokulmist.environments.spaces.actions import plain_form
from jokulmist.environments.spaces.channels import Observation
from jokulmist.environments.spaces.legal import Mask, choices_of, refuse_illegal
from jokulmist.environments.transition.simulator_stepping import SimulatorStepper, stepper_for
from jokulmist.environments.transition.stepping import closed_unasked, combined, finished, never_asked
from jokulmist.environments.transition.waiting import MOST_WAITING, WaitDraw
from jokulmist.errors import ActionError, BrokenEnvironment, SettingError


@dataclass(frozen=True)
class Moment:
    """All that an episode is at one decision; going back is taking up an earlier one."""

    state: State
    observation: Observation
    terms: tuple[float, ...]
    totals: tuple[float, ...]
    measures: tuple[float, ...]
    held: int
    steps: int
    mask: Mask = ()
    memories: tuple[Any, ...] = ()
    action_memories: tuple[Any, ...] = ()
    advances: int = 0
    action: Any = None
    amounts: tuple[float, ...] = ()


class Advanced(NamedTuple):
    """What some advances led to: terms summed up over them, weighted and (`amounts`) not, measures since the episode began."""

    state: State
    terms: tuple[float, ...]
    measures: tuple[float, ...]
    held: int
    advances: int
    amounts: tuple[float, ...]


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
        self._stepper = stepper_for(environment)
        self._description = self._stepper.description
        self._reseed(self.seed)
        state = self._stepper.begin(self._first_begin.at(0, 0))
        zeros = (0.0,) * len(self._description.terms)
        first = Advanced(state, zeros, (0.0,) * len(self._description.measures), 0, 0, zeros)
        if self._description.gated:
            first = self._waited(first, self._first_wait.at(0, 0))
            if first.held:
                raise BrokenEnvironment(closed_unasked(self._description.name, 0, first.state))
        state = first.state
        around = Surroundings(None, 1.0, self._first_modify_observation.at(0, 0))
        memories, observation = self._observed(
            state, self._first_sense.at(0, 0), self._first_look.at(0, 0), None, around
        )
        mask = self._stepper.decidable(state)
        action_memories = self._description.action_pipeline.begun(np)
        self._moments = [
            Moment(
                state,
                observation,
                zeros,
                first.terms,
                first.measures,
                0,
                0,
                mask,
                memories,
                action_memories,
                first.advances,
            )
        ]

    def _reseed(self, seed: int) -> None:
        noise = Noise(seed, 1, Domain.HAND)
        self._advance = PlainDraw(noise, Stream.ADVANCE)
        self._sense = PlainDraw(noise, Stream.SENSE)
        self._look = PlainDraw(noise, Stream.LOOK)
        self._first_look = PlainDraw(noise, Stream.FIRST_LOOK)
        self._modify_observation = PlainDraw(noise, Stream.OBSERVATION)
        self._modify_action = PlainDraw(noise, Stream.ACTION)
        self._first_modify_observation = PlainDraw(noise, Stream.FIRST_OBSERVATION)
        self._first_begin = PlainDraw(noise, Stream.FIRST_BEGIN)
        self._wait, self._first_wait = PlainDraw(noise, Stream.WAIT), PlainDraw(noise, Stream.FIRST_WAIT)
        self._first_sense = PlainDraw(noise, Stream.FIRST_SENSE)

    def _observed(self, state: State, draw: PlainDraw, look: PlainDraw, memories: Any, around: Surroundings) -> Any:
        """What is seen of a state, and the modifiers' memories; None before the first moment."""
        row, images = self._stepper.observe(state, draw), self._stepper.look(state, look)
        observation_pipeline = self._description.observation_pipeline
        if observation_pipeline.modifiers:
            now = ChannelValues(np.array(row, np.float32), images)
            memories, seen = (
                observation_pipeline.begun(np, now, around)
                if memories is None
                else observation_pipeline.onward(np, memories, now, around)
            )
            row, images = seen.numbers.tolist(), seen.images
        values: dict[str, Any] = {}
        for channel in observation_pipeline.spec.numbers:
            part = row[observation_pipeline.spec.slices[channel.name]]
            values[channel.name] = part[0] if channel.shape == () else np.array(part, np.float32).reshape(channel.shape)
        values.update(images)
        return memories or (), Observation(values)

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
        now = self._moments[-1]
        if self.over:
            raise ActionError(
                f"the episode was closed by `{self.closed_by}` after {now.steps} decisions; "
                f"begin another with `environment.episode(seed={self.seed + 1})`, or rewind with `episode.back(3)`."
            )
        step = self._stepper
        own = self._description.action.own(action)
        if now.mask:
            refuse_illegal(self._description.action, own, now.mask)
        pipeline = self._description.action_pipeline
        decided = own
        kept: tuple[Any, ...] = ()
        if pipeline.modifiers:
            kept, own = pipeline.acted(np, now.action_memories, own, self._modify_action.at(now.steps, 0))
            own = plain_form(own)
        every = self._description.decide_every
        none = (0.0,) * len(step.weights)
        gone = Advanced(now.state, none, now.measures, 0, now.advances, none)
        for j in range(every):
            gone = self._once(gone, own, self._advance.at(now.steps * every + j, 0))
            if gone.held:
                break
        if self._description.gated and not gone.held:
            gone = self._waited(gone, self._wait.at(now.steps, 0))
        after, terms, measures, held, advances, amounts = gone
        steps = now.steps + 1
        memories, observation = self._observed(
            after,
            self._sense.at(now.steps, 0),
            self._look.at(now.steps, 0),
            now.memories,
            Surroundings(decided, self._description.left(advances), self._modify_observation.at(now.steps, 0)),
        )
        self._moments.append(
            Moment(
                state=after,
                observation=observation,
                terms=terms,
                totals=tuple(a + b for a, b in zip(now.totals, terms, strict=True)),
                measures=measures,
                held=held,
                steps=steps,
                mask=() if held else step.decidable(after),
                memories=memories,
                action_memories=kept,
                advances=advances,
                action=decided,
                amounts=amounts,
            )
        )

    def _once(self, gone: Advanced, own: Any, draw: Draw) -> Advanced:
        """One advance more."""
        step = self._stepper
        before = step.cleared(gone.state)
        after = step.advance(before, own, draw)
        advances = gone.advances + 1
        given = step.reward_terms(before, own, after)
        terms = tuple(so_far + w * t for so_far, w, t in zip(gone.terms, step.weights, given, strict=True))
        amounts = tuple(so_far + t for so_far, t in zip(gone.amounts, given, strict=True))
        measured = zip(self._description.measures, gone.measures, step.measured(before, own, after), strict=True)
        measures = tuple(combined(m.over, so_far, value, advances) for m, so_far, value in measured)
        return Advanced(after, terms, measures, step.held(before, own, after, advances), advances, amounts)

    def _waited(self, gone: Advanced, key: PlainDraw) -> Advanced:
        """Advances on which nobody is asked."""
        draw = WaitDraw(np, key.uniform(), key.uniform())
        for j in range(MOST_WAITING):
            if gone.held or self._stepper.asks(gone.state):
                return gone
            gone = self._once(gone, self._description.meanwhile, draw.at(j))
        raise BrokenEnvironment(never_asked(self._description.name, 0, gone.state))

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
        if decisions and isinstance(self._stepper, SimulatorStepper):
            raise SettingError(
                f"`{self._description.name}` is a simulator, whose state cannot be kept: it does not go back. "
                f"Begin anew with `environment.episode(seed={self.seed})` and take the same actions."
            )
        del self._moments[len(self._moments) - decisions :]
        if seed is not None:
            self._reseed(checked_seed(seed))

    @property
    def moments(self) -> tuple[Moment, ...]:
        """All that was, from the begin; each but the first with the action that led to it."""
        return tuple(self._moments)

    def image(self) -> Any:
        """What a simulator looks like now, uint8 of shape ``(height, width, 3)``; None where it does not say."""
        look = getattr(self._stepper.environment, "image", None)
        return None if not isinstance(self._stepper, SimulatorStepper) or look is None else look()

    @property
    def state(self) -> State:
        return self._moments[-1].state

    @property
    def observation(self) -> Observation:
        return self._moments[-1].observation

    @property
    def legal(self) -> Any:
        """What may be done now: labels, or a dict of labels by part; None where the class does not say."""
        mask = self.mask
        if not mask:
            return None
        choices = choices_of(self._description.action)
        found = {
            name: [label for label, able in zip(choice.labels, allowed, strict=True) if able]
            for (name, choice), allowed in zip(choices.items(), mask, strict=True)
        }
        return found.get("", found)

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
        return self._by_term(self._moments[-1].totals)

    @property
    def reward(self) -> float:
        return sum(self._moments[-1].terms)

    @property
    def total(self) -> float:
        return sum(self._moments[-1].totals)

    @property
    def measures(self) -> dict[str, float]:
        now = self._moments[-1]
        parts = zip(self._description.measures, now.measures, strict=True)
        return {m.name: finished(m.over, value, now.advances) for m, value in parts}

    @property
    def held(self) -> list[str]:
        """Every ending and cut that holds now."""
        return self._description.held_names(self._moments[-1].held)

    @property
    def over(self) -> bool:
        return self._moments[-1].held != 0

    @property
    def closed_by(self) -> str | None:
        held = self.held
        return held[0] if held else None

    def _by_term(self, values: tuple[float, ...]) -> dict[str, float]:
        return {t.name: v for t, v in zip(self._description.terms, values, strict=True)}

    def __repr__(self) -> str:
        state = f"closed by `{self.closed_by}`" if self.over else "open"
        return f"<episode of {self._description.name}, {state}, {self.steps} decisions, return {self.total:.4g}>"
