"""How fast PPO, DQN and SAC train: the library's lanes against loops written by hand, paired in one run.

``python benchmarks/speed_of_networks.py`` prints a table, and writes JSON with ``--json FILE``. What is told is the
ratio:
both sides of a pair run one after the other on one core, in alternating order, and the median of the pairs counts. The
loops by hand are in `by_hand`: a NumPy ferry, one jitted choice a step, one jitted update. The same settings on both
sides; ``at its own copies`` compares a loop of 8 copies (PPO) or one (DQN) with the copies that the library chooses.
Plain lanes are compared with a loop that drives the same class.

Besides: the same in whole fresh processes; two seeds side by side against one after another; and what share of the
processor's measured rate of matrix products the compiled PPO reaches.
"""

import argparse
import json
import os
import subprocess
import sys
import tempfile
import time
from pathlib import Path
from statistics import median

from pairs import paired  # beside this file

HERE = Path(__file__).parent
sys.path.insert(0, str(HERE))
WARM = 20_000
# As the loops by hand have them: no statistics of what is seen or earned, and no bonus.
SETTINGS = {"scaling": "bounds", "rewards_scaled": False}
EQUAL = {"SAC": {"minibatch": 128}}


def settings_of(method):
    return {**SETTINGS, **EQUAL.get(method, {})}


def place_of(method):
    """The class that a method is timed on."""
    return "Winch" if method == "SAC" else "Ferry"


def made(method):
    import jokulmist as jm

    return getattr(jm.gallery, place_of(method))()


def library(agent, steps, copies, lane="compiled"):
    """Decisions per second without compiling: a run as `jm.train` makes it, in memory."""
    import jokulmist as jm

    environment = made(type(agent).__name__)
    began = time.perf_counter()
    jm.train(environment, agent, steps=steps, copies=copies, lane=lane, folder=None)
    return steps / (time.perf_counter() - began)


def plain(agent, steps, copies):
    """Decisions per second of a plain loop once its functions are compiled."""
    from jokulmist.loops.contract import Planned
    from jokulmist.loops.plain import PlainLoop

    key = (type(agent).__name__, copies)
    if key not in LOOPS:
        LOOPS[key] = PlainLoop(made(key[0]), agent, 0, copies, Planned(steps=1 << 40))
        LOOPS[key].advance(whole_updates(LOOPS[key], 4096))
    loop = LOOPS[key]
    turns, first, began = whole_updates(loop, steps), loop.decisions, time.perf_counter()
    loop.advance(turns)
    return (loop.decisions - first) / (time.perf_counter() - began)


LOOPS = {}


