"""Whether a long run's memory stays flat: trains for so many minutes with evaluations, recorded episodes and
checkpoints, and fits a line to the memory that the run recorded.

python benchmarks/flat.py [--minutes 30] [--agent PPO] [--environment ferry]

What is told is the memory after a tenth of the run, at its end, and the slope over the last two thirds in MB an hour,
with the resident memory of the process's children left out.
"""

import argparse
import json
import tempfile
from pathlib import Path

import numpy as np
import pandas as pd

import jokulmist as jm


def main():
    words = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    words.add_argument("--minutes", type=float, default=30.0)
    words.add_argument("--agent", default="PPO")
    words.add_argument("--environment", default="Ferry")
    arguments = words.parse_args()
    environment = getattr(jm.gallery, arguments.environment)()
    with tempfile.TemporaryDirectory() as folder:
        run = jm.train(
            environment,
            getattr(jm, arguments.agent)(),
            steps=10**9,
            folder=folder,
            stop_when={"minutes": arguments.minutes},
            evaluate_every=2_000_000,
            record_every=2_000,
            checkpoint_minutes=1.0,
            best_by="evaluation",
        )
        rows = pd.read_csv(Path(run.path) / "machine.csv")
        size = sum(path.stat().st_size for path in Path(run.path).rglob("*") if path.is_file())
        decisions, episodes = run.origin["decisions"], run.origin["episodes"]
    seconds, memory = rows["seconds"].to_numpy(), rows["memory_megabytes"].to_numpy()
    late = seconds > seconds[-1] / 3.0
    slope = np.polyfit(seconds[late] / 3600.0, memory[late], 1)[0]
    print(
        json.dumps(
            {
                "minutes": arguments.minutes,
                "decisions": decisions,
                "episodes": episodes,
                "folder_mb": round(size / 1e6, 1),
                "memory_mb": {
                    "after a tenth": round(float(np.interp(seconds[-1] / 10, seconds, memory)), 1),
                    "at the end": round(float(memory[-1]), 1),
                },
                "slope_mb_an_hour": round(float(slope), 2),
            },
            indent=1,
        )
    )


if __name__ == "__main__":
    main()
