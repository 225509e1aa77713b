"""Copies in arrays against copies one after another: a class with NumPy in it, which cannot be compiled, at 64 copies and others.

python benchmarks/arrays.py [--pairs 7] [--json FILE]

The lanes alone; then whole turns with PPO's choices and updates. The sides of a pair take turns in one process; told are medians of the ratios with the least and the most.
"""

import argparse
import json
import sys
import time
import warnings
from pathlib import Path

import numpy as np
from pairs import paired  # beside this file

import jokulmist as jm
from jokulmist.environments.chance.noise import Domain, Noise
from jokulmist.lanes.arrays import ArrayLane
from jokulmist.lanes.plain import PlainLane
from jokulmist.training.loops.contract import Planned
from jokulmist.training.loops.plain import PlainLoop


class Buoy(jm.Environment):
    """A buoy on a chain in the fjord, hauled in by a small winch."""

    current: float = jm.parameter(0.3, low=0.0, high=2.0)
    time_limit = 100

    class State(jm.State):
        x: float = jm.seen(low=-10.0, high=10.0)
        v: float = jm.seen(low=-5.0, high=5.0)
        waves: int = jm.seen(low=0, values=4)
        spent: float = jm.flow()

    action = jm.Choice("slack", "in", "out")

    def begin(self, draw):
        return self.State(x=draw.uniform(-5.0, 5.0), v=0.0, waves=draw.integers(0, 4))

    def advance(self, state, action, draw):
        pull = np.array([0.0, -1.0, 1.0])[action]
        v = np.clip(
            state.v + 0.1 * (pull + self.current * np.sin(state.waves) - 0.1 * state.v) + draw.normal(0.0, 0.05),
            -5.0,
            5.0,
        )
        waves = np.mod(state.waves + draw.bernoulli(0.1), 4)
        return state.replace(x=np.clip(state.x + 0.1 * v, -10.0, 10.0), v=v, waves=waves, spent=np.abs(pull))

    @jm.reward
    def near(self, after):
        return np.exp(-np.square(after.x))

    @jm.reward(weight=-0.05)
    def effort(self, after):
        return after.spent

    @jm.ending
    def lost(self, after):
        return np.abs(after.x) > 9.9


def lane_speed(kind, copies, turns):
    lane = kind(Buoy(), Noise(0, copies, Domain.TRAINING))
    lane.begin()
    actions = [k % 3 for k in range(copies)]
    began = time.perf_counter()
    for _ in range(turns):
        lane.advance(actions)
    return turns * copies / (time.perf_counter() - began)


def main():
    words = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    words.add_argument("--pairs", type=int, default=7)
    words.add_argument("--json", type=Path)
    given = words.parse_args()
    warnings.simplefilter("ignore")
    told = {}

    def tell(name, found):
        told[name] = found
        print(
            f"{name:<40} {found['ratio']:6.2f} times [{found['least']:.2f}, {found['most']:.2f}]  {found['ours']:,.0f} against {found['by_hand']:,.0f} decisions/s",
            flush=True,
        )

    for copies in (8, 64, 1024):
        turns = max(20, 20_000 // copies)
        tell(
            f"lane alone, {copies} copies",
            paired(
                lambda c=copies, t=turns: lane_speed(ArrayLane, c, t),
                lambda c=copies, t=turns: lane_speed(PlainLane, c, max(2, t // 8)),
                given.pairs,
            ),
        )
    loops = {
        arrays: PlainLoop(Buoy(), jm.PPO(), 0, 64, Planned(steps=1 << 40), arrays=arrays) for arrays in (True, False)
    }
    for loop in loops.values():
        loop.advance(2 * loop.turns_per_update)

    def training(arrays):
        loop = loops[arrays]
        began = time.perf_counter()
        loop.advance(2 * loop.turns_per_update)
        return 2 * loop.turns_per_update * 64 / (time.perf_counter() - began)

    tell("PPO with its updates, 64 copies", paired(lambda: training(True), lambda: training(False), given.pairs))
    if given.json:
        given.json.write_text(json.dumps(told, indent=1) + "\n")


if __name__ == "__main__":
    sys.exit(main())
