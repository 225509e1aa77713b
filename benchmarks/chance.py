"""What `compare` says of made-up scores: how often "different" where nothing differs, how often where something does,
and how often its intervals hold what they are meant to hold.

Run: ``python benchmarks/chance.py [--times 2000]``; a table and JSON. Several minutes.
"""

import argparse
import json
import sys

import numpy as np

from jokulmist.studies.comparison.verdicts import DIFFERENT, judged_pairs
from jokulmist.studies.statistics import attained, chance_interval, interquartile_mean, interval, power_of

SEEDS = (4, 5, 10, 20)
EFFECTS = (1.0, 2.0)


def normal(draw, count):
    return draw.normal(size=count)


def two_humped(draw, count):
    """Some seeds learn, some do not."""
    return np.where(draw.random(count) < 0.4, 0.0, 5.0) + 0.5 * draw.normal(size=count)


def tied(draw, count):
    """Scores of a few values, as where an episode succeeds or does not."""
    return draw.integers(0, 4, count).astype(float)


KINDS = {"normal": normal, "two-humped": two_humped, "tied": tied}


def said_different(draw, kind, seeds, groups, shift=0.0):
    scores = {f"group {k}": [kind(draw, seeds) + (shift if k == 0 else 0.0)] for k in range(groups)}
    return any(row["verdict"] == DIFFERENT for row in judged_pairs(scores))


def wrongly_different(scores, equal):
    return any(row["verdict"] == DIFFERENT and equal(row["first"], row["second"]) for row in judged_pairs(scores))


def six(mean=lambda k: 0.0, spread=lambda k: 1.0):
    return lambda draw: {f"v{k}": [draw.normal(mean(k), spread(k), 5)] for k in range(6)}


# What deals of all scores together might get wrong: some groups differ in truth, or in their spreads and sizes.
HARDER = {
    "two groups of 5 and 15, spreads 5 and 1": (
        lambda draw: {"a": [draw.normal(0, 5, 5)], "b": [draw.normal(0, 1, 15)]},
        lambda a, b: True,
    ),
    "six of 5, one far off": (six(mean=lambda k: 100.0 * (k == 0)), lambda a, b: "v0" not in (a, b)),
    "six of 5, one three spreads off": (six(mean=lambda k: 3.0 * (k == 0)), lambda a, b: "v0" not in (a, b)),
    "six of 5, three far off": (six(mean=lambda k: 100.0 * (k < 3)), lambda a, b: (a < "v3") == (b < "v3")),
    "six of 5, spreads 1 to 6": (six(spread=lambda k: 1.0 + k), lambda a, b: True),
}


def rate(hits):
    share = float(np.mean(hits))
    return {"rate": share, "error": 1.96 * float(np.sqrt(max(share * (1 - share), 1e-9) / len(hits)))}


def covered(draw, kind, seeds, times):
    """How often the interval of the interquartile mean holds what many seeds come to, and that of the chance of
    improvement a half."""
    true = float(interquartile_mean(kind(draw, 2_000_000)))
    middle, chance = [], []
    for _ in range(times):
        low, high = interval([kind(draw, seeds)], interquartile_mean, draw)
        middle.append(low <= true <= high)
        low, high = chance_interval([kind(draw, seeds)], [kind(draw, seeds)])
        chance.append(low <= 0.5 <= high)
    return rate(middle), rate(chance)


if __name__ == "__main__":
    words = argparse.ArgumentParser(description=__doc__)
    words.add_argument("--times", type=int, default=2000)
    times = words.parse_args().times
    results = {}
    for name, kind in KINDS.items():
        for seeds in SEEDS:
            draw = np.random.default_rng([seeds, len(name)])
            two = rate([said_different(draw, kind, seeds, 2) for _ in range(times)])
            four = rate([said_different(draw, kind, seeds, 4) for _ in range(times // 4)])
            middle, chance = covered(draw, kind, seeds, times)
            results[f"{name}, {seeds} seeds"] = one = {
                "different_though_equal": two,
                "any_of_six_pairs_different_though_equal": four,
                "interval_of_the_middle_holds_it": middle,
                "interval_of_the_chance_holds_it": chance,
            }
            for effect in EFFECTS if kind is normal else ():
                found = rate([said_different(draw, kind, seeds, 2, effect) for _ in range(times)])
                one[f"found_{effect:g}_sd"] = {**found, "theory": power_of(effect, seeds, attained(seeds))}
            told = ", ".join(f"{key.replace('_', ' ')} {value['rate']:.1%}" for key, value in one.items())
            print(f"{name}, {seeds} seeds: {told}", file=sys.stderr)
    draw = np.random.default_rng(1)
    for name, (make, equal) in HARDER.items():
        wrong = rate([wrongly_different(make(draw), equal) for _ in range(times // 4)])
        results[name] = wrong
        print(f"{name}: equal groups called different {wrong['rate']:.1%}", file=sys.stderr)
    print(json.dumps(results, indent=2))
