"""Replay memory: what a million transitions of ten numbers take, and what sampling costs as the memory grows, evenly
and by priority.

    python benchmarks/replay.py [--repeats 7] [--json FILE]

Memory: the process's resident memory before and after the memory is filled. Sampling: a minibatch of 64 with its new
priorities, in one compiled loop of 200.
"""

import argparse
import json
import statistics
import time
from functools import partial
from pathlib import Path

import psutil

COUNTS = [1_000, 10_000, 100_000, 1_000_000]


def main():
    words = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    words.add_argument("--repeats", type=int, default=7)
    words.add_argument("--json", type=Path)
    arguments = words.parse_args()
    from jokulmist.lanes.compiled.backend import start_backend

    start_backend()
    import jax
    import jax.numpy as jnp
    import numpy as np

    import jokulmist as jm
    from jokulmist.environments.spaces.channels import Channel, Spec
    from jokulmist.learning import replay as memory

    @partial(jax.jit, static_argnums=2)
    def minibatches(replay, probabilities, prioritised):
        def one(priorities, chance):
            filled = replay._replace(priorities=priorities)
            sample = memory.sample_replay(spec, filled, chance, 1, 0.99, 0.5 if prioritised else None)
            if prioritised:
                priorities = memory.reprioritised(priorities, sample.place, chance, sample.importance > 0.0)
            return priorities, sample.gain.sum() + sample.observed.numbers.sum() + sample.following.numbers.sum()

        return jax.lax.scan(one, replay.priorities, probabilities)

    process = psutil.Process()
    spec = Spec(tuple(Channel(f"x{k}", 0, 1) for k in range(10)), jm.Choice(2))
    output = {"microseconds a minibatch of 64": {}}
    before = process.memory_info().rss
    filled = jax.device_put(memory.fresh_replay(spec, 16, 62_500), may_alias=False)
    filled = filled._replace(rows=jnp.ones_like(filled.rows).block_until_ready())
    output["million transitions of 10 numbers, MB"] = round(
        sum(leaf.nbytes for leaf in jax.tree.leaves(filled)) / 1e6, 1
    )
    output["resident memory more, MB"] = round((process.memory_info().rss - before) / 1e6, 1)
    del filled
    rng = np.random.default_rng(0)
    for count in COUNTS:
        for prioritised in (False, True):
            replay = jax.device_put(memory.fresh_replay(spec, 1, count, prioritised), may_alias=False)
            replay = replay._replace(stored=jnp.int32(count))
            if prioritised:
                for start in range(0, count, 50_000):
                    place = jnp.arange(start, min(count, start + 50_000))
                    value = jnp.asarray(rng.random(place.size), jnp.float32)
                    new = memory.reprioritised(replay.priorities, place, value, jnp.ones(place.size, bool))
                    replay = replay._replace(priorities=new)
            shape = (200, 64) if prioritised else (200, 2, 64)
            probabilities = jnp.asarray(rng.random(shape), jnp.float32)

            chosen = []
            for _ in range(arguments.repeats + 1):
                began = time.perf_counter()
                minibatches(replay, probabilities, prioritised)[1].block_until_ready()
                chosen.append(1e6 * (time.perf_counter() - began) / 200)
            name = f"{count:,} rows, {'by priority' if prioritised else 'evenly'}"
            result = [statistics.median(chosen[1:]), min(chosen[1:]), max(chosen[1:])]
            output["microseconds a minibatch of 64"][name] = [round(one, 1) for one in result]
            print(name, "{:.1f} us ({:.1f} to {:.1f})".format(*result), flush=True)
    print(json.dumps({name: value for name, value in output.items() if not isinstance(value, dict)}))
    if arguments.json:
        arguments.json.write_text(json.dumps(output, indent=1) + "\n")


if __name__ == "__main__":
    main()
