"""The JSON documents: each is one declared struct, from which its schema is generated.

A field says its type and what it means; text and pages are drawn from the same struct. Keys may be
added, never renamed: others build on them.
"""

from __future__ import annotations

import json
import math
from collections.abc import Mapping
from typing import TYPE_CHECKING, Annotated, Any, Self

import msgspec

from lean_tumbler.core.printable import printable

if TYPE_CHECKING:
    from lean_tumbler.stores.interface import AccountKey

VERSION = 1

Scheme = Annotated[str, "the scheme, by its trade name"]
Layout = Annotated[str | None, "how the value was written down"]
Rows = Annotated[int, "number of rows"]
Key = Annotated[int | str, "the key of the row"]
StoreName = Annotated[str, "the store of the policy"]
Because = Annotated[str, "what says so"]
Remedy = Annotated[str, "what to do; may be empty"]
RowsByGrade = Annotated[dict[str, int], "rows by grade"]
RowsByReason = Annotated[dict[str, int], "rows that a step leaves, by the reason"]
Costs = Annotated[dict[str, int], "costs, by the names of the policy"]


class DocumentPart(msgspec.Struct, forbid_unknown_fields=True):
    """A part of a document; its fields say what they mean."""

    @classmethod
    def of(cls, source: object, /, **others: object) -> Self:
        """Take each field from what is called alike in a source, but for those that are given."""
        return cls(
            **{
                name: others[name] if name in others else getattr(source, name)
                for name in cls.__struct_fields__
            }
        )


class SpreadPart(DocumentPart):
    """Seconds, with what they were at best and at worst of some measurements."""

    low: Annotated[float, "at best"]
    expected: Annotated[float, "in the middle"]
    high: Annotated[float, "at worst"]


class ListedRow(DocumentPart):
    """A row that a person must look at."""

    account: Key
    reason: Annotated[str, "why"]


class Document(DocumentPart, tag_field="document"):
    """What a command answers; the tag names the kind and its version."""


def key_told(key: AccountKey) -> int | str:
    """Give a row's key as JSON holds it; bytes by their hexadecimal form."""
    return key.hex() if isinstance(key, bytes) else key


def named(name: str) -> str:
    """Name a kind of document of this project, with its version."""
    return f"lean-tumbler/{name}/{VERSION}"


def as_json(document: Document | dict[str, Any]) -> str:
    """Write a document, its numbers to eight digits; what is infinite becomes null.

    Bytes that are no text become their hexadecimal form. What would steer a terminal stands in it
    as its escape, which is JSON too.
    """
    plain = msgspec.to_builtins(document, builtin_types=(bytes,), enc_hook=_plain, str_keys=True)
    return printable(json.dumps(_told(plain), indent=2, ensure_ascii=False, default=_plain)) + "\n"


def _told(value: Any) -> Any:
    """Give a value with its numbers as a reader needs them."""
    if isinstance(value, float):
        return float(f"{value:.8g}") if math.isfinite(value) else None
    if isinstance(value, dict):
        return {key: _told(part) for key, part in value.items()}
    return [_told(part) for part in value] if isinstance(value, list) else value


def _plain(value: object) -> object:
    if isinstance(value, bytes):
        return value.hex()
    return dict(value) if isinstance(value, Mapping) else str(value)
