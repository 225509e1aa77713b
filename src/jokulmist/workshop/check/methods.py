"""What single methods read and do: they are asked again with states that note what is read, and with other actions."""

from __future__ import annotations

from typing import Any

import numpy as np

from jokulmist.environments.chance.noise import Stream
from jokulmist.environments.declaration.reads import watched
from jokulmist.environments.declaration.state import State
from jokulmist.environments.spaces.actions import Actions, Choice, Range, Record
from jokulmist.workshop.check.random_play import PlayedTransition, RandomPlayTrial

MOST_CALLS = 40
MOST_TRIED = 8


def look_at_methods(play: RandomPlayTrial) -> None:
    """Add what asking the methods again tells."""
    if not play.transitions:
        return
    read = _reads(play)
    _flows_from_before(play, read)
    _unread_fields(play, read)
    _unread_actions(play)
    _closed_from_the_first(play)


def _reads(play: RandomPlayTrial) -> dict[str, dict[str, set[str]]]:
    """The fields that each method reads, by the argument they are read from."""
    outline = play.description.outline
    reads: dict[str, dict[str, set[str]]] = {}

    def note(method: str, argument: str, names: set[str]) -> None:
        reads.setdefault(method, {}).setdefault(argument, set()).update(names)

    def call(method: str, state: State, *more: Any) -> None:
        twin, names = watched(state)
        try:
            getattr(play.environment, method)(twin, *more)
        except Exception as failure:
            play.step.failed(method, failure)
        note(method, "state", names)

    for moment in play.transitions[:MOST_CALLS]:
        call("advance", moment.before, moment.action, play.draws[Stream.ADVANCE].for_step(moment.turn, 0))
        for sensor in outline.sensors:
            more = (play.draws[Stream.SENSE].for_step(moment.turn, 0),) if sensor.noisy else ()
            call(sensor.name, moment.after, *more)
        for name in (*outline.references, *(("legal",) if outline.masked else ())):
            call(name, moment.after)
        for step in (*outline.terms, *outline.endings, *outline.cuts, *outline.measures):
            before, from_before = watched(moment.before)
            after, from_after = watched(moment.after)
            arguments = {"before": before, "action": moment.action, "after": after}
            try:
                getattr(play.environment, step.name)(*[arguments[name] for name in step.takes])
            except Exception as failure:
                play.step.failed(step.name, failure)
            note(step.name, "before", from_before)
            note(step.name, "after", from_after)
    return reads


def _flows_from_before(play: RandomPlayTrial, read: dict[str, dict[str, set[str]]]) -> None:
    flows = {f.name for f in play.description.fields if f.role == "flow"}
    for method, readers in read.items():
        for name in sorted(readers.get("before", set()) & flows):
            play.find(
                "error",
                f"flow:{method}:{name}",
                f"`{method}` reads the flow `{name}` from `before`, where it is always zero.",
                method,
                "A flow says what happened in one advance; it is set in `after`.",
                f"Read `after.{name}`; or make `{name}` a field, if what happened the time before is meant.",
            )


def _unread_fields(play: RandomPlayTrial, read: dict[str, dict[str, set[str]]]) -> None:
    every: set[str] = set()
    for readers in read.values():
        every |= set().union(*readers.values())
    for field in play.description.fields:
        if field.role != "seen" and field.name not in every and not _draws_noise(play, field.name):
            play.find(
                "warning",
                f"unread:{field.name}",
                f"the field `{field.name}` of the state is read by nothing: not by `advance`, a sensor, a reward, an "
                "ending or a measure.",
                "State",
                "Either it is left over, or something that should depend on it does not.",
                f"Leave `{field.name}` out, or read it where it was meant.",
            )


def _draws_noise(play: RandomPlayTrial, name: str) -> bool:
    """Whether `picture` names a field; it draws rather than asks, so its source is looked at."""
    import inspect

    picture = getattr(type(play.environment), "picture", None)
    try:
        return picture is not None and f".{name}" in inspect.getsource(picture)
    except (OSError, TypeError):
        return True


def _unread_actions(play: RandomPlayTrial) -> None:
    """Parts of the action that change nothing: no field, no term, no measure, no closing."""
    action = play.description.action
    parts: dict[str, Any] = action.parts if isinstance(action, Actions) else {"": action}
    for name, part in parts.items():
        tries = _tries(part)
        if len(tries) > 1 and not any(_matters(play, moment, name, tries) for moment in play.transitions[:MOST_CALLS]):
            noun = f"the part `{name}` of the action" if name else "the action"
            play.find(
                "error",
                f"action:{name}",
                f"{noun} changes nothing: each of {len(tries)} alternatives gave the same state, rewards and endings "
                f"in {min(MOST_CALLS, len(play.transitions))} steps.",
                "advance",
                "Whatever is done, the same happens; nothing can be learned.",
                f"Use {f'`action.{name}`' if name else '`action`'} in `advance` or in a reward.",
            )


def _tries(part: Choice | Range) -> list[Any]:
    if isinstance(part, Choice):
        return list(range(min(part.count, MOST_TRIED)))
    low, high = np.nan_to_num(part.low, neginf=-1.0), np.nan_to_num(part.high, posinf=1.0)
    values = [low, 0.5 * (low + high), high]
    return [float(value) if part.shape == () else value for value in values]


def _matters(play: RandomPlayTrial, moment: PlayedTransition, name: str, tries: list[Any]) -> bool:
    """Whether another value of a part leads to anything else."""
    step = play.step
    first = None
    for value in tries:
        action = Record(**{**vars(moment.action), name: value}) if name else value
        after = step.advance(moment.before, action, play.draws[Stream.ADVANCE].for_step(moment.turn, 0))
        text = (
            step.reward_terms(moment.before, action, after),
            step.measured(moment.before, action, after),
            step.satisfied(moment.before, action, after, moment.advances),
        )
        if first is None:
            first = (after, text)
        elif first != (after, text):
            return True
    return False


def _closed_from_the_first(play: RandomPlayTrial) -> None:
    """Endings that hold in the first state already, though they are only asked after an advance."""
    for ending in play.description.outline.endings:
        if ending.takes != ("after",):
            continue
        firsts = [play.step.begin(play.draws[Stream.BEGIN].for_step(turn, 0)) for turn in range(20)]
        holds = sum(bool(getattr(play.environment, ending.name)(play.step.cleared(state))) for state in firsts)
        if holds:
            play.find(
                "warning",
                f"first:{ending.name}",
                f"`{ending.name}` already holds in {holds} of 20 first states.",
                ending.name,
                "Endings are asked after an advance, so such an episode goes on for a step that nobody meant.",
                "Begin elsewhere, or sharpen the comparison.",
            )
