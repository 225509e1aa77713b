"""Evaluations of a run while it trains: in this process, or in another one on the second core, with the same numbers.

An evaluation plays in Python, so that a thread would take the time from the training; a process does not. What is asked for is answered in order,
and before a checkpoint is written all of it is: a run's files are the same either way.
"""

from __future__ import annotations

import contextlib
import json
import os
import select
import subprocess
import sys
import tempfile
import time
from collections import deque
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import IO, Any

from jokulmist.environments.declaration.environment import Environment
from jokulmist.environments.declaration.simulator import Simulator
from jokulmist.errors import RecordError
from jokulmist.sources.trust import trust_everything
from jokulmist.training.evaluation.evaluate import Evaluation, evaluate
from jokulmist.training.evaluation.kept import columns_as_text, columns_from_text
from jokulmist.training.policies.policy import Policy
from jokulmist.training.session.machine import own_cores

SEED = 1_000_003
# Another process takes some seconds of its core to start: it begins where the evaluations to come would take longer than this.
WORTH_SECONDS = 5.0
# Policies that wait; beyond them this process helps, so that memory stays bounded where evaluating takes longer than training.
MOST_WAITING = 4
Told = Callable[[Policy, Evaluation], None]


@dataclass
class Asked:
    """One evaluation.

    Attributes
    ----------
    policy : Policy
    given : bool
        Whether the other process has it.
    found : Evaluation, optional
    """

    policy: Policy
    given: bool = False
    found: Evaluation | None = None


class Evaluator:
    """Evaluates what a run has learned so far."""

    def __init__(
        self, environment: Environment, episodes: int, path: Path | None, second_core: bool, told: Told
    ) -> None:
        self._environment, self._episodes, self._path, self._told = environment, episodes, path, told
        able = second_core and path is not None and len(own_cores()) > 1
        self._may_start = able and not isinstance(environment, Simulator)  # which may hold what there is once
        self._other: _Other | None = None
        self._waiting: deque[Asked] = deque()

    def ask(self, policy: Policy, to_come: float) -> None:
        """Evaluate a policy, now or beside the training."""
        self._waiting.append(Asked(policy))
        if self._other is not None:
            self._until(MOST_WAITING, 0)
            return
        began = time.perf_counter()
        self.settle()
        if self._may_start and (time.perf_counter() - began) * to_come > WORTH_SECONDS:
            assert self._path is not None
            self._other, self._may_start = _Other(self._path, self._episodes), False

    def look(self) -> None:
        """Take what the other process has answered, and give it what it is to do next."""
        other = self._other
        while other is not None and (answer := other.answer()) is not None:
            given = next(one for one in self._waiting if one.given and one.found is None)
            given.found = Evaluation("policy", "greedy", SEED, answer)
        if other is not None and other.free:
            after = next((one for one in self._waiting if not one.given and one.found is None), None)
            if after is not None:
                after.given = other.give(after.policy)
        if other is not None and not other.alive:  # what it was to do is done here
            self.close()
        while self._waiting and self._waiting[0].found is not None:
            asked = self._waiting.popleft()
            assert asked.found is not None
            self._told(asked.policy, asked.found)

    def settle(self) -> None:
        """Be done with all that was asked for: the other process from the front, this one from the back."""
        self._until(0, -1)

    def _until(self, most: int, which: int) -> None:
        """Until so many are left; this process does one of those that nobody has, or waits for the other."""
        self.look()
        while len(self._waiting) > most:
            left = [one for one in self._waiting if not one.given and one.found is None]
            if left:
                left[which].found = evaluate(left[which].policy, self._environment, episodes=self._episodes, seed=SEED)
            elif self._other is not None:
                self._other.wait()
            self.look()

    def close(self) -> None:
        """End the other process."""
        if self._other is not None:
            self._other.close()
            self._other = None
        for one in self._waiting:
            one.given = False


class _Other:
    """The process that evaluates. It says a line when it is ready, and a line an evaluation."""

    def __init__(self, run: Path, episodes: int) -> None:
        self.free = False
        self._ready, self._said = False, b""
        self._process: subprocess.Popen[bytes] | None = None
        words = [sys.executable, "-m", "jokulmist.training.session.evaluating", str(run.absolute()), str(episodes)]
        modules = os.pathsep.join(place for place in sys.path if place)
        with contextlib.suppress(OSError):
            self._place = tempfile.TemporaryDirectory(prefix="jokulmist-")
            self._process = subprocess.Popen(
                words, stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, start_new_session=True,
                env={**os.environ, "PYTHONPATH": modules},
            )  # fmt: skip

    @property
    def alive(self) -> bool:
        return self._process is not None

    def give(self, policy: Policy) -> bool:
        """Have it evaluate a policy."""
        with contextlib.suppress(OSError, RecordError):
            file = policy.save(Path(self._place.name) / "policy.safetensors")
            self._pipe("stdin").write(f"{file}\n".encode())
            self._pipe("stdin").flush()
            self.free = False
            return True
        self.close()
        return False

    def answer(self) -> dict[str, Any] | None:
        """The columns of an evaluation that it has done; None where there is no news."""
        while self.alive:
            if b"\n" not in self._said:
                if not select.select([self._pipe("stdout")], [], [], 0.0)[0]:
                    return None
                more = os.read(self._pipe("stdout").fileno(), 1 << 20)
                self._said += more
                if not more:  # it has ended
                    self.close()
                continue
            line, _, self._said = self._said.partition(b"\n")
            self.free = True
            if self._ready:
                return columns_from_text(json.loads(line))
            self._ready = True
        return None

    def wait(self) -> None:
        """Until it says something, or ends."""
        if self.alive and b"\n" not in self._said:
            select.select([self._pipe("stdout")], [], [])

    def close(self) -> None:
        if self._process is not None:
            self._process.kill()
            self._process.communicate()
            self._process = None
            self._place.cleanup()

    def _pipe(self, name: str) -> IO[bytes]:
        pipe: IO[bytes] = getattr(self._process, name)
        return pipe


def beside(run: Path, episodes: int) -> None:
    """The other process: read the run's plan, then evaluate the policies whose files it is told."""
    from jokulmist.lanes.compiled.backend import start_backend
    from jokulmist.training.runs.run import Run

    trust_everything()  # the process that trains has run the same code
    out = os.fdopen(os.dup(1), "wb")
    os.dup2(2, 1)  # what a researcher's code prints is no answer
    environment = Run.open(run).plan.measured
    start_backend()
    out.write(b"ready\n")
    out.flush()
    for line in sys.stdin:
        found = evaluate(Policy.open(Path(line.rstrip("\n")), run), environment, episodes=episodes, seed=SEED)
        out.write(json.dumps(columns_as_text(found.columns)).encode() + b"\n")
        out.flush()


if __name__ == "__main__":
    beside(Path(sys.argv[1]), int(sys.argv[2]))
    os._exit(0)
