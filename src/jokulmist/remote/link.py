"""A connection to a program, and the arenas behind it: what is asked of several at once goes in one message."""

from __future__ import annotations

import contextlib
import hmac
import os
import secrets
import subprocess
import threading
import time
from collections.abc import Mapping, Sequence
from typing import Any
from urllib.parse import urlsplit

from jokulmist.errors import BrokenEnvironment, SettingError, listed
from jokulmist.lanes.processes.lane import Lost
from jokulmist.remote.messages import MOST_BYTES, PROTOCOL, BadMessage, request, result_of
from jokulmist.remote.transport import Door, Wire, call

ADDRESS, SECRET = "JOKULMIST_ADDRESS", "JOKULMIST_SECRET"
FIRST_PAUSE, LONGEST_PAUSE = 0.1, 5.0
CLOSE_SECONDS = 0.5
# After the last who used a program that was started: evaluations follow one another sooner.
IDLE_SECONDS = 5.0
FIRST_SECONDS = 10.0


class RemoteProgram:
    """How a program is reached: by its address, by waiting for it, or by starting it. Its links are shared by all who
    step it."""

    def __init__(
        self,
        address: str | None,
        listen: int | str | None,
        command: Sequence[str] | None,
        secret: str | None,
        answer_within: float,
        patience: float,
        tempo: float | None,
    ) -> None:
        if sum(way is not None for way in (address, listen, command)) != 1:
            raise SettingError(
                'say how the program is reached: `jm.Remote("ws://127.0.0.1:9000")`, `listen=9000`, or '
                '`command=["node", "game.js"]`.'
            )
        if address is not None and not _an_address(address):
            raise SettingError(
                f"`address` is {address!r:.80}; it begins with ws:// or wss://, e.g. `ws://127.0.0.1:9000`."
            )
        self.address, self.command = address, None if command is None else [str(word) for word in command]
        self.place = None if listen is None else _host_and_port(listen)
        self.secret = secret or os.environ.get(SECRET) or secrets.token_urlsafe(16)
        self.answer_within, self.patience, self.tempo = answer_within, patience, tempo
        self.links: list[Link] = []
        self._door: Door | None = None
        self._using = threading.RLock()
        self._idle: threading.Timer | None = None

    def __str__(self) -> str:
        if self.address is not None:
            return self.address
        return (
            f"`{' '.join(self.command)}`"
            if self.command is not None
            else "the program that connects to port " + str((self.place or ("", 0))[1])
        )

    @property
    def door(self) -> Door:
        """Where it comes to; open from the first time on."""
        if self._door is None:
            host, port = self.place or ("127.0.0.1", 0)
            self._door = Door(host, port)
        return self._door

    def take(self, count: int) -> list[tuple[Link, int]]:
        """So many arenas that nobody uses; more connections are made where the program takes them."""
        with self._using:
            self._keep_going()
            return self._accept(count)

    def _accept(self, count: int) -> list[tuple[Link, int]]:
        links: list[tuple[Link, int]] = []
        for link in self.links:
            while link.free and len(links) < count:
                links.append((link, link.free.pop(0)))
        while len(links) < count:
            if self.place is not None and self.links:
                self.give(links)
                raise SettingError(
                    f"{self} has {self.links[0].arenas} arenas, and {count} more are wanted than are free. Use fewer "
                    "`copies`, and leave some arenas free where the run evaluates; or let it have more arenas."
                )
            link = Link(self)
            self.links.append(link)
            while link.free and len(links) < count:
                links.append((link, link.free.pop(0)))
        return links

    def give(self, seats: Sequence[tuple[Link, int]]) -> None:
        """Arenas that are not used any more; a program that was started ends soon after the last is given back, and is
        started again when it is needed."""
        with self._using:
            for link, arena in seats:
                link.free.append(arena)
                link.free.sort()
            self._end_when_idle()

    def _keep_going(self) -> None:
        if self._idle is not None:
            self._idle.cancel()
            self._idle = None

    def _end_when_idle(self) -> None:
        self._keep_going()
        if self.command is not None and self.links and not self._in_use:
            self._idle = threading.Timer(IDLE_SECONDS, self._end_if_idle)
            self._idle.daemon = True
            self._idle.start()

    def _end_if_idle(self) -> None:
        with self._using:
            if self._idle is not None and not self._in_use:
                self.close()

    @property
    def _in_use(self) -> bool:
        return any(len(link.free) < link.arenas for link in self.links)

    def description(self) -> dict[str, Any]:
        """What the program says that it is."""
        with self._using:
            self._keep_going()
            if not self.links:
                self.links.append(Link(self))
            self._end_when_idle()
            return self.links[0].description

    def close(self) -> None:
        self._keep_going()
        for link in self.links:
            link.close()
        self.links.clear()
        if self._door is not None:
            self._door.close()
            self._door = None


