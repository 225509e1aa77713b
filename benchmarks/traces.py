"""Tables with traces, with planning, and without: decisions until a long way is known, ten seeds.

python benchmarks/traces.py [planned]
"""

import json
import statistics
import sys

import numpy as np

import jokulmist as jm


class Fjord(jm.Environment):
    """A boat feels its way up a narrow fjord of a hundred reaches; only the quay at its end pays, and a wrong turn
    costs a reach."""

    reaches: int = jm.parameter(100, low=2, high=1_000)
    time_limit = 2_000

    class State(jm.State):
        reach: int = jm.seen(low=0, high=100)

    action = jm.Choice("port", "starboard")

    def begin(self, draw):
        return self.State(reach=0)

    def advance(self, state, action, draw):
        right = state.reach * 5 % 3 % 2
        return state.replace(reach=self.xp.clip(state.reach + self.xp.where(action == right, 1, -1), 0, self.reaches))

    @jm.reward
    def moored(self, after):
        return self.xp.where(after.reach == self.reaches, 1.0, 0.0)

    @jm.ending
    def quay(self, after):
        return after.reach == self.reaches


def until(agent, seed):
    """Decisions until the mean length of the last ten episodes is below 150; 100 is the least."""
    run = jm.train(
        Fjord(), agent, steps=100_000 if getattr(agent, "planning", 0) else 400_000, copies=1, seed=seed, folder=None
    )
    episodes = run.episodes
    steps = episodes["steps"].rolling(10).mean().to_numpy()
    result = np.flatnonzero(steps < 150)
    return int(episodes["decisions"].iloc[result[0]]) if len(result) else None


def agents():
    usual = {"discount": 0.99, "learning_rate": 0.2, "exploration": 0.1}
    for method in (jm.QLearning, jm.Sarsa):
        for decay in (0.0, 0.5, 0.9, 0.95):
            yield f"{method.__name__}, traces {decay}", method(trace_decay=decay, **usual)
    for sweeping in ("even", "prioritised"):
        for planning in (5, 50):
            yield (
                f"QLearning, {planning} planned, {sweeping}",
                jm.QLearning(planning=planning, sweeping=sweeping, **usual),
            )


if __name__ == "__main__":
    told = {}
    for name, agent in agents():
        if len(sys.argv) > 1 and sys.argv[1] not in name:
            continue
        found = [until(agent, seed) for seed in range(10)]
        known = [n for n in found if n is not None]
        told[name] = {
            "reached": f"{len(known)} of 10",
            "median decisions": statistics.median(known) if known else None,
            "least": min(known, default=None),
            "most": max(known, default=None),
        }
    print(json.dumps(told, indent=2))
