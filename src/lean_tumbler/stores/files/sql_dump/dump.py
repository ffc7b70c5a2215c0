r"""SQL dump text, as the database servers' own dump programs write it.

PostgreSQL: `COPY table (columns) FROM stdin;`, tab-separated lines up to `\.`, with `\N` for NULL
and backslash escapes. MariaDB and MySQL: `INSERT INTO … VALUES (…),(…);` with quoted text,
backslash escapes and `0x` binary; column names from the `CREATE TABLE` before it.
"""

import re
import sys
from collections.abc import Iterator, Mapping, Sequence
from functools import cached_property
from pathlib import Path

from msgspec import Struct, field

from lean_tumbler.stores.definitions import Declared, declared_in_text
from lean_tumbler.stores.files.base import (
    FileFormat,
    Frames,
    Row,
    Rows,
    Unreadable,
    frames_of_rows,
)
from lean_tumbler.stores.files.sql_dump import statements
from lean_tumbler.stores.files.streams import lines

STATEMENT_BYTES = 1 << 28  # dump programs put thousands of rows into one line

_COPY = re.compile(
    rf"COPY (?:ONLY )?{statements.NAME}\s*\((?P<columns>[^)]*)\)\s+FROM stdin\s*;", re.IGNORECASE
)
_COPY_OTHERWISE = re.compile(r"\s*COPY\b.*\bFROM\s+STDIN\b", re.IGNORECASE)
_CREATE = re.compile(
    rf"\s*CREATE (?:TEMPORARY |UNLOGGED )?TABLE (?:IF NOT EXISTS )?{statements.NAME}\s*\(",
    re.IGNORECASE,
)
_COLUMN = re.compile(r'\s*(?P<name>`[^`]+`|"[^"]+"|\[[^\]]+\]|[\w$]+)\s+(?P<type>[A-Za-z]+)')
_KEYWORDS = frozenset(
    {"primary", "key", "unique", "constraint", "foreign", "check", "index", "fulltext", "exclude"}
)
_COPY_ESCAPES = {"b": "\b", "f": "\f", "n": "\n", "r": "\r", "t": "\t", "v": "\v"}
_COPY_ESCAPED = re.compile(r"\\([bfnrtv\\]|[0-7]{1,3}|x[0-9a-fA-F]{1,2})")
# Bodies of functions, which run nothing when the dump is read in.
_BODY = re.compile(r"\b(?:AS|DO)\s+(?P<tag>\$\w*\$)(?P<rest>.*)", re.IGNORECASE)
_DELIMITER = re.compile(r"\s*DELIMITER\s+(?P<sign>\S+)", re.IGNORECASE)
_NEW_DELIMITER = "DELIMITER ;"
_OTHERWISE = "a statement that writes rows in a form that is not read"
_COPY_LINE = "a line of a COPY in a form that is not read"


_DUMP = re.compile(
    r"^\s*(?:(?:INSERT|REPLACE)\b(?: \w+)*? INTO |CREATE TABLE |COPY \S+.* FROM stdin\b)",
    re.IGNORECASE | re.MULTILINE,
)


class DumpReading(Struct):
    """Where one pass through a dump is."""

    columns: dict[str, tuple[str, ...]] = field(default_factory=dict)
    definitions: dict[str, dict[str, str]] = field(default_factory=dict)
    options: dict[str, str] = field(default_factory=dict)
    copying: str | None = None
    skipping: bool = False
    body_ends: str = ""
    creating: str | None = None
    statement: list[str] = field(default_factory=list)
    statement_line: int = 0

    @property
    def is_within(self) -> bool:
        """Whether what has begun goes on in the next line."""
        begun = self.copying is not None or self.skipping or self.creating is not None
        return begun or bool(self.body_ends or self.statement)


def _unescape_copy(text: str) -> str | None:
    if text == r"\N":
        return None

    def one(match: re.Match[str]) -> str:
        code = match[1]
        if code in _COPY_ESCAPES:
            return _COPY_ESCAPES[code]
        if code[0] == "x":
            return chr(int(code[1:], 16))
        return chr(int(code, 8) & 0xFF) if code[0].isdigit() else "\\"

    return statements.binary_text(_COPY_ESCAPED.sub(one, text) if "\\" in text else text)


def take_line(
    reading: DumpReading, number: int, line: str, unreadable: Unreadable
) -> Iterator[tuple[str, Row]]:
    """Take up one line; give the rows that end with it."""
    if reading.copying is not None:
        yield from _copied(reading, number, line, unreadable)
    elif reading.skipping:
        reading.skipping = line != r"\."
        if reading.skipping:
            unreadable.add(number, _COPY_LINE)
    elif reading.statement:
        reading.statement.append(line)
        if line.rstrip().endswith(";"):
            yield from _statements(reading, unreadable)
    else:
        yield from _begun(reading, number, line, unreadable)


