"""Values as distributions: the returns of a lottery that is known, and acting by its lower tail; five seeds.

python benchmarks/quantiles.py
"""

import json

import numpy as np

import jokulmist as jm

AMOUNTS, CHANCES = np.array([-10.0, 2.0, 6.0]), np.array([0.1, 0.4, 0.5])


class Trip(jm.Environment):
    """Sell the catch in the harbour for 2, or sail out in doubtful weather: in the mean more, in one of ten cases a loss of 10."""

    deadline = 1

    class State(jm.State):
        done: int = jm.seen(low=0, high=1)
        gain: float = jm.flow()

    action = jm.Choice("harbour", "sail")

    def begin(self, draw):
        return self.State(done=0)

    def advance(self, state, action, draw):
        lot = draw.pick([-10.0, 2.0, 6.0], weights=[1, 4, 5])
        return state.replace(done=1, gain=self.xp.where(action == 1, lot, 2.0))

    @jm.reward
    def earned(self, after):
        return after.gain


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
