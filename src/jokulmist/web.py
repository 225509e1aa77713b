"""What the servers share: whom they answer, the bodies that they read, and answers in JSON."""

from __future__ import annotations

import json
from collections.abc import Awaitable, Callable
from typing import Any

import orjson
from starlette.requests import Request
from starlette.responses import Response

from jokulmist.errors import JokulmistError, LookupFailed, SettingError

LOOPBACK = ("127.0.0.1", "localhost", "[::1]")
Answer = Callable[[Request], Awaitable[Response]]


class Refused(JokulmistError):
    """Something that a server may not do."""


class TooLarge(JokulmistError):
    """A body beyond what a server reads."""


STATUS = {Refused: 403, LookupFailed: 404, TooLarge: 413}


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


async def body_of(request: Request, most_bytes: int) -> Any:
    """The JSON of a request; one that is too large, or is no JSON, is refused."""
    data = b""
    async for piece in request.stream():
        data += piece
        if len(data) > most_bytes:
            raise TooLarge(f"a request holds at most {most_bytes >> 20} MiB.")
    try:
        return json.loads(data or b"{}")
    except (ValueError, RecursionError):
        raise SettingError("the body is no JSON.") from None


def with_errors(answer: Answer) -> Answer:
    """The same, with mistakes told in the library's words."""

    async def with_error_responses(request: Request) -> Response:
        try:
            return await answer(request)
        except JokulmistError as wrong:
            return error_response(STATUS.get(type(wrong), 400), str(wrong))
        except FileNotFoundError as gone:
            return error_response(404, f"{gone.filename} is gone.")

    return with_error_responses


def as_json(content: Any, status: int = 200) -> Response:
    return Response(dumped(content), status, media_type="application/json")


def error_response(status: int, message: str) -> Response:
    return as_json({"error": message}, status)


def dumped(content: Any) -> bytes:
    try:
        return orjson.dumps(content, option=orjson.OPT_NON_STR_KEYS)
    except TypeError:  # a whole number beyond 64 bits, half of a surrogate pair: a record or a request may hold any
        return orjson.dumps(_plain(content), option=orjson.OPT_NON_STR_KEYS)


def _plain(content: Any) -> Any:
    """The same, with what JSON of a page cannot hold as text."""
    if isinstance(content, dict):
        return {_plain(name): _plain(value) for name, value in content.items()}
    if isinstance(content, (list, tuple)):
        return [_plain(value) for value in content]
    if isinstance(content, str):
        return content.encode("utf-8", "replace").decode()
    if isinstance(content, int) and not isinstance(content, bool) and abs(content) >= 2**63:
        return str(content)
    return content
