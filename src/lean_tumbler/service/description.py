"""The interface's own description (OpenAPI 3.1), made from the tables that it is checked by."""

from collections.abc import Mapping, Sequence
from importlib.metadata import version
from typing import Any

from lean_tumbler.core.new_passwords import Reason
from lean_tumbler.core.outcome import Action
from lean_tumbler.service.problems import TYPES
from lean_tumbler.service.requests import ADMIT, ADMIT_VALUE, CHANGE, HASH, Field

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


_POSTS: Mapping[str, tuple[str, Mapping[str, Field], Schema]] = {
    "/v1/admit": (
        "Check a login of a store, and upgrade its value where due. 200 for yes and for no.",
        ADMIT,
        _answer(admitted=_ADMITTED, action=_ACTION),
    ),
    "/v1/admit-value": (
        "Check a value that was fetched. Write `new_value` only where the old one still stands.",
        ADMIT_VALUE,
        _answer(admitted=_ADMITTED, action=_ACTION, new_value={"type": "string"}),
    ),
    "/v1/hash": (
        "Give the stored value for a new password, or say why it may not be used.",
        HASH,
        _answer(value={"type": "string"}),
    ),
    "/v1/change": (
        "Check a password, and put a new one in its place.",
        CHANGE,
        _answer(changed={"type": "boolean"}),
    ),
}


def description(*, has_token: bool) -> dict[str, Any]:
    """Give the whole document.

    Args:
        has_token: whether callers must show an access token.
    """
    secured: Schema = {"security": [{"token": []}]} if has_token else {}
    paths = {
        path: {"post": {**_operation(path, *parts), **secured}} for path, parts in _POSTS.items()
    }
    status = {"type": "object", "properties": {"status": {"type": "string"}}}
    for path, summary in (("/health/live", "The service runs."),
                          ("/health/ready", "Every store answers.")):  # fmt: skip
        codes = ("503",) if path.endswith("ready") else ()
        paths[path] = {"get": {"summary": summary, "responses": _responses(status, codes)}}
    return {
        "openapi": "3.1.0",
        "info": {"title": "Lean Tumbler's login service", "version": version("lean-tumbler")},
        "paths": paths,
        "components": {
            "schemas": {"Problem": _problem()},
            **({"securitySchemes": {"token": {"type": "http", "scheme": "bearer"}}}
               if has_token else {}),
        },
    }  # fmt: skip


def _operation(path: str, summary: str, fields: Mapping[str, Field], answer: Schema) -> Schema:
    body = {
        "type": "object",
        "properties": {name: _field(field) for name, field in fields.items()},
        "required": [name for name, field in fields.items() if field.required],
        "additionalProperties": False,
    }
    codes = ("400", "401", "408", "413", "415", "500", "503")
    refused = ("422",) if path in {"/v1/hash", "/v1/change"} else ()
    return {
        "summary": summary,
        "operationId": path.rpartition("/")[2],
        "requestBody": {"required": True, "content": {"application/json": {"schema": body}}},
        "responses": _responses(answer, (*codes, *refused)),
    }


def _field(field: Field) -> Schema:
    kind = {str: "string", bool: "boolean"}[field.kind]
    length = {"maxLength": field.most_characters} if field.kind is str else {}
    return {
        "type": [kind, "null"] if field.may_be_null else kind,
        "description": field.about,
        **length,
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
                "items": {"type": "string", "enum": [str(reason) for reason in Reason]},
            },
        },
        "required": ["type", "title", "status"],
    }
