"""What recording costs: the share of a training that goes into it, and whole trainings with records against trainings
in memory.

Run: ``python benchmarks/recording.py [--pairs 3] [--share 1.0]``; a table and JSON.
"""

import argparse
import json
import re
import sys
import tempfile

import numpy as np

import jokulmist as jm

PLACES = {
    "ferry, tables, 8 copies": (jm.gallery.Ferry(), jm.QLearning(bins=8), 1_500_000, 8),
    "tarn, tables, 64 copies": (jm.gallery.Tarn(), jm.QLearning(bins=8), 20_000_000, 64),
    "ferry, PPO, 64 copies": (jm.gallery.Ferry(), jm.PPO(), 400_000, 64),
}


def trained(place, share, folder, **more):
    env, agent, steps, copies = PLACES[place]
    return jm.train(env, agent, steps=int(steps * share), copies=copies, folder=folder, **more)


def measured(place, pairs, share):
    result = []
    with tempfile.TemporaryDirectory() as folder:
        trained(place, 0.02 * share, None)  # compiles
        trained(place, 0.02 * share, folder, record_every=500)
        for _ in range(pairs):
            bare = trained(place, share, None)
            stored = trained(place, share, folder)
            filmed = trained(place, share, folder, record_every=500)
            output = (stored.path / "log.txt").read_text().splitlines()[-1]
            result.append(
                {
                    "share": float(re.search(r"([\d.]+)% of the run", output)[1]) / 100.0,
                    "second_thread": "second thread" in output,
                    "with_records": stored.origin["seconds"] / bare.origin["seconds"],
                    "with_rollouts": filmed.origin["seconds"] / stored.origin["seconds"],
                    "episodes_a_second": stored.origin["episodes"] / stored.origin["seconds"],
                }
            )
    return {name: float(np.median([item[name] for item in result])) for name in result[0]}


if __name__ == "__main__":
    words = argparse.ArgumentParser(description=__doc__)
    words.add_argument("--pairs", type=int, default=3)
    words.add_argument("--share", type=float, default=1.0)
    given = words.parse_args()
    results = {}
    for place in PLACES:
        results[place] = one = measured(place, given.pairs, given.share)
        print(
            f"{place}: {one['episodes_a_second']:,.0f} episodes a second, recording them {one['share']:.1%} of the "
            "run; with records "
            f"{one['with_records']:.2f} times as long as in memory, with rollouts {one['with_rollouts']:.2f} times "
            "that",
            file=sys.stderr,
        )
    print(json.dumps(results, indent=2))
