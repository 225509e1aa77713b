"""What the methods for ranges learn, at their default settings: several seeds, against an exact optimum and a
hand-written rule.

``python benchmarks/levels_of_ranges.py`` prints two tables, and writes JSON with ``--json FILE``.

The winch: excess cost ``(J - J*) / J*`` of the last greedy policy. J is the mean cost discounted by 0.99 over 400
episodes of 1,000 decisions, J* that of the Riccati feedback from the same first states with the same gusts. With
``--need`` runs of a tenth, a fifth ... of the decisions tell how many would have been enough.

The greenhouse: mean return on 200 fixed evaluation episodes, the 95 % interval of its difference from the thermostat,
episode by episode, and how many seeds have its lower end above 0.

Defaults were tuned on seeds from 1000; the tables show seeds from 0.
"""

import argparse
import json
from pathlib import Path

import numpy as np
from scipy import stats

import jokulmist as jm
from jokulmist.gallery.winch import Winch, riccati_solution

EPISODES = 200
# The method, decisions, and the excess that is allowed: the median and the worst of the seeds.
WINCH = {name: (getattr(jm, name)(), 300_000, (0.02, 0.05)) for name in ("PPO", "TD3", "SAC")}
WINCH["DDPG"] = (jm.DDPG(), 300_000, (0.10, 0.10))
GREENHOUSE = {"PPO": (jm.PPO(), 1_000_000), "SAC": (jm.SAC(), 600_000)}
GREENHOUSE |= {"TD3": (jm.TD3(), 600_000)}


class LongWinch(Winch):
    """The winch without its cuts: what comes after 1,000 decisions weighs less than 0.0001."""

    time_limit = 1_000
    reach = 1e6


def cost(who):
    """The discounted cost of each episode."""
    episodes = jm.evaluate(who, LongWinch(), episodes=400, discount=Winch.discount).episodes
    return -episodes["discounted_return"].to_numpy(float)


def winch(agent, steps, seeds):
    best = cost("riccati")
    at_bound = float(jm.evaluate("riccati", Winch(), episodes=1_000).episodes["at_bound"].mean())
    result = []
    for seed in seeds:
        run = jm.train(Winch(), agent, steps=steps, seed=seed, folder=None)
        costs = cost(run.policy)
        result.append(float((costs.mean() - best.mean()) / best.mean()))
    return {
        "decisions": steps,
        "excess": result,
        "median": float(np.median(result)),
        "worst": max(result),
        "at_bound": at_bound,
    }


def enough(agent, steps, seeds, wanted):
    """The fewest decisions, among parts of the whole, with which median and worst of the seeds are within what is
    wanted."""
    for part in (0.1, 0.2, 0.35, 0.5, 0.7):
        r = winch(agent, int(part * steps), seeds)
        if r["median"] <= wanted[0] and r["worst"] <= wanted[1]:
            return int(part * steps)
    return steps


def greenhouse(agent, steps, seeds):
    env = jm.gallery.Greenhouse()
    rule = jm.evaluate("thermostat", env, episodes=EPISODES).returns
    means, lows = [], []
    for seed in seeds:
        run = jm.train(env, agent, steps=steps, seed=seed, folder=None)
        returns = jm.evaluate(run.policy, env, episodes=EPISODES).returns
        difference = returns - rule
        half = stats.t.ppf(0.975, EPISODES - 1) * difference.std(ddof=1) / np.sqrt(EPISODES)
        means.append(float(returns.mean()))
        lows.append(float(difference.mean() - half))
    return {
        "decisions": steps,
        "thermostat": float(rule.mean()),
        "means": means,
        "lower_ends": lows,
        "above": int(np.sum(np.array(lows) > 0.0)),
        "seeds": len(means),
    }


def main():
    parser = argparse.ArgumentParser(description=__doc__.split("\n")[0])
    parser.add_argument("--only", help="one method")
    parser.add_argument("--place", choices=["winch", "greenhouse"])
    parser.add_argument("--need", action="store_true", help="also look for the fewest decisions that suffice")
    parser.add_argument("--json", type=Path)
    options = parser.parse_args()
    results = {"winch": {}, "greenhouse": {}}
    gain, matrix = riccati_solution()
    print(
        f"winch: the best feedback is {np.round(-gain, 4)}, the cost of a state x'Px with P's diagonal "
        f"{np.round(np.diag(matrix), 3)}"
    )
    for name, (agent, steps, wanted) in WINCH.items():
        if (options.only and options.only != name) or options.place == "greenhouse":
            continue
        r = results["winch"][name] = winch(agent, steps, range(5))
        needed = ""
        if options.need:
            r["needed"] = enough(agent, steps, range(5), wanted)
            needed = f"  median within {wanted[0]:.0%} and worst within {wanted[1]:.0%} after {r['needed']:,}"
        print(
            f"winch {name:<5} {steps:>9,}  excess cost median {r['median']:.2%}, worst {r['worst']:.2%}"
            f"  ({', '.join(f'{x:.2%}' for x in r['excess'])}); Riccati at a bound in {r['at_bound']:.4%} of "
            f"steps{needed}",
            flush=True,
        )
    for name, (agent, steps) in GREENHOUSE.items():
        if (options.only and options.only != name) or options.place == "winch":
            continue
        r = results["greenhouse"][name] = greenhouse(agent, steps, range(10))
        print(
            f"greenhouse {name:<5} {steps:>9,}  returns {min(r['means']):.1f} / {np.median(r['means']):.1f} / "
            f"{max(r['means']):.1f} (thermostat {r['thermostat']:.1f}); above it by at least "
            f"{min(r['lower_ends']):.1f}, "
            f"{r['above']} of {r['seeds']} seeds surely",
            flush=True,
        )
        if options.json:
            options.json.write_text(json.dumps(results, indent=2) + "\n")
    if options.json:
        options.json.write_text(json.dumps(results, indent=2) + "\n")


if __name__ == "__main__":
    main()
