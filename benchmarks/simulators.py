"""Four copies of a slow simulator in worker processes against one, and a training whose workers are killed.

The simulator sleeps 5 ms a step. Run: ``python benchmarks/simulators.py [--seconds 4] [--every 3]``; a table and JSON.
"""

import argparse
import json
import os
import signal
import sys
import threading
import time
from pathlib import Path

import numpy as np

import jokulmist as jm
from jokulmist.environments.chance.noise import Domain, Noise
from jokulmist.lanes.plain import PlainLane
from jokulmist.lanes.processes.lane import ProcessLane

SLEEP = 0.005


class SlowBuoy(jm.Simulator):
    """A buoy that drifts, slowly computed."""

    observation = {"at": jm.channel(low=-10.0, high=10.0, unit="m")}
    action = jm.Choice("left", "right")
    terms = {"near": 1.0}
    time_limit = 40

    def begin(self, seed):
        self.chance = np.random.default_rng(seed)
        self.at = float(self.chance.uniform(-1.0, 1.0))
        return {"at": self.at}

    def advance(self, action):
        time.sleep(SLEEP)
        self.at += 0.2 * (2 * action - 1) + float(self.chance.normal(0.0, 0.2))
        self.at = min(max(self.at, -10.0), 10.0)
        return jm.Outcome({"at": self.at}, terms={"near": 1.0 - abs(self.at) / 10.0})


def speed(lane, seconds):
    """Steps per second of all copies together."""
    lane.begin()
    actions = [0] * lane.copies
    lane.advance(actions)
    began, turns = time.perf_counter(), 0
    while time.perf_counter() - began < seconds:
        lane.advance(actions)
        turns += 1
    return turns * lane.copies / (time.perf_counter() - began)


def ratios(seconds, pairs):
    """Steps per second of one copy here, of one worker process and of four, taken in turn."""
    makers = (
        lambda: PlainLane(SlowBuoy(), Noise(0, 1, Domain.TRAINING)),
        lambda: ProcessLane(SlowBuoy(), Noise(0, 1, Domain.TRAINING)),
        lambda: ProcessLane(SlowBuoy(), Noise(0, 4, Domain.TRAINING)),
    )
    result = []
    for _ in range(pairs):
        speeds = []
        for make in makers:
            lane = make()
            speeds.append(speed(lane, seconds))
            lane.close()
        result.append(speeds)
    return result


def workers_of(process):
    """The worker processes that a process has started."""
    result = []
    for entry in Path("/proc").glob("[0-9]*"):
        try:
            words = (entry / "cmdline").read_bytes().split(b"\0")
            parent = int((entry / "stat").read_text().rpartition(")")[2].split()[1])
        except (OSError, ValueError):
            continue
        if parent == process and b"jokulmist.lanes.processes.simulator_worker" in words:
            result.append(int(entry.name))
    return result


def killed(steps, every):
    """A training in whose course a worker is killed every few seconds: the run, and how many were."""
    space, kills = threading.Event(), []
    chance = np.random.default_rng(0)

    def kill():
        while not space.wait(every):
            workers = workers_of(os.getpid())
            if workers:
                os.kill(int(chance.choice(workers)), signal.SIGKILL)
                kills.append(1)

    thread = threading.Thread(target=kill)
    thread.start()
    try:
        run = jm.train(SlowBuoy(), jm.PPO(horizon=32), steps=steps, copies=4, processes=True, folder=None)
    finally:
        space.set()
        thread.join()
    return run, len(kills)


def counted(run, copies):
    """Whether every turn of every copy belongs to one episode: the steps between two closings are those told."""
    frame = run.episodes
    for copy in range(copies):
        before, gap = 0, 0
        for row in frame[frame["copy"] == copy].itertuples():
            turn = row.decisions // copies
            lost = row.closed_by == "lost"
            if row.steps != turn - before + gap - lost:
                return False
            # The turn in which an episode was lost belongs to the next one.
            before, gap = turn, int(lost)
    return True


if __name__ == "__main__":
    words = argparse.ArgumentParser(description=__doc__)
    words.add_argument("--seconds", type=float, default=4.0)
    words.add_argument("--pairs", type=int, default=3)
    words.add_argument("--steps", type=int, default=20_000)
    words.add_argument("--every", type=float, default=3.0)
    given = words.parse_args()
    pairs = ratios(given.seconds, given.pairs)
    for here, one, four in pairs:
        told = f"here {here:6.1f}   one worker process {one:6.1f}   four {four:6.1f} steps/s"
        print(f"{told}   {four / one:.2f} times one, {four / here:.2f} times here", file=sys.stderr)
    run, kills = killed(given.steps, given.every)
    lost = int((run.episodes["closed_by"] == "lost").sum())
    result = {
        "four_to_one": float(np.median([four / one for _, one, four in pairs])),
        "four_to_here": float(np.median([four / here for here, _, four in pairs])),
        "steps_per_second": pairs,
        "status": run.status,
        "decisions": run.origin["decisions"],
        "asked": given.steps,
        "killed": kills,
        "episodes_lost": lost,
        "every_turn_counted_once": counted(run, 4),
    }
    print(json.dumps(result, indent=2))
