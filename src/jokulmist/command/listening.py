"""What the commands share that listen at a port."""

from __future__ import annotations

import socket

from jokulmist.errors import RecordError

LOOPBACK = ("127.0.0.1", "localhost", "::1")


def listening_at(host: str, port: int) -> socket.socket:
    """A socket that listens there."""
    try:
        return socket.create_server((host, port), family=socket.AF_INET6 if ":" in host else socket.AF_INET)
    except (OSError, OverflowError) as failure:
        raise RecordError(
            f"cannot listen at {host}:{port}: {getattr(failure, 'strerror', None) or failure}. Give another `--port`."
        ) from None
