"""All states that can be met, and where each decision leads, with which chance and for which reward."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import lru_cache
from operator import itemgetter
from typing import Any

import numpy as np

from jokulmist.arrays import NumpyArray
from jokulmist.environments.declaration.instance import describe
from jokulmist.environments.declaration.state import State
from jokulmist.environments.environment import Environment
from jokulmist.environments.modifiers.base import idle_of
from jokulmist.environments.simulator import Simulator
from jokulmist.environments.spaces.actions import plain_form, split
from jokulmist.environments.spaces.legal import choices_of
from jokulmist.environments.transition.stepping import Stepper
from jokulmist.errors import SettingError
from jokulmist.judging.solving.counting import outcomes
from jokulmist.learning.action_distributions import JointChoice, refuse_ranges

TOLD_EVERY = 20_000
WORTH_TRACING = 30_000  # outcomes: fewer are gone through sooner than a class is traced
MOST_AT_ONCE = 1_000_000  # outcomes


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
        Of each possible decision, ordered by state: where, which (its index), and which player's; -1 where there are no
        players.
    reward : float array, shape ``(decisions,)``, or ``(decisions, players)``
        Expected.
    successors : sparse array, shape ``(decisions, states)``
        Chances to go on; what is missing to 1 closed the episode.
    """

    states: list[Any]
    first: NumpyArray
    state: NumpyArray
    action: NumpyArray
    mover: NumpyArray
    reward: NumpyArray
    successors: Any

    @property
    def count(self) -> int:
        """Transitions with a chance above 0, those that close an episode left out."""
        return int(self.successors.nnz)

    def keys(self) -> dict[Any, int]:
        return {key_of(state): k for k, state in enumerate(self.states)}


def key_of(state: State) -> Any:
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
    """Raise `SettingError` where states or decisions cannot be counted, with the fix."""
    description = describe(environment)
    name = description.name
    if isinstance(environment, Simulator):
        raise SettingError(
            f"`{name}` is a simulator: nobody knows its states. Only a class whose state is declared can be solved."
        )
    if description.holds:
        raise SettingError(
            f"`{name}` lets a decision last for several advances. Solve it with `decide_every = 1`, without "
            "`decide_when`."
        )
    if description.action_pipeline.modifiers or description.opening is not None:
        raise SettingError(
            f"what `{name}` is modified by changes what happens. Solve it without modifiers of its actions and its "
            "opening."
        )
    if description.varying is not None:
        raise SettingError(f"parameters of `{name}` vary from episode to episode. Solve it at fixed ones.")
    refuse_ranges(description.action, "solve")
    if description.players and not getattr(description.action, "asks", False):
        raise SettingError(
            f"in `{name}` several players decide at once, and what is best depends on what the others do. Games in "
            "which they take turns are solved."
        )


def transitions_of(
    environment: Environment,
    most_states: int,
    horizon: int | None = None,
    on_message: Callable[[str], None] | None = None,
) -> Transitions:
    """Go through all that can happen from the begin of an episode on."""
    refuse_unsolvable(environment)
    gone = StateExplorer(environment, most_states, horizon)
    batches: Any = None  # False where the class cannot be traced
    while gone.cursor < len(gone.states):
        if horizon is not None and gone.depth[gone.cursor] >= horizon:  # nothing is decided there any more
            break
        if batches is None and gone.outcomes >= WORTH_TRACING:
            batches = _batches_for(environment)
        if not batches:
            gone.expand_next()
        elif not gone.expand_many(batches):
            batches = False
        if on_message is not None and gone.cursor // TOLD_EVERY > gone.reports_made:
            gone.reports_made = gone.cursor // TOLD_EVERY
            on_message(f"{gone.cursor:,} states gone through, {len(gone.states):,} met")
    return gone.transitions()


def _batches_for(environment: Environment) -> Any:
    """What goes through many outcomes at once; False where the class cannot be traced."""
    from jokulmist.judging.solving.batches import Batches, Unequal

    try:
        return Batches(environment)
    except Unequal:
        return False