def take_end(reading: DumpReading, unreadable: Unreadable) -> Iterator[tuple[str, Row]]:
    """Give what is held at the end of the file."""
    if reading.copying is not None or reading.skipping or reading.statement:
        unreadable.cut_off = True
    if reading.statement:
        reading.statement.append(";")
        yield from _statements(reading, unreadable, is_last=True)


def _begun(
    reading: DumpReading, number: int, line: str, unreadable: Unreadable
) -> Iterator[tuple[str, Row]]:
    """Take up a line at which a statement may begin."""
    if _is_in_body(reading, line):
        return
    if _COPY.match(line) or reading.creating is not None or _CREATE.match(line):
        _definition(reading, line)
    if _COPY.match(line):
        return
    if _COPY_OTHERWISE.match(line):
        unreadable.add(number, _OTHERWISE)
        reading.skipping = True
    elif statements.WRITING.match(line) or (
        ";" in line and any(map(statements.WRITING.match, statements.each_statement(line)))
    ):
        reading.statement, reading.statement_line = [line], number
        if line.rstrip().endswith(";"):
            yield from _statements(reading, unreadable)


def _is_in_body(reading: DumpReading, line: str) -> bool:
    """Tell a line of a function's or trigger's body, as two kinds of servers write them."""
    delimiter = _DELIMITER.match(line)
    if delimiter:
        reading.body_ends = "" if delimiter["sign"] == ";" else _NEW_DELIMITER
        return True
    if reading.body_ends:
        if reading.body_ends in line:
            reading.body_ends = ""
        return True
    body = None if statements.WRITING.match(line) else _BODY.search(line)
    if body is not None and body["tag"] not in body["rest"]:
        reading.body_ends = body["tag"]
    return body is not None


def _statements(
    reading: DumpReading, unreadable: Unreadable, *, is_last: bool = False
) -> Iterator[tuple[str, Row]]:
    """Give the rows of the statements that are held; what goes on in the next line stays held."""
    held, line = "\n".join(reading.statement), reading.statement_line
    reading.statement = []
    while held.strip():
        match = statements.INSERT.match(held)
        refused: list[str] = []
        try:
            if match is not None:
                rows, held = statements.inserted(held, match, refused.append)
            else:
                held = _other(reading, held, line, unreadable)
                continue
        except statements.NotWhole:
            if not is_last:
                reading.statement = [held]
            else:
                unreadable.add(line, "values that are not written to their end")
            return
        for reason in refused:
            unreadable.add(line, reason)
        yield from _named(reading, match, rows, line, unreadable)


def _other(reading: DumpReading, held: str, line: int, unreadable: Unreadable) -> str:
    """Pass over a statement that is no INSERT, counting it where it writes; give what follows."""
    first = next(statements.each_statement(held))
    if statements.writes_rows(first, tuple(reading.columns)):
        unreadable.add(line, _OTHERWISE)
    return held[len(first) :]


def _named(
    reading: DumpReading,
    match: re.Match[str],
    rows: list[list[str | None]],
    line: int,
    unreadable: Unreadable,
) -> Iterator[tuple[str, Row]]:
    """Give rows under the names of their columns."""
    table = statements.table_of(match)
    names = (
        statements.names_of(match["columns"])
        if match["columns"]
        else reading.columns.get(table, ())
    )
    for values in rows:
        if names and len(names) != len(values):
            unreadable.add(line, f"{len(values)} values, expected {len(names)}")
            continue
        named = names or tuple(f"column_{place}" for place in range(1, len(values) + 1))
        yield table, (line, dict(zip(named, values, strict=True)))


def _definition(reading: DumpReading, line: str) -> None:
    copy, create = _COPY.match(line), _CREATE.match(line)
    if copy:
        reading.copying = statements.table_of(copy)
        reading.columns[statements.table_of(copy)] = statements.names_of(copy["columns"])
    elif create:
        reading.creating = statements.table_of(create)
        reading.columns[statements.table_of(create)] = ()
        if line.rstrip().endswith(";"):
            reading.creating = None
    elif reading.creating is not None:
        column = _COLUMN.match(line)
        if line.startswith(")"):
            reading.options[reading.creating] = line
            reading.creating = None
        elif column and column["name"].lower() not in _KEYWORDS:
            name = column["name"].strip('`"[]')
            reading.columns[reading.creating] += (name,)
            definition = line[column.start("type") :]
            reading.definitions.setdefault(reading.creating, {})[name] = definition


