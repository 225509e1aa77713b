"""What a second core brings to one run that is evaluated while it trains: seconds with another process that evaluates, and without, in pairs in one run.

python benchmarks/second_core.py [--pairs 7] [--json FILE]

Both sides train the same plan and seed; their files of evaluations are compared byte for byte.
"""

import argparse
import json
import tempfile
import time
from pathlib import Path

from pairs import paired

import jokulmist as jm
from jokulmist.training.session import evaluating

CASES = {
    "PPO on the ferry, 30 evaluations": (jm.gallery.Ferry, jm.PPO(), {"steps": 300_000, "evaluate_every": 10_000}),
    "DQN on the tarn, 20 evaluations": (jm.gallery.Tarn, jm.DQN(), {"steps": 60_000, "evaluate_every": 3_000}),
    "PPO on the haul, two players, 20 evaluations": (
        jm.gallery.Haul, jm.PPO(), {"steps": 200_000, "evaluate_every": 10_000},
    ),
    "QLearning on the tarn, 20 evaluations": (
        jm.gallery.Tarn, jm.QLearning(), {"steps": 2_000_000, "evaluate_every": 100_000},
    ),
}  # fmt: skip


def side(case, worth, told):
    make, agent, settings = CASES[case]
    evaluating.WORTH_SECONDS = worth
    began = time.perf_counter()
    with tempfile.TemporaryDirectory() as folder:
        run = jm.train(make(), agent, seed=1, folder=folder, **settings)
        seconds = time.perf_counter() - began
        told.append((run.path / "evaluated.csv").read_bytes())
    return 1.0 / seconds


def main():
    words = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    words.add_argument("--pairs", type=int, default=7)
    words.add_argument("--json", type=Path)
    given = words.parse_args()
    usual, told = evaluating.WORTH_SECONDS, {}
    for case in CASES:
        files = []
        side(case, 1e9, files)  # compiled once
        row = paired(
            lambda case=case, files=files: side(case, usual, files), lambda case=case, files=files: side(case, 1e9, files), given.pairs,
        )  # fmt: skip
        told[case] = {**row, "same_bytes": len(set(files)) == 1}
        print(case, json.dumps(told[case]), flush=True)
    if given.json:
        given.json.write_text(json.dumps(told, indent=1) + "\n")


if __name__ == "__main__":
    main()
