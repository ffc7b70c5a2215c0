"""The JSON documents. Keys may be added, never renamed: others build on them."""

from __future__ import annotations

import json
from typing import Any

from lean_tumbler.core.printable import printable

Document = dict[str, Any]
VERSION = 1


def new_document(name: str, **entries: object) -> Document:
    """Start a document of this project."""
    return {"document": f"lean-tumbler/{name}/{VERSION}", **entries}


def as_json(document: Document) -> str:
    """Write a document; bytes that are no text become their hexadecimal form.

    What would steer a terminal stands in it as its escape, which is JSON too.
    """
    return printable(json.dumps(document, indent=2, ensure_ascii=False, default=_plain)) + "\n"


def _plain(value: object) -> object:
    return value.hex() if isinstance(value, bytes) else str(value)
