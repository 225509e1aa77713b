"""Attack the library with many cases, and count what was not answered by a clear message.

    python benchmarks/attack/run.py --cases 20000                 # all kinds, in turn
    python benchmarks/attack/run.py --cases 500 --kinds plans,records --seed 7

Kinds: ``words`` (command lines), ``plans`` (wrong values for every key of every method), ``records`` (damaged and
forged files of runs), ``code`` (environments that fail or give wrong values), ``calls`` (the public functions with
wrong arguments), ``searches`` (damaged and forged files of searches), ``faults`` (writes that the system refuses),
``signals``. Each case is answered by a result or by one message, with status 0, 1, 2 or 130, within 20 s; nothing
half-written stays, nothing is written outside of a scratch folder, and no code of a foreign folder is executed. The
same seed gives the same cases.
"""

import argparse
import random
import sys
import time
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent))
import kinds
from arena import Arena

KINDS = {
    "words": kinds.words,
    "plans": kinds.plans,
    "records": kinds.records,
    "code": kinds.code,
    "calls": kinds.calls,
    "searches": kinds.searches,
    "faults": kinds.faults,
    "signals": kinds.signals,
}


def attack(cases, names, seed, quiet=False):
    """Try so many cases; gives the counts by kind and the faults."""
    began = time.perf_counter()
    arena = Arena(kinds.base)
    kinds.prepare(arena)
    chance = random.Random(seed)
    each = [KINDS[name](arena, chance) for name in names]
    for number in range(cases):
        next(each[number % len(each)])
        if not quiet and number % 500 == 499:
            print(f"{number + 1} cases, {len(arena.faults)} faults, {time.perf_counter() - began:.0f} s", flush=True)
    counts, faults = dict(arena.counts), list(arena.faults)
    if not quiet:
        print(f"seed {seed}, {time.perf_counter() - began:.0f} s")
    arena.told()
    return counts, faults


if __name__ == "__main__":
    words = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    words.add_argument("--cases", type=int, default=2_000)
    words.add_argument("--kinds", default=",".join(KINDS))
    words.add_argument("--seed", type=int, default=0)
    given = words.parse_args()
    sys.exit(1 if attack(given.cases, given.kinds.split(","), given.seed)[1] else 0)
