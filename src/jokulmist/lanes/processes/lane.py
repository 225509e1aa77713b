"""Copies of a simulator, each in a process of its own: for simulators that are slow, or that crash and hang.

All copies are asked before any is waited for, so they work side by side. A process that dies, that raises an exception
in the simulator's own code or does not answer in time is replaced, and the episode of its copy is lost. What it did
last is dropped: it is neither an end nor a cut. Whoever drives the lane decides again for that copy, which has begun
another episode (`again`), so that every turn is whole.
"""

from __future__ import annotations

import contextlib
import json
import os
import select
import subprocess
import sys
import time
from collections.abc import Mapping
from pathlib import Path
from typing import Any

from jokulmist.child_processes import start_child
from jokulmist.environments.chance.draws import Draw
from jokulmist.environments.chance.noise import Noise, Stream
from jokulmist.environments.declaration.instance import describe, modifiers_of
from jokulmist.environments.simulator import Simulator
from jokulmist.environments.transition.simulator_stepping import SimulatorState, SimulatorStepper, seed_from
from jokulmist.environments.transition.stepping import Stepper
from jokulmist.errors import BrokenEnvironment, JokulmistError, SettingError
from jokulmist.lanes.plain import PlainLane
from jokulmist.lanes.processes.shared_buffer import SharedBuffer
from jokulmist.lanes.protocol import LaneOutcome, Observed
from jokulmist.loading import can_be_named, name_of
from jokulmist.sources.snapshot import snapshot_of

START_SECONDS = 60.0
LOOK_SECONDS = 0.5
MOST_LOSSES_IN_A_ROW = 5
# Episodes after which the share of lost ones says something.
FEWEST_EPISODES = 20


class Lost(JokulmistError):
    """A worker process died, raised an exception, or did not answer in time."""


