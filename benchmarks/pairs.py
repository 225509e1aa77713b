"""Two sides timed one after the other, in alternating order, because machines drift."""

from statistics import median


def paired(ours, theirs, pairs):
    """Ratios of speeds, pair by pair, in alternating order."""
    ratios, our_speeds, their_speeds = [], [], []
    for pair in range(pairs):
        order = (ours, theirs) if pair % 2 == 0 else (theirs, ours)
        speeds = {side: side() for side in order}
        our_speeds.append(speeds[ours])
        their_speeds.append(speeds[theirs])
        ratios.append(speeds[ours] / speeds[theirs])
    return {
        "ratio": median(ratios),
        "least": min(ratios),
        "most": max(ratios),
        "ours": median(our_speeds),
        "by_hand": median(their_speeds),
        "pairs": pairs,
    }
