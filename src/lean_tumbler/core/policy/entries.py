"""Reading entries of the policy's document, with messages that name file, table and key."""

import difflib
from collections.abc import Mapping, Sequence
from typing import Any, TypeVar

from lean_tumbler.errors import PolicyError

T = TypeVar("T")
_KINDS = {int: "a whole number", str: "text", bool: "true or false", list: "a list"}


class Entries:
    """Checks what stands in a document.

    Args:
        origin: what messages call the document.
    """

    def __init__(self, origin: str) -> None:
        self._origin = origin

    def error(self, table: str, message: str) -> PolicyError:
        """Give an error that names the place."""
        place = f"{self._origin}: [{table}]" if table else f"{self._origin}:"
        return PolicyError(f"{place} {message}")

    def known(self, table: str, entries: Mapping[str, Any], known: Sequence[str]) -> None:
        """Refuse keys that are not known, naming the nearest."""
        for key in entries:
            if key not in known:
                near = difflib.get_close_matches(key, known, n=1, cutoff=0.5)
                hint = f"did you mean “{near[0]}”?" if near else f"known here: {', '.join(known)}"
                raise self.error(table, f"unknown key “{key}”; {hint}")

    def get(self, table: str, entries: Mapping[str, Any], key: str, kind: type[T], default: T) -> T:
        """Give an entry of the right type, or the default."""
        value = entries.get(key, default)
        if not isinstance(value, kind) or (kind is int and isinstance(value, bool)):
            raise self.error(table, f"“{key}” must be {_KINDS.get(kind, 'a table')}")
        return value

    def one_of(self, table: str, key: str, value: str, known: Sequence[str]) -> None:
        """Refuse a value that is none of those that are known."""
        if value not in known:
            raise self.error(table, f"“{key}” must be {' or '.join(known)}")
