"""Small runs of everything, kept by one revision of the code and made again by another: are the bytes the same?

    python benchmarks/same_bytes.py --keep /tmp/before      # with the code as it is, before a change
    python benchmarks/same_bytes.py --against /tmp/before   # after it: every run again, compared

The runs: every method on both lanes; every kind of action and of channel; modifiers, parameters that vary, a
curriculum; simulators in this process and in workers; a run that was stopped and resumed; a search. Compared of
each: episodes.csv, evaluated.csv, readings.csv without its seconds, rollouts, the arrays of the last checkpoint
(weights, statistics, what learning goes on from), and what an evaluation returns. Weights depend on the machine and on
the versions of its packages, so that a folder is only good on the machine that made it.

``--only WORDS`` makes the runs whose name has one of the words in it; ``--workers 2`` uses two processes.
"""

import argparse
import math
import multiprocessing
import shutil
import sys
import time
from concurrent.futures import ProcessPoolExecutor, as_completed
from pathlib import Path

import numpy as np
import pandas as pd
from safetensors.numpy import load_file

import jokulmist as jm

CLOCKS = ("seconds", "steps_per_second")
DENSE = jm.Dense(16, 16)
# Small, so that compiling is most of the time; what is likely to be tuned is written out; replay begins early, so that
# every update is made.
AGENTS = {
    "QLearning": jm.QLearning(bins=6),
    "Sarsa": jm.Sarsa(bins=6),
    "ExpectedSarsa": jm.ExpectedSarsa(bins=6),
    "LinearQ": jm.LinearQ(tiles=4),
    "LinearQ-radial": jm.LinearQ(features="radial", replay=True, replay_size=500, replay_start=100),
    "DQN": jm.DQN(network=DENSE, huber_reach=1.0, replay_start=100, replay_size=1_000),
    "DQN-all": jm.DQN(
        network=DENSE,
        huber_reach=1.0,
        replay_start=100,
        replay_size=1_000,
        dueling=True,
        prioritised=True,
        target_share=0.01,
    ),
    "PPO": jm.PPO(network=DENSE, horizon=16),
    "ActorCritic": jm.ActorCritic(network=DENSE, entropy_bonus=jm.linear(0.05, 0.0, over=1.0)),
    "Reinforce": jm.Reinforce(network=DENSE, longest=64, horizon=16, learning_rate=jm.linear(5e-4, 0.0, over=1.0)),
    "DDPG": jm.DDPG(network=DENSE, target_share=0.005, replay_start=100, replay_size=1_000),
    "TD3": jm.TD3(network=DENSE, target_share=0.005, replay_start=100, replay_size=1_000),
    "SAC": jm.SAC(network=DENSE, replay_start=100, replay_size=1_000),
    "RandomPlay": jm.RandomPlay(),
}
CHOICES = (
    "QLearning",
    "Sarsa",
    "ExpectedSarsa",
    "LinearQ",
    "LinearQ-radial",
    "DQN",
    "DQN-all",
    "PPO",
    "ActorCritic",
    "Reinforce",
    "RandomPlay",
)
NUMBERS = ("PPO", "ActorCritic", "Reinforce", "DDPG", "TD3", "SAC")