def _copied(
    reading: DumpReading, number: int, line: str, unreadable: Unreadable
) -> Iterator[tuple[str, Row]]:
    table = reading.copying or ""
    if line == r"\.":
        reading.copying = None
        return
    names, values = reading.columns[table], line.split("\t")
    if len(names) != len(values):
        unreadable.add(number, f"{len(values)} fields, expected {len(names)}")
        return
    texts = [_unescape_copy(value) for value in values]
    yield table, (number, dict(zip(names, texts, strict=True)))


class _Places(Struct):
    """Where a table is written: lines from which, and through which, it is read again."""

    lines: list[tuple[int, int]] = field(default_factory=list)

    def add(self, first: int, last: int) -> None:
        """Add lines behind the others."""
        if self.lines and first <= self.lines[-1][1] + 1:
            first, _ = self.lines.pop()
        self.lines.append((first, last))


class _Index(Struct, frozen=True):
    """What one pass through a dump found."""

    places: Mapping[str, _Places]  # of each table that is defined or filled
    columns: Mapping[str, Mapping[str, None]]  # of each table that holds rows
    # what was not read, by the tables that it stood among; in none, it stood alone
    unreadable: Mapping[frozenset[str], Unreadable]
    reading: DumpReading  # the definitions


def _indexed(path: Path) -> _Index:
    reading = DumpReading()
    places: dict[str, _Places] = {}
    columns: dict[str, dict[str, None]] = {}
    unreadable: dict[frozenset[str], Unreadable] = {}
    first, last, tables, found = 1, 0, set[str](), Unreadable()

    def take(rows: Iterator[tuple[str, Row]]) -> None:
        for table, (_, row) in rows:
            tables.add(table)
            columns.setdefault(table, {}).update(dict.fromkeys(row))

    def end(through: int) -> None:
        for table in tables:
            places.setdefault(table, _Places()).add(first, through)
        if found.rows:
            unreadable.setdefault(frozenset(tables), Unreadable()).take_in(found)

    for last, line in lines(path, Unreadable(), limit_bytes=STATEMENT_BYTES):
        if not reading.is_within:
            first, tables, found = last, set(), Unreadable()
        take(take_line(reading, last, line, found))
        tables.update(filter(None, (reading.creating, reading.copying)))
        if not reading.is_within:
            tables.update(_defined_in(line))
            end(last)
    if reading.is_within:
        take(take_end(reading, found))
        end(sys.maxsize)
    return _Index(places, columns, unreadable, reading)


def _defined_in(line: str) -> Iterator[str]:
    """Name the table that a line defines by itself."""
    create = _CREATE.match(line)
    if create:
        yield statements.table_of(create)


class DumpedTable(Struct, frozen=True):
    """One table of a dump; of the file, its own lines alone are taken apart."""

    path: Path
    name: str
    index: _Index

    @property
    def columns(self) -> tuple[str, ...]:
        """The names of its columns."""
        return tuple(self.index.columns[self.name])

    @property
    def keys(self) -> tuple[str, ...]:
        """Name no keys; a dump's rows are numbered."""
        return ()

    @property
    def row_key(self) -> tuple[str, ...]:
        """Name none."""
        return ()

    def declared(self, column: str) -> Declared:
        """Say what the schema declares of a column."""
        reading = self.index.reading
        definition = reading.definitions.get(self.name, {}).get(column, "")
        return declared_in_text(definition, reading.options.get(self.name, ""))

    def frames(self, wanted: Sequence[str], unreadable: Unreadable) -> Frames:
        """Read the wanted columns as text."""
        return frames_of_rows(self._rows(unreadable), wanted, unreadable)

    def _rows(self, unreadable: Unreadable) -> Rows:
        reading = DumpReading()
        for number, line in self._lines(unreadable):
            for table, row in take_line(reading, number, line, unreadable):
                if table == self.name:
                    yield row
        for table, row in take_end(reading, unreadable):
            if table == self.name:
                yield row
        for tables, found in self.index.unreadable.items():
            if self.name not in tables:
                unreadable.take_in(found)

    def _lines(self, unreadable: Unreadable) -> Iterator[tuple[int, str]]:
        places = iter(self.index.places[self.name].lines)
        first, last = next(places)
        for number, line in lines(self.path, unreadable, limit_bytes=STATEMENT_BYTES):
            while number > last:
                first, last = next(places, (sys.maxsize, sys.maxsize))
            if first <= number:
                yield number, line


class Dump(Struct, frozen=True, dict=True):
    """A dump file: it is taken apart once, and each table's lines once more."""

    path: Path

    @cached_property
    def tables(self) -> tuple[DumpedTable, ...]:
        """The tables that hold rows."""
        index = _indexed(self.path)
        return tuple(DumpedTable(self.path, table, index) for table in index.columns)


FORMAT = FileFormat(
    recognises=lambda beginning: _DUMP.search(beginning.text) is not None,
    tables=lambda path: list(Dump(path).tables),
)
