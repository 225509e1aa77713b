"""HTTP and WebSocket around deciders: who may ask, what is answered, and requests that come at once decided
together."""

from __future__ import annotations

import asyncio
import hmac
import json
import math
from collections.abc import Mapping
from typing import Any

from starlette.applications import Starlette
from starlette.requests import Request
from starlette.responses import Response
from starlette.routing import BaseRoute, Route, WebSocketRoute
from starlette.websockets import WebSocket, WebSocketDisconnect

from jokulmist.environments.spaces.actions import Choice, parts_of
from jokulmist.errors import JokulmistError, LookupFailed, SettingError, listed, nearest
from jokulmist.serving.decisions import MOST_AT_ONCE, Decider, DecisionRequest
from jokulmist.web import LOOPBACK, as_json, body_of, error_response, host_of, with_errors

MOST_BYTES = 16 << 20


class Together:
    """One decider for all who ask: what comes while it is at work, or at the same moment, is decided in one go."""

    def __init__(self, decider: Decider) -> None:
        self.decider = decider
        self._waiting: list[tuple[list[DecisionRequest], asyncio.Future[list[Any]]]] = []
        self._task: asyncio.Task[None] | None = None

    async def decide(self, requests: list[DecisionRequest]) -> list[Any]:
        future: asyncio.Future[list[Any]] = asyncio.get_running_loop().create_future()
        self._waiting.append((requests, future))
        if self._task is None or self._task.done():
            self._task = asyncio.create_task(self._work())
        return await future

    async def _work(self) -> None:
        while self._waiting:
            await asyncio.sleep(0)  # let those in that have come by now
            batch, self._waiting = self._waiting, []
            try:
                decisions = self.decider.decide([request for requests, _ in batch for request in requests])
            except Exception as failure:
                for _, future in batch:
                    if not future.done():
                        future.set_exception(failure)
                continue
            start = 0
            for requests, future in batch:
                if not future.done():
                    future.set_result(decisions[start : start + len(requests)])
                start += len(requests)


REQUEST_FIELDS = ("policy", "observation", "observations", "legal", "session", "begins")


class Server:
    """The routes of `jokulmist serve`: who may ask, what is asked for, what is answered."""

    def __init__(self, deciders: Mapping[str, Decider], token: str | None) -> None:
        self._deciders, self._token = deciders, token
        self._together = {name: Together(decider) for name, decider in deciders.items()}

    def routes(self) -> list[BaseRoute]:
        return [
            Route("/decide", with_errors(self.decide), methods=["POST"]),
            Route("/", self.policies),
            Route("/openapi.json", self.description),
            WebSocketRoute("/talk", self.talk),
        ]

    async def answer(self, request: Any) -> dict[str, Any]:
        """The action, or actions, that a request asks for; raises the library's own errors."""
        together = self._policy_of(request)
        decider, legal = together.decider, request.get("legal")
        if "observation" in request:
            more = (request.get("session"), request.get("begins"))
            (action,) = await together.decide([decider.read(request["observation"], legal, *more)])
            return {"action": action}
        if decider.state_width:
            raise SettingError(
                "this policy remembers what it saw: ask it for one `observation` at a time, with `session` and "
                "`begins`."
            )
        observations = request["observations"]
        if not isinstance(observations, list) or not 1 <= len(observations) <= MOST_AT_ONCE:
            raise SettingError(f"`observations` is a list of 1 to {MOST_AT_ONCE:,} observations.")
        if legal is not None and (not isinstance(legal, list) or len(legal) != len(observations)):
            raise SettingError("`legal` is a list with one entry an observation.")
        masks = [None] * len(observations) if legal is None else legal
        read = [decider.read(observation, mask) for observation, mask in zip(observations, masks, strict=True)]
        return {"actions": await together.decide(read)}

    def _policy_of(self, request: Any) -> Together:
        """The policy that a well-formed request asks."""
        if not isinstance(request, Mapping):
            raise SettingError('a request is an object, e.g. {"observation": {...}}.')
        for name in request:
            if name not in REQUEST_FIELDS:
                hint = f"it has {listed(REQUEST_FIELDS)}.{nearest(str(name), REQUEST_FIELDS)}"
                raise SettingError(f"a request has no `{name!s:.60}`; {hint}")
        name = request.get("policy", next(iter(self._together)))
        if not isinstance(name, str) or name not in self._together:
            hint = f"there are {listed(self._together)}.{nearest(str(name), self._together)}"
            raise LookupFailed(f"there is no policy {name!r:.60}; {hint}")
        if ("observation" in request) == ("observations" in request):
            raise SettingError("give `observation`, or `observations`, one of them.")
        return self._together[name]

    def refusal(self, headers: Any) -> Response | None:
        """The answer to who may not ask."""
        host, _ = host_of(str(headers.get("host", "")))
        if self._token is not None:
            authorization = str(headers.get("authorization", ""))
            if hmac.compare_digest(authorization.encode("utf-8", "replace"), f"Bearer {self._token}".encode()):
                return None
            return error_response(401, "the token is missing or wrong: `Authorization: Bearer TOKEN`.")
        if host not in LOOPBACK:  # a page elsewhere whose name was made to mean this machine
            return error_response(403, f"this server answers to {listed(LOOPBACK)}, not to {host!r:.60}.")
        origin = headers.get("origin")
        if origin is not None and origin != f"http://{headers.get('host', '')}":
            return error_response(
                403, f"a page of {origin!r:.60} may not ask this server: it was started without `--token`."
            )
        return None

    async def decide(self, request: Request) -> Response:
        refused = self.refusal(request.headers)
        if refused is not None:
            return refused
        return as_json(await self.answer(await body_of(request, MOST_BYTES)))

    async def policies(self, request: Request) -> Response:
        policies = {name: describe_decider(decider) for name, decider in self._deciders.items()}
        return self.refusal(request.headers) or as_json({"policies": policies})

    async def description(self, request: Request) -> Response:
        return self.refusal(request.headers) or as_json(openapi(self._deciders))

    async def talk(self, socket: WebSocket) -> None:
        if self.refusal(socket.headers) is not None:
            await socket.close(code=1008)
            return
        await socket.accept()
        try:
            while True:
                message = await _rpc(await socket.receive_text(), self.answer)
                if message is not None:
                    await socket.send_text(message)
        except (WebSocketDisconnect, KeyError, RuntimeError):  # it has gone, or sent no text
            return


