"""Safe starts: a run that begins with what another learned, and how far it falls before it improves.

    python benchmarks/proving/starts.py --methods PPO,SAC --problems buoy,mast --seeds 10
    python benchmarks/proving/starts.py --methods PPO --steps 60000 --set near_start=0.0

A policy is trained as `python benchmarks/proving` trains it (kept in `--kept`, for the next call); then a second run
begins with it. Told are shares of the way from random play to the reference: of the start, on the 50 episodes that the
second run is evaluated on every 1,000 decisions; of the lowest of these evaluations; of its last; and of the lowest
mean of ten episodes of training, beside the lowest of ten that the start itself samples in as many episodes.
"""

import argparse
import warnings
from pathlib import Path

import numpy as np
from measuring import agent_of, bounds_of, settings_of
from problems import ALL

import jokulmist as jm
from jokulmist.running.session.session import EVALUATION_SEED

FIRST = {"PPO": 100_000, "ActorCritic": 300_000, "Reinforce": 300_000, "DQN": 100_000}
EVALUATED, EVERY, EPISODES = 50, 1_000, 10


def lowest_mean(returns):
    """The lowest mean of ten episodes that closed one after another."""
    if len(returns) < EPISODES:
        return float("nan")
    return float(np.convolve(returns, np.full(EPISODES, 1.0 / EPISODES), "valid").min())


def returns_around_start(method, problem, seed, steps, changed, kept):
    """Greedy returns of the start, and of the run's lowest and last evaluation; the lowest mean of ten episodes that the
    start samples, and that are trained on."""
    environment, name = ALL[problem].make(), f"{method}-{problem}-{seed}"
    if not (kept / name / "origin.json").exists():
        first = FIRST.get(method, 20_000)
        jm.train(environment, agent_of(method, problem, {}), steps=first, seed=seed, folder=kept, name=name)
    start = jm.Run.open(kept / name)
    greedy = jm.evaluate(start.policy, environment, episodes=EVALUATED, seed=EVALUATION_SEED).mean
    run = jm.train(
        environment,
        agent_of(method, problem, changed),
        steps=steps,
        seed=seed + 500,
        start=start,
        evaluate_every=EVERY,
        evaluate_episodes=EVALUATED,
        folder=kept / "begun",
    )
    sampled = jm.evaluate(start.policy, environment, episodes=max(len(run.episodes), 20), act="sampled").returns
    greedy_later = run.evaluated.groupby("learned")["return"].mean()
    trained = lowest_mean(run.episodes["return"].to_numpy())
    return greedy, greedy_later.min(), greedy_later.iloc[-1], lowest_mean(sampled), trained


def main():
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--methods", default="PPO,ActorCritic,DQN,SAC,TD3,DDPG")
    parser.add_argument("--problems", default="mast,buoy")
    parser.add_argument("--seeds", type=int, default=10)
    parser.add_argument("--steps", type=int, default=20_000)
    parser.add_argument("--set", nargs="*", default=[], help="settings of the second run's agent, name=value")
    parser.add_argument("--kept", type=Path, default=Path("starts"))
    options = parser.parse_args()
    warnings.simplefilter("ignore")
    changed = settings_of(options.set)
    print("| method | problem | seed | start | lowest | last | lowest of ten, sampled | in training |")
    print("|---" * 8 + "|")
    for method in options.methods.split(","):
        for problem in options.problems.split(","):
            if method not in ALL[problem].methods:
                continue
            low, high = bounds_of(problem)
            for seed in range(1000, 1000 + options.seeds):
                found = returns_around_start(method, problem, seed, options.steps, changed, options.kept)
                shares = " | ".join(f"{(value - low) / (high - low):.2f}" for value in found)
                print(f"| {method} | {problem} | {seed} | {shares} |", flush=True)


if __name__ == "__main__":
    main()
