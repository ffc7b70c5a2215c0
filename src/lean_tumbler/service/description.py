"""The interface's own description (OpenAPI 3.1), made from the tables that it is checked by."""

from collections.abc import Mapping, Sequence
from importlib.metadata import version
from typing import Any

from msgspec import json

from lean_tumbler.core.login.new_passwords import Objection
from lean_tumbler.core.login.outcome import Action
from lean_tumbler.service.problems import TYPES
from lean_tumbler.service.requests import POSTS, Path, Request

Schema = dict[str, Any]

_ADMITTED: Schema = {"type": "boolean"}
_ACTION: Schema = {"type": "string", "enum": [str(action) for action in Action]}


def _answer(**members: Schema) -> Schema:
    optional = {"new_value"}
    return {
        "type": "object",
        "properties": members,
        "required": [name for name in members if name not in optional],
        "additionalProperties": False,
    }


_ANSWERS: Mapping[Path, tuple[str, Schema]] = {
    Path.ADMIT: (
        "Check a login of a store, and upgrade its value where due. 200 for yes and for no.",
        _answer(admitted=_ADMITTED, action=_ACTION),
    ),
    Path.ADMIT_VALUE: (
        "Check a value that was fetched. Write `new_value` only where the old one still stands.",
        _answer(admitted=_ADMITTED, action=_ACTION, new_value={"type": "string"}),
    ),
    Path.HASH: (
        "Give the stored value for a new password, or say why it may not be used.",
        _answer(value={"type": "string"}),
    ),
    Path.CHANGE: (
        "Check a password, and put a new one in its place.",
        _answer(changed={"type": "boolean"}),
    ),
}


_STATES: Mapping[Path, str] = {
    Path.LIVE: "The service runs.",
    Path.READY: "Every store answers.",
}


def description(*, has_token: bool) -> dict[str, Any]:
    """Give the whole document.

    Args:
        has_token: whether callers must show an access token.
    """
    secured: Schema = {"security": [{"token": []}]} if has_token else {}
    paths = {
        path: {"post": {**_operation(path, summary, POSTS[path], answer), **secured}}
        for path, (summary, answer) in _ANSWERS.items()
    }
    status = {"type": "object", "properties": {"status": {"type": "string"}}}
    for path, summary in _STATES.items():
        codes = ("503",) if path == Path.READY else ()
        paths[path] = {"get": {"summary": summary, "responses": _responses(status, codes)}}
    _, requests = json.schema_components(POSTS.values(), ref_template="#/components/schemas/{name}")
    return {
        "openapi": "3.1.0",
        "info": {"title": "Lean Tumbler's login service", "version": version("lean-tumbler")},
        "paths": paths,
        "components": {
            "schemas": {"Problem": _problem(), **requests},
            **({"securitySchemes": {"token": {"type": "http", "scheme": "bearer"}}}
               if has_token else {}),
        },
    }  # fmt: skip


def _operation(path: str, summary: str, kind: type[Request], answer: Schema) -> Schema:
    codes = ("400", "401", "408", "413", "415", "500", "503")
    refused = ("422",) if path in {Path.HASH, Path.CHANGE} else ()
    body = {"$ref": f"#/components/schemas/{kind.__name__}"}
    return {
        "summary": summary,
        "operationId": path.rpartition("/")[2],
        "requestBody": {"required": True, "content": {"application/json": {"schema": body}}},
        "responses": _responses(answer, (*codes, *refused)),
    }


def _responses(answer: Schema, codes: Sequence[str]) -> Schema:
    problem = {"application/problem+json": {"schema": {"$ref": "#/components/schemas/Problem"}}}
    return {
        "200": {"description": "The answer.", "content": {"application/json": {"schema": answer}}},
        **{code: {"description": "A problem.", "content": problem} for code in codes},
    }


def _problem() -> Schema:
    return {
        "type": "object",
        "description": "RFC 9457.",
        "properties": {
            "type": {"type": "string", "enum": [f"/problems/{kind}" for kind in TYPES]},
            "title": {"type": "string"},
            "status": {"type": "integer"},
            "detail": {"type": "string"},
            "field": {"type": "string"},
            "reasons": {
                "type": "array",
                "items": {"type": "string", "enum": [str(reason) for reason in Objection]},
            },
        },
        "required": ["type", "title", "status"],
    }