class Link:
    """One connection, and its arenas.

    Attributes
    ----------
    generation : int
        How often it was made; an episode that began on an earlier one is gone.
    """

    def __init__(self, program: RemoteProgram) -> None:
        self.program = program
        self.generation = 0
        self.description: dict[str, Any] = {}
        self.arenas = 0
        self._number = 0
        self._wire: Wire | None = None
        self._process: subprocess.Popen[bytes] | None = None
        self.why = ""
        self.reconnect()
        self.free = list(range(self.arenas))

    def reconnect(self) -> None:
        """Connect, or connect again: with growing pauses until the patience ends."""
        self.drop()
        first = self.generation == 0
        # Whoever has typed a wrong address is told soon; whoever is to come, and whoever was there before, is waited
        # for.
        patience = (
            min(self.program.patience, FIRST_SECONDS) if first and self.program.place is None else self.program.patience
        )
        until, pause = time.monotonic() + patience, FIRST_PAUSE
        while True:
            try:
                self._open(max(until - time.monotonic(), 0.1))
                self.why = ""
                self.generation += 1
                return
            except (OSError, TimeoutError, Lost, BadMessage) as failure:
                reason = str(failure) or type(failure).__name__
                self.drop()
                at_once = first and (
                    isinstance(failure, BadMessage) or (isinstance(failure, Lost) and self.program.command is not None)
                )
            if at_once or time.monotonic() + pause > until:
                raise BrokenEnvironment(
                    f"{self.program} could not be reached{'' if at_once else f' within {patience:g} s'}: {reason}"
                )
            time.sleep(pause)
            pause = min(2.0 * pause, LONGEST_PAUSE)

    def _open(self, seconds: float) -> None:
        if self.program.address is not None:
            self._wire = call(self.program.address, seconds, MOST_BYTES)
        else:
            self._wire = self._next_that_comes(seconds)
        hello = self.call("hello", {"protocol": PROTOCOL, "secret": self.program.secret})
        if not isinstance(hello, dict):
            raise BadMessage(f"`hello` was answered by {hello!r:.80}; it is an object.")
        if hello.get("protocol") != PROTOCOL:
            raise BadMessage(
                f"the program speaks protocol {hello.get('protocol')!r:.40}, and this library {PROTOCOL}. Use a "
                "client kit of this version."
            )
        if self.program.address is None and not hmac.compare_digest(
            str(hello.get("secret", "")).encode(), self.program.secret.encode()
        ):
            raise BadMessage(
                f"the program did not tell the secret. It is in its environment as {SECRET}, or is given by `secret=`."
            )
        hello.pop("secret", None)
        arenas = hello.get("arenas", 1)
        if isinstance(arenas, bool) or not isinstance(arenas, int) or not 1 <= arenas <= 1 << 16:
            raise BadMessage(f"`hello` gave `arenas` {arenas!r:.40}; it is a whole number from 1.")
        if self.description and hello != self.description:
            changed = [name for name in {*hello, *self.description} if hello.get(name) != self.description.get(name)]
            raise BadMessage(f"the program came back as another: {listed(changed)} changed.")
        self.description, self.arenas = hello, arenas
        if self.program.tempo is not None:
            self.call("tempo", {"factor": self.program.tempo})

    def _next_that_comes(self, seconds: float) -> Wire:
        door, until = self.program.door, time.monotonic() + seconds
        if self.program.command is not None:
            address = f"ws://127.0.0.1:{door.port}"
            try:
                self._process = subprocess.Popen(
                    self.program.command,
                    env={**os.environ, ADDRESS: address, SECRET: self.program.secret},
                    stdin=subprocess.DEVNULL,
                    start_new_session=True,
                )
            except OSError as failure:
                raise SettingError(
                    f"`{self.program.command[0]}` cannot be started: {failure.strerror}. Look at `command`."
                ) from None
        while time.monotonic() < until:
            came = door.next(0.2, MOST_BYTES)
            if came is not None:
                return came
            if self._process is not None and self._process.poll() is not None:
                raise Lost(f"it ended with status {self._process.returncode} before it connected")
        raise Lost("nobody came")

    def call(self, method: str, params: Mapping[str, Any], within: float | None = None) -> Any:
        """Ask, and wait for the answer."""
        self._number += 1
        self.send(request(self._number, method, params))
        return result_of(self._number, method, self.receive(method, within))

    def send(self, text: str) -> None:
        if self._wire is None:
            raise Lost(self.why or "the connection is closed")
        self._wire.send(text, self.program.answer_within)

    def receive(self, method: str, within: float | None = None) -> Any:
        """The next message, within so many seconds."""
        if self._wire is None:
            raise Lost(self.why or "the connection is closed")
        return self._wire.receive(self.program.answer_within if within is None else within, method)

    def drop(self) -> None:
        """Let go of the connection and of a program that was started, at once."""
        if self._wire is not None:
            self._wire.drop()  # a program that hangs would not answer a farewell
            self._wire = None
        if self._process is not None:
            self._process.kill()
            self._process.wait()
            self._process = None

    def close(self) -> None:
        if self._wire is not None and not self.why:
            with contextlib.suppress(Exception):
                self.call("close", {}, within=CLOSE_SECONDS)
                self._wire.close()
        self.drop()


def _an_address(address: Any) -> bool:
    try:
        place = urlsplit(address)
        return place.scheme in ("ws", "wss") and bool(place.hostname) and place.port != 0
    except (ValueError, TypeError, AttributeError):  # a port that is none, a bracket that is not closed
        return False


def _host_and_port(listen: int | str) -> tuple[str, int]:
    host, _, port = str(listen).rpartition(":")
    try:
        number = int(port)
    except ValueError:
        number = -1
    if isinstance(listen, bool) or not 0 < number < 1 << 16:
        raise SettingError(f'`listen` is {listen!r:.60}; it is a port, e.g. 9000, or "host:port".')
    return host or "127.0.0.1", number
