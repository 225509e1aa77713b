"""What the records of random play show: scales, copies, bounds and endings that may be mistakes."""

from __future__ import annotations

import numpy as np

from jokulmist.environments.declaration.outline import DEADLINE
from jokulmist.judging.evaluate import RANDOM
from jokulmist.workshop.check.random_play import RandomPlayTrial

DWARFED = 100.0
TENTH = 0.1
# Standard errors by which a reference must be better than random play.
SURELY = 2.0
WIDE = 25.0
SAME = 1e-6
SOON = 2
# Steps for which a term must stay as it is to look like an ending that was forgotten.
PAID_ON = 5


def look_at_records(play: RandomPlayTrial) -> None:
    """Add what the records of random play tell."""
    if not play.rows or not play.report.closed_by:
        return
    _doubled_minus(play)
    _never_earned(play)
    _scales(play, _paid_on(play))
    _twins(play)
    _wide_bounds(play)
    _early_ends(play)
    _unseen_deadline(play)


def look_at_levels(play: RandomPlayTrial) -> None:
    """Add what random play and the references show beside each other."""
    _never_met(play)
    _useless_references(play)


def _never_met(play: RandomPlayTrial) -> None:
    """Endings and cuts that hold in no step of random play, nor where a reference plays."""
    report, description = play.report, play.description
    met = set(description.held_names(play.satisfied))
    for level in report.levels.values():
        met |= {str(name) for name in level.columns["closed_by"]}
    for closing in (*description.outline.endings, *description.outline.cuts):
        if closing.name not in met:
            elsewhere = " nor in the episodes of the references" if len(report.levels) > 1 else ""
            play.find(
                "warning",
                f"never met:{closing.name}",
                f"`{closing.name}` held in none of {report.steps:,} steps of random "
                f"play{',' if elsewhere else ''}{elsewhere}.",
                closing.name,
                "An ending that cannot be met teaches nothing; one that is hard to meet is learned late.",
                "Look at the comparison's direction and units; write a `@jm.reference` that meets it, or begin an "
                "episode near it by hand (`jm.Episode.from_state`).",
            )


def _useless_references(play: RandomPlayTrial) -> None:
    """References whose returns are no better than those of random play."""
    levels = play.report.levels
    if play.description.players:
        return
    random = levels[RANDOM]
    for name, level in levels.items():
        error = np.hypot(level.sd, random.sd) / np.sqrt(len(level.returns))
        if name != RANDOM and not level.mean - random.mean > SURELY * error:
            play.find(
                "warning",
                f"reference:{name}",
                f"the reference `{name}` returns {level.mean:.4g}, and random play {random.mean:.4g}: it is no better.",
                name,
                "A rule that is meant to be good and is not shows a mistake in the rule, a reward or a sign.",
                f"Step an episode by `{name}` (`jokulmist check --show 20 --policy {name}`), and look at its reward "
                "terms.",
            )


def _doubled_minus(play: RandomPlayTrial) -> None:
    """A cost that is negative already, with a negative weight."""
    for term, weight, reach in zip(play.description.terms, play.description.weights, play.report.terms, strict=True):
        if weight < 0.0 and reach.most <= 0.0 and reach.least < 0.0:
            play.find(
                "warning",
                f"doubled minus:{term.name}",
                f"reward term `{term.name}` lay between {reach.least:.4g} and {reach.most:.4g}, never above 0, and "
                f"its weight is {weight:g}: together it rewards.",
                term.name,
                "Two minus signs make a reward of what looks like a cost.",
                "Leave one of them out.",
            )


def _never_earned(play: RandomPlayTrial) -> None:
    """A reward term that stayed 0 throughout."""
    amounts = np.asarray(play.amounts)
    weights = play.description.weights
    for term, weight, column in zip(play.description.terms, weights, amounts.T, strict=True):
        if not column.any() and weight > 0.0:
            play.find(
                "warning",
                f"never earned:{term.name}",
                f"reward term `{term.name}` stayed 0 in all of {len(column):,} steps of random play.",
                term.name,
                "An agent begins by random play: what it never meets it cannot learn from.",
                "Check its condition and units; begin nearer to it, raise the difficulty by `curriculum`, or lead "
                "there by another term (`jm.modifiers.Potential`).",
            )


def _paid_on(play: RandomPlayTrial) -> set[str]:
    """Reward terms that begin in the middle of an episode and then stay the same to its end: an ending was
    forgotten."""
    terms: set[str] = set()
    lasts = np.cumsum([advances for advances, _ in play.episodes])
    episodes = np.split(np.asarray(play.amounts), lasts)[: len(lasts)]
    for k, term in enumerate(play.description.terms):
        earned, paid = 0, []
        for amounts in episodes:
            column = amounts[:, k]
            paid_rows = np.flatnonzero(column)
            if not len(paid_rows):
                continue
            earned += 1
            first = paid_rows[0]
            if first > 0 and len(column) - first >= PAID_ON and (column[first:] == column[first]).all():
                paid.append((len(column) - first, column[first]))
        if paid and len(paid) >= 0.5 * earned:
            terms.add(term.name)
            play.find(
                "warning",
                f"paid on:{term.name}",
                f"reward term `{term.name}` became {paid[0][1]:.4g} and stayed so to the end of {len(paid)} of the "
                f"{earned} episodes in which it was not 0, for {np.mean([n for n, _ in paid]):.0f} steps on average.",
                term.name,
                "It looks like something that happens once, and it is paid at every step that follows.",
                "Declare an ending for it (`@jm.ending`), or pay it only in the step in which it happens, from "
                "`before` and `after`.",
            )
    return terms