def whole_updates(loop, decisions):
    return max(1, decisions // loop.copies // loop.turns_per_update) * loop.turns_per_update


class ByHand:
    """The loops by hand, in a process of their own: with JAX as it comes, not as the library sets it up."""

    def __init__(self):
        self.process = subprocess.Popen(
            [sys.executable, __file__, "--serve"], stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True
        )

    def __call__(self, method, place, steps, copies):
        """Decisions per second, compiled before."""
        self.process.stdin.write(f"{method} {place} {steps} {copies}\n")
        self.process.stdin.flush()
        return float(self.process.stdout.readline())


def serve():
    """Answer each line that `ByHand` writes with a speed."""
    from by_hand import dqn_by_hand, numpy_ferry, numpy_winch, ppo_by_hand, sac_by_hand

    for line in sys.stdin:
        method, place, steps, copies = line.split()
        loop = {"PPO": ppo_by_hand, "DQN": dqn_by_hand, "SAC": sac_by_hand}[method]
        module = numpy_winch if "Winch" in place else numpy_ferry
        began = time.perf_counter()
        loop.train(getattr(module, place), int(steps), copies=int(copies))
        print(int(steps) / (time.perf_counter() - began), flush=True)


def whole(code):
    """Decisions per second of a fresh process; the code's first line is the number of decisions."""
    steps = int(code.partition("\n")[0].removeprefix("# "))
    environment = {**os.environ, "PYTHONPATH": f"{HERE}{os.pathsep}{os.environ.get('PYTHONPATH', '')}"}
    began = time.perf_counter()
    subprocess.run([sys.executable, "-c", code], check=True, env=environment, stdout=subprocess.DEVNULL)
    return steps / (time.perf_counter() - began)


def whole_codes(method, steps, copies):
    first = (
        f"# {steps}\nimport jokulmist as jm, tempfile\n"
        f"jm.train(jm.gallery.{place_of(method)}(), jm.{method}(**{settings_of(method)}), steps={steps}, "
        f"copies={copies}, folder=tempfile.mkdtemp())"
    )
    place = place_of(method)
    second = (
        f"# {steps}\nfrom by_hand import {method.lower()}_by_hand as loop\n"
        f"from by_hand.numpy_{place.lower()} import Numpy{place}\nloop.train(Numpy{place}, {steps}, copies={copies})"
    )
    return first, second


def side_by_side(agent, steps):
    """Throughput of two seeds in two workers over that of the same two in one, warm and without starting."""
    import jokulmist as jm

    def seconds(workers, steps):
        with tempfile.TemporaryDirectory() as folder:
            began = time.perf_counter()
            jm.train_seeds(jm.gallery.Ferry(), agent, steps=steps, seeds=[0, 1], workers=workers, folder=folder)
            return time.perf_counter() - began

    short = steps // 10
    return (seconds(1, steps) - seconds(1, short)) / (seconds(2, steps) - seconds(2, short))


def product_rate(seconds=0.5):
    """Arithmetic of products of a minibatch with a layer, in operations per second: 256 x 64 by 64 x 64."""
    import jax
    import jax.numpy as jnp
    from jax import lax

    x, w = jnp.ones((256, 64)), jnp.eye(64)
    work = jax.jit(lambda x, w: lax.fori_loop(0, 500, lambda i, x: x @ w, x))
    work(x, w).block_until_ready()
    began, count = time.perf_counter(), 0
    while time.perf_counter() - began < seconds:
        work(x, w).block_until_ready()
        count += 500
    return count * 2 * 256 * 64 * 64 / (time.perf_counter() - began)


def ppo_operations(agent):
    """Operations of matrix products in one decision of the default PPO on the ferry: 4 numbers, 2 towers of 64 x 64."""
    policy, value = (4 * 64 + 64 * 64 + 64 * n for n in (3, 1))
    forward = 2 * (policy + value)
    # Chosen by the policy alone; both looked at once before the epochs, the value of what followed too; an epoch goes
    # forward once and back twice (not back through the first layer's inputs).
    backward = 2 * forward - 2 * 2 * 4 * 64
    return 2 * policy + forward + 2 * value + agent.epochs * (forward + backward)


def main():
    parser = argparse.ArgumentParser(description=__doc__.split("\n")[0])
    parser.add_argument("--pairs", type=int, default=7)
    parser.add_argument("--quick", action="store_true", help="three pairs and no whole processes")
    parser.add_argument("--only", help="one method, without what is told besides")
    parser.add_argument("--json", type=Path)
    parser.add_argument("--serve", action="store_true", help=argparse.SUPPRESS)
    options = parser.parse_args()
    if options.serve:
        serve()
        return
    pairs = 3 if options.quick else options.pairs
    results = {"pairs": {}, "cores": os.cpu_count()}
    all_cores = os.sched_getaffinity(0) if hasattr(os, "sched_getaffinity") else set()
    if all_cores:
        os.sched_setaffinity(0, {min(all_cores)})  # one core for both sides

    import jokulmist as jm
    from jokulmist.lanes.compiled.backend import start_backend

    start_backend()
    by_hand = ByHand()

    def tell(name, result):
        results["pairs"][name] = result
        print(
            f"{name:<64} {result['ratio']:6.2f} times  [{result['least']:.2f}, {result['most']:.2f}]   "
            f"{result['ours']:>10,.0f} against {result['by_hand']:>8,.0f} decisions/s",
            flush=True,
        )

    print("median of the ratios, pair by pair [least, most]; speeds are medians; one core")
    agents = {name: getattr(jm, name)(**settings_of(name)) for name in ("PPO", "DQN", "SAC")}
    cases = [
        ("PPO", 8, 8),
        ("PPO", 8, 64),
        ("DQN", 8, 8),
        ("DQN", 1, 1),
        ("DQN", 1, 16),
        ("SAC", 8, 8),
        ("SAC", 1, 1),
        ("SAC", 1, 16),
    ]
    for method, hand_copies, copies in cases:
        if options.only and options.only not in method:
            continue
        agent, place = agents[method], place_of(method)
        # An update a decision takes SAC a minute by hand for the usual number.
        steps = {"SAC": 6_000, "DQN": 300_000}.get(method, 1_000_000)
        few = 6_000 if method == "SAC" else 24_000
        by_hand(method, f"Numpy{place}", 4_000, hand_copies)
        library(agent, WARM, copies)
        copies_text = "" if copies == hand_copies else " at its own copies"
        words = f"{copies} cop{'y' if copies == 1 else 'ies'} against {hand_copies}"
        name = f"{method} compiled{copies_text}, {words}, NumPy by hand"
        tell(
            name,
            paired(
                lambda a=agent, c=copies, s=steps: library(a, s, c),
                lambda m=method, c=hand_copies, p=place, n=few: by_hand(m, f"Numpy{p}", n, c),
                pairs,
            ),
        )
    for method, copies in (("PPO", 8), ("DQN", 16), ("SAC", 16)):
        if options.only and options.only not in method:
            continue
        agent, place = agents[method], place_of(method)
        few = 6_000 if method == "SAC" else 24_000
        by_hand(method, f"Same{place}", 4_000, copies)
        tell(
            f"{method} plain, {copies} copies, against the same class by hand",
            paired(
                lambda a=agent, c=copies, n=few: plain(a, n, c),
                lambda m=method, c=copies, p=place, n=few: by_hand(m, f"Same{p}", n, c),
                pairs,
            ),
        )
    if options.only:
        return
    rate, speed = product_rate(), library(agents["PPO"], 1_000_000, 64)
    share = speed * ppo_operations(agents["PPO"]) / rate
    results["products"] = {"rate": rate, "decisions_per_second": speed, "share": share}
    print(
        f"\ncompiled PPO with 64 copies does {speed * ppo_operations(agents['PPO']) / 1e9:.0f} of the "
        f"{rate / 1e9:.0f} thousand million operations a second of products alone: {share:.0%}"
    )
    if all_cores:
        os.sched_setaffinity(0, all_cores)
    if len(all_cores) > 1:
        outcome = [side_by_side(agents["PPO"], 1_000_000) for _ in range(3)]
        results["side_by_side"] = outcome
        print(
            f"two seeds side by side: {median(outcome):.2f} times the throughput [{min(outcome):.2f}, {max(outcome):.2f}]"
        )
    if not options.quick:
        for method, copies in (("PPO", 8), ("DQN", 8), ("SAC", 8)):
            for steps in (200_000, 2_000_000):
                first, _theirs = whole_codes(method, steps, copies)
                theirs_short = whole_codes(method, min(steps, 200_000), copies)[1]
                name = f"{method} whole process, {steps:,} decisions, {copies} copies"
                tell(name, paired(lambda o=first: whole(o), lambda t=theirs_short: whole(t), 3))
    if options.json:
        options.json.write_text(json.dumps(results, indent=2) + "\n")


if __name__ == "__main__":
    main()
