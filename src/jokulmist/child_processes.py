"""Starting a process of this library's own: the same interpreter, a session of its own, and threads as asked for."""

from __future__ import annotations

import os
import subprocess
import sys
from typing import IO, Any

ONE_THREAD = {"OMP_NUM_THREADS": "1", "OPENBLAS_NUM_THREADS": "1"}


def own_cores() -> list[int]:
    """The cores that this process may use."""
    if hasattr(os, "sched_getaffinity"):
        return sorted(os.sched_getaffinity(0))
    return list(range(os.cpu_count() or 1))


def start_child(
    module: str,
    *words: str,
    stdin: int = subprocess.DEVNULL,
    stdout: int = subprocess.DEVNULL,
    stderr: int | IO[bytes] | None = subprocess.DEVNULL,
    one_thread: bool = False,
    **options: Any,
) -> subprocess.Popen[Any]:
    """Run a module of the library in another process.

    It begins a session of its own: Ctrl-C in a terminal reaches the process that started it, which passes it on.
    """
    return subprocess.Popen(
        [sys.executable, "-m", module, *words],
        stdin=stdin,
        stdout=stdout,
        stderr=stderr,
        env={**os.environ, **ONE_THREAD} if one_thread else None,
        start_new_session=True,
        **options,
    )
