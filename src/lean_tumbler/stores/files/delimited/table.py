"""CSV, TSV and their relatives (RFC 4180): delimiter, quoting, header line and encoding found out.

Blocks of well-formed lines are read by Polars; a block with anything odd in it is read again
line by line, so that every row that cannot be read is counted and named.
"""

import csv
from collections import Counter
from collections.abc import Iterator, Sequence
from contextlib import suppress
from functools import cached_property
from itertools import islice
from pathlib import Path

import polars as pl
from msgspec import Struct

from lean_tumbler.core.schemes.base import HASHED
from lean_tumbler.core.schemes.catalogue import read_value
from lean_tumbler.stores.files.base import (
    LINE,
    VALUE_CHARACTERS,
    Frames,
    Rows,
    Schemaless,
    Unreadable,
    frames_of_rows,
)
from lean_tumbler.stores.files.scanning import Scan
from lean_tumbler.stores.files.streams import (
    blocks,
    encoding_of,
    sample,
    split_lines,
    why_no_text,
)

_DELIMITERS = ",\t;|"
_SAMPLE_LINES = 50
NULL = r"\N"  # how databases export NULL; an empty field is no value either
_LINE_BYTES = 1 << 25
_OPEN_QUOTE_BYTES = 1 << 24  # a quote that is not closed within this is broken
_SWALLOWED = "two stray quotes make one field of this line and others"


def find_delimiter(beginning: str) -> str:
    """Find the delimiter: the one that splits most lines into one and the same number of fields.

    One that does so with the first line too goes before: Argon2 values hold commas, heads do not.
    """
    best, best_score = ",", (False, 0)
    lines = split_lines(beginning)[:_SAMPLE_LINES]
    for delimiter in _DELIMITERS:
        lengths = [len(row) for row in csv.reader(lines, delimiter=delimiter) if row]
        fields, rows = Counter(lengths).most_common(1)[0] if lengths else (1, 0)
        score = (lengths[0] == fields, rows * min(fields, 50)) if fields > 1 else (False, 0)
        if score > best_score:
            best, best_score = delimiter, score
    return best


_LINES_BELOW = 20


def _is_head(fields: Sequence[str], below: Sequence[Sequence[str]]) -> bool:
    """Tell whether a first line names columns rather than holding values.

    Args:
        fields: of the line.
        below: those of some lines behind it; a name that stands twice is in none of them.
    """
    names = [name.strip() for name in fields]
    if not all(names):
        return False
    twice = {name for name in names if names.count(name) > 1}
    if twice and (not below or any(twice & {each.strip() for each in line} for line in below)):
        return False
    return not any(
        read_value(name).kind in HASHED or "@" in name or name.isdigit() for name in names
    )


def _told_apart(names: Sequence[str]) -> tuple[str, ...]:
    """Number names that stand more than once: `password`, `password_2`."""
    found: list[str] = []
    for name in names:
        number, told = 1, name
        while told in found:
            number += 1
            told = f"{name}_{number}"
        found.append(told)
    return tuple(found)


def _any(frame: pl.DataFrame, test: pl.Expr) -> bool:
    return frame.width > 0 and any(frame.select(test.any()).row(0))


