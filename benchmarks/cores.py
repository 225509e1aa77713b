"""What the compiler's own threads would bring one run: pairs of whole trainings on one core and on all of them.

    python benchmarks/cores.py [--pairs 3] [--cases wide,images]

The library runs a program on one core (`lanes/compiled/backend.py` says why). Here the flag that does it is left out in
the second of each pair. The first training of each process compiles, the second is timed.
"""

import argparse
import os
import statistics
import subprocess
import sys
import time
import warnings

from jokulmist.lanes.compiled.backend import FLAGS, ONE_THREAD

THREADS = FLAGS.replace(ONE_THREAD, "").strip()
CASES = ("wide", "images")


def timed(case):
    """Seconds of a training whose programs are compiled."""
    import jokulmist as jm

    warnings.simplefilter("ignore")
    environment, agent, steps = {
        "wide": (jm.gallery.Ferry(), jm.PPO(network=jm.Dense(256, 256)), 40_000),
        "images": (jm.gallery.Aurora(), jm.PPO(), 12_000),
    }[case]
    jm.train(environment, agent, steps=steps, folder=None)
    began = time.perf_counter()
    jm.train(environment, agent, steps=steps, folder=None)
    return time.perf_counter() - began


def once(case, threads):
    command = [sys.executable, __file__, "--timed", case]
    environ = {**os.environ, "XLA_FLAGS": THREADS} if threads else dict(os.environ)
    limit = None if threads else lambda: os.sched_setaffinity(0, {0})
    output = subprocess.run(command, env=environ, preexec_fn=limit, capture_output=True, text=True, check=True)
    return float(output.stdout)


def main():
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--pairs", type=int, default=3)
    parser.add_argument("--cases", default=",".join(CASES))
    parser.add_argument("--timed", choices=CASES, help=argparse.SUPPRESS)
    options = parser.parse_args()
    if options.timed:
        print(timed(options.timed))
        return
    for case in options.cases.split(","):
        pairs = [(once(case, False), once(case, True)) for _ in range(options.pairs)]
        ratios = sorted(one / all_cores for one, all_cores in pairs)
        print(
            f"{case}: {os.cpu_count()} cores are {statistics.median(ratios):.2f} times one "
            f"({ratios[0]:.2f} to {ratios[-1]:.2f}); seconds {pairs}"
        )


if __name__ == "__main__":
    main()
