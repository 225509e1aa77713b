"""What Q-learning learns on the whole-number tarn, against the exact optimum of the same problem.

``python benchmarks/levels.py`` trains ten seeds and computes the value of each greedy policy by the same dynamic
program that gives the optimum: nothing is sampled. It prints the gap of each seed and says how many lie within 0.5 %;
with one and with 64 copies it also compares the decisions that are needed to come within 2 %.
"""

import argparse
import json
import sys
import time
from pathlib import Path
from statistics import median

import jokulmist as jm

sys.path.insert(0, str(Path(__file__).parents[1] / "tests"))
from optimum import solve_tarn

ENV = jm.gallery.WholeTarn()


def gap(run, best):
    """How far the greedy policy's value lies below the optimum, in percent."""
    values = run.policy.learner.values.reshape(ENV.capacity + 1, ENV.hours + 1, 3)
    value, _ = solve_tarn(ENV, policy=values.argmax(axis=2).T[: ENV.hours])
    return 100.0 * (best - value) / best


def decisions_within(percent, copies, seed, best):
    """The shortest of a row of runs, each half again as long as the last, that comes within so many percent."""
    agent = jm.QLearning(
        discount=1.0, learning_rate=jm.linear(0.5, 0.01, over=1.0), exploration=jm.linear(1.0, 0.2, over=1.0)
    )
    steps = 1_000_000
    while True:
        run = jm.train(ENV, agent, steps=steps, copies=copies, seed=seed, folder=None)
        if gap(run, best) <= percent:
            return steps
        steps = int(1.25 * steps)


def main():
    parser = argparse.ArgumentParser(description=__doc__.split("\n")[0])
    parser.add_argument("--steps", type=int, default=20_000_000)
    parser.add_argument("--seeds", type=int, default=10)
    parser.add_argument("--copies", type=int, default=16)
    parser.add_argument("--json", type=Path)
    options = parser.parse_args()
    best, _ = solve_tarn(ENV)
    print(f"optimum {best:.4f}; {options.steps:,} decisions a run, {options.copies} copies")
    agent = jm.QLearning(
        discount=1.0, learning_rate=jm.linear(0.5, 0.001, over=1.0), exploration=jm.linear(1.0, 0.2, over=1.0)
    )
    gaps = []
    for seed in range(options.seeds):
        began = time.perf_counter()
        run = jm.train(ENV, agent, steps=options.steps, copies=options.copies, seed=seed, folder=None)
        gaps.append(gap(run, best))
        print(f"seed {seed}: {gaps[-1]:.3f} % below the optimum, {time.perf_counter() - began:.1f} s", flush=True)
    within = sum(g <= 0.5 for g in gaps)
    print(f"within 0.5 %: {within} of {len(gaps)} seeds; median {median(gaps):.3f} %, worst {max(gaps):.3f} %")
    needed = {copies: [decisions_within(2.0, copies, seed, best) for seed in range(3)] for copies in (1, 64)}
    ratio = median(needed[64]) / median(needed[1])
    print(f"decisions to 2 %: {needed}; 64 copies need {ratio:.2f} times those of one")
    if options.json:
        options.json.write_text(
            json.dumps({"optimum": best, "gaps": gaps, "needed": needed, "ratio": ratio}, indent=2) + "\n"
        )


if __name__ == "__main__":
    main()
