"""What a decision costs against the number of copies, and an update against the width of the network, each with its
slope.

python benchmarks/scaling.py [--repeats 3] [--json FILE]

Copies: the tarn by a table and by PPO, 1 to 16,384 copies, whole runs without a folder, compiled before; seconds a
decision. Width: PPO on the winch with two hidden layers of 16 to 512, 64 copies. A slope is that of the logarithms: 0
where a cost does not change, -1 where it falls as fast as copies grow, 2 where it grows with the square of the width.
"""

import argparse
import json
import math
import statistics
import time
from pathlib import Path

import numpy as np

import jokulmist as jm

COPIES = [1, 4, 16, 64, 256, 1_024, 4_096, 16_384]
WIDTHS = [16, 32, 64, 128, 256, 512]


def seconds(environment, agent, steps, copies, repeats):
    """Seconds of steps and updates a decision, the middle of several runs in which nothing is compiled."""
    result = []
    for k in range(repeats + 1):
        began = time.perf_counter()
        run = jm.train(environment, agent, steps=steps, copies=copies, seed=k, folder=None, lane="compiled")
        if k:
            result.append((time.perf_counter() - began) / run.origin["decisions"])
    return statistics.median(result)


def slope(over, costs):
    return round(float(np.polyfit(np.log(over), np.log(costs), 1)[0]), 2)


def against(over, cost):
    result = []
    for value in over:
        result.append(cost(value))
        print(value, f"{1e6 * result[-1]:.3f} us a decision", flush=True)
    half = len(over) // 2
    return {
        "microseconds": {str(v): float(f"{1e6 * c:.4g}") for v, c in zip(over, result, strict=True)},
        "slope": slope(over, result),
        "slope of the first half": slope(over[: half + 1], result[: half + 1]),
        "slope of the second half": slope(over[half:], result[half:]),
    }


def main():
    words = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    words.add_argument("--repeats", type=int, default=3)
    words.add_argument("--json", type=Path)
    arguments = words.parse_args()

    def steps(copies, least, turns):
        return max(least, turns * copies)

    def table(copies):
        return seconds(jm.gallery.Tarn(), jm.QLearning(bins=12), steps(copies, 200_000, 64), copies, arguments.repeats)

    def ppo(copies):
        horizon = max(4, min(64, 65_536 // copies))
        agent = jm.PPO(horizon=horizon, minibatch=256)
        return seconds(jm.gallery.Tarn(), agent, steps(copies, 20_000, 2 * horizon), copies, arguments.repeats)

    def wide(width):
        agent = jm.PPO(network=jm.Dense(width, width))
        return seconds(jm.gallery.Winch(), agent, math.ceil(8_192 / 64) * 64, 64, arguments.repeats)

    result = {
        "copies, table": against(COPIES, table),
        "copies, PPO": against(COPIES, ppo),
        "width, PPO": against(WIDTHS, wide),
    }
    print(json.dumps(result, indent=2))
    if arguments.json:
        arguments.json.write_text(json.dumps(result, indent=1) + "\n")


if __name__ == "__main__":
    main()
