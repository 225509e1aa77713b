"""All states that can be met, and where each decision leads, with which chance and for which reward."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import lru_cache
from operator import itemgetter
from typing import Any

import numpy as np

from jokulmist.environments.declaration.environment import Environment, describe
from jokulmist.environments.declaration.simulator import Simulator
from jokulmist.environments.modifiers.base import idle_of
from jokulmist.environments.spaces.actions import plain_form, split
from jokulmist.environments.spaces.legal import choices_of
from jokulmist.environments.transition.stepping import Stepper
from jokulmist.errors import SettingError
from jokulmist.learning.action_distributions import JointChoice, refuse_ranges
from jokulmist.training.solving.counting import outcomes

Array = np.ndarray[Any, Any]
TOLD_EVERY = 20_000


@dataclass
class Transitions:
    """What can happen.

    Attributes
    ----------
    states : list
        Every state that was met, with its flows at zero.
    first : float array, shape ``(states,)``
        The chance that an episode begins there.
    state, action, mover : int array, shape ``(decisions,)``
        Of each possible decision, ordered by state: where, which (its index), and which player's; -1 where there are no players.
    reward : float array, shape ``(decisions,)``, or ``(decisions, players)``
        Expected.
    onward : sparse array, shape ``(decisions, states)``
        Chances to go on; what is missing to 1 closed the episode.
    """

    states: list[Any]
    first: Array
    state: Array
    action: Array
    mover: Array
    reward: Array
    onward: Any

    @property
    def count(self) -> int:
        """Transitions with a chance above 0, those that close an episode left out."""
        return int(self.onward.nnz)

    def keys(self) -> dict[Any, int]:
        return {key_of(state): k for k, state in enumerate(self.states)}


def key_of(state: Any) -> Any:
    """A state as something that can be looked up."""
    return _key_of(type(state))(state.__dict__)  # type: ignore[arg-type]


@lru_cache(maxsize=64)
def _key_of(state_class: Any) -> Callable[[dict[str, Any]], Any]:
    fields = [field for field in state_class._fields.values() if field.role != "flow"]
    if all(field.scalar for field in fields) and fields:
        return itemgetter(*[field.name for field in fields])
    names = [field.name for field in fields]
    return lambda values: tuple(v.tobytes() if isinstance(v := values[name], np.ndarray) else v for name in names)


def refuse_unsolvable(environment: Environment) -> None:
    """Raise `SettingError` where states or decisions cannot be counted, with the mend."""
    description = describe(environment)
    name = description.name
    if isinstance(environment, Simulator):
        raise SettingError(
            f"`{name}` is a simulator: nobody knows its states. Only a class whose state is declared can be solved."
        )
    if description.holds:
        raise SettingError(
            f"`{name}` lets a decision last for several advances. Solve it with `decide_every = 1`, without `decide_when`."
        )
    if description.action_pipeline.modifiers or description.opening is not None:
        raise SettingError(
            f"what `{name}` is modified by changes what happens. Solve it without modifiers of its actions and its opening."
        )
    if description.varying is not None:
        raise SettingError(f"parameters of `{name}` vary from episode to episode. Solve it at fixed ones.")
    refuse_ranges(description.action, "solve")
    if description.players and not getattr(description.action, "asks", False):
        raise SettingError(
            f"in `{name}` several players decide at once, and what is best hangs on what the others do. Games in which they take turns are solved."
        )


def transitions_of(
    environment: Environment, most_states: int, horizon: int | None = None, say: Callable[[str], None] | None = None
) -> Transitions:
    """Go through all that can happen from the begin of an episode on.

    Raises
    ------
    SettingError
        When the states are more than `most_states`, or something that is drawn cannot be counted.
    """
    from scipy import sparse

    refuse_unsolvable(environment)
    stepper, description = Stepper(environment), describe(environment)
    choosing = Deciding(description)
    players = len(description.players)
    states: list[Any] = []
    depth: list[int] = []  # decisions before a state is met first; states are gone through in this order
    found: dict[Any, int] = {}

    here = -1

    def place(state: Any) -> int:
        key = key_of(state)
        at = found.get(key)
        if at is None:
            at = found[key] = len(states)
            states.append(stepper.cleared(state))
            depth.append(depth[here] + 1 if here >= 0 else 0)
            if at >= most_states:
                raise SettingError(
                    f"`{description.name}` has more than {most_states:,} states; the last one met was {state}. Give a larger `most_states`, or fields that take "
                    f"fewer values: a field that only counts up makes every moment another state."
                )
        return at

    first: dict[int, float] = {}
    for state, chance in outcomes(stepper.begin):
        at = place(state)
        first[at] = first.get(at, 0.0) + chance
    of_state: list[int] = []
    taken: list[int] = []
    movers: list[int] = []
    rewards: list[Any] = []
    ends, targets, chances = [0], list[int](), list[float]()
    here = 0
    while here < len(states):
        before = states[here]
        if horizon is not None and depth[here] >= horizon:  # nothing is decided there any more
            break
        for mover, index, action in choosing.of(stepper, before):
            reward: Any = np.zeros(players) if players else 0.0
            goes: dict[int, float] = {}
            for after, chance in outcomes(lambda draw, a=action, b=before: stepper.advance(b, a, draw)):  # type: ignore[misc]
                got: Any = 0.0
                for method, judge, weight in stepper.direct_terms:
                    got = got + weight * float(method(after) if judge is None else judge(before, action, after))
                reward = reward + chance * got
                if not stepper.held(before, action, after, 0):
                    at = place(after)
                    goes[at] = goes.get(at, 0.0) + chance
            of_state.append(here)
            taken.append(index)
            movers.append(mover)
            rewards.append(reward)
            targets.extend(goes)
            chances.extend(goes.values())
            ends.append(len(targets))
        here += 1
        if say is not None and here % TOLD_EVERY == 0:
            say(f"{here:,} states gone through, {len(states):,} met")
    begun = np.zeros(len(states))
    begun[list(first)] = list(first.values())
    onward = sparse.csr_array((chances, targets, ends), shape=(len(of_state), len(states)))
    return Transitions(
        states, begun, np.array(of_state), np.array(taken), np.array(movers), np.array(rewards, float), onward
    )


class Deciding:
    """What can be decided in a state."""

    def __init__(self, description: Any) -> None:
        self._action, self._players = description.action, description.players
        if self._players:
            self._joints = {player: JointChoice(action) for player, action in description.action.players.items()}
            self._idle = plain_form(idle_of(np, description.action))
        else:
            self._joints = {"": JointChoice(description.action)}
        self._names = list(choices_of(description.action))

    def of(self, stepper: Stepper, state: Any) -> list[tuple[int, int, Any]]:
        """For each decision: the player's number or -1, its index, and the action in own form."""
        mask = stepper.decidable(state)
        if not self._players:
            joint = self._joints[""]
            able = joint.legal(tuple(part[None] for part in mask)) if mask else None
            some = np.arange(joint.count) if able is None else np.flatnonzero(able[0])
            return [(-1, int(k), own) for k, own in zip(some, split(joint.own(some), len(some)), strict=True)]
        asked = int(np.flatnonzero(mask[-1])[0])
        player = self._players[asked]
        joint = self._joints[player]
        own_masks = [part for name, part in zip(self._names, mask, strict=False) if name.partition(".")[0] == player]
        able = joint.legal(tuple(part[None] for part in own_masks))
        some = np.arange(joint.count) if able is None else np.flatnonzero(able[0])
        idle = {name: self._action.of(name, self._idle) for name in self._players}
        return [
            (asked, int(k), self._action.joined({**idle, player: own}))
            for k, own in zip(some, split(joint.own(some), len(some)), strict=True)
        ]

    def own(self, mover: int, index: int) -> Any:
        """A decision in own form."""
        if mover < 0:
            return split(self._joints[""].own(np.array([index])), 1)[0]
        player = self._players[mover]
        idle = {name: self._action.of(name, self._idle) for name in self._players}
        return self._action.joined({**idle, player: split(self._joints[player].own(np.array([index])), 1)[0]})

    def labels(self, mover: int) -> list[str]:
        return self._joints["" if mover < 0 else self._players[mover]].labels
