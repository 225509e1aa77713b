"""How fast tables train: the library's lanes against loops written by hand, paired in one run.

``python benchmarks/speed.py`` prints a table, and writes JSON with ``--json FILE``. What is told is the ratio: both
sides of a pair run one after the other, in alternating order, and the median of the pairs counts, because machines
drift. ``--pairs 7`` by default; ``--quick`` for a look.

Three ways of timing: *running* (without compiling: the second run in a process), *whole* (a fresh process from start to
end, importing, compiling and recording, at 200,000 and 2,000,000 decisions), and *level* (seconds and decisions until
the mean return of the last 100 episodes first reaches a stated level, and the share of the library's own cost in a
plain step).
"""

import argparse
import json
import os
import subprocess
import sys
import time
from pathlib import Path
from statistics import median

import numpy as np
from pairs import paired  # beside this file

HERE = Path(__file__).parent
sys.path.insert(0, str(HERE))
BY_HAND_STEPS = 200_000
LEVEL = 125.0


def by_hand(steps):
    from by_hand.numpy_tarn import train

    began = time.perf_counter()
    returns, _ = train(steps)
    return steps / (time.perf_counter() - began), returns


def same_class(steps):
    from by_hand.same_class import train

    import jokulmist as jm

    began = time.perf_counter()
    rows, _ = train(jm.gallery.Tarn(), steps)
    return steps / (time.perf_counter() - began), rows[:, 0]


def library(steps, copies, lane):
    import jokulmist as jm

    began = time.perf_counter()
    run = jm.train(
        jm.gallery.Tarn(),
        jm.QLearning(bins=20, discount=1.0, learning_rate=0.1),
        steps=steps,
        copies=copies,
        lane=lane,
        folder=None,
    )
    return steps / (time.perf_counter() - began), run.episodes["return"].to_numpy()


def whole(code):
    """Seconds of a fresh process, from start to end."""
    began = time.perf_counter()
    environment = {**os.environ, "PYTHONPATH": f"{HERE}{os.pathsep}{os.environ.get('PYTHONPATH', '')}"}
    subprocess.run([sys.executable, "-c", code], check=True, env=environment, stdout=subprocess.DEVNULL)
    return time.perf_counter() - began


def whole_pairs(steps, copies, pairs):
    first = (
        "import jokulmist as jm, tempfile\n"
        "jm.train(jm.gallery.Tarn(), jm.QLearning(bins=20, discount=1.0, learning_rate=0.1), "
        f"steps={steps}, copies={copies}, folder=tempfile.mkdtemp())"
    )
    second = f"from by_hand.numpy_tarn import train\ntrain({steps})"
    ratios, our_speeds, their_speeds = [], [], []
    for pair in range(pairs):
        codes = {"ours": first, "theirs": second}
        order = ("ours", "theirs") if pair % 2 == 0 else ("theirs", "ours")
        seconds = {side: whole(codes[side]) for side in order}
        ratios.append(seconds["theirs"] / seconds["ours"])
        our_speeds.append(steps / seconds["ours"])
        their_speeds.append(steps / seconds["theirs"])
    return {
        "ratio": median(ratios),
        "least": min(ratios),
        "most": max(ratios),
        "ours": median(our_speeds),
        "by_hand": median(their_speeds),
        "pairs": pairs,
    }


def to_level(returns, decisions_an_episode=96, window=100):
    """Decisions until the mean of `window` episodes first reaches the level, or None."""
    mean = np.convolve(returns, np.ones(window) / window, mode="valid")
    reached = np.nonzero(mean >= LEVEL)[0]
    return int((reached[0] + window) * decisions_an_episode) if len(reached) else None


