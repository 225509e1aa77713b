"""The process of a job: ``python -m jokulmist.work.child WORKER COMMAND...`` runs the command, and ends when its worker
does.

So nothing trains that no queue knows of. On Linux the system sees to it; elsewhere a worker that takes the job again
waits until the run's lock is free.
"""

from __future__ import annotations

import ctypes
import os
import runpy
import signal
import sys
from typing import Any

DIES_WITH_PARENT = 1  # prctl's PR_SET_PDEATHSIG


def main() -> None:
    worker, words = int(sys.argv[1]), sys.argv[2:]
    if sys.platform == "linux":
        libc: Any = ctypes.CDLL(None)
        libc.prctl(DIES_WITH_PARENT, signal.SIGKILL, 0, 0, 0)
    if os.getppid() != worker:  # it was gone before the system was told
        sys.exit(1)
    sys.argv = ["jokulmist", *words]
    runpy.run_module("jokulmist", run_name="__main__")


if __name__ == "__main__":
    main()
