"""What is seen only in part: methods with and without `jm.Recurrent`, five seeds each.

python benchmarks/memory.py beacon [--far 20] [--method PPO]  # a lamp seen once, a turn much later: chance 0, best 1
python benchmarks/memory.py mast                              # a mast without its speeds, seen through noise
python benchmarks/memory.py cost                              # updates a second with and without
"""

import argparse
import json
import statistics
import sys
import time
from pathlib import Path

import jokulmist as jm

sys.path.insert(0, str(Path(__file__).parent / "proving"))
import choosing

SEEDS = range(5)


class Beacon(jm.Environment):
    """A beacon at the mouth of a fjord shows to one side, once; where the fjord forks, `far` decisions later, the boat
    turns to that side or runs aground."""

    far: int = jm.parameter(20, low=1, high=1_000, help="Decisions between the beacon and the fork.")

    class State(jm.State):
        side: int = jm.field()
        sailed: int = jm.field()

    action = jm.Choice("port", "starboard")

    def begin(self, draw):
        return self.State(side=draw.integers(0, 2), sailed=0)

    def advance(self, state, action, draw):
        return state.replace(sailed=state.sailed + 1)

    @jm.sensor(low=-1.0, high=1.0)
    def light(self, state):
        return self.xp.where(state.sailed == 0, 2.0 * state.side - 1.0, 0.0)

    @jm.sensor(low=0.0, high=1.0)
    def at_the_fork(self, state):
        return self.xp.where(state.sailed == self.far, 1.0, 0.0)

    @jm.reward
    def turned_right(self, before, action):
        return self.xp.where(before.sailed == self.far, self.xp.where(action == before.side, 1.0, -1.0), 0.0)

    @jm.ending
    def arrived(self, after):
        return after.sailed > self.far

    @jm.reference
    def remembering(self, state):
        return int(state.side)


class Fog(choosing.Mast):
    """The mast, of which place and lean alone are seen, both through noise."""

    class State(jm.State):
        off: float = jm.field()
        drifting: float = jm.field()
        lean: float = jm.field()
        leaning: float = jm.field()

    @jm.sensor(low=-4.2, high=4.2)
    def about_off(self, state, draw):
        return state.off + draw.normal(0.0, 0.02)

    @jm.sensor(low=-0.3, high=0.3)
    def about_lean(self, state, draw):
        return state.lean + draw.normal(0.0, 0.005)


METHODS = {
    "PPO": (
        lambda network, far: jm.PPO(network=network, horizon=max(64, -(-(far + 1) // 64) * 64)),
        {20: 300_000, 100: 800_000},
    ),
    "Reinforce": (
        lambda network, far: jm.Reinforce(network=network, horizon=far + 1, longest=2 * (far + 1), learning_rate=3e-3),
        {20: 500_000},
    ),
    "SAC": (lambda network, far: jm.SAC(network=network, learn_every=16, minibatch=16), {20: 60_000}),
    "DQN": (lambda network, far: jm.DQN(network=network, learn_every=16, minibatch=16), {20: 60_000, 100: 120_000}),
}


def over_seeds(make, agent, steps):
    """Means without exploration of 200 episodes, one a seed, and the seconds of each."""
    result, took = [], []
    for seed in SEEDS:
        began = time.perf_counter()
        run = jm.train(make(), agent, steps=steps, seed=seed, folder=None)
        took.append(round(time.perf_counter() - began, 1))
        result.append(round(jm.evaluate(run.policy, make(), episodes=200).mean, 3))
        print(agent, seed, result[-1], took[-1], file=sys.stderr, flush=True)
    return {"means": result, "median seconds": statistics.median(took)}


def beacon(far, method):
    make_agent, steps = METHODS[method]
    budget = steps.get(far, 500_000)
    return {
        "with memory": over_seeds(
            lambda: Beacon(far=far), make_agent(jm.Recurrent(64, sequence=far + 28), far), budget
        ),
        "without": over_seeds(lambda: Beacon(far=far), make_agent(None, far), budget),
    }


def mast():
    steps = 600_000
    return {
        "full, PPO": over_seeds(choosing.Mast, jm.PPO(), steps),
        "fog, PPO": over_seeds(Fog, jm.PPO(), steps),
        "fog, PPO with memory": over_seeds(Fog, jm.PPO(network=jm.Recurrent(64)), steps),
    }


def cost():
    result = {}
    for name, network in (("without", None), ("with", jm.Recurrent(64))):
        for method in (jm.PPO(network=network), jm.DQN(network=network, learn_every=16)):
            times = []
            for seed in range(3):
                began = time.perf_counter()
                jm.train(choosing.Mast(), method, steps=100_000, seed=seed, folder=None)
                times.append(time.perf_counter() - began)
            result[f"{type(method).__name__} {name}"] = round(statistics.median(times), 1)
    return result


if __name__ == "__main__":
    words = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    words.add_argument("what", choices=["beacon", "mast", "cost"])
    words.add_argument("--far", type=int, default=20)
    words.add_argument("--method", choices=METHODS, default="PPO")
    given = words.parse_args()
    print(
        json.dumps(
            {"beacon": lambda: beacon(given.far, given.method), "mast": mast, "cost": cost}[given.what](), indent=2
        )
    )
