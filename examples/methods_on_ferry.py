"""Lay the learning curves of several methods side by side on the ferry, two seeds each, and keep the figure."""

from pathlib import Path

import matplotlib

matplotlib.use("Agg")  # no window

import jokulmist as jm

if __name__ == "__main__":  # seeds go side by side in worker processes, which read this file
    env = jm.gallery.Ferry()
    runs = []
    for agent in (jm.QLearning(bins=20), jm.DQN(), jm.PPO()):
        trained = jm.train_seeds(env, agent, steps=80_000, seeds=[0, 1])
        scores = [jm.evaluate(run.policy, env, episodes=100).mean for run in trained]
        print(f"{type(agent).__name__:10} mean return of two seeds: {scores[0]:6.2f} {scores[1]:6.2f}")
        runs += trained
    axes = jm.plot(runs)
    axes.set_ylim(-12, 17)
    axes.figure.set_size_inches(12.8, 7.2)
    axes.figure.savefig("methods.png", dpi=100, bbox_inches="tight")
    print(f"the curves are in {Path('methods.png').resolve()}")
