"""Six values of a setting with five seeds each: one search, against the same thirty runs as thirty commands, two at a
time.

Whole processes on both sides, starting and compiling included; what they train is the same, byte for byte.
Run: ``python benchmarks/sweep.py [--steps 300000] [--method PPO] [--anew]``; a table and JSON. Several minutes.
Compiled code is kept between processes, which spares the commands most of their compiling; with ``--anew`` neither side
keeps it.
"""

import argparse
import json
import os
import subprocess
import sys
import tempfile
import time
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import numpy as np

PLANS = {
    "PPO": ("ferry", "entropy_bonus", [0.0, 0.001, 0.003, 0.01, 0.03, 0.1]),
    "QLearning": ("ferry", "learning_rate", [0.05, 0.1, 0.2, 0.3, 0.5, 0.8]),
    "SAC": ("winch", "discount", [0.9, 0.95, 0.97, 0.98, 0.99, 0.995]),
}
COMMAND = [sys.executable, "-m", "jokulmist"]
SEEDS = range(5)


def written(folder, method, steps):
    place, setting, values = PLANS[method]
    plan = folder / "plan.toml"
    plan.write_text(
        f'[environment]\nuse = "{place}"\n\n[agent]\nuse = "{method}"\n\n'
        f"[training]\nsteps = {steps}\nseeds = {list(SEEDS)}\n\n"
        f'[tuning]\nmethod = "grid"\nagain = 0\n\n[tuning.over]\n"agent.{setting}" = {{ among = {values} }}\n'
    )
    return plan


def timed(words, again=False):
    began = time.perf_counter()
    surroundings = {**os.environ, "JAX_ENABLE_COMPILATION_CACHE": "false"} if again else None
    subprocess.run([*COMMAND, *map(str, words)], check=True, capture_output=True, env=surroundings)
    return time.perf_counter() - began


def compared(method, steps, again, side_by_side=2):
    _, setting, values = PLANS[method]
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        plan = written(folder, method, steps)
        timed(
            ["train", plan, "--set", "training.seeds=[0]", "--set", "training.steps=2000", "--folder", folder / "warm"]
        )

        def one(pair):
            value, seed = pair
            words = ["train", plan, "--set", f"agent.{setting}={value}", "--set", f"training.seeds=[{seed}]"]
            return timed([*words, "--folder", folder / "commands", "--name", f"{setting}-{value}-seed-{seed}"], again)

        def together(pairs):
            began = time.perf_counter()
            with ThreadPoolExecutor(side_by_side) as both:
                alone.extend(both.map(one, pairs))
            return time.perf_counter() - began

        # Half of the commands before the search and half after it: the machine's speed moves within minutes.
        alone, pairs = [], [(value, seed) for value in values for seed in SEEDS]
        commands = together(pairs[::2])
        search = timed(["tune", plan, "--workers", side_by_side, "--folder", folder, "--name", "search"], again)
        commands += together(pairs[1::2])
        differ = 0
        for k, value in enumerate(values):
            for seed in SEEDS:
                first = folder / "search" / f"candidate-{k:03d}-seed-{seed}" / "episodes.csv"
                second = folder / "commands" / f"{setting}-{value}-seed-{seed}" / "episodes.csv"
                differ += first.read_bytes() != second.read_bytes()
        seconds = [json.loads(path.read_text())["seconds"] for path in (folder / "commands").glob("*/origin.json")]
        warm = [json.loads(path.read_text())["seconds"] for path in (folder / "search").glob("candidate*/origin.json")]
    return {
        "runs": len(alone),
        "seconds_of_training_as_a_command_tells": float(np.median(seconds)),
        "seconds_of_training_in_a_warm_worker": float(np.median(warm)),
        "seconds_of_one_command": float(np.median(alone)),
        "seconds_of_all_commands": commands,
        "seconds_of_the_search": search,
        "times_faster": commands / search,
        "runs_that_differ": differ,
    }


if __name__ == "__main__":
    words = argparse.ArgumentParser(description=__doc__)
    words.add_argument("--steps", type=int, nargs="+", default=[20_000, 300_000, 1_200_000])
    words.add_argument("--method", choices=list(PLANS), default="PPO")
    words.add_argument("--anew", action="store_true")
    given = words.parse_args()
    results = {}
    for steps in given.steps:
        results[steps] = one = compared(given.method, steps, given.again)
        print(
            f"{given.method}, {steps:,} decisions ({one['seconds_of_training_as_a_command_tells']:.1f} s of training "
            "in a command, "
            f"{one['seconds_of_training_in_a_warm_worker']:.1f} s in a warm worker): {one['runs']} commands "
            f"{one['seconds_of_all_commands']:.0f} s, "
            f"one search {one['seconds_of_the_search']:.0f} s, {one['times_faster']:.2f} times faster; "
            f"{one['runs_that_differ']} runs differ",
            file=sys.stderr,
        )
    print(json.dumps(results, indent=2))
