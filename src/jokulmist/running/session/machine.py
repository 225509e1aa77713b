"""How much of the machine a run takes, as rows of machine.csv: read every few seconds between two pieces of
training."""

from __future__ import annotations

from typing import Any

EVERY_SECONDS = 10.0
MEGA = 1e6


class Machine:
    """Reads the load of this process and of the machine."""

    def __init__(self) -> None:
        import psutil

        self._process, self._psutil = psutil.Process(), psutil
        self._next = 0.0
        self._process.cpu_percent()  # the first call of each only begins to count
        psutil.cpu_percent()

    def row(self, seconds: float, decisions: int) -> dict[str, Any] | None:
        """A row, if it is time for one."""
        if seconds < self._next:
            return None
        self._next = seconds + EVERY_SECONDS
        memory = self._psutil.virtual_memory()
        return {
            "seconds": round(seconds, 2),
            "decisions": decisions,
            "processor_percent": self._process.cpu_percent(),
            "memory_megabytes": round(self._process.memory_info().rss / MEGA, 1),
            "machine_processor_percent": self._psutil.cpu_percent(),
            "machine_memory_percent": memory.percent,
        }
