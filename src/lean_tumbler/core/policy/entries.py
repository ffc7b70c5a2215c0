"""Checking tables of the policy's document, with messages that name file, table and key."""

from collections.abc import Mapping
from typing import Any, TypeVar

from lean_tumbler.core.schema import Mismatch, checked
from lean_tumbler.errors import PolicyError

T = TypeVar("T")


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

    def read(self, table: str, entries: Mapping[str, Any], kind: type[T]) -> T:
        """Give a table as its type.

        Raises:
            PolicyError: naming the key, and what was expected of it.
        """
        try:
            return checked(entries, kind)
        except Mismatch as mismatch:
            if mismatch.unknown:
                message = f"unknown key “{mismatch.unknown}”; {mismatch.hint}"
                raise self.error(table, message) from None
            raise self.error(table, str(mismatch)) from None
