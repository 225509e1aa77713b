"""Shape the reward of the greenhouse term by term: two shortcuts that the agent finds, and the terms that close
them."""

from pathlib import Path

import matplotlib

matplotlib.use("Agg")  # no window

from matplotlib import pyplot

import jokulmist as jm

# A term with weight 0 is recorded, and does not count.
ATTEMPTS = {
    "only what is unwanted": {"growth": 0.0, "crop_lost": 0.0},
    "and losing the crop costs": {"growth": 0.0},
    "and growing pays": {},
}
SHOWN = ["growth", "fog", "heating", "wear", "crop_lost", "coldest", "energy"]


def attempt(weights, steps=200_000):
    """Train with some weights; the run, and what its policy does."""
    env = jm.gallery.Greenhouse(weights=weights)
    run = jm.train(env, jm.PPO(), steps=steps, seed=0, folder=None)
    return run, jm.evaluate(run.policy, env, episodes=50).episodes


if __name__ == "__main__":
    figure, panels = pyplot.subplots(3, 1, figsize=(12.8, 8), layout="constrained", sharex=True)
    for axes, (name, weights) in zip(panels, ATTEMPTS.items(), strict=True):
        run, episodes = attempt(weights)
        closed = episodes["closed_by"].value_counts(normalize=True)
        print(f"{name}: weights changed {weights or 'none'}")
        print(
            f"  mean return {episodes['return'].mean():.1f} in {episodes['steps'].mean():.0f} decisions, closed by",
            end=" ",
        )
        print(", ".join(f"{how} {share:.0%}" for how, share in closed.items()))
        print("  " + ", ".join(f"{column} {episodes[column].mean():.2f}" for column in SHOWN))
        jm.ledger(run, axes)
        axes.set_title(f"{name}: where the return came from", loc="left")
        axes.set_ylabel("mean return")
        axes.legend(loc="upper left", bbox_to_anchor=(1.0, 1.0))
    for axes in panels[:-1]:
        axes.set_xlabel("")
    figure.savefig("shaping.png", dpi=100)
    print(f"the ledgers are in {Path('shaping.png').resolve()}")
