"""Values as distributions: the returns of a lottery that is known, and acting by its lower tail; five seeds.

python benchmarks/quantiles.py
"""

import json
import sys
from pathlib import Path

import numpy as np

import jokulmist as jm

sys.path.insert(0, str(Path(__file__).parents[1] / "tests"))
from places import Trip

AMOUNTS, CHANCES = np.array([-10.0, 2.0, 6.0]), np.array([0.1, 0.4, 0.5])


def distance(found):
    """Wasserstein-1 between quantiles and the lottery."""
    levels = (np.arange(20_000) + 0.5) / 20_000
    truth = AMOUNTS[np.searchsorted(np.cumsum(CHANCES), levels)]
    return float(np.abs(np.repeat(found, 20_000 // len(found)) - truth).mean())


if __name__ == "__main__":
    told = {}
    for risk in (1.0, 0.1):
        chosen, apart = [], []
        for seed in range(5):
            agent = jm.DQN(quantiles=20, risk=risk, discount=1.0, exploration=0.5)
            policy = jm.train(Trip(), agent, steps=40_000, seed=seed, folder=None).policy
            chosen.append(Trip.action.labels[policy.choose({"done": 0})])
            apart.append(round(distance(policy.quantiles({"done": 0})["sail"]), 3))
        told[f"risk {risk}"] = {"chosen": chosen, "distance of the quantiles of sailing": apart}
    print(json.dumps(told, indent=2))