class WorkerCopy:
    """One copy in a worker process, with the calls of `simulator_stepping.LocalCopy`.

    Attributes
    ----------
    losses : int
        Processes that were replaced.
    why : str
        Why the last one was.
    """

    def __init__(self, environment: Simulator, buffer: SharedBuffer, copy: int) -> None:
        self._environment, self._buffer, self._copy = environment, buffer, copy
        self._description = describe(environment)
        self._values: dict[str, Any] = {}
        self._begin_seed: int | None = None
        self._advances_due = 0
        self._slot = 0
        self.losses = 0
        self.why = ""
        self._in_a_row = 0
        self.start()

    def start(self) -> None:
        environment, buffer = self._environment, self._buffer
        self.process = start_child(
            "jokulmist.lanes.processes.simulator_worker",
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
            stderr=None,
            one_thread=True,
            pass_fds=(buffer.descriptor,),
            bufsize=0,
        )
        self._unread = b""
        self._send(
            modules=[place for place in sys.path if place],
            folder=str(snapshot_of(type(environment)) or Path.cwd()),  # of a run's own code: where that is kept
            use=name_of(type(environment)),
            weights=dict(environment.weights),
            given=environment._arguments,
            modify=[modifier.written() for modifier in modifiers_of(environment)],
            copies=buffer.copies,
            copy=self._copy,
            descriptor=buffer.descriptor,
        )

    def greet(self) -> None:
        """Wait until the worker has read the class."""
        try:
            answer = self._answer(START_SECONDS)
        except Lost as gone:
            raise BrokenEnvironment(
                f"a worker process of `{self._description.name}` ended while it began: {gone}. "
                f"Leave out `processes` to see more."
            ) from None
        if "failed" in answer:
            raise BrokenEnvironment(f"a worker process could not begin: {answer['failed']}")

    def revalue(self, values: Mapping[str, Any]) -> None:
        self._values = {name: value.item() if hasattr(value, "item") else value for name, value in values.items()}

    def ask_begin(self, seed: int) -> None:
        """Ask for a new episode, and go on with something else."""
        self._begin_seed = seed
        # After a loss another seed: one that kills the simulator would kill it again.
        self._send(seed=seed + self.losses, values=self._values)

    def begin(self, seed: int) -> SimulatorState:
        if self._begin_seed != seed:
            self.ask_begin(seed)
        self._begin_seed, self._advances_due, self._slot = None, 0, 0
        self._wait()
        return self._buffer.read(self._copy, 0)

    def request_advance(self, action: Any, times: int) -> None:
        """Ask for so many advances by an action, or until one closes the episode."""
        self._buffer.decide(self._copy, action)
        self._write(b"%d\n" % times)
        self._advances_due, self._slot = times, 0

    def advance(self, state: Any, action: Any, draw: Draw) -> SimulatorState:
        if self._slot >= self._advances_due:  # nobody asked ahead
            self.request_advance(action, 1)
        if self._slot == 0:
            self._wait()
            self._in_a_row = 0
        state_read = self._buffer.read(self._copy, self._slot)
        self._slot += 1
        return state_read

    def finish(self) -> None:
        """What was asked ahead and not looked at is of no use any more."""
        self._advances_due = self._slot = 0

    def _wait(self) -> None:
        answer = self._answer(self._environment.answer_within)
        if "lost" in answer:
            raise Lost(answer["lost"])
        if "failed" in answer:
            raise BrokenEnvironment(answer["failed"])

    def _send(self, **content: Any) -> None:
        self._write(json.dumps(content).encode() + b"\n")

    def _write(self, line: bytes) -> None:
        assert self.process.stdin is not None
        with contextlib.suppress(BrokenPipeError):  # it has gone, and the end of its output says so
            self.process.stdin.write(line)

    def _answer(self, seconds: float) -> dict[str, Any]:
        """The next line of the worker, or `Lost`."""
        assert self.process.stdout is not None
        waited = 0.0
        while b"\n" not in self._unread:
            began = time.monotonic()
            ready = select.select([self.process.stdout], [], [], min(seconds - waited, LOOK_SECONDS))[0]
            # Where all of it was stopped, or the machine slept, the worker had no time to answer.
            waited += min(time.monotonic() - began, LOOK_SECONDS)
            if not ready:
                if waited >= seconds:
                    raise Lost(f"it did not answer within {seconds:g} s")
                continue
            piece = os.read(self.process.stdout.fileno(), 1 << 16)
            if not piece:
                raise Lost(f"it died with status {self.process.wait()}")
            self._unread += piece
        line, _, self._unread = self._unread.partition(b"\n")
        answer: dict[str, Any] = json.loads(line) if line else {}
        return answer

    def replace(self, why: Lost) -> None:
        """Another process in the place of this one."""
        self.losses += 1
        self.why = str(why)
        self._in_a_row += 1
        if self._in_a_row > MOST_LOSSES_IN_A_ROW:
            name = self._description.name
            raise BrokenEnvironment(
                f"a worker process of `{name}` was lost {self._in_a_row} times in a row without one advance: {why}. "
                f"Step it by hand, `{name}().episode()`, to see what happens."
            )
        self.close()
        self._begin_seed = None
        self.finish()
        self.start()
        self.greet()

    def image(self) -> Any:
        return None

    def close(self) -> None:
        self.process.kill()
        self.process.wait()
        for pipe in (self.process.stdin, self.process.stdout):
            if pipe is not None:
                with contextlib.suppress(BrokenPipeError):
                    pipe.close()


