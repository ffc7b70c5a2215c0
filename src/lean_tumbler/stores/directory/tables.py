"""A live LDAP directory (RFC 4511): each naming context is a table, each entry's password a row."""

from collections.abc import Iterator, Mapping, Sequence
from contextlib import closing
from functools import cached_property
from itertools import islice
from typing import Any

from msgspec import Struct

from lean_tumbler.core.audit.discovery import SAMPLE_ROWS
from lean_tumbler.errors import SourceError
from lean_tumbler.stores.directory.connection import (
    DirectoryAddress,
    answer_reason,
    connected,
    read_address,
)
from lean_tumbler.stores.files.base import (
    Frames,
    Rows,
    Schemaless,
    Unreadable,
    entry_rows,
    frames_of_rows,
)

_PAGE_ENTRIES = 500  # RFC 2696; servers commonly allow 500 or 1000
_PAGES = "1.2.840.113556.1.4.319"  # RFC 2696 section 2
_ALL = ("*", "+")  # all user attributes, and all operational ones (RFC 3673)


class DirectoryTable(Struct, Schemaless, frozen=True, dict=True):
    """All entries below one base."""

    address: DirectoryAddress
    name: str

    @cached_property
    def columns(self) -> tuple[str, ...]:
        """The attributes of the first entries, in order of appearance."""
        names: dict[str, None] = {}
        with closing(self._rows(_ALL, Unreadable())) as rows:
            for _, row in islice(rows, SAMPLE_ROWS):
                names.update(dict.fromkeys(row))
        return tuple(names)

    def frames(self, wanted: Sequence[str], unreadable: Unreadable) -> Frames:
        """Read the wanted attributes as text."""
        return frames_of_rows(self._rows(wanted, unreadable), wanted, unreadable)

    def _rows(self, wanted: Sequence[str], unreadable: Unreadable) -> Rows:
        number = 0
        with connected(self.address) as connection:
            for answer in self._answers(connection, wanted):
                number += 1
                entry, undecodable = _entry(answer)
                # Of all attributes some are pictures and certificates; one asked for is a fault.
                if undecodable and wanted is not _ALL:
                    unreadable.add(number, f"{undecodable} is not UTF-8 text")
                    continue
                yield from entry_rows(number, entry)

    def _answers(self, connection: Any, wanted: Sequence[str]) -> Iterator[Mapping[str, Any]]:
        """Ask page by page (RFC 2696); a search that the server ends early is no answer."""
        cookie: bytes | None = None
        attributes = [name for name in wanted if name != "dn"]
        while True:
            connection.search(
                self.name,
                "(objectClass=*)",
                attributes=attributes,
                paged_size=_PAGE_ENTRIES,
                paged_cookie=cookie,
            )
            yield from (a for a in connection.response if a["type"] == "searchResEntry")
            result = connection.result
            if result["result"] != 0:
                raise SourceError(f"{self.address.url}: {answer_reason(result['description'])}")
            cookie = result.get("controls", {}).get(_PAGES, {}).get("value", {}).get("cookie")
            if not cookie:
                return


def _entry(answer: Mapping[str, Any]) -> tuple[dict[str, list[str]], str]:
    """Give an entry's attributes as text, and the name of one that is none."""
    entry: dict[str, list[str]] = {"dn": [answer["dn"]]}
    undecodable = ""
    for described, values in answer["raw_attributes"].items():
        name = described.split(";")[0]
        for value in values:
            try:
                entry.setdefault(name, []).append(value.decode("utf-8"))
            except UnicodeDecodeError:
                undecodable = name
    return {name: texts for name, texts in entry.items() if texts}, undecodable


def tables_of_directory(locator: str) -> tuple[str, list[DirectoryTable]]:
    """Find what a directory holds: the base of the URL, or all its naming contexts.

    Returns:
        What messages call the directory, and its tables.

    Raises:
        UsageError: the URL is not one of a directory.
        SourceError: it cannot be reached.
    """
    address = read_address(locator)
    if address.base:
        return address.url, [DirectoryTable(address, address.base)]
    with connected(address) as connection:
        contexts = connection.server.info.naming_contexts or ()
    return address.url, [DirectoryTable(address, context) for context in contexts]
