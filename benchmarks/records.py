"""Learning from records: five seeds each on mixed and poor data, and how often the interval of an estimate holds the
truth.

    python benchmarks/records.py taught [--steps 20000]    # ferry, greenhouse: the records, and what each method learns
    python benchmarks/records.py estimates [--repeats 50]  # intervals of both estimates against the true mean return
"""

import argparse
import json
import statistics
import sys
import tempfile
from pathlib import Path

import jokulmist as jm

SEEDS = range(5)
METHODS = {
    "ferry": {"cloning": jm.Cloning, "implicit Q": jm.ImplicitQ, "conservative Q": lambda: jm.DQN(conservative=1.0)},
    "greenhouse": {"cloning": jm.Cloning, "implicit Q": lambda: jm.ImplicitQ(expectile=0.9)},
}
MAKE = {"ferry": jm.gallery.Ferry, "greenhouse": jm.gallery.Greenhouse}


def recorded(name, seed, policies, episodes, place):
    """Episodes of several policies, one after another, each sampled."""
    result = []
    for k, policy in enumerate(policies):
        act = {} if policy == "random" else {"act": "sampled"}
        output = jm.evaluate(
            policy,
            MAKE[name](),
            episodes=episodes,
            seed=1_000 + 10 * seed + k,
            record=episodes,
            with_policy_outputs=False,
            **act,
        )
        file = output.save_rollouts(Path(place) / f"{name}-{seed}-{k}.parquet", MAKE[name]())
        result += jm.read_rollouts(file)
    return jm.Records.read(result, MAKE[name]())


def behaviours(name, seed):
    """A poor policy, which has learned for a little while, and a better one."""
    steps = {"ferry": (15_000, 60_000), "greenhouse": (30_000, 150_000)}[name]
    return [jm.train(MAKE[name](), jm.PPO(), steps=n, seed=seed, folder=None).policy for n in steps]


def taught(steps):
    result = {}
    for name, methods in METHODS.items():
        for kind in ("poor", "mixed"):
            output = {"recorded": [], **{method: [] for method in methods}}
            for seed in SEEDS:
                poor, better = behaviours(name, seed)
                policies = [poor] if kind == "poor" else ["random", poor, better]
                with tempfile.TemporaryDirectory() as place:
                    records = recorded(name, seed, policies, 100, place)
                output["recorded"].append(round(float(records.returns.mean()), 2))
                for method, make in methods.items():
                    policy = jm.learn_from(records, make(), steps=steps, seed=seed).policy
                    output[method].append(round(jm.evaluate(policy, MAKE[name](), episodes=200, seed=7).mean, 2))
                print(
                    name, kind, seed, {key: values[-1] for key, values in output.items()}, file=sys.stderr, flush=True
                )
            result[f"{name}, {kind}"] = {
                **output,
                "medians": {key: statistics.median(values) for key, values in output.items()},
            }
    return result


def estimates(repeats):
    """A policy that is a little better than the one that was recorded, estimated from 200 episodes at a time."""
    ferry = jm.gallery.Ferry()
    second = jm.train(ferry, jm.PPO(), steps=50_000, seed=3, folder=None).policy
    first = jm.learn_from(_of(second, ferry, 90, 400), jm.ImplicitQ(sharpness=1.0), steps=4_000).policy
    truth = jm.evaluate(first, ferry, episodes=4_000, seed=5, act="sampled").mean
    before = jm.evaluate(second, ferry, episodes=4_000, seed=5, act="sampled").mean
    ways = {"weights": [], "fitted": []}
    for k in range(repeats):
        records = _of(second, ferry, 100 + k, 200)
        for criterion, result in ways.items():
            output = jm.estimate(first, records, act="sampled", seed=k, by=criterion)
            result.append(
                (
                    output.mean,
                    output.effective,
                    output.interval[0] <= truth <= output.interval[1],
                    output.interval[1] - output.interval[0],
                )
            )
        print(k, truth, {criterion: result[-1] for criterion, result in ways.items()}, file=sys.stderr, flush=True)
    return {
        "recorded policy": round(before, 3),
        "estimated policy": round(truth, 3),
        **{
            criterion: {
                "intervals that hold it": f"{sum(covered for _, _, covered, _ in result)} of {repeats}",
                "mean of the estimates": round(statistics.mean(mean for mean, *_ in result), 3),
                "their spread": round(statistics.stdev(mean for mean, *_ in result), 3),
                "median width of the interval": round(statistics.median(width for *_, width in result), 3),
                "median effective episodes": round(statistics.median(n for _, n, *_ in result), 1),
            }
            for criterion, result in ways.items()
        },
    }


def _of(policy, environment, seed, episodes):
    output = jm.evaluate(policy, environment, episodes=episodes, seed=seed, act="sampled", record=episodes)
    with tempfile.TemporaryDirectory() as place:
        return jm.Records.read(output.save_rollouts(Path(place) / "log.parquet", environment), environment)


if __name__ == "__main__":
    words = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    words.add_argument("what", choices=["taught", "estimates"])
    words.add_argument("--steps", type=int, default=20_000)
    words.add_argument("--repeats", type=int, default=50)
    given = words.parse_args()
    print(json.dumps(taught(given.steps) if given.what == "taught" else estimates(given.repeats), indent=2))