class ProcessLane(PlainLane):
    """Copies of a simulator, each in a worker process."""

    def __init__(self, environment: Simulator, noise: Noise) -> None:
        self._away: list[Any] = self._started(environment, noise)
        super().__init__(environment, noise)
        self.bare = False  # a scalar agent goes copy by copy
        self._lost: list[int] = []
        self._episodes = 0

    def _started(self, environment: Simulator, noise: Noise) -> list[Any]:
        """What steps each copy, elsewhere."""
        if not can_be_named(type(environment)):
            raise SettingError(
                f"`{type(environment).__qualname__}` is in no file, so a worker process cannot read it. "
                f"Write it into a file of its own, or leave out `processes`."
            )
        self._buffer = SharedBuffer(describe(environment), noise.copies)
        self._away = [WorkerCopy(environment, self._buffer, i) for i in range(noise.copies)]
        try:
            for copy in self._away:
                copy.greet()
        except BaseException:
            self.close()
            raise
        return self._away

    @property
    def losses(self) -> int:
        """Worker processes that were replaced."""
        return sum(copy.losses for copy in self._away)

    @property
    def why_lost(self) -> str:
        """Why the last one was, of the first copy that lost one."""
        return next((copy.why for copy in self._away if copy.why), "")

    def _refuse_many_lost(self) -> None:
        """End a run that loses more than the simulator's share: what it learns from would be something else."""
        most = type(self.environment).most_lost  # type: ignore[attr-defined]
        if self._episodes >= FEWEST_EPISODES and self.losses > most * self._episodes:
            name = self.description.name
            raise BrokenEnvironment(
                f"{self.losses} of {self._episodes} episodes of `{name}` were lost, which is more than `most_lost = "
                f"{most:g}`: {self.why_lost}. Fix it, or raise `most_lost` of the class."
            )

    def _made_steppers(self) -> list[Stepper]:
        assert isinstance(self.environment, Simulator)
        return [SimulatorStepper(self.environment, copy) for copy in self._away]

    def close(self) -> None:
        for copy in self._away:
            copy.close()
        self._buffer.close()

    def begin(self) -> Observed:
        self._ask_begin(range(self.copies), self._draws[Stream.FIRST_BEGIN], 0)
        try:
            return super().begin()
        except Lost as gone:
            raise BrokenEnvironment(
                f"a worker process of `{self.description.name}` was lost in its first `begin`: {gone}."
            ) from None

    def _ask_begin(self, copies: Any, draw: Any, turn: int) -> None:
        if self.varying is None:  # else the parameters are drawn first, copy by copy
            for i in copies:
                self._away[i].ask_begin(seed_from(draw.for_step(turn, i)))

    def _begin_again(self, last: Observed, copies: list[int]) -> Observed:
        self._ask_begin(copies, self._draws[Stream.BEGIN], self.turn)
        return super()._begin_again(last, copies)

    def begin_one(self, i: int) -> list[float]:
        while True:
            try:
                return super().begin_one(i)
            except Lost as gone:
                self._away[i].replace(gone)

    def advance(self, actions: list[Any]) -> LaneOutcome:
        self._lost = []
        outcome = super().advance(actions)._replace(lost=self._lost)
        self._episodes += len(outcome.finished)
        if self._lost:
            self._refuse_many_lost()
        return outcome

    def _prepare(self, done: list[Any]) -> None:
        for i, action in enumerate(done):
            if not self.still[i]:
                self._away[i].request_advance(action, self.description.decide_every)

    def advance_one(self, i: int, action: Any) -> tuple[float, int, list[float]]:
        copy = self.each[i]
        before = copy.decisions
        try:
            return copy.decide(action, self.turn, self.within)
        except Lost as gone:
            self._lost.append(i)
            copy.decisions = before
            self._away[i].replace(gone)
            return 0.0, self.description.lost_bit, [0.0] * self.description.bare.width
        finally:
            self._away[i].finish()

    def advance_replaced(self, outcome: LaneOutcome, actions: list[Any]) -> LaneOutcome:
        """The same turn for the copies whose process was lost in it: they are at the begin of another episode."""
        lost = outcome.lost
        self.turn -= 1
        self.still = [i not in lost for i in range(self.copies)]
        new = self.advance(actions)
        self.still = [False] * self.copies

        def joined(old: list[Any], replacement: list[Any]) -> list[Any]:
            return [replacement[i] if i in lost else old[i] for i in range(len(old))]

        def seen(old: Observed, replacement: Observed) -> Observed:
            return Observed(
                joined(old.rows, replacement.rows),
                joined(old.images, replacement.images),
                joined(old.masks, replacement.masks),
                joined(old.ages, replacement.ages),
            )

        return LaneOutcome(
            joined(outcome.rewards, new.rewards),
            joined(outcome.ended, new.ended),
            joined(outcome.closed, new.closed),
            seen(outcome.last, new.last),
            seen(outcome.observed, new.observed),
            outcome.finished + new.finished,
            new.lost,
            joined(list(outcome.advances), list(new.advances)),
        )
