r"""SQL dump text, as the database servers' own dump programs write it.

PostgreSQL: `COPY table (columns) FROM stdin;`, tab-separated lines up to `\.`, with `\N` for NULL
and backslash escapes. MariaDB and MySQL: `INSERT INTO … VALUES (…),(…);` with quoted text,
backslash escapes and `0x` binary; column names from the `CREATE TABLE` before it.
"""

import re
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property
from pathlib import Path

from lean_tumbler.core.reading.rows import text_of
from lean_tumbler.stores.schema import Declared, declared_in_text
from lean_tumbler.stores.sources.base import (
    Frames,
    Row,
    Unreadable,
    frames_of_rows,
)
from lean_tumbler.stores.sources.streams import lines

STATEMENT_BYTES = 1 << 28  # dump programs put thousands of rows into one line

_NAME = r'(?:[`"\[]?[\w$]+[`"\]]?\.)?[`"\[]?(?P<table>[\w$]+)[`"\]]?'
_COPY = re.compile(rf"COPY {_NAME} \((?P<columns>[^)]*)\) FROM stdin;", re.IGNORECASE)
_CREATE = re.compile(rf"CREATE TABLE (?:IF NOT EXISTS )?{_NAME} *\(", re.IGNORECASE)
_INSERT = re.compile(
    rf"INSERT (?:IGNORE )?INTO {_NAME} *(?:\((?P<columns>[^)]*)\))? *VALUES *", re.IGNORECASE
)
_COLUMN = re.compile(r'\s*[`"\[]?(?P<name>[\w$]+)[`"\]]?\s+(?P<type>[A-Za-z]+)')
_KEYWORDS = frozenset(
    {"primary", "key", "unique", "constraint", "foreign", "check", "index", "fulltext", "exclude"}
)
_COPY_ESCAPES = {"b": "\b", "f": "\f", "n": "\n", "r": "\r", "t": "\t", "v": "\v"}
_TEXT_ESCAPES = {"0": "\0", "n": "\n", "r": "\r", "t": "\t", "Z": "\x1a", "b": "\b"}
_COPY_ESCAPED = re.compile(r"\\([bfnrtv\\]|[0-7]{1,3}|x[0-9a-fA-F]{1,2})")
_VALUE = re.compile(
    r"\s*(?:(?P<prefix>_binary\s+|[NEX](?='))?'(?P<text>(?:[^'\\]|\\.|'')*)'"
    r"|0x(?P<hex>[0-9a-fA-F]*)|(?P<word>[^\s,()']+))\s*(?P<end>[,)])",
    re.DOTALL,
)
_BINARY_HEX = re.compile(r"\\x((?:[0-9a-f]{2})*)")


@dataclass(slots=True)
class _Reading:
    """Where one pass through a dump is."""

    columns: dict[str, tuple[str, ...]] = field(default_factory=dict)
    definitions: dict[str, dict[str, str]] = field(default_factory=dict)
    options: dict[str, str] = field(default_factory=dict)
    copying: str | None = None
    creating: str | None = None
    statement: list[str] = field(default_factory=list)
    statement_line: int = 0


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

    return _binary(_COPY_ESCAPED.sub(one, text) if "\\" in text else text)


def _binary(text: str) -> str:
    r"""Turn PostgreSQL's `\x` form of binary into its text where it is text."""
    match = _BINARY_HEX.fullmatch(text)
    return _hex_text(match[1]) if match else text


def _hex_text(digits: str) -> str:
    """Give the text that hexadecimal binary holds; half a byte more is no binary."""
    return text_of(bytes.fromhex(digits)) if len(digits) % 2 == 0 else "0x" + digits


def _unquote(text: str) -> str:
    unescaped = re.sub(
        r"\\(.)", lambda match: _TEXT_ESCAPES.get(match[1], match[1]), text, flags=re.DOTALL
    )
    return unescaped.replace("''", "'")


def dump_rows(
    path: Path, unreadable: Unreadable, reading: _Reading | None = None
) -> Iterator[tuple[str, Row]]:
    """Read every row of every table of a dump, with its table's name."""
    reading = reading or _Reading()
    for number, line in lines(path, unreadable, limit_bytes=STATEMENT_BYTES):
        if reading.copying is not None:
            yield from _copied(reading, number, line, unreadable)
        elif reading.statement or _INSERT.match(line):
            yield from _inserted(reading, number, line, unreadable)
        else:
            _definition(reading, line)
    if reading.copying is not None or reading.statement:
        unreadable.cut_off = True
    if reading.statement:
        yield from _statement_rows(reading, unreadable)


