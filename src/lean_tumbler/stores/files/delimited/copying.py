"""CSV, TSV and their relatives: one field of a record is written anew, the others stay."""

import csv
import re
from collections.abc import Iterator, Sequence
from functools import cached_property
from pathlib import Path

from msgspec import Struct

from lean_tumbler.stores.files.base import VALUE_CHARACTERS
from lean_tumbler.stores.files.copying import (
    MARK,
    Record,
    bad_record,
    decoded,
    raw_lines,
    without_end,
)
from lean_tumbler.stores.files.delimited.table import NULL, DelimitedTable

_QUOTE = '"'


class DelimitedExport(Struct, frozen=True, dict=True):
    """A file of delimited lines."""

    path: Path
    checked_elsewhere = ""
    numbered_by_line = True

    @cached_property
    def _table(self) -> DelimitedTable:
        return DelimitedTable(self.path)

    @property
    def columns(self) -> tuple[str, ...]:
        """The names of the header line; numbered where there is none."""
        return self._table.columns

    @cached_property
    def _field(self) -> re.Pattern[str]:
        delimiter = re.escape(self._table.delimiter)
        return re.compile(rf'(?:"(?:[^"]|"")*"|[^"{delimiter}][^{delimiter}]*|)(?={delimiter}|\Z)')

    def records(self, stored: str) -> Iterator[Record]:
        """Read it from beginning to end."""
        position = self.columns.index(stored)
        for line, raw in self._whole_records():
            text = decoded(self.path, line, raw, self._table.encoding)
            mark = MARK if line == 1 and text.startswith(MARK) else ""
            body, end = without_end(text.removeprefix(MARK) if mark else text)
            if not body or (line == 1 and self._table.has_head):
                yield Record(line=line, raw=raw)
                continue
            parts = self._parts(body, line)

            def replaced(
                new: Sequence[str | None],
                mark: str = mark,
                parts: list[str] = parts,
                end: str = end,
            ) -> bytes:
                written = list(parts)
                if new[0] is not None:
                    written[position] = self._written(new[0], like=parts[position])
                whole = mark + self._table.delimiter.join(written) + end
                return whole.encode(self._table.encoding)

            fields = dict(zip(self.columns, map(_value, parts), strict=True))
            yield Record(line=line, raw=raw, rows=(fields,), replaced=replaced)

    def _whole_records(self) -> Iterator[tuple[int, bytes]]:
        """Join lines while a quote is open."""
        held, started = b"", 0
        for number, raw in raw_lines(self.path):
            held, started = (held + raw, started) if held else (raw, number)
            if held.count(b'"') % 2 == 0:
                yield started, held
                held = b""
            elif len(held) > VALUE_CHARACTERS:
                break
        if held:
            raise bad_record(self.path, started, "a quote that is never closed")

    def _parts(self, body: str, line: int) -> list[str]:
        """Split a record into its fields as they stand, quotes and all."""
        parts, at = [], 0
        while True:
            found = self._field.match(body, at)
            if found is None:
                raise bad_record(self.path, line, "broken quotes")
            parts.append(found[0])
            if found.end() == len(body):
                break
            at = found.end() + 1
        try:
            read = next(csv.reader([body], delimiter=self._table.delimiter, strict=True))
        except csv.Error:
            read = []
        if read != [_text(part) for part in parts]:  # what `audit` reads, field by field
            raise bad_record(self.path, line, "broken quotes")
        if len(parts) != len(self.columns):
            raise bad_record(self.path, line, f"{len(parts)} fields, expected {len(self.columns)}")
        return parts

    def _written(self, value: str, *, like: str) -> str:
        """Write a value; in quotes where it needs them, or the old one had some without need."""
        old = _value(like) or ""
        quoted = like.startswith('"') and not self._needs_quotes(old)
        return (
            f'"{value.replace(_QUOTE, _QUOTE * 2)}"'
            if quoted or self._needs_quotes(value)
            else value
        )

    def _needs_quotes(self, value: str) -> bool:
        return any(character in value for character in (self._table.delimiter, _QUOTE, "\r", "\n"))


def _text(part: str) -> str:
    return part[1:-1].replace('""', '"') if part.startswith('"') else part


def _value(part: str) -> str | None:
    text = _text(part)
    return None if text in {"", NULL} else text