class StateExplorer:
    """The states that were met so far, in the order in which they are gone through, and where their decisions lead.

    Attributes
    ----------
    cursor : int
        The next state that is gone through.
    depth : list of int
        Decisions before each state is met first.
    outcomes : int
        That were looked at.
    reports_made : int
    """

    def __init__(self, environment: Environment, most_states: int, horizon: int | None) -> None:
        self._stepper, self._description = Stepper(environment), describe(environment)
        self._choosing = Deciding(self._description)
        self._most, self._horizon = most_states, horizon
        self.states: list[Any] = []
        self.depth: list[int] = []
        self.cursor, self.outcomes, self.reports_made = 0, 0, 0
        self._place_of: dict[Any, int] = {}
        self._found_rows: dict[bytes, int] | None = None
        self._of_state: list[int] = []
        self._choices: list[int] = []
        self._movers: list[int] = []
        self._rewards: list[Any] = []
        self._pieces: list[
            tuple[NumpyArray, NumpyArray, NumpyArray]
        ] = []  # decisions, where they lead, and with which chance
        self._rows, self._targets, self._probabilities = list[int](), list[int](), list[float]()
        self._first: dict[int, float] = {}
        for state, chance in outcomes(self._stepper.begin):
            place = self._place(state, 0)
            self._first[place] = self._first.get(place, 0.0) + chance

    def _place(self, state: State, depth: int) -> int:
        key = key_of(state)
        place = self._place_of.get(key)
        if place is None:
            place = self._place_of[key] = self._added(self._stepper.cleared(state), depth)
        return place

    def _added(self, state: State, depth: int) -> int:
        self.states.append(state)
        self.depth.append(depth)
        if len(self.states) > self._most:
            raise SettingError(
                f"`{self._description.name}` has more than {self._most:,} states; the last one met was {state}. Give "
                "a larger `most_states`, or fields that take "
                f"fewer values: a field that only counts up makes every moment another state."
            )
        return len(self.states) - 1

    def expand_next(self) -> None:
        """Go through one state, one outcome at a time."""
        current, stepper, players = self.cursor, self._stepper, len(self._description.players)
        before = self.states[current]
        for mover, index, action in self._choosing.decisions(stepper, before):
            reward: Any = np.zeros(players) if players else 0.0
            goes: dict[int, float] = {}
            for after, chance in outcomes(lambda draw, a=action: stepper.advance(before, a, draw)):  # type: ignore[misc]
                self.outcomes += 1
                got: Any = 0.0
                for method, judge, weight in stepper.direct_terms:
                    got = got + weight * float(method(after) if judge is None else judge(before, action, after))
                reward = reward + chance * got
                if not stepper.satisfied(before, action, after, 0):
                    place = self._place(after, self.depth[current] + 1)
                    goes[place] = goes.get(place, 0.0) + chance
            self._rows.extend([len(self._of_state)] * len(goes))
            self._targets.extend(goes)
            self._probabilities.extend(goes.values())
            self._of_state.append(current)
            self._choices.append(index)
            self._movers.append(mover)
            self._rewards.append(reward)
        self.cursor += 1

    def expand_many(self, batches: Any) -> bool:
        """Go through many states at once; whether that could be done. If not, everything is as before."""
        from jokulmist.judging.solving.batches import Unequal

        each = self.outcomes / max(self.cursor, 1)
        end = min(len(self.states), self.cursor + 1 + int(MOST_AT_ONCE / max(each, 1.0)))
        if self._horizon is not None:
            end = self.cursor + int(np.searchsorted(self.depth[self.cursor : end], self._horizon))
        states_now = self.states[self.cursor : end]
        decided = [self._choosing.decisions(self._stepper, state) for state in states_now]
        sizes = [len(options) for options in decided]
        flat = [decision for options in decided for decision in options]
        try:
            pieces = list(
                batches.outcomes(
                    states_now, [action for _, _, action in flat], np.repeat(np.arange(len(states_now)), sizes)
                )
            )
        except Unequal:  # what was met in batches before is known from here on, too
            self._place_of = {key_of(state): k for k, state in enumerate(self.states)}
            return False
        if self._found_rows is None:
            self._found_rows = {row: k for k, row in enumerate(_rows_of_states(batches.fields, self.states))}
        places, make = self._found_rows, self._maker(batches.fields)
        begin, players = len(self._of_state), len(self._description.players)
        rewards = np.zeros((len(flat), players)) if players else np.zeros(len(flat))
        depths = np.repeat(self.depth[self.cursor : end], sizes)
        for piece in pieces:
            self.outcomes += len(piece.decision)
            np.add.at(rewards, piece.decision, (piece.chance * piece.reward.T).T)
            open_rows = np.flatnonzero(~piece.closed)
            decision = piece.decision[open_rows]
            columns = {name: column[open_rows] for name, column in piece.after.items()}
            targets = np.empty(len(open_rows), np.int64)
            for k, row in enumerate(_as_rows(batches.fields, columns)):
                place = places.get(row)
                if place is None:
                    place = places[row] = self._added(make(columns, k), int(depths[decision[k]]) + 1)
                targets[k] = place
            self._pieces.append((decision + begin, targets, piece.chance[open_rows]))
        self._of_state.extend(np.repeat(np.arange(self.cursor, end), sizes).tolist())
        self._choices.extend(index for _, index, _ in flat)
        self._movers.extend(mover for mover, _, _ in flat)
        self._rewards.extend(rewards)
        self.cursor = end
        return True

    def _maker(self, fields: Any) -> Callable[[Any, int], Any]:
        """A state from a row of columns, with its flows at zero."""
        cls, flows = self._stepper.state_class, self._stepper.flows

        def make(columns: Any, k: int) -> State:
            values = {f.name: columns[f.name][k].item() if f.scalar else columns[f.name][k] for f in fields}
            state = object.__new__(cls)
            state.__dict__.update(
                {f.name: values[f.name] if f.name in values else flows[f.name] for f in self._description.fields}
            )
            return state

        return make

    def transitions(self) -> Transitions:
        from scipy import sparse

        initial = np.zeros(len(self.states))
        initial[list(self._first)] = list(self._first.values())
        pieces = [
            (np.array(self._rows, int), np.array(self._targets, int), np.array(self._probabilities)),
            *self._pieces,
        ]
        rows, targets, probabilities = (np.concatenate(parts) for parts in zip(*pieces, strict=True))
        successors = sparse.csr_array((probabilities, (rows, targets)), shape=(len(self._of_state), len(self.states)))
        successors.sum_duplicates()
        return Transitions(
            self.states,
            initial,
            np.array(self._of_state),
            np.array(self._choices),
            np.array(self._movers),
            np.array(self._rewards, float),
            successors,
        )


