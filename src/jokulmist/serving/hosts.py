"""The names by which a server is called."""

from __future__ import annotations

LOOPBACK = ("127.0.0.1", "localhost", "[::1]", "::1")


def host_of(header: str) -> tuple[str, str]:
    """Name and port in a Host header; the port is empty where it has none.

    Examples
    --------
    >>> host_of("localhost:8090"), host_of("[::1]")
    (('localhost', '8090'), ('[::1]', ''))
    """
    if header.endswith("]") or ":" not in header:
        return header, ""
    name, _, port = header.rpartition(":")
    return name, port
