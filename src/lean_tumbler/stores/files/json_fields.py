"""A JSON object as a row: names of fields, and their contents as text."""

from collections.abc import Iterator
from typing import Any

DEPTH = 8  # of structures within structures
_ENTRIES = 4  # of a list


def as_row(document: dict[str, Any]) -> dict[str, str | None]:
    """Give the fields of one object; nested ones with dots."""
    return {name: _encodable(value) for name, value in flattened(document)}


def flattened(value: Any, prefix: str = "", depth: int = 0) -> Iterator[tuple[str, str | None]]:
    """Flatten nested JSON: objects with dots, lists by their first entries with numbers."""
    if isinstance(value, dict) and depth < DEPTH:
        for name, inner in value.items():
            yield from flattened(inner, f"{prefix}.{name}" if prefix else str(name), depth + 1)
    elif isinstance(value, list) and depth < DEPTH:
        for number, inner in enumerate(value[:_ENTRIES]):
            yield from flattened(inner, f"{prefix}.{number}", depth + 1)
    elif value is None:
        yield prefix, None
    elif isinstance(value, bool):
        yield prefix, str(int(value))
    else:
        yield prefix, value if isinstance(value, str) else str(value)


def _encodable(value: str | None) -> str | None:
    """Replace lone surrogates, which JSON can write and text columns cannot hold."""
    return None if value is None else value.encode("utf-8", "replace").decode("utf-8")