def app_of(deciders: Mapping[str, Decider], token: str | None = None) -> Starlette:
    """The application."""
    return Starlette(routes=Server(deciders, token).routes())


async def _rpc(text: str, answered: Any) -> str | None:
    """The answer to a JSON-RPC 2.0 request with the method `decide`; none to a notification, which has no `id`."""
    try:
        request = json.loads(text)
    except (ValueError, RecursionError):
        return _failed(None, -32700, "this is no JSON.")
    number = request.get("id") if isinstance(request, dict) else None
    if (
        not isinstance(request, dict)
        or request.get("jsonrpc") != "2.0"
        or not isinstance(request.get("method"), str)
        or isinstance(number, bool)
        or not (
            number is None or isinstance(number, (int, str)) or (isinstance(number, float) and math.isfinite(number))
        )
    ):
        return _failed(None, -32600, "this is no JSON-RPC 2.0 request.")
    reply: str | None
    if request["method"] != "decide":
        reply = _failed(number, -32601, f"there is no method {request['method']!r:.60}; there is `decide`.")
    else:
        try:
            reply = json.dumps({"jsonrpc": "2.0", "id": number, "result": await answered(request.get("params", {}))})
        except JokulmistError as wrong:
            reply = _failed(number, -32602, str(wrong))
    return reply if "id" in request else None


def _failed(number: Any, code: int, message: str) -> str:
    return json.dumps({"jsonrpc": "2.0", "id": number, "error": {"code": code, "message": message}})


def describe_decider(decider: Decider) -> dict[str, Any]:
    """What a policy sees and does."""
    policy = decider.policy
    parts = {name or "action": part for name, part in parts_of(policy.spec.action).items()}
    return {
        "agent": repr(policy.agent),
        "decisions": policy.decisions,
        "masked": policy.spec.masked,
        "remembers": bool(decider.state_width),
        "channels": [
            {
                "name": c.name,
                "low": _finite(c.low),
                "high": _finite(c.high),
                "unit": c.unit,
                "shape": list(c.shape),
                "image": c.image,
            }
            for c in policy.spec.channels
        ],
        "action": {
            name: list(part.labels)
            if isinstance(part, Choice)
            else {"low": part.low.tolist(), "high": part.high.tolist()}
            for name, part in parts.items()
        },
    }


def _finite(value: float) -> float | None:
    return value if abs(value) < float("inf") else None


def openapi(deciders: Mapping[str, Decider]) -> dict[str, Any]:
    """The description of the HTTP interface, after the OpenAPI Specification 3.1."""
    seen = {
        name: {
            "type": "object",
            "required": [c.name for c in d.policy.spec.channels],
            "additionalProperties": False,
            "properties": {
                c.name: {"type": "number", "description": c.unit}
                if c.shape == ()
                else {"type": "array", "description": f"shape {list(c.shape)} {c.unit}".strip()}
                for c in d.policy.spec.channels
            },
        }
        for name, d in deciders.items()
    }
    schemas_of_parts = [{"$ref": f"#/components/schemas/{name}"} for name in seen]
    body = {
        "type": "object",
        "additionalProperties": False,
        "oneOf": [{"required": ["observation"]}, {"required": ["observations"]}],
        "properties": {
            "policy": {"type": "string", "enum": list(deciders)},
            "observation": {"oneOf": schemas_of_parts},
            "observations": {
                "type": "array",
                "maxItems": MOST_AT_ONCE,
                "minItems": 1,
                "items": {"oneOf": schemas_of_parts},
            },
            "legal": {},
            "session": {"type": "string", "description": "For a policy that remembers: whose observation it is"},
            "begins": {"type": "boolean", "description": "Whether an episode begins with it"},
        },
    }
    answer = {
        "description": "The action, or the actions",
        "content": {"application/json": {"schema": {"type": "object"}}},
    }
    wrong = {
        "description": "What is wrong, in words",
        "content": {"application/json": {"schema": {"type": "object", "properties": {"error": {"type": "string"}}}}},
    }
    return {
        "openapi": "3.1.0",
        "info": {"title": "Policies", "version": "1"},
        "paths": {
            "/decide": {
                "post": {
                    "summary": "What a policy does without exploration",
                    "requestBody": {"required": True, "content": {"application/json": {"schema": body}}},
                    "responses": {"200": answer, "400": wrong, "401": wrong, "403": wrong, "404": wrong, "413": wrong},
                }
            },
            "/": {"get": {"summary": "The policies: what they see and do", "responses": {"200": answer}}},
        },
        "components": {"schemas": seen},
    }
