"""How JAX is set up for loops of tiny steps.

The CPU compiler turns a small loop into one function, and a larger one into a sequence of calls that each cost more
than the arithmetic of a table's update. Where it draws the line is a compiler flag that is read once, when the backend
starts; a program with one copy was 7 times faster with the line drawn higher (`benchmarks/speed.py`).

Compiled code is kept between processes, in the user's cache folder, unless JAX was told of another place.
"""

from __future__ import annotations

import contextlib
import os
import re
import subprocess
import sys
import time
from functools import cache
from importlib.metadata import version
from pathlib import Path
from typing import Any

from jokulmist.child_processes import own_cores
from jokulmist.environments.spaces.actions import Record

LARGEST_SMALL_LOOP_BYTES = 16_384
# The products of small networks are too short to share out: with a thread each core an update took half as long again,
# and seeds that train side by side would stand in each other's way.
ONE_THREAD = "--xla_cpu_multi_thread_eigen=false"
# The variable that sizes the compiler's pool of threads, which convolutions use, and the least size: with one thread
# they add in another order, and what is learned from images would depend on how many cores the process may use.
POOL, LEAST_POOL = "NPROC", 2
FLAGS = f"{ONE_THREAD} --xla_backend_extra_options=xla_cpu_small_while_loop_byte_threshold={LARGEST_SMALL_LOOP_BYTES}"
# A flag that the compiler does not know ends the process. Versions up to this one know them; a later one is tried once,
# in a process of its own.
NEWEST_TRIED = (0, 10, 2)
TRY_SECONDS = 60.0
KEPT_CODE = Path(".cache") / "jokulmist" / "compiled"
WORTH_KEEPING_SECONDS = 0.1
# The limit of JAX itself takes a lock and looks at all files whenever one is written; once a day is enough.
MOST_KEPT_BYTES, BOUND_SECONDS = 2_000_000_000, 86_400


@cache
def start_backend() -> None:
    """Start JAX's backend with the flags set, and leave the process environment as it was found.

    A backend that already runs stays as it is: then the same programs run, more slowly.
    """
    import jax

    jax.tree_util.register_pytree_node(Record, lambda r: (tuple(vars(r).values()), tuple(vars(r))), _record_from)
    _keep_compiled_code()
    before = {name: os.environ.get(name) for name in (POOL, "XLA_FLAGS")}
    flags = before["XLA_FLAGS"] or ""
    os.environ[POOL] = str(max(len(own_cores()), LEAST_POOL))
    if "small_while_loop" not in flags and flags_are_known():
        os.environ["XLA_FLAGS"] = f"{flags} {FLAGS}".strip()
    try:
        jax.devices()
    finally:
        for name, value in before.items():
            if value is None:
                os.environ.pop(name, None)
            else:
                os.environ[name] = value


def flags_are_known() -> bool:
    """Whether this version of the compiler takes `FLAGS`; without them the same programs run, more slowly."""

    installed = version("jaxlib")
    if tuple(int(part) for part in re.findall(r"\d+", installed)[:3]) <= NEWEST_TRIED:
        return True
    note = Path.home() / KEPT_CODE.parent / f"flags-{installed}"
    with contextlib.suppress(OSError):
        return note.read_text() == "known"
    try:
        trial = subprocess.run(
            [sys.executable, "-c", "import jax; jax.devices()"],
            env={**os.environ, "XLA_FLAGS": FLAGS},
            capture_output=True,
            timeout=TRY_SECONDS,
            check=False,
        )
        are_known = trial.returncode == 0
    except (OSError, subprocess.TimeoutExpired):
        return False
    with contextlib.suppress(OSError):
        note.parent.mkdir(parents=True, exist_ok=True)
        note.write_text("known" if are_known else "refused")
    return are_known


def _record_from(names: tuple[str, ...], values: Any) -> Record:
    return Record(**dict(zip(names, values, strict=True)))


def _keep_compiled_code() -> None:
    import jax

    if getattr(jax.config, "jax_compilation_cache_dir", None) is not None:
        return
    try:
        folder = Path.home() / KEPT_CODE
        folder.mkdir(parents=True, exist_ok=True)
    except (OSError, RuntimeError):  # no home, or none to write to: compiled again each time
        return
    jax.config.update("jax_compilation_cache_dir", str(folder))  # type: ignore[no-untyped-call]
    jax.config.update("jax_persistent_cache_min_compile_time_secs", WORTH_KEEPING_SECONDS)  # type: ignore[no-untyped-call]
    _bound_kept_code(folder)


def _bound_kept_code(folder: Path) -> None:
    """Once a day, delete what was not used for longest until what is kept is below its limit."""
    note, time_now = folder / ".bounded", time.time()
    with contextlib.suppress(OSError):
        if note.exists() and time_now - note.stat().st_mtime < BOUND_SECONDS:
            return
        note.touch()
        entries = sorted(
            ((stat.st_atime, stat.st_size, path) for path in folder.iterdir() for stat in [path.stat()]), reverse=True
        )
        total = 0
        for _, size, path in entries:
            total += size
            if total > MOST_KEPT_BYTES:
                path.unlink(missing_ok=True)
