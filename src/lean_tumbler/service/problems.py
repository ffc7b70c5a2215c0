"""Errors as problem documents (RFC 9457)."""

from collections.abc import Mapping
from types import MappingProxyType
from typing import Any

from starlette.responses import JSONResponse

from lean_tumbler.errors import (
    CheckImpossible,
    PasswordRefused,
    RequestRefused,
    SourceError,
    TumblerError,
)
from lean_tumbler.service.logins import RETRY_SECONDS

TYPES: Mapping[str, str] = MappingProxyType(
    {
        "not-json": "The body is no JSON object.",
        "not-utf-8": "The body is not UTF-8 text.",
        "unknown-field": "A field is not known.",
        "missing-field": "A field is missing.",
        "wrong-field": "A field does not hold what it must.",
        "unknown-store": "The policy has no such store.",
        "too-large": "The body is too large.",
        "not-whole": "The connection ended before the body did.",
        "too-slow": "The body did not arrive in time.",
        "not-found": "There is nothing at this path.",
        "wrong-method": "The path takes another method.",
        "wrong-content-type": "The body must be application/json.",
        "no-token": "The access token is missing or wrong.",
        "password-refused": "The new password may not be used.",
        "busy": "Too many logins at once, or a store does not answer.",
        "check-impossible": "A stored value cannot be checked here.",
        "failed": "The service failed; its log says where.",
    }
)
_MEDIA_TYPE = "application/problem+json"


def problem(
    kind: str,
    *,
    status: int,
    detail: str = "",
    headers: Mapping[str, str] | None = None,
    **more: object,
) -> JSONResponse:
    """Make a problem document.

    Args:
        kind: one of TYPES.
        status: of the answer.
        detail: what is wrong with this request; never a value of it.
        headers: further ones.
        more: further members.
    """  # fmt: skip
    document = {
        "type": f"/problems/{kind}",
        "title": TYPES[kind],
        "status": status,
        **({"detail": detail} if detail else {}),
        **more,
    }
    return JSONResponse(
        document, status_code=status, headers=dict(headers or {}), media_type=_MEDIA_TYPE
    )


def problem_of(error: TumblerError) -> tuple[str, JSONResponse]:
    """Translate an error; give its kind too."""
    if isinstance(error, RequestRefused):
        more: dict[str, Any] = {"field": error.field} if error.field else {}
        return error.kind, problem(error.kind, status=error.status, detail=str(error), **more)
    if isinstance(error, PasswordRefused):
        return "password-refused", problem("password-refused", status=422, reasons=error.reasons)
    if isinstance(error, SourceError):
        later = {"Retry-After": str(RETRY_SECONDS)}
        return "busy", problem("busy", status=503, headers=later)
    if isinstance(error, CheckImpossible):
        return "check-impossible", problem("check-impossible", status=503)
    return "failed", problem("failed", status=error.http_status)
