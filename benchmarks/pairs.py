"""Two sides timed one after the other, in alternating order, because machines drift."""

from statistics import median


def paired(ours, theirs, pairs):
    """Ratios of speeds, pair by pair, in alternating order."""
    ratios, own_module, second_item = [], [], []
    for pair in range(pairs):
        order = (ours, theirs) if pair % 2 == 0 else (theirs, ours)
        speeds = {side: side() for side in order}
        own_module.append(speeds[ours])
        second_item.append(speeds[theirs])
        ratios.append(speeds[ours] / speeds[theirs])
    return {
        "ratio": median(ratios),
        "least": min(ratios),
        "most": max(ratios),
        "ours": median(own_module),
        "by_hand": median(second_item),
        "pairs": pairs,
    }
