"""The HTTP side: paths, bodies within bounds, the access token, and errors."""

import asyncio
import hmac
from collections.abc import Awaitable, Callable, Mapping
from math import inf
from traceback import walk_tb
from types import MappingProxyType
from typing import Any

from msgspec import Struct
from starlette.applications import Starlette
from starlette.exceptions import HTTPException
from starlette.requests import ClientDisconnect, Request
from starlette.responses import JSONResponse, Response
from starlette.routing import Route

from lean_tumbler.errors import RequestRefused, TumblerError
from lean_tumbler.service.description import description
from lean_tumbler.service.events import Event
from lean_tumbler.service.logins import Answer, LoginService
from lean_tumbler.service.problems import problem, problem_of
from lean_tumbler.service.requests import POSTS, Path, read_request
from lean_tumbler.service.requests import Request as Asked

BODY_BYTES = 65_536
BODY_SECONDS = 5.0
_LOG_SECONDS = 1.0  # of one type; under a flood the counters tell how many there were
_METRICS_TYPE = "text/plain; version=0.0.4; charset=utf-8"

_ACTS: Mapping[Path, Callable[[LoginService, Any], Awaitable[Answer]]] = MappingProxyType(
    {
        Path.ADMIT: LoginService.admit,
        Path.ADMIT_VALUE: LoginService.admit_value,
        Path.HASH: LoginService.hash,
        Path.CHANGE: LoginService.change,
    }
)


class Access(Struct, frozen=True, kw_only=True):
    """Who may call."""

    token: str = ""  # what callers show; empty where the socket's own rights decide
    body_bytes: int = BODY_BYTES  # the most that a request may hold
    body_seconds: float = BODY_SECONDS  # how long it may take to arrive


class Application:
    """The paths of the service, and its errors.

    Args:
        current: gives the service by the policy in force, which may be read anew meanwhile.
        access: who may call, and within which bounds.
        clock: seconds, monotonic.
    """

    def __init__(
        self, current: Callable[[], LoginService], access: Access, *, clock: Callable[[], float]
    ) -> None:
        self._current, self._access, self._clock = current, access, clock
        self._logged: dict[str, float] = {}

    def starlette(self) -> Starlette:
        """Give what a server runs."""
        return Starlette(
            routes=[
                *(self._post(path, kind) for path, kind in POSTS.items()),
                Route(Path.LIVE, self._live),
                Route(Path.READY, self._ready),
                Route(Path.METRICS, self._metrics),
                Route(Path.OPENAPI, self._openapi),
            ],
            exception_handlers={
                TumblerError: self._refused,
                HTTPException: self._not_here,
                Exception: self._failed,
            },
        )

    def _post(self, path: Path, kind: type[Asked]) -> Route:
        async def endpoint(request: Request) -> Response:
            started = self._clock()
            _require_token(request, self._access.token)
            asked = read_request(await _body(request, self._access), kind)
            answer = JSONResponse(await _ACTS[path](self._current(), asked))
            seconds = self._current().context.metrics.seconds
            seconds.labels(path).observe(self._clock() - started)
            return answer

        return Route(path, endpoint, methods=["POST"])

    async def _live(self, _: Request) -> Response:
        return JSONResponse({"status": "live"})

    async def _ready(self, _: Request) -> Response:
        if await self._current().ready():
            return JSONResponse({"status": "ready"})
        return self._problem("busy", status=503, detail="a store does not answer")

    async def _metrics(self, request: Request) -> Response:
        _require_token(request, self._access.token)
        return Response(self._current().context.metrics.text(), media_type=_METRICS_TYPE)

    async def _openapi(self, _: Request) -> Response:
        return JSONResponse(description(has_token=bool(self._access.token)))

    async def _refused(self, _: Request, error: Exception) -> Response:
        kind, response = problem_of(error if isinstance(error, TumblerError) else TumblerError())
        self._current().context.metrics.problems.labels(kind).inc()
        now = self._clock()
        if response.status_code >= 500 and now - self._logged.get(kind, -inf) >= _LOG_SECONDS:
            self._logged[kind] = now
            self._current().context.log(Event.PROBLEM, type=kind, message=str(error))
        return response

    async def _not_here(self, _: Request, error: Exception) -> Response:
        known = error if isinstance(error, HTTPException) else HTTPException(500)
        kind = {404: "not-found", 405: "wrong-method"}.get(known.status_code, "failed")
        return self._problem(kind, status=known.status_code, headers=known.headers)

    async def _failed(self, _: Request, error: Exception) -> Response:
        frame, line = list(walk_tb(error.__traceback__))[-1]
        at = f"{frame.f_globals.get('__name__', '')}:{line}"
        self._current().context.log(Event.FAILED, error=type(error).__name__, at=at)
        return self._problem("failed", status=500)

    def _problem(
        self,
        kind: str,
        *,
        status: int,
        detail: str = "",
        headers: Mapping[str, str] | None = None,
    ) -> Response:
        self._current().context.metrics.problems.labels(kind).inc()
        return problem(kind, status=status, detail=detail, headers=headers)


def _require_token(request: Request, token: str) -> None:
    if not token:
        return
    shown = request.headers.get("authorization", "").encode("utf-8", "replace")
    if not hmac.compare_digest(shown, f"Bearer {token}".encode()):
        raise RequestRefused("no-token", "send it as “Authorization: Bearer TOKEN”", status=401)


async def _body(request: Request, access: Access) -> bytes:
    """Read a body that is neither too large nor too slow."""
    kind = request.headers.get("content-type", "").partition(";")[0].strip().lower()
    if kind != "application/json":
        raise RequestRefused("wrong-content-type", "send application/json", status=415)
    parts: list[bytes] = []
    size = 0
    try:
        async with asyncio.timeout(access.body_seconds):
            async for part in request.stream():
                size += len(part)
                if size > access.body_bytes:
                    message = f"more than {access.body_bytes:,} bytes"
                    raise RequestRefused("too-large", message, status=413)
                parts.append(part)
    except ClientDisconnect:
        raise RequestRefused("not-whole", "the connection ended before the body did") from None
    except TimeoutError:
        message = f"not whole after {access.body_seconds:g} s"
        raise RequestRefused("too-slow", message, status=408) from None
    return b"".join(parts)