def cases():
    """Name, environment, agent and what else `train` is given, of each run."""
    gallery = jm.gallery
    ferry, winch = gallery.Ferry(), gallery.Winch()
    result = {}
    for lane in ("compiled", "plain"):
        steps = 3_000 if lane == "compiled" else 600
        stored = {"steps": steps, "copies": 4, "lane": lane}
        for name in CHOICES:
            result[f"ferry-{name}-{lane}"] = (ferry, AGENTS[name], stored)
        for name in NUMBERS:
            result[f"winch-{name}-{lane}"] = (winch, AGENTS[name], {**stored, "steps": steps // 2})
        result[f"tarn-DQN-{lane}"] = (gallery.Tarn(), AGENTS["DQN"], stored)
        result[f"aurora-PPO-{lane}"] = (
            gallery.Aurora().modified(jm.modifiers.Stack(3)),
            jm.PPO(horizon=8, network=jm.Convolutional(8, filters=[(4, 3, 2)])),
            {**stored, "steps": 300},
        )
        result[f"greenhouse-SAC-{lane}"] = (gallery.Greenhouse(), AGENTS["SAC"], {**stored, "steps": steps // 2})
        result[f"skerry-PPO-{lane}"] = (gallery.Skerry(), AGENTS["PPO"], {**stored, "steps": 300})
        modified = ferry.modified(
            jm.modifiers.ObservationNoise("position", 0.5),
            jm.modifiers.ObservationDelay("speed", 1),
            jm.modifiers.LastAction(),
            jm.modifiers.TimeLeft(),
            jm.modifiers.Stack(2),
            jm.modifiers.ActionDelay(1),
            jm.modifiers.StickyAction(0.1),
            jm.modifiers.Scaled(0.5),
            jm.modifiers.Clipped(-5.0, 5.0),
            jm.modifiers.Opening(3),
        )
        result[f"modified-PPO-{lane}"] = (modified, AGENTS["PPO"], stored)
        result[f"modified-Sarsa-{lane}"] = (
            ferry.modified(jm.modifiers.Hide("turning"), jm.modifiers.Signed(), jm.modifiers.ActionDelay(1)),
            AGENTS["Sarsa"],
            stored,
        )
        result[f"shaky-SAC-{lane}"] = (
            winch.modified(jm.modifiers.ActionNoise(0.1), jm.modifiers.LastAction()),
            AGENTS["SAC"],
            {**stored, "steps": steps // 2},
        )
        result[f"varied-PPO-{lane}"] = (ferry, AGENTS["PPO"], {**stored, "vary": {"tide": jm.between(0.0, 0.2)}})
        levels = jm.Levels("tide", [0.0, 0.05, 0.1], above=-20.0, last=5)
        result[f"curriculum-QLearning-{lane}"] = (ferry, AGENTS["QLearning"], {**stored, "curriculum": levels})
        watched = {
            "evaluate_every": steps // 4,
            "evaluate_episodes": 5,
            "record_every": 7,
            "checkpoint_every": steps // 3,
        }
        result[f"watched-DQN-{lane}"] = (ferry, AGENTS["DQN"], {**stored, **watched})
    result["buoy-PPO"] = (Buoy(), AGENTS["PPO"], {"steps": 600, "copies": 3})
    result["buoy-DQN-processes"] = (Buoy(), AGENTS["DQN"], {"steps": 600, "copies": 4, "processes": True})
    return result


class Buoy(jm.Simulator):
    """A buoy that drifts along a line: a simulator that keeps its state to itself."""

    width: float = jm.parameter(3.0, low=1.0, high=9.0)
    observation = {"at": jm.channel(low=-10.0, high=10.0), "age": jm.channel(values=64)}
    action = jm.Choice("left", "right")
    terms = {"near": 1.0, "pull": -0.1}
    endings = ("adrift",)
    measures = {"farthest": "max"}
    time_limit = 12

    def begin(self, seed):
        self.chance = np.random.default_rng(seed)
        self.at, self.age = float(self.chance.uniform(-1.0, 1.0)), 0
        return {"at": self.at, "age": 0}

    def advance(self, action):
        self.age += 1
        self.at += 0.5 * (2 * action - 1) + float(self.chance.normal(0.0, 0.5))
        far = abs(self.at) > self.width
        return jm.Outcome(
            {"at": self.at, "age": self.age},
            terms={"near": 1.0 - abs(self.at) / self.width, "pull": 1.0},
            closed_by="adrift" if far else None,
            measures={"farthest": abs(self.at)},
        )


def made(name, folder):
    """Train one case in a folder of its own."""
    began = time.perf_counter()
    environment, agent, settings = cases()[name]
    run = jm.train(environment, agent, seed=5, folder=folder, name=name, **settings)
    scores = jm.evaluate(run.policy, environment, episodes=5).episodes
    scores.to_csv(run.path / "scores.csv", index=False)
    return name, time.perf_counter() - began


def gone_on_with(folder):
    """A run that was stopped half way, and resumed; and a search."""
    run = jm.train(
        jm.gallery.Ferry(),
        AGENTS["DQN"],
        steps=1_600,
        copies=4,
        seed=5,
        folder=folder,
        name="resumed-DQN",
        stop_when=stops_at_half,
    )
    jm.resume(run.path)
    jm.tune(
        jm.gallery.Ferry(),
        jm.QLearning(bins=6),
        over={"agent.learning_rate": jm.between(0.01, 0.5)},
        steps=1_000,
        candidates=4,
        copies=4,
        again=1,
        seeds=[1],
        workers=1,
        folder=folder,
        name="search",
    )


def stops_at_half(progress):
    return progress.decisions >= 800


def told(file):
    """What a file says, without what a clock said."""
    if file.name == "readings.csv":
        return pd.read_csv(file).drop(columns=list(CLOCKS), errors="ignore").to_csv(index=False).encode()
    if file.suffix == ".safetensors":  # names inside may change, contents not
        arrays = load_file(file).values()
        return b"".join(sorted(repr((a.shape, str(a.dtype))).encode() + a.tobytes() for a in arrays))
    if file.suffix == ".parquet":
        return pd.read_parquet(file).to_csv(index=False).encode()
    return file.read_bytes()


def compared_files(folder):
    """The files of all runs under a folder that are compared, by their place in it."""
    names = ("episodes.csv", "evaluated.csv", "readings.csv", "scores.csv")
    files = [p for p in sorted(folder.rglob("*")) if p.name in names or p.suffix in (".parquet", ".safetensors")]
    # Of the checkpoints the last: a clock says when others are written.
    last = {p.parents[1]: p.parent for p in files if p.parents[1].name == "checkpoints"}
    files = [p for p in files if p.parents[1].name != "checkpoints" or p.parent == last[p.parents[1]]]
    return {str(p.relative_to(folder)): p for p in files}


def differences(before, now):
    """One line a file that is missing or says something else."""
    first, second = compared_files(before), compared_files(now)
    for place in sorted(first.keys() | second.keys()):
        if place not in first or place not in second:
            yield f"{place}: only {'before' if place in first else 'now'}"
        elif told(first[place]) != told(second[place]):
            yield f"{place}: differs"


def main():
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    place = parser.add_mutually_exclusive_group(required=True)
    place.add_argument("--keep", type=Path, metavar="FOLDER", help="make the runs there")
    place.add_argument("--against", type=Path, metavar="FOLDER", help="make the runs again beside it and compare")
    parser.add_argument("--only", default="", help="words, separated by commas, one of which is in the name")
    parser.add_argument("--workers", type=int, default=2)
    options = parser.parse_args()
    folder = options.keep or options.against.with_name(options.against.name + "-again")
    if options.keep and folder.exists():
        sys.exit(f"{folder} exists already. Give a new folder.")
    shutil.rmtree(folder, ignore_errors=True)
    folder.mkdir(parents=True)
    words = options.only.split(",")
    names = [name for name in cases() if any(word in name for word in words)]
    # A simulator of this file, a search and a run that goes on start processes of their own.
    in_process = [name for name in names if name.startswith("buoy")]
    seconds = {}
    with ProcessPoolExecutor(options.workers, mp_context=multiprocessing.get_context("spawn")) as pool:
        waiting = [pool.submit(made, name, folder) for name in names if name not in in_process]
        for name in in_process:
            seconds[name] = made(name, folder)[1]
        if not options.only:
            gone_on_with(folder)
        for future in as_completed(waiting):
            name, took = future.result()
            seconds[name] = took
    print(f"{len(names)} runs, {math.fsum(seconds.values()):.0f} s of work")
    if options.keep:
        return
    result = [line for line in differences(options.against, folder) if any(word in line for word in words)]
    if options.only:
        result = [line for line in result if not line.endswith("only before")]
    print("\n".join(result) or f"{len(compared_files(folder))} files, all the same")
    sys.exit(bool(result))


if __name__ == "__main__":
    main()
