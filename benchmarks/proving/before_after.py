"""Seconds and decisions to a level, of this source tree and of another, in pairs in one run.

    git worktree add /tmp/before REVISION
    python benchmarks/proving/before_after.py --before /tmp/before/src --pairs 3

Each pair trains one seed with each tree, in alternating order, each in a warm process of its own on one core; the level
is 0.9 of the reference in training, over 20 episodes. Compiling is left out: a first short run warms each process.
"""

import argparse
import json
import os
import subprocess
import sys
from pathlib import Path
from statistics import median

HERE = Path(__file__).parent
CELLS = (
    ("PPO", "mast"),
    ("PPO", "floats"),
    ("PPO", "stones"),
    ("DQN", "stones"),
    ("DQN", "cistern"),
    ("SAC", "floats"),
    ("ActorCritic", "floats"),
    ("Reinforce", "stones"),
    ("QLearning", "cistern"),
)


def serve():
    """Train what is asked for, a line each: method, problem, seed; answer by a line of JSON."""
    sys.path.insert(0, str(HERE))
    from measuring import bounds_of, one
    from problems import ALL

    bounds, compiled = {}, set()
    for line in sys.stdin:
        method, problem, seed = line.split()
        steps = ALL[problem].decisions(method)
        if problem not in bounds:
            bounds[problem] = bounds_of(problem)
        if (method, problem) not in compiled:
            compiled.add((method, problem))
            one(method, problem, 7, {}, *bounds[problem], steps)  # compiled once, with the copies of the whole run
        print(json.dumps(one(method, problem, int(seed), {}, *bounds[problem], steps)), flush=True)


class Tree:
    """A warm process with one source tree."""

    def __init__(self, source):
        environment = {**os.environ, "PYTHONPATH": str(source)}
        self.process = subprocess.Popen(
            [sys.executable, str(Path(__file__)), "--serve"],
            env=environment,
            text=True,
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
        )

    def __call__(self, *words):
        print(*words, file=self.process.stdin, flush=True)
        return json.loads(self.process.stdout.readline())


def main():
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--before", type=Path)
    parser.add_argument("--pairs", type=int, default=3)
    parser.add_argument("--serve", action="store_true", help=argparse.SUPPRESS)
    parser.add_argument("--json", type=Path)
    options = parser.parse_args()
    if options.serve:
        serve()
        return
    if hasattr(os, "sched_setaffinity"):
        os.sched_setaffinity(0, {min(os.sched_getaffinity(0))})
    trees = {"before": Tree(options.before), "now": Tree(HERE.parents[1] / "src")}
    result = {}
    print("| method | problem | decisions before | now | seconds before | now |\n|---|---|---|---|---|---|")
    for method, problem in CELLS:
        rows = {name: [] for name in trees}
        for pair in range(options.pairs):
            order = list(trees) if pair % 2 == 0 else list(trees)[::-1]
            for name in order:
                rows[name].append(trees[name](method, problem, 2000 + pair))
        result[f"{method} {problem}"] = rows
        cells = []
        for subject, form in (("decisions", "{:,.0f}"), ("to_level", "{:.2f}")):
            for name in trees:
                values = [row[subject] for row in rows[name] if row.get(subject) is not None]
                cells.append(
                    form.format(median(values)) if len(values) == options.pairs else f"{len(values)} of {options.pairs}"
                )
        print(f"| {method} | {problem} | {' | '.join(cells)} |", flush=True)
    if options.json:
        options.json.write_text(json.dumps(result, indent=1))


if __name__ == "__main__":
    main()
