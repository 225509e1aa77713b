"""What the methods with networks learn, at their default settings: several seeds, with the spread.

``python benchmarks/levels_of_networks.py`` prints a table, and writes JSON with ``--json FILE``. A score is normalised:
0 is random play, 1 the environment's hand-written rule; it is that of the last greedy policy on 200 fixed evaluation
episodes. Beside it stand the decisions and the seconds (compiling left out) until the mean return of 100 training
episodes first reached the stated level. Defaults were tuned on seeds from 1000; the table shows seeds 0 to 9, and 100
to 119 as fresh ones.
"""

import argparse
import json
import tempfile
import time
from pathlib import Path

import numpy as np
from reached import first_reached  # beside this file
from scipy import stats

import jokulmist as jm

EPISODES = 200
PLANS = {
    # environment, method, decisions, wanted score, training level, seeds
    "ferry PPO": ("ferry", jm.PPO(), 300_000, 0.95, 12.5, range(10)),
    "ferry DQN": ("ferry", jm.DQN(), 300_000, 0.95, 12.5, range(10)),
    "ferry PPO, fresh seeds": ("ferry", jm.PPO(), 300_000, 0.95, 12.5, range(100, 120)),
    "ferry DQN, fresh seeds": ("ferry", jm.DQN(), 300_000, 0.95, 12.5, range(100, 120)),
    "ferry Reinforce": ("ferry", jm.Reinforce(), 1_000_000, 0.9, 12.5, range(10)),
    "ferry ActorCritic": ("ferry", jm.ActorCritic(), 1_000_000, 0.9, 12.5, range(10)),
    "ferry LinearQ": ("ferry", jm.LinearQ(), 1_000_000, 0.9, 12.0, range(10)),
    "aurora PPO": ("aurora", jm.PPO(), 400_000, 0.8, 161.0, range(10)),
    "aurora DQN": ("aurora", jm.DQN(), 200_000, 0.8, 161.0, range(3)),
    "tarn PPO": ("tarn", jm.PPO(), 500_000, 0.8, 130.0, range(3)),
    "tarn DQN": ("tarn", jm.DQN(), 500_000, 0.8, 130.0, range(3)),
    "tarn ActorCritic": ("tarn", jm.ActorCritic(), 1_000_000, 0.8, 130.0, range(3)),
    "tarn Reinforce": ("tarn", jm.Reinforce(), 1_000_000, 0.8, 130.0, range(3)),
    "tarn LinearQ": ("tarn", jm.LinearQ(), 1_000_000, 0.8, 130.0, range(3)),
}
ENVIRONMENTS = {
    "ferry": (jm.gallery.Ferry(), "brake_in_time"),
    "aurora": (jm.gallery.Aurora().modified(jm.modifiers.Stack(3)), "follow"),
    "tarn": (jm.gallery.Tarn(), "sell_high"),
}


def measured(name, folder):
    place, agent, steps, wanted, level, seeds = PLANS[name]
    environment, rule = ENVIRONMENTS[place]
    began = time.perf_counter()
    runs = jm.train_seeds(environment, agent, steps=steps, seeds=seeds, folder=folder)
    seconds = (time.perf_counter() - began) / len(runs)
    bare = type(environment)()
    random, reference = (jm.evaluate(player, bare, episodes=EPISODES).mean for player in ("random", rule))
    means = [jm.evaluate(run.policy, environment, episodes=EPISODES).mean for run in runs]
    scores = (np.array(means) - random) / (reference - random)
    good = int(np.sum(scores >= wanted))
    low, high = stats.binomtest(good, len(scores)).proportion_ci(method="wilson")
    to_level = [first_reached(run, level) for run in runs]
    reached = [result for result in to_level if result[0] is not None]
    return {
        "decisions": steps,
        "wanted": wanted,
        "good": good,
        "seeds": len(scores),
        "wilson": [low, high],
        "least": float(scores.min()),
        "median": float(np.median(scores)),
        "most": float(scores.max()),
        "level": level,
        "reached": len(reached),
        "decisions_to_level": float(np.median([d for d, _ in reached])) if reached else None,
        "seconds_to_level": float(np.median([s for _, s in reached])) if reached else None,
        "seconds_a_seed": seconds,
    }


def main():
    parser = argparse.ArgumentParser(description=__doc__.split("\n")[0])
    parser.add_argument("--only", help="plans whose name has this in it")
    parser.add_argument("--json", type=Path)
    options = parser.parse_args()
    results = {}
    print("score: least / median / most of the seeds; share at the wanted score with its 95 % Wilson interval")
    for name in PLANS:
        if options.only and options.only not in name:
            continue
        with tempfile.TemporaryDirectory() as folder:
            r = results[name] = measured(name, folder)
        first = f"{r['decisions_to_level']:,.0f} decisions, {r['seconds_to_level']:.1f} s" if r["reached"] else "never"
        print(
            f"{name:<24} {r['decisions']:>9,}  {r['least']:.3f} / {r['median']:.3f} / {r['most']:.3f}  "
            f"{r['good']:>2} of {r['seeds']} at {r['wanted']:.2f} [{r['wilson'][0]:.2f}, {r['wilson'][1]:.2f}]  "
            f"return {r['level']:g} by {r['reached']} after {first}; {r['seconds_a_seed']:.1f} s a seed",
            flush=True,
        )
        if options.json:
            options.json.write_text(json.dumps(results, indent=2) + "\n")


if __name__ == "__main__":
    main()
