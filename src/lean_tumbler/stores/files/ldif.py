"""LDIF (RFC 2849). In a copy values of one attribute are written anew, all other lines stay."""

import base64
import binascii
import re
from base64 import b64encode
from collections.abc import Iterable, Iterator, Sequence
from functools import cached_property
from pathlib import Path

from msgspec import Struct

from lean_tumbler.core.records import Hidden, MaskedRecord
from lean_tumbler.stores.files.base import FileFormat, Rows, Unreadable, entry_rows
from lean_tumbler.stores.files.copying import (
    MARK,
    Record,
    bad_record,
    decoded,
    raw_lines,
    without_end,
)
from lean_tumbler.stores.files.records import RecordTable
from lean_tumbler.stores.files.streams import lines

_FOLD = 76  # RFC 2849, note 2: lines may be folded; what writes them folds here


_LDIF = re.compile(r"(?:version: *1\s+)?(?:#[^\n]*\n|\s)*dn::? ", re.IGNORECASE)


class _Line(MaskedRecord, Struct):
    """One attribute and its value, which may stand on several lines of the file."""

    number: int
    raw: list[bytes]
    text: Hidden[str]
    end: str = "\n"


def _unfolded(physical: Iterable[_Line]) -> Iterator[_Line]:
    """Join lines that go on after a blank (RFC 2849, note 2); an empty line ends an entry."""
    held: _Line | None = None
    for line in physical:
        if held is not None and held.text and line.text.startswith(" "):
            held.raw += line.raw
            held.text += line.text[1:]
            continue
        if held is not None:
            yield held
        held = line
    if held is not None:
        yield held


def _attribute(line: str) -> tuple[str, str | None] | None:
    """Take a line apart: the attribute's name, and its value; None where it has no name.

    A value is None where it is not UTF-8 text.
    """
    head, colon, value = line.partition(":")
    name = head.split(";")[0]
    return (name, _attribute_text(value)) if colon and name else None


def ldif_rows(path: Path, wanted: Sequence[str], unreadable: Unreadable) -> Rows:
    """Read LDIF (RFC 2849): folded lines, `::` base64, one row for each value of userPassword."""
    entry: dict[str, list[str]] = {}
    started, is_readable = 0, True
    read = (_Line(number, [], text) for number, text in lines(path, unreadable))
    for logical in _unfolded(read):
        number, line = logical.number, logical.text
        if not line:
            if is_readable:
                yield from entry_rows(started, entry)
            entry, is_readable = {}, True
            continue
        if line.startswith("#") or (not entry and line.lower().startswith("version:")):
            continue
        attribute = _attribute(line)
        if attribute is None:
            unreadable.add(number, "no attribute's name before a colon")
            continue
        name, text = attribute
        if text is not None:
            started = started if entry else number
            entry.setdefault(name, []).append(text)
        elif name in wanted:  # elsewhere pictures and certificates are no fault
            unreadable.add(number, "base64 that does not decode to UTF-8 text")
            is_readable = False
    if is_readable:
        yield from entry_rows(started, entry)


def _attribute_text(value: str) -> str | None:
    """Read what follows an attribute's colon; None where it is not UTF-8 text."""
    if not value.startswith(":"):
        return value.strip()
    try:
        return base64.b64decode(value[1:].strip(), validate=True).decode("utf-8")
    except (binascii.Error, ValueError):
        return None


class LdifExport(Struct, frozen=True, dict=True):
    """A directory's entries."""

    path: Path
    checked_elsewhere = "directories check"
    numbered_by_line = False

    @cached_property
    def columns(self) -> tuple[str, ...]:
        """The attributes of the first entries."""
        return RecordTable(self.path, ldif_rows).columns

    def records(self, stored: str) -> Iterator[Record]:
        """Read it from beginning to end, an entry at a time."""
        held: list[_Line] = []
        started = 1
        for line in _unfolded(self._lines()):
            held.append(line)
            if not line.text:
                yield self._record(held, started, stored)
                held, started = [], line.number + 1
        if held:
            yield self._record(held, started, stored)

    def _lines(self) -> Iterator[_Line]:
        for number, raw in raw_lines(self.path):
            text, end = without_end(decoded(self.path, number, raw, "utf-8"))
            yield _Line(number, [raw], text.removeprefix(MARK), end)

    def _record(self, lines: list[_Line], started: int, stored: str) -> Record:
        single: dict[str, str | None] = {}
        places: list[int] = []
        values: list[str | None] = []
        for place, line in enumerate(lines):
            if not line.text or line.text.startswith("#"):
                continue
            attribute = _attribute(line.text)
            if attribute is None:
                raise bad_record(self.path, line.number, "no attribute's name before a colon")
            name, text = attribute
            if name == stored:
                if text is None:
                    reason = f"a value of {stored} is not UTF-8 text"
                    raise bad_record(self.path, line.number, reason)
                places.append(place)
                values.append(text)
            else:
                single.setdefault(name, text)

        def replaced(new: Sequence[str | None]) -> bytes:
            written = [b"".join(line.raw) for line in lines]
            for place, value in zip(places, new, strict=True):
                if value is not None:
                    written[place] = _written(lines[place], value)
            return b"".join(written)

        rows = [{**single, stored: value} for value in values]
        raw = b"".join(part for line in lines for part in line.raw)
        return Record(line=started, raw=raw, rows=rows, replaced=replaced)


def _written(line: _Line, value: str) -> bytes:
    """Write a value in the form that the old one had, plain or base64, and fold it."""
    head, _, old = line.text.partition(":")
    encoded = old.startswith(":")
    text = f":: {b64encode(value.encode('utf-8')).decode()}" if encoded else f": {value}"
    whole = head + text
    parts = [whole[:_FOLD], *(f" {whole[at:at + _FOLD - 1]}"
                              for at in range(_FOLD, len(whole), _FOLD - 1))]  # fmt: skip
    return "".join(part + (line.end or "\n") for part in parts).encode("utf-8")


FORMAT = FileFormat(
    recognises=lambda beginning: _LDIF.match(beginning.text) is not None,
    tables=lambda path: [RecordTable(path, ldif_rows)],
    copied=LdifExport,
)
