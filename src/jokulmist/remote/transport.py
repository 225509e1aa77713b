"""WebSocket frames over a socket, read and written by the thread that asks: a thread between them would cost two
hand-overs a turn.

The frames are those of the package `websockets`, whose protocol does no input and output of its own.
"""

from __future__ import annotations

import contextlib
import select
import socket
import ssl
import time
from typing import Any
from urllib.parse import urlsplit

from jokulmist.errors import SettingError
from jokulmist.lanes.processes.lane import Lost

READ_BYTES = 1 << 16
HANDSHAKE_SECONDS = 5.0


class Wire:
    """One open connection."""

    def __init__(self, connection: socket.socket, protocol: Any) -> None:
        self._socket, self._protocol = connection, protocol
        connection.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
        self._messages: list[str | bytes] = []
        self._parts: list[bytes] = []
        self._text = True

    def shake(self, seconds: float) -> None:
        """Open the connection: asked for by this end, or by the other."""
        from websockets.client import ClientProtocol

        until = time.monotonic() + seconds
        called = isinstance(self._protocol, ClientProtocol)
        if called:
            self._protocol.send_request(self._protocol.connect())
            self._flush(seconds)
        events: list[Any] = []
        while not events:
            events = self._read(until, seconds, "the handshake")
            if events and not called:
                self._protocol.send_response(self._protocol.accept(events[0]))
                self._flush(seconds)
            if self._protocol.handshake_exc is not None:
                raise Lost(f"what answers there speaks no WebSocket: {self._protocol.handshake_exc}")
        for frame in events[1:]:
            self._take(frame)

    def send(self, text: str, seconds: float) -> None:
        """Send a text frame."""
        from websockets.exceptions import WebSocketException

        try:
            self._protocol.send_text(text.encode())
        except WebSocketException as failure:
            raise Lost(f"the connection was closed: {failure}") from None
        self._flush(seconds)

    def receive(self, seconds: float, subject: str) -> str | bytes:
        """The next whole message, within so many seconds."""
        until = time.monotonic() + seconds
        while not self._messages:
            for frame in self._read(until, seconds, subject):
                self._take(frame)
            if not self._messages and self._protocol.parser_exc is not None:
                raise Lost(
                    f"the connection was closed while `{subject}` was waited for: "
                    f"{str(self._protocol.parser_exc)[:200]}"
                )
            if not self._messages and self._protocol.close_rcvd is not None:
                raise Lost(f"the program closed the connection while `{subject}` was waited for")
        return self._messages.pop(0)

    def _take(self, frame: Any) -> None:
        """Put a frame to the others of its message."""
        from websockets.frames import Opcode

        if frame.opcode in (Opcode.TEXT, Opcode.BINARY):
            self._text = frame.opcode is Opcode.TEXT
        elif frame.opcode is not Opcode.CONT:
            return  # a ping is answered by the protocol, and a farewell is looked at by who waits
        self._parts.append(frame.data)
        if frame.fin:
            data, self._parts = b"".join(self._parts), []
            try:
                self._messages.append(data.decode() if self._text else data)
            except UnicodeDecodeError as failure:
                raise Lost(f"the program sent text that is no UTF-8: {failure}") from None

    def _read(self, until: float, seconds: float, subject: str) -> list[Any]:
        """The events of the next bytes that come until then, which is so many seconds after it was asked."""
        try:
            left = until - time.monotonic()
            if left <= 0.0:  # pings and empty fragments are bytes, and no answer
                raise TimeoutError
            self._socket.settimeout(left)
            data = self._socket.recv(READ_BYTES)
        except TimeoutError:
            raise Lost(f"`{subject}` was not answered within {seconds:g} s") from None
        except OSError as failure:
            raise Lost(f"the connection was closed while `{subject}` was waited for: {failure}") from None
        if not data:
            raise Lost(f"the connection was closed while `{subject}` was waited for")
        self._protocol.receive_data(data)
        self._flush(seconds)
        return list(self._protocol.events_received())

    def _flush(self, seconds: float) -> None:
        """Send what the protocol has to send."""
        for data in self._protocol.data_to_send():
            try:
                self._socket.settimeout(seconds)
                if data:
                    self._socket.sendall(data)
                else:
                    self._socket.shutdown(socket.SHUT_WR)
            except TimeoutError:
                raise Lost(f"the program read nothing for {seconds:g} s") from None
            except OSError as failure:
                raise Lost(f"the connection was closed: {failure}") from None

    def close(self) -> None:
        """Close with a farewell, and wait for no answer."""
        from websockets.exceptions import WebSocketException

        with contextlib.suppress(Lost, WebSocketException):  # the other end may have closed it before
            self._protocol.send_close()
            self._flush(0.1)
        self.drop()

    def drop(self) -> None:
        """Let go at once."""
        self._socket.close()


def call(address: str, seconds: float, most_bytes: int) -> Wire:
    """A connection to a program that listens."""
    from websockets.client import ClientProtocol
    from websockets.uri import parse_uri

    place = urlsplit(address)
    secure = place.scheme == "wss"
    connection = socket.create_connection((place.hostname, place.port or (443 if secure else 80)), timeout=seconds)
    try:
        if secure:
            connection = ssl.create_default_context().wrap_socket(connection, server_hostname=place.hostname)
        wire = Wire(connection, ClientProtocol(parse_uri(address), max_size=most_bytes))
        wire.shake(seconds)
    except BaseException:
        connection.close()
        raise
    return wire


class Door:
    """Where programs come to that connect by themselves."""

    def __init__(self, host: str, port: int) -> None:
        try:
            family = socket.getaddrinfo(host, port, type=socket.SOCK_STREAM)[0][0]
            self._socket = socket.create_server((host, port), family=family)
        except (OSError, OverflowError) as failure:
            raise SettingError(
                f"cannot listen at {host}:{port}: {getattr(failure, 'strerror', None) or failure}. Give another "
                "`listen`."
            ) from None
        self.port = int(self._socket.getsockname()[1])

    def next(self, seconds: float, most_bytes: int) -> Wire | None:
        """The next program that comes, within so many seconds; nothing where it speaks no WebSocket."""
        from websockets.server import ServerProtocol

        if not select.select([self._socket], [], [], seconds)[0]:
            return None
        try:
            connection, _ = self._socket.accept()
        except OSError:  # it has gone already
            return None
        wire = Wire(connection, ServerProtocol(max_size=most_bytes))
        try:
            wire.shake(HANDSHAKE_SECONDS)
        except Lost:
            wire.drop()
            return None
        return wire

    def close(self) -> None:
        self._socket.close()