class DelimitedTable(Struct, Schemaless, frozen=True, dict=True):
    """A file of delimited lines, as one table."""

    path: Path

    @property
    def name(self) -> str:
        """The file's name."""
        return self.path.name

    @cached_property
    def _beginning(self) -> str:
        raw = sample(self.path)
        return raw.decode(self.encoding, "replace").removeprefix("\ufeff")

    @cached_property
    def encoding(self) -> str:
        """Its encoding, as Python names it."""
        return encoding_of(sample(self.path))

    @cached_property
    def delimiter(self) -> str:
        """What stands between fields."""
        return find_delimiter(self._beginning)

    @cached_property
    def _first_lines(self) -> list[list[str]]:
        reader = csv.reader(split_lines(self._beginning), delimiter=self.delimiter)
        lines: list[list[str]] = []
        with suppress(csv.Error):  # of a later line, which is counted when it is read
            lines.extend(islice(reader, _LINES_BELOW + 1))
        return lines or [[]]

    @property
    def _first(self) -> list[str]:
        return self._first_lines[0]

    @cached_property
    def has_head(self) -> bool:
        """Whether the first line names the columns."""
        return _is_head(self._first, self._first_lines[1:])

    @cached_property
    def columns(self) -> tuple[str, ...]:
        """The names of the header line; numbered where there is none."""
        if self.has_head:
            return _told_apart([name.strip() for name in self._first])
        return tuple(f"column_{number}" for number in range(1, len(self._first) + 1))

    def frames(self, wanted: Sequence[str], unreadable: Unreadable) -> Frames:
        """Read the wanted columns as text."""
        line = 1
        for number, block in enumerate(self._whole_records(unreadable)):
            text = self._text(block)
            ends = Scan(block).count("\n")
            skip = number == 0 and self.has_head
            frame = None if text is None else self._quick(text, wanted, line, ends, skip=skip)
            if frame is None:
                yield from frames_of_rows(
                    self._careful(block, line, unreadable, skip=skip), wanted, unreadable
                )
            else:
                yield frame
            line += ends

    def _whole_records(self, unreadable: Unreadable) -> Iterator[bytes]:
        """Give blocks of whole records: a quoted field may hold line ends."""
        held: list[bytes] = []
        quotes = 0
        for block in blocks(self.path, unreadable, limit_bytes=_LINE_BYTES):
            held.append(block)
            quotes += Scan(block).count('"')
            if quotes % 2 == 0 or sum(map(len, held)) > _OPEN_QUOTE_BYTES:
                yield b"".join(held)
                held, quotes = [], 0
        if held:
            yield b"".join(held)

    def _text(self, block: bytes) -> bytes | None:
        """Give a block as UTF-8; None where it has to be read line by line."""
        if b"\0" in block:
            return None
        if block.isascii():
            return block
        try:
            text = block.decode(self.encoding)
        except UnicodeDecodeError:
            return None
        return block if self.encoding != "cp1252" else text.encode("utf-8")

    def _quick(
        self, text: bytes, wanted: Sequence[str], line: int, ends: int, *, skip: bool
    ) -> pl.DataFrame | None:
        """Read a block of simple lines at once; None where anything in it is odd."""
        scan = Scan(text)
        if not scan.has_only_line_ends() or not scan.is_well_quoted(self.delimiter):
            return None
        frame = self._parsed(text, skip=skip, has_quotes=scan.has_quotes())
        ends += not text.endswith(b"\n")
        if frame is None or (frame.height, frame.width) != (ends - skip, len(self.columns)):
            return None
        # A line with too few fields reads like one whose last fields are empty.
        delimiters = ends * (frame.width - 1)
        if frame[:, -1].null_count() and scan.count_outside_quotes(self.delimiter) != delimiters:
            return None
        chosen = frame.select(wanted)
        if _any(chosen, pl.all().str.len_bytes() > VALUE_CHARACTERS):
            return None
        if scan.has_quotes():  # an empty field in quotes is no value either
            chosen = chosen.with_columns(pl.all().replace("", None))
        return chosen.with_row_index(LINE, offset=line + skip).cast({LINE: pl.Int64})

    def _parsed(self, text: bytes, *, skip: bool, has_quotes: bool) -> pl.DataFrame | None:
        try:
            return pl.read_csv(
                text,
                has_header=False,
                skip_rows=int(skip),
                separator=self.delimiter,
                quote_char='"' if has_quotes else None,
                infer_schema=False,
                new_columns=list(self.columns),
                null_values=[NULL],
                truncate_ragged_lines=False,
            )
        except pl.exceptions.PolarsError:
            return None

    def _careful(self, block: bytes, line: int, unreadable: Unreadable, *, skip: bool) -> Rows:
        """Read a block line by line; what cannot be read is counted with its reason."""
        for number, record in self._records(block, line, unreadable):
            try:
                row = next(csv.reader([record], delimiter=self.delimiter, strict=True), [])
            except csv.Error:
                if "\n" in record:
                    yield from self._line_by_line(record, number, unreadable, skip=skip)
                    skip = False
                    continue
                long = len(record) > VALUE_CHARACTERS
                endless = f"a value of more than {VALUE_CHARACTERS:,} characters"
                unreadable.add(number, endless if long else "broken quotes")
                continue
            if skip:
                skip = False
                continue
            if self._swallowed(row, number, unreadable):
                continue
            if row and self._fits(row, number, record, unreadable):
                texts = [None if text in {"", NULL} else text for text in row]
                yield number, dict(zip(self.columns, texts, strict=True))

    def _line_by_line(
        self, record: str, number: int, unreadable: Unreadable, *, skip: bool
    ) -> Rows:
        """Read the lines of a record whose quotes are broken each by itself."""
        for place, line in enumerate(split_lines(record), start=number):
            yield from self._careful(line.encode(self.encoding), place, unreadable, skip=skip)
            skip = False

    def _records(
        self, block: bytes, line: int, unreadable: Unreadable
    ) -> Iterator[tuple[int, str]]:
        held, started = b"", line
        for number, raw in enumerate(block.splitlines(keepends=True), start=line):
            held, started = (held + raw, started) if held else (raw, number)
            if held.count(b'"') % 2 and len(held) < VALUE_CHARACTERS:
                continue
            record, held = held, b""
            if b"\0" in record:
                unreadable.add(started, why_no_text(record, _LINE_BYTES))
                continue
            try:
                text = record.decode(self.encoding)
            except UnicodeDecodeError as error:
                reason = f"not {self.encoding} at byte {error.start + 1} of the line"
                unreadable.add(started, reason)
                continue
            yield started, text.removeprefix("\ufeff").rstrip("\r\n")
        if held:
            unreadable.add(started, "a quote that is never closed")

    def _swallowed(self, row: list[str], number: int, unreadable: Unreadable) -> bool:
        """Count the lines that two stray quotes have made one field of, each as unreadable.

        A text of several lines is none of these, unless most of its lines look like records.
        """
        if not self.has_head or len(self.columns) < 2:
            return False
        for text in row:
            held = text.split("\n")[1:-1]
            alike = sum(line.count(self.delimiter) == len(self.columns) - 1 for line in held)
            if held and alike > len(held) / 2:
                for place in range(len(held) + 2):
                    unreadable.add(number + place, _SWALLOWED)
                return True
        return False

    def _fits(self, row: list[str], number: int, record: str, unreadable: Unreadable) -> bool:
        expected = len(self.columns)
        if len(row) == expected:
            return True
        reason = f"{len(row)} fields, expected {expected}"
        if len(row) > expected and "$argon2" in record:
            reason += ": an Argon2 value holds commas and needs quotes"
        elif len(row) < expected and not record.endswith(("\n", self.delimiter)):
            reason += ": is this line cut off?"
        unreadable.add(number, reason)
        return False
