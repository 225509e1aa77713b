"""How JAX is set up for loops of tiny steps.

The CPU compiler turns a small loop into one function, and a larger one into a sequence of calls that each cost more
than the arithmetic of a table's update. Where it draws the line is a compiler flag that is read once, when the backend
starts; a program with one copy was 7 times faster with the line drawn higher (`benchmarks/speed.py`).
"""

from __future__ import annotations

import os
from functools import cache

LARGEST_SMALL_LOOP_BYTES = 16_384


@cache
def start_backend() -> None:
    """Start JAX's backend with the flag set, and leave the process environment as it was found.

    A backend that already runs stays as it is: then the same programs run, more slowly.
    """
    import jax

    before = os.environ.get("XLA_FLAGS")
    if "small_while_loop" in (before or ""):
        return
    flag = f"--xla_backend_extra_options=xla_cpu_small_while_loop_byte_threshold={LARGEST_SMALL_LOOP_BYTES}"
    os.environ["XLA_FLAGS"] = f"{before} {flag}" if before else flag
    try:
        jax.devices()
    finally:
        if before is None:
            del os.environ["XLA_FLAGS"]
        else:
            os.environ["XLA_FLAGS"] = before