def _names(text: str) -> tuple[str, ...]:
    return tuple(name.strip().strip('`"[]') for name in text.split(","))


def _definition(reading: _Reading, line: str) -> None:
    copy, create = _COPY.match(line), _CREATE.match(line)
    if copy:
        reading.copying = copy["table"]
        reading.columns[copy["table"]] = _names(copy["columns"])
    elif create:
        reading.creating = create["table"]
        reading.columns[create["table"]] = ()
    elif reading.creating is not None:
        column = _COLUMN.match(line)
        if line.startswith(")"):
            reading.options[reading.creating] = line
            reading.creating = None
        elif column and column["name"].lower() not in _KEYWORDS:
            reading.columns[reading.creating] += (column["name"],)
            definition = line[column.start("type") :]
            reading.definitions.setdefault(reading.creating, {})[column["name"]] = definition


def _copied(
    reading: _Reading, number: int, line: str, unreadable: Unreadable
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


def _inserted(
    reading: _Reading, number: int, line: str, unreadable: Unreadable
) -> Iterator[tuple[str, Row]]:
    if not reading.statement:
        reading.statement_line = number
    reading.statement.append(line)
    if line.rstrip().endswith(";"):
        yield from _statement_rows(reading, unreadable)


def _statement_rows(reading: _Reading, unreadable: Unreadable) -> Iterator[tuple[str, Row]]:
    """Give the rows of the statement that is held, and let go of it."""
    statement, reading.statement = "\n".join(reading.statement), []
    match = _INSERT.match(statement)
    if match is None:
        return
    table, line = match["table"], reading.statement_line
    names = _names(match["columns"]) if match["columns"] else reading.columns.get(table, ())
    for values in _tuples(statement, match.end(), line, unreadable):
        if names and len(names) != len(values):
            unreadable.add(line, f"{len(values)} values, expected {len(names)}")
            continue
        named = names or tuple(f"column_{place}" for place in range(1, len(values) + 1))
        yield table, (line, dict(zip(named, values, strict=True)))


def _tuples(
    statement: str, at: int, line: int, unreadable: Unreadable
) -> Iterator[list[str | None]]:
    while (opening := statement.find("(", at)) >= 0:
        values: list[str | None] = []
        at = opening + 1
        while True:
            match = _VALUE.match(statement, at)
            if match is None:
                unreadable.add(line, "values that are not written to their end")
                return
            values.append(_literal(match))
            at = match.end()
            if match["end"] == ")":
                break
        yield values


def _literal(match: re.Match[str]) -> str | None:
    if match["text"] is not None:
        text = _unquote(match["text"])
        return _hex_text(text) if (match["prefix"] or "") == "X" else _binary(text)
    if match["hex"] is not None:
        return _hex_text(match["hex"])
    return None if match["word"].upper() == "NULL" else match["word"]


@dataclass(frozen=True)
class DumpedTable:
    """One table of a dump."""

    path: Path
    name: str
    columns: tuple[str, ...]
    definitions: Mapping[str, str]
    options: str

    def declared(self, column: str) -> Declared:
        """Say what the schema declares of a column."""
        return declared_in_text(self.definitions.get(column, ""), self.options)

    def frames(self, wanted: Sequence[str], unreadable: Unreadable) -> Frames:
        """Read the wanted columns as text."""
        rows = (row for table, row in dump_rows(self.path, unreadable) if table == self.name)
        return frames_of_rows(rows, wanted, unreadable)


@dataclass(frozen=True)
class Dump:
    """A dump file: finds its tables in one pass."""

    path: Path

    @cached_property
    def tables(self) -> tuple[DumpedTable, ...]:
        """The tables that hold rows."""
        columns: dict[str, dict[str, None]] = {}
        reading = _Reading()
        for table, (_, row) in dump_rows(self.path, Unreadable(), reading):
            columns.setdefault(table, {}).update(dict.fromkeys(row))
        return tuple(
            DumpedTable(
                self.path,
                table,
                tuple(names),
                reading.definitions.get(table, {}),
                reading.options.get(table, ""),
            )
            for table, names in columns.items()
        )
