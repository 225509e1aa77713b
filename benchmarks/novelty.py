"""Tasks that random play does not solve, with and without `novelty`, five seeds each.

python benchmarks/novelty.py [--tasks chain lamps house] [--methods PPO QLearning]
"""

import argparse
import json
import statistics
import sys
import time

import jokulmist as jm

SEEDS = range(5)


class Chain(jm.Environment):
    """Forty stones across a river: at each one of two ways is right, and the other leads back to the bank. Only the far
    bank pays."""

    stones: int = jm.parameter(40, low=2, high=200)
    time_limit = 120

    class State(jm.State):
        stone: int = jm.seen(low=0, high=40)

    action = jm.Choice("upstream", "downstream")

    def begin(self, draw):
        return self.State(stone=0)

    def advance(self, state, action, draw):
        xp = self.xp
        right = (state.stone * 7 + 3) % 5 % 2
        return state.replace(stone=xp.where(action == right, state.stone + 1, 0))

    @jm.reward
    def across(self, after):
        return self.xp.where(after.stone == self.stones, 1.0, 0.0)

    @jm.ending
    def dry(self, after):
        return after.stone == self.stones


class Lamps(Chain):
    """The same, seen as a row of lamps, one of which is lit: nothing that a network could learn of one stone holds for
    the next."""

    class State(jm.State):
        stone: int = jm.field()

    @jm.sensor(low=0.0, high=1.0, shape=41)
    def lamps(self, state):
        return self.xp.asarray(self.xp.arange(41) == state.stone, dtype=self.xp.float32)


WALLS = """
###################
#.....#.....#.....#
#.....#.....#.....#
#...........#.....#
#.....#.....#.....#
#.....#.....#.....#
###.#####.#####D###
#.....#.....#.....#
#.....#.....#.....#
#.....#...........#
#..K..#.....#.....#
#.....#.....#.....#
###################
"""


class House(jm.Environment):
    """A house of six rooms after a storm: the key hangs in one, and the door (D) to the room with the radio is locked.
    Only the radio pays."""

    rows = WALLS.strip().split("\n")
    wall = jm.series([[c == "#" for c in row] for row in rows])
    time_limit = 400

    class State(jm.State):
        row: int = jm.seen(low=0, high=12)
        column: int = jm.seen(low=0, high=18)
        key: int = jm.seen(low=0, high=1)

    action = jm.Choice("up", "down", "left", "right")
    down = jm.series([-1, 1, 0, 0])
    across = jm.series([0, 0, -1, 1])

    def begin(self, draw):
        return self.State(row=1, column=1, key=0)

    def advance(self, state, action, draw):
        xp = self.xp
        row, column = state.row + self.down[action], state.column + self.across[action]
        shut = (row == 6) & (column == 15) & (state.key == 0)
        stays = self.wall[row, column] | shut
        row, column = xp.where(stays, state.row, row), xp.where(stays, state.column, column)
        result = (row == 10) & (column == 3)
        return state.replace(row=row, column=column, key=xp.where(result, 1, state.key))

    @jm.reward
    def radio(self, after):
        return self.xp.where((after.row == 1) & (after.column == 17), 1.0, 0.0)

    @jm.ending
    def called(self, after):
        return (after.row == 1) & (after.column == 17)


TASKS = {
    "chain": Chain,
    "one-hot": lambda: Chain().modified(jm.modifiers.OneHot("stone")),
    "lamps": Lamps,
    "house": House,
}
STEPS = {"QLearning": 300_000, "DQN": 150_000, "PPO": 600_000}
LONGER = {("house", "PPO"): 1_200_000, ("one-hot", "PPO"): 200_000}
SUITS = {"chain": ("QLearning",), "one-hot": ("PPO",), "lamps": ("PPO", "DQN"), "house": ("QLearning", "PPO")}


def made(method, novelty):
    if method == "QLearning":
        return jm.QLearning(novelty=novelty, exploration=jm.linear(0.1, 0.0, over=0.8))
    if method == "DQN":
        return jm.DQN(novelty=novelty)
    return jm.PPO(novelty=novelty)


def measured(task, method, novelty):
    means, took = [], []
    for seed in SEEDS:
        began = time.perf_counter()
        run = jm.train(
            TASKS[task](),
            made(method, novelty),
            steps=LONGER.get((task, method), STEPS[method]),
            seed=seed,
            folder=None,
        )
        took.append(time.perf_counter() - began)
        means.append(jm.evaluate(run.policy, TASKS[task](), episodes=20, act="greedy").mean)
        print(task, method, novelty, seed, means[-1], round(took[-1], 1), file=sys.stderr, flush=True)
    return {"means": means, "median seconds": round(statistics.median(took), 1)}


if __name__ == "__main__":
    words = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    words.add_argument("--tasks", nargs="+", default=list(TASKS), choices=TASKS)
    words.add_argument("--methods", nargs="+", choices=STEPS, default=list(STEPS))
    given = words.parse_args()
    weights = {"QLearning": 0.01, "DQN": 0.1, "PPO": 0.1}
    print(
        json.dumps(
            {
                f"{task}, {method}": {
                    "with novelty": measured(task, method, jm.Novelty(weights[method])),
                    "without": measured(task, method, None),
                }
                for task in given.tasks
                for method in given.methods
                if method in SUITS[task]
            },
            indent=2,
        )
    )