def _scales(play: RandomPlayTrial, paid_on: set[str]) -> None:
    """A reward term that all others are nothing beside; one that is `paid_on` has a finding of its own."""
    names = [term.name for term in play.description.terms]
    weighted = np.abs(np.asarray(play.amounts) * np.asarray(play.description.weights)).mean(axis=0)
    order = np.argsort(weighted)[::-1]
    if len(order) < 2 or weighted[order[1]] == 0.0:
        return
    first, second, rest = order[0], order[1], weighted[order[1:]].sum()
    if weighted[first] > DWARFED * rest and names[first] not in paid_on:
        tenth = play.description.weights[second] * TENTH * weighted[first] / weighted[second]
        play.find(
            "warning",
            "scale",
            f"reward term `{names[first]}` brings {weighted[first]:.4g} a step, all the others together {rest:.4g}.",
            names[first],
            "The others have little say in what is learned.",
            "Leave it where the others are meant to be small; else raise their weights, e.g. "
            f"`weights={{{names[second]!r}: {float(tenth):.2g}}}` for a tenth of it.",
        )


def _twins(play: RandomPlayTrial) -> None:
    """Two channels that tell the same, up to scale and shift."""
    spec = play.description.bare
    columns = np.asarray(play.rows, float)
    entries = [(name, k) for name, entries_of in spec.slices.items() for k in range(entries_of.start, entries_of.stop)]
    spread = columns.std(axis=0)
    for i, (first, a) in enumerate(entries):
        for second, b in entries[i + 1 :]:
            if first == second or spread[a] == 0.0 or spread[b] == 0.0:
                continue
            owners = {name.partition(".")[0] for name in (first, second) if "." in name}
            if len(owners) == 2:  # what two players see is not seen by one
                continue
            together = np.corrcoef(columns[:, a], columns[:, b])[0, 1]
            if 1.0 - abs(together) < SAME:
                play.find(
                    "warning",
                    f"twins:{first}:{second}",
                    f"channels `{first}` and `{second}` tell the same in every one of {len(columns)} steps"
                    f"{', up to scale and shift' if not np.allclose(columns[:, a], columns[:, b]) else ''}.",
                    second,
                    "A table grows by it for nothing, and one of the two is probably not what was meant.",
                    f"Leave one out, or check what `{second}` is made of.",
                )


def _wide_bounds(play: RandomPlayTrial) -> None:
    """Bounds far wider than what was seen."""
    for reach, channel in zip(play.report.channels, play.description.bare.numbers, strict=True):
        seen = reach.most - reach.least
        if channel.whole or not channel.bounded or reach.outside or not seen > 0.0:
            continue
        if channel.high - channel.low > WIDE * seen:
            play.find(
                "warning",
                f"wide:{channel.name}",
                f"channel `{channel.name}` moved from {reach.least:.4g} to {reach.most:.4g}, and is declared from "
                f"{channel.low:g} to {channel.high:g}: {seen / (channel.high - channel.low):.1%} of it.",
                channel.name if channel.computed else "advance",
                "In a table everything falls into one or two bins; a network sees a number that hardly moves.",
                'Narrow the bounds to what good and bad play reach, or use `scaling="running"` with a network.',
            )


def _early_ends(play: RandomPlayTrial) -> None:
    """Endings that come at once."""
    count = len(play.episodes)
    ends = play.description.closings[: play.description.true_ends]
    for name in ends:
        lengths = [advances for advances, closed_by in play.episodes if closed_by == name]
        at_once = sum(advances == 1 for advances in lengths)
        if name != DEADLINE and at_once > 0.5 * count:
            play.find(
                "error" if at_once == count else "warning",
                f"at once:{name}",
                f"`{name}` closed {at_once} of {count} episodes at their first step.",
                name,
                "Nothing can be learned from an episode that is over before it has begun.",
                "Check the comparison's direction and units, and the first state that `begin` gives.",
            )
        elif name != DEADLINE and len(lengths) == count > SOON and max(lengths) <= SOON:
            play.find(
                "warning",
                f"soon:{name}",
                f"`{name}` closed every one of {count} episodes within {SOON} steps of random play.",
                name,
                "An agent that starts at random hardly sees anything but the end.",
                "Begin further from it, make an advance shorter, or widen what is allowed.",
            )


def _unseen_deadline(play: RandomPlayTrial) -> None:
    """A true end by time, while nothing that is seen tells the time."""
    description = play.description
    if description.deadline is None or description.bare.images:
        return
    columns, advances = np.asarray(play.rows, float), np.asarray(play.advances)
    for k in range(columns.shape[1]):
        by_advance: dict[int, float] = {}
        if all(by_advance.setdefault(int(n), v) == v for n, v in zip(advances, columns[:, k], strict=True)):
            values = list(by_advance.values())
            if len(set(values)) == len(values):
                return
    play.find(
        "warning",
        "unseen deadline",
        f"the `deadline` after {description.deadline} advances is a true end, and no channel tells how much time is "
        "left.",
        "advance",
        "The same observation is then worth much or nothing, and values cannot be learned.",
        "Observe the time, `day: int = jm.seen(low=0, high=...)`, or use `time_limit`, a cut, if there is a future "
        "after it.",
    )
