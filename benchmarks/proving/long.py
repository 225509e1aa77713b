"""Does what was solved stay solved? Runs of five times the usual length, and what becomes of their best stretch.

    python benchmarks/proving/long.py --methods PPO,ActorCritic,DQN,SAC --seeds 10
    python benchmarks/proving/long.py --methods PPO --problems mast --set entropy=0.0

A run is cut into ten stretches of equally many decisions. Told are, as shares of the way from random play to the
reference, the mean return of the training episodes in the best stretch and in the last; HELD of the best counts as
held. Every run is kept in a line of JSON at once, so that a call goes on where an earlier one stopped.
"""

import argparse
import json
import time
import warnings
from pathlib import Path

import numpy as np
from measuring import agent_of, bounds_of, settings_of
from problems import ALL

import jokulmist as jm

LONGER, STRETCHES, HELD = 5, 10, 0.97
# Balances and swing-ups of both halves: three by choices, three by ranges.
PROBLEMS = ("mast", "spar", "barrel", "buoy", "derrick", "eddy")


def stretches_of(run, low, high):
    """The mean return of each stretch, as a share of the way from random play to the reference."""
    episodes = run.episodes
    ends = np.searchsorted(
        episodes["decisions"], np.linspace(0, episodes["decisions"].iloc[-1], STRETCHES + 1)[1:], side="right"
    )
    parts = np.split(episodes["return"].to_numpy(), ends[:-1])
    return [(float(part.mean()) - low) / (high - low) if len(part) else float("nan") for part in parts]


def main():
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--methods", default="PPO,ActorCritic,DQN,SAC")
    parser.add_argument("--problems", default=",".join(PROBLEMS))
    parser.add_argument("--seeds", type=int, default=10)
    parser.add_argument("--first", type=int, default=1000, help="the first seed")
    parser.add_argument("--set", nargs="*", default=[], help="settings of the agent, name=value")
    parser.add_argument("--kept", type=Path, default=Path("long.jsonl"))
    options = parser.parse_args()
    warnings.simplefilter("ignore")
    changed = settings_of(options.set)
    rows = [json.loads(line) for line in options.kept.read_text().splitlines()] if options.kept.exists() else []
    known = {(row["method"], row["problem"], row["seed"], json.dumps(row["set"])): row["stretches"] for row in rows}
    print("| method | problem | held | best stretch, lowest seed | last of best, each seed | seconds |")
    print("|---" * 6 + "|")
    for method in options.methods.split(","):
        for problem in options.problems.split(","):
            if method not in ALL[problem].methods:
                continue
            low, high = bounds_of(problem)
            shares, best, began = [], [], time.perf_counter()
            for seed in range(options.first, options.first + options.seeds):
                key = (method, problem, seed, json.dumps(changed))
                if key not in known:
                    agent, steps = agent_of(method, problem, changed), LONGER * ALL[problem].decisions(method)
                    run = jm.train(ALL[problem].make(), agent, steps=steps, seed=seed, folder=None)
                    known[key] = stretches_of(run, low, high)
                    row = {"method": method, "problem": problem, "seed": seed, "set": changed, "stretches": known[key]}
                    with options.kept.open("a") as file:
                        file.write(json.dumps(row) + "\n")
                best.append(np.nanmax(known[key]))
                shares.append(known[key][-1] / best[-1])
            held = sum(share >= HELD for share in shares)
            each = " ".join(f"{share:.2f}" for share in sorted(shares))
            spent = time.perf_counter() - began
            print(
                f"| {method} | {problem} | {held} of {len(shares)} | {min(best):.2f} | {each} | {spent:.0f} |",
                flush=True,
            )


if __name__ == "__main__":
    main()
