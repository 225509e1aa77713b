"""What the servers share: the names by which one is called, and answers in JSON."""

from __future__ import annotations

import json
from typing import Any

from starlette.responses import Response

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


def as_json(content: Any, status: int = 200) -> Response:
    """An answer whose texts may hold half of a surrogate pair, as a request's can."""
    return Response(json.dumps(content), status, media_type="application/json")
