"""Who is let in: the token of the printed address, pages of this server alone, this machine's own names."""

from __future__ import annotations

import hmac
import secrets
from collections import deque
from collections.abc import Mapping
from http.cookies import SimpleCookie
from typing import Any
from urllib.parse import parse_qs, quote

from starlette.datastructures import Headers, MutableHeaders
from starlette.responses import RedirectResponse, Response

from jokulmist.web import LOOPBACK, error_response, host_of

POLICY = (
    "default-src 'none'; script-src 'self'; style-src 'self'; img-src 'self' data: blob:; connect-src 'self'; base-uri "
    "'none'; form-action 'none'; frame-ancestors 'none'"
)
HEADERS = {
    "Content-Security-Policy": POLICY,
    "X-Content-Type-Options": "nosniff",
    "Referrer-Policy": "no-referrer",
    "Cross-Origin-Opener-Policy": "same-origin",
    "Cross-Origin-Resource-Policy": "same-origin",
    "Cache-Control": "no-store",
}
SAFE = ("GET", "HEAD")
MOST_SESSIONS = 100


class Guarded:
    """An application behind its checks."""

    def __init__(self, app: Any, token: str, port: int, hosts: tuple[str, ...] = LOOPBACK) -> None:
        self.app, self.token, self.port, self.hosts = app, token, port, hosts
        self.cookie = f"jokulmist-{port}"
        self._sessions: deque[str] = deque(maxlen=MOST_SESSIONS)

    async def __call__(self, scope: Any, receive: Any, send: Any) -> None:
        if scope["type"] != "http":
            return
        headers = Headers(scope=scope)

        async def with_headers(message: Any) -> None:
            if message["type"] == "http.response.start":
                message_headers = MutableHeaders(scope=message)
                for name, value in HEADERS.items():
                    message_headers.setdefault(name, value)
            await send(message)

        answer = self.refused(scope, headers)
        await (answer or self.app)(scope, receive, with_headers)

    def refused(self, scope: Mapping[str, Any], headers: Headers) -> Response | None:
        """The answer to whoever is not let in; None for those who are."""
        host = headers.get("host", "")
        name, port = host_of(host)
        if name not in self.hosts or (port and port != str(self.port)):
            return error_response(403, f"this page answers to {', '.join(self.hosts)}, not to {host!r:.60}.")
        origin = headers.get("origin")
        if origin is not None and origin not in {f"http://{candidate}:{self.port}" for candidate in self.hosts}:
            return error_response(403, "a page from elsewhere may not ask this one.")
        # A page on another port of this machine is another one, and has the cookie.
        asks = scope["path"].startswith("/api") or scope["method"] not in SAFE
        if asks and headers.get("sec-fetch-site") in ("cross-site", "same-site"):
            return error_response(403, "a page from elsewhere may not ask this one.")
        token = parse_qs(scope.get("query_string", b"").decode("latin-1")).get("token", [""])[0]
        if token and scope["path"] == "/" and self._right(token):
            self._sessions.append(secrets.token_urlsafe(24))
            answer = RedirectResponse("/", status_code=303)
            answer.set_cookie(self.cookie, self._sessions[-1], httponly=True, samesite="strict", path="/")
            return answer
        session = self._from_cookie(headers).encode("utf-8", "replace")
        if any(hmac.compare_digest(session, candidate.encode()) for candidate in list(self._sessions)):
            return None
        if self._right(headers.get("authorization", "").removeprefix("Bearer ")):
            return None
        return error_response(401, "open the address that `jokulmist live` printed: it holds the token.")

    def _right(self, token: str) -> bool:
        return hmac.compare_digest(token.encode("utf-8", "replace"), self.token.encode())

    def _from_cookie(self, headers: Headers) -> str:
        try:
            morsel = SimpleCookie(headers.get("cookie", "")).get(self.cookie)
        except Exception:  # whatever a damaged header holds: nobody is let in by it
            return ""
        return morsel.value if morsel is not None else ""


def address(host: str, port: int, token: str) -> str:
    return f"http://{host}:{port}/?token={quote(token)}"