def _as_rows(fields: Any, columns: dict[str, NumpyArray]) -> list[bytes]:
    """States as bytes, one a row."""
    count = len(next(iter(columns.values()))) if columns else 0
    if not count:
        return []
    parts = [np.ascontiguousarray(columns[f.name] + 0).reshape(count, -1).view(np.uint8) for f in fields]  # -0.0 is 0.0
    together = np.ascontiguousarray(np.concatenate(parts, axis=1))
    rows: list[bytes] = together.view(f"V{together.shape[1]}").ravel().tolist()
    return rows


def _rows_of_states(fields: Any, states: list[Any]) -> list[bytes]:
    from jokulmist.judging.solving.batches import held_as

    return _as_rows(fields, {f.name: np.array([s.__dict__[f.name] for s in states], held_as(f)) for f in fields})


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

    def decisions(self, stepper: Stepper, state: Any) -> list[tuple[int, int, Any]]:
        """For each decision: the player's number or -1, its index, and the action in own form."""
        mask = stepper.decidable(state)
        if not self._players:
            joint = self._joints[""]
            able = joint.legal(tuple(part[None] for part in mask)) if mask else None
            indices = np.arange(joint.count) if able is None else np.flatnonzero(able[0])
            return [
                (-1, int(k), native)
                for k, native in zip(indices, split(joint.native(indices), len(indices)), strict=True)
            ]
        player_asked = int(np.flatnonzero(mask[-1])[0])
        player = self._players[player_asked]
        joint = self._joints[player]
        own_masks = [part for name, part in zip(self._names, mask, strict=False) if name.partition(".")[0] == player]
        able = joint.legal(tuple(part[None] for part in own_masks))
        indices = np.arange(joint.count) if able is None else np.flatnonzero(able[0])
        idle = {name: self._action.for_player(name, self._idle) for name in self._players}
        return [
            (player_asked, int(k), self._action.joined({**idle, player: native}))
            for k, native in zip(indices, split(joint.native(indices), len(indices)), strict=True)
        ]

    def native(self, mover: int, index: int) -> Any:
        """A decision in own form."""
        if mover < 0:
            return split(self._joints[""].native(np.array([index])), 1)[0]
        player = self._players[mover]
        idle = {name: self._action.for_player(name, self._idle) for name in self._players}
        return self._action.joined({**idle, player: split(self._joints[player].native(np.array([index])), 1)[0]})

    def labels(self, mover: int) -> list[str]:
        return self._joints["" if mover < 0 else self._players[mover]].labels