def library_share(steps=20_000):
    """Microseconds of a plain step that are the library's: a whole step of random play, less the class's own
    methods."""
    import jokulmist as jm
    from jokulmist.environments.chance.draws import PlainDraw
    from jokulmist.environments.chance.noise import Domain, Noise, Stream
    from jokulmist.lanes.plain import PlainLane

    env = jm.gallery.Tarn()
    result = []
    for _ in range(7):
        lane = PlainLane(env, Noise(0, 1, Domain.TRAINING))
        lane.begin()
        actions = [[i % 3] for i in range(steps)]
        began = time.perf_counter()
        for action in actions:
            lane.advance(action)
        whole_step = (time.perf_counter() - began) / steps
        draw = PlainDraw(Noise(0, 1, Domain.TRAINING), Stream.ADVANCE)
        state = env.begin(draw.for_step(0, 0))
        began = time.perf_counter()
        for turn in range(steps):
            if turn % 96 == 0:
                state = state.replace(hour=0)
            after = env.advance(state, turn % 3, draw.for_step(turn, 0))
            env.sales(state, after)
            env.flooding(after)
            env.washed_out(after)
            env.energy(after)
            env.highest_level(after)
            state = after
        own_methods = (time.perf_counter() - began) / steps
        result.append(1e6 * (whole_step - own_methods))
    return median(result)


def main():
    parser = argparse.ArgumentParser(description=__doc__.split("\n")[0])
    parser.add_argument("--pairs", type=int, default=7)
    parser.add_argument("--quick", action="store_true", help="three pairs and no whole processes")
    parser.add_argument("--json", type=Path)
    options = parser.parse_args()
    pairs = 3 if options.quick else options.pairs
    results = {"pairs": {}, "cores": os.cpu_count()}

    def tell(name, result):
        results["pairs"][name] = result
        print(
            f"{name:<58} {result['ratio']:7.2f} times  [{result['least']:.2f}, {result['most']:.2f}]   "
            f"{result['ours']:>12,.0f} against {result['by_hand']:>9,.0f} decisions/s",
            flush=True,
        )

    print("median of the ratios, pair by pair [least, most]; speeds are medians")
    for copies in (1, 64):
        library(200_000, copies, "compiled")  # compiles
        name = f"compiled, {copies} cop{'y' if copies == 1 else 'ies'}, running, against NumPy by hand"
        tell(
            name,
            paired(lambda c=copies: library(4_000_000, c, "compiled")[0], lambda: by_hand(BY_HAND_STEPS)[0], pairs),
        )
    name = "plain, 1 copy, running, against the same class by hand"
    tell(name, paired(lambda: library(BY_HAND_STEPS, 1, "plain")[0], lambda: same_class(BY_HAND_STEPS)[0], pairs))
    if not options.quick:
        for steps in (200_000, 2_000_000):
            for copies in (1, 64):
                name = f"compiled, {copies} cop{'y' if copies == 1 else 'ies'}, whole process, {steps:,} decisions"
                tell(name, whole_pairs(steps, copies, pairs if steps < 1_000_000 else min(pairs, 3)))
    results["library_microseconds_a_plain_step"] = library_share()
    print(f"the library's share of a plain step: {results['library_microseconds_a_plain_step']:.1f} us")
    levels = {"by hand, NumPy": by_hand, "plain, 1 copy": lambda n: library(n, 1, "plain")}
    levels |= {f"compiled, {c}": lambda n, c=c: library(n, c, "compiled") for c in (1, 64)}
    print(
        f"\ndecisions and seconds until the mean of 100 episodes first reaches {LEVEL:g}, in runs of 1,000,000 "
        "decisions"
    )
    results["level"] = {}
    for name, work in levels.items():
        speed, returns = work(1_000_000)
        needed = to_level(returns)
        curve = [float(part.mean()) for part in np.array_split(returns, 50)]
        results["level"][name] = {"decisions": needed, "seconds": needed / speed if needed else None, "curve": curve}
        output = "not reached" if needed is None else f"{needed:>9,} decisions, {needed / speed:6.2f} s"
        print(f"{name:<20} {output}")
    if options.json:
        options.json.write_text(json.dumps(results, indent=2) + "\n")


if __name__ == "__main__":
    main()
