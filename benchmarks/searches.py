"""The methods of a search against random search on the gallery, at equal budget: what the winner scores on new seeds.

The budget is counted in decisions. Each repeat draws again and trains with other seeds; the winner of a search is run
again on five seeds that no candidate had. Run: ``python benchmarks/searches.py [--repeats 10] [--only 'tarn,
tables']``; a table and JSON. About half an hour on two cores.
"""

import argparse
import json
import sys
import tempfile
import time
from pathlib import Path

import numpy as np

import jokulmist as jm
from jokulmist.plans.plan import Plan, Training
from jokulmist.running.workers.pool import WorkerPool, usual_workers
from jokulmist.studies.comparison.verdicts import judged_pairs
from jokulmist.studies.search.candidates import Board
from jokulmist.studies.search.engine import Engine
from jokulmist.studies.search.progress import SilentSearchDisplay
from jokulmist.studies.search.settings import SearchSettings, Tuning

BUDGET = 20  # whole runs
PROBLEMS = {
    "ferry, PPO": (
        jm.gallery.Ferry(),
        jm.PPO(),
        36_864,
        {
            "agent.learning_rate": jm.between(1e-5, 1e-1, scale="log"),
            "agent.entropy_bonus": jm.between(1e-4, 1.0, scale="log"),
            "agent.clip": jm.between(0.02, 0.8, scale="log"),
            "agent.discount": jm.between(0.8, 1.0),
            "agent.trace_decay": jm.between(0.5, 1.0),
        },
    ),
    "ferry, tables": (
        jm.gallery.Ferry(),
        jm.QLearning(bins=8),
        200_000,
        {
            "agent.learning_rate": jm.between(1e-3, 1.0, scale="log"),
            "agent.exploration": jm.between(0.0, 1.0),
            "agent.discount": jm.between(0.5, 1.0),
        },
    ),
    "tarn, tables": (
        jm.gallery.Tarn(),
        jm.QLearning(bins=20),
        200_000,
        {
            "agent.learning_rate": jm.between(1e-3, 1.0, scale="log"),
            "agent.exploration": jm.between(0.0, 1.0),
            "agent.discount": jm.between(0.5, 1.0),
        },
    ),
}
# Halving with three rungs of a third each trains a candidate for 7 / 27 of a run in the mean, and promotes some early
# that are overtaken.
METHODS = {"random": BUDGET, "gaussian-process": BUDGET, "halving": round(0.85 * BUDGET * 27 / 7)}


def searched(problem, method, repeat, worker_pool, folder):
    environment, agent, steps, space = PROBLEMS[problem]
    training = Training(steps=steps, seeds=(10_000 * (repeat + 1),))
    question = SearchSettings(
        Plan(environment, agent, training),
        Tuning(method=method, candidates=METHODS[method], seed=repeat, again=5),
        space,
    )
    board = Board(training.seeds)
    Engine(question, folder, board, worker_pool, SilentSearchDisplay(), sys.argv).run()
    trained = sum(c.decisions for c in board.candidates)
    return float(np.mean(list(board.again.values()))), trained / steps


if __name__ == "__main__":
    words = argparse.ArgumentParser(description=__doc__)
    words.add_argument("--repeats", type=int, default=10)
    words.add_argument("--only", nargs="+", choices=list(PROBLEMS), default=list(PROBLEMS))
    given = words.parse_args()
    results = {}
    for problem in given.only:
        environment, agent, steps, _ = PROBLEMS[problem]
        worker_pool = WorkerPool(usual_workers(), Plan(environment, agent, Training(steps=steps)).written())
        scores = {method: [] for method in METHODS}
        budget = {method: [] for method in METHODS}
        began = time.perf_counter()
        try:
            for repeat in range(given.repeats):
                for method in METHODS:
                    with tempfile.TemporaryDirectory() as name:
                        score, used = searched(problem, method, repeat, worker_pool, Path(name))
                    scores[method].append(score)
                    budget[method].append(used)
        finally:
            worker_pool.close()
        pairs = judged_pairs({method: [np.array(found)] for method, found in scores.items()}, against="random")
        results[problem] = {
            "scores": scores,
            "whole_runs": {m: float(np.mean(b)) for m, b in budget.items()},
            "pairs": pairs,
        }
        told = ", ".join(
            f"{m} {np.mean(s):.4g} (sd {np.std(s, ddof=1):.2g}, {np.mean(budget[m]):.1f} runs)"
            for m, s in scores.items()
        )
        print(f"{problem}, {given.repeats} repeats, {time.perf_counter() - began:.0f} s: {told}", file=sys.stderr)
        for row in pairs:
            print(
                f"  {row['first']} beats random by {row['difference']:.3g}, in {row['chance']:.0%} of pairs; p "
                f"{row['p']:.3f}, {row['verdict']}",
                file=sys.stderr,
            )
    print(json.dumps(results, indent=2))
