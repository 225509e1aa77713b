"""What share of the machine's rate of matrix products the compiled loops of the deep methods reach.

python benchmarks/products.py [--only DQN] [--widths 64 256] [--repeats 7] [--json FILE]

The products of a whole turn with its update are read off the traced program: their sizes, and how often each is done.
Each size is timed alone, in a loop that does nothing else, on the same core. The share is what all these products take
alone, over what the loop takes with everything else in it: choosing, the environment, gathering, activations, the
optimiser.
"""

import argparse
import json
import os
import statistics
import time
from collections import Counter
from pathlib import Path

METHODS = {
    "PPO": ("Ferry", 64),
    "DQN": ("Ferry", 16),
    "SAC": ("Winch", 16),
    "TD3": ("Winch", 16),
    "DDPG": ("Winch", 16),
}


def products_of(jaxpr, times=1, found=None):
    """How often each product is done: by the shapes of both sides and what is contracted."""
    found = Counter() if found is None else found
    for equation in jaxpr.eqns:
        name, params = equation.primitive.name, equation.params
        if name == "dot_general":
            shapes = tuple(v.aval.shape for v in equation.invars)
            found[(*shapes, str(params["dimension_numbers"]))] += times
        elif name == "scan":
            products_of(params["jaxpr"].jaxpr, times * params["length"], found)
        elif name == "cond":
            sides = [products_of(branch.jaxpr, times) for branch in params["branches"]]
            found.update(max(sides, key=lambda side: sum(map(operations, side.elements()))))
        elif name == "while":  # the loop over updates: one pass
            products_of(params["body_jaxpr"].jaxpr, times, found)
        else:
            for value in params.values():
                inner = getattr(value, "jaxpr", value)
                if hasattr(inner, "eqns"):
                    products_of(inner, times, found)
    return found


def operations(product):
    from math import prod

    left, right, numbers = product
    (contracted, _), (batch, _) = eval(numbers)
    common = prod(left[k] for k in contracted) * prod(left[k] for k in batch)
    return 2 * prod(left) * prod(right) // max(common, 1)


def seconds_alone(product):
    """What one product takes, in a loop of nothing else."""
    import jax
    import jax.numpy as jnp
    from jax import lax

    left, right, numbers = product
    numbers = eval(numbers)
    a, b = jnp.ones(left), jnp.full(right, 0.01)
    count = max(10, min(20_000, int(2e7 / operations(product))))

    @jax.jit
    def many(a, b):
        def one(_, state):
            a, total = state
            result = lax.dot_general(a, b, numbers)
            # The result is needed, and the next product needs it: none is left out.
            return a + 1e-20 * result.reshape(-1)[0], total

        return lax.fori_loop(0, count, one, (a, 0.0))[0]

    many(a, b).block_until_ready()
    outcome = []
    for _ in range(5):
        began = time.perf_counter()
        many(a, b).block_until_ready()
        outcome.append((time.perf_counter() - began) / count)
    return min(outcome)


def joined_products():
    """Two products of one size, as two, as one with a leading axis, and as one twice as wide: what joining twin
    critics, or target and online networks, would bring."""
    import jax
    import jax.numpy as jnp
    from jax import lax

    def microseconds(function, *arrays):
        def one(_, state):
            return jax.tree.map(lambda x, y: x + 1e-20 * y.reshape(-1)[0], state, function(*state))

        many = jax.jit(lambda *a: lax.fori_loop(0, 200, one, a))
        jax.block_until_ready(many(*arrays))
        result = []
        for _ in range(7):
            began = time.perf_counter()
            jax.block_until_ready(many(*arrays))
            result.append(1e6 * (time.perf_counter() - began) / 200)
        return round(min(result), 1)

    for rows, width in ((64, 64), (128, 64), (128, 256), (256, 256)):
        x, w = jnp.ones((rows, width)), jnp.eye(width)
        two = microseconds(lambda x, y, w, v: (x @ w, y @ v, w * 0, v * 0), x, x, w, w)
        batched = microseconds(
            lambda x, w: (jnp.einsum("bij,bjk->bik", x, w), w * 0), jnp.stack([x, x]), jnp.stack([w, w])
        )
        wide = microseconds(lambda x, w, width=width: ((x @ w)[:, :width], w * 0), x, jnp.concatenate([w, w], axis=1))
        print(
            f"{rows} rows, {width} wide: two products {two} us, one batched {batched} us, one twice as wide {wide} us"
        )


def loop_of(method, width):
    import jokulmist as jm
    from jokulmist.loops.compiled import CompiledLoop
    from jokulmist.loops.contract import Planned

    place, copies = METHODS[method]
    settings = {"replay_start": 1_000} if method != "PPO" else {}
    agent = getattr(jm, method)(network=jm.Dense(width, width), **settings)
    return CompiledLoop(getattr(jm.gallery, place)(), agent, 0, copies, Planned(steps=1 << 30))


def main():
    words = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    words.add_argument("--only")
    words.add_argument("--widths", type=int, nargs="+", default=[64, 256])
    words.add_argument("--repeats", type=int, default=7)
    words.add_argument("--joined", action="store_true", help="what joining two products brings, alone")
    words.add_argument("--json", type=Path)
    given_values = words.parse_args()
    if given_values.joined:
        joined_products()
        return
    if hasattr(os, "sched_setaffinity"):
        os.sched_setaffinity(0, {min(os.sched_getaffinity(0))})
    import jax

    output = {}
    for method in METHODS:
        if given_values.only and given_values.only != method:
            continue
        for width in given_values.widths:
            loop = loop_of(method, width)
            arguments, run = [], loop._program.chunk
            loop._program = loop._program._replace(
                chunk=lambda *a, run=run, kept=arguments: (kept.clear(), kept.extend(a), run(*a))[2]
            )
            per_update = loop.turns_per_update
            loop.advance(-(-2_000 // loop.copies) // per_update * per_update + per_update)
            shapes = jax.tree.map(lambda leaf: jax.ShapeDtypeStruct(leaf.shape, leaf.dtype), tuple(arguments))
            result = products_of(jax.make_jaxpr(run._function)(*shapes).jaxpr)
            turns = max(1, (8_192 if width < 128 else 2_048) // loop.copies // per_update) * per_update
            loop.advance(turns)
            chosen, alone = [], []
            for _ in range(given_values.repeats):
                began = time.perf_counter()
                loop.advance(turns)
                chosen.append((time.perf_counter() - began) / (turns // per_update))
                alone.append(
                    sum(count * seconds_alone(product) for product, count in result.items())
                    if len(alone) < 3
                    else alone[-1]
                )
            work = sum(count * operations(product) for product, count in result.items())
            share = statistics.median(a / t for a, t in zip(alone, chosen, strict=True))
            output[f"{method} {width}"] = {
                "share": round(share, 3),
                "microseconds an update": round(1e6 * statistics.median(chosen), 1),
                "of which products alone": round(1e6 * statistics.median(alone), 1),
                "million operations": round(work / 1e6, 2),
                "products": {f"{left} x {right}": count for (left, right, _), count in result.most_common(12)},
            }
            print(
                f"{method} {width} wide: {share:.2f} of the rate; {json.dumps(output[f'{method} {width}'])}", flush=True
            )
    if given_values.json:
        given_values.json.write_text(json.dumps(output, indent=1) + "\n")


if __name__ == "__main__":
    main()
