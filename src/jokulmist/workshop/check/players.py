"""What goes wrong where several players are alike: a place that earns nothing, or sees something else than the others
in the same situation.

Players are alike where they do the same actions and have the same channels and reward terms. Their places are exchanged
by turning the arrays of the state that have one entry a player: whoever takes a place then must see and earn there what
the one before saw and earned.
"""

from __future__ import annotations

from typing import Any

import numpy as np

from jokulmist.environments.declaration.description import Description
from jokulmist.environments.declaration.reads import watched
from jokulmist.environments.declaration.state import State
from jokulmist.environments.spaces.player_actions import PlayerActions, name_in, own_name, owner_of
from jokulmist.workshop.check.random_play import PlayedTransition, RandomPlayTrial
from jokulmist.workshop.check.report import CheckReport, Finding

MOST_CALLS = 40
TOLERANCE = 1e-5
# The beginnings of the keys of findings.
SAME, DIFFERS, NEVER = "same for all:", "differs:", "never earned:"


def look_at_players(play: RandomPlayTrial) -> None:
    """Add what asking the players' own methods tells."""
    description = play.description
    if not alike(description):
        return
    _same_for_all(play)
    turned = {f.name for f in description.fields if _by_player(f.shape, len(description.players))}
    sensors = [s for s in description.outline.sensors if owner_of(s.name) and not s.noisy and not s.bounds["image"]]
    for sensor in sensors:
        _differs(play, turned, sensor.name, ("state",), "shows")
    for term in description.terms:
        if owner_of(term.name):
            _differs(play, turned, term.name, term.takes, "pays")
    names = {name_in(key.rpartition(":")[2]) for key in play.reported if key.startswith((DIFFERS, NEVER))}
    play.report.findings += [
        finding for finding in earned_by_one(play.report, description) if finding.place not in names
    ]


def earned_by_one(report: CheckReport, description: Description) -> list[Finding]:
    """Reward terms that some of the players earned, and others never."""
    if not alike(description):
        return []
    findings = []
    reaches = {reach.name: reach for reach in report.terms}
    for name in dict.fromkeys(name_in(term.name) for term in description.terms if owner_of(term.name)):
        never = [p for p in description.players if _still(reaches[own_name(p, name)])]
        if never and len(never) < len(description.players):
            earning = next(p for p in description.players if p not in never)
            findings.append(
                Finding(
                    "warning",
                    f"reward term `{name}` was earned by `{earning}`, and stayed 0 for `{'`, `'.join(never)}` in all "
                    f"of {report.steps:,} steps.",
                    name,
                    "Their actions and channels are the same, so whoever plays there is taught something else.",
                    f"Use `player` as the index in `{name}`, e.g. `after.caught[player]`.",
                )
            )
    return findings


def alike(description: Description) -> bool:
    """Whether all players do the same actions, and have the same channels and terms of their own."""
    players, action = description.players, description.action
    if not isinstance(action, PlayerActions):
        return False

    def names_of(player: str, parts: Any) -> set[str]:
        return {name_in(part.name) for part in parts if owner_of(part.name) == player}

    first = players[0]
    return all(
        action.players[p] == action.players[first]
        and names_of(p, description.bare.channels) == names_of(first, description.bare.channels)
        and names_of(p, description.terms) == names_of(first, description.terms)
        for p in players
    )


def _by_player(shape: Any, count: int) -> bool:
    return isinstance(shape, tuple) and shape[:1] == (count,)


def _still(reach: Any) -> bool:
    return bool(reach.least == reach.most == 0.0)


def _same_for_all(play: RandomPlayTrial) -> None:
    """A channel of each player's own that is the same for all of them, and changes."""
    rows, slices = np.asarray(play.rows, float), play.description.bare.slices
    for name in dict.fromkeys(name_in(c.name) for c in play.description.bare.numbers if owner_of(c.name)):
        each = [rows[:, slices[own_name(player, name)]] for player in play.description.players]
        if all(np.array_equal(each[0], row) for row in each[1:]) and np.ptp(each[0]) > 0.0:
            play.find(
                "warning",
                f"{SAME}{name}",
                f"`{name}` takes `player`, and showed all players the same in every one of {len(rows):,} steps.",
                own_name(play.description.players[0], name),
                "Whoever acts cannot tell from it where it is itself.",
                f"Use `player` as the index in `{name}`, e.g. `state.boats[player]`; or leave `player` out, and all "
                "see one channel.",
            )


def _differs(play: RandomPlayTrial, turned: set[str], name: str, takes: tuple[str, ...], does: str) -> None:
    """A player's own method that gives something else when places are exchanged, though all it reads has one entry a
    player."""
    players, method = play.description.players, name_in(name)
    if f"{SAME}{method}" in play.reported:
        return
    seat = players.index(owner_of(name))
    next_seat = (seat + 1) % len(players)
    other_method = own_name(players[next_seat], method)
    for moment in play.transitions[:MOST_CALLS]:
        value, read = _call_for(play, name, takes, moment)
        if not read or not read <= turned:
            return
        exchanged_value, _ = _call_for(play, other_method, takes, _exchanged(play, turned, moment))
        if not np.allclose(value, exchanged_value, atol=TOLERANCE):
            play.find(
                "warning",
                f"{DIFFERS}{method}",
                f"`{method}` {does} `{players[seat]}` {_short(value)}, and `{players[next_seat]}` "
                f"{_short(exchanged_value)} in the "
                "same situation with places exchanged.",
                name,
                "Their actions and channels are the same: an index that is fixed, or mixed up, shows or pays one of "
                "them what is the other's.",
                f"Look at the indices in `{method}`: `player` is the own one, with two players `1 - player` the "
                "other's.",
            )
            return


def _call_for(
    play: RandomPlayTrial, name: str, takes: tuple[str, ...], moment: PlayedTransition
) -> tuple[Any, set[str]]:
    """What a method gives in a moment, and the fields that it reads."""
    states = {"before": moment.before, "after": moment.after, "state": moment.after}
    read: set[str] = set()
    arguments = []
    for word in takes:
        twin, names = watched(states[word]) if word in states else (moment.action, read)
        arguments.append((twin, names))
    try:
        value = getattr(play.environment, name)(*[twin for twin, _ in arguments])
    except Exception as failure:
        play.step.failed(name, failure)
    return value, set().union(*(names for _, names in arguments)) if arguments else read


def _exchanged(play: RandomPlayTrial, turned: set[str], moment: PlayedTransition) -> PlayedTransition:
    """The same moment, in which each player is where the one before it was."""

    def state(exchanged_state: State) -> State:
        return exchanged_state.replace(
            **{name: np.roll(np.asarray(getattr(exchanged_state, name)), 1, axis=0) for name in turned}
        )

    action, players = play.description.action, play.description.players
    assert isinstance(action, PlayerActions)
    did = {
        players[(k + 1) % len(players)]: action.for_player(player, moment.action) for k, player in enumerate(players)
    }
    return moment._replace(before=state(moment.before), action=action.joined(did), after=state(moment.after))


def _short(value: Any) -> str:
    return np.array2string(np.asarray(value, float), precision=4, threshold=6)
