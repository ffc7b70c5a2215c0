"""Files of records: JSON Lines, Parquet, LDIF, and the Unix and web password files."""

import base64
import binascii
from collections.abc import Callable, Iterator, Sequence
from contextlib import closing, contextmanager
from dataclasses import dataclass
from functools import cached_property
from itertools import islice
from pathlib import Path
from typing import Any

import polars as pl

from lean_tumbler.core.audit.discovery import SAMPLE_ROWS
from lean_tumbler.core.reading.rows import text_of
from lean_tumbler.errors import SourceError
from lean_tumbler.stores.formats.base import (
    LINE,
    ROWS_PER_FRAME,
    Frames,
    Rows,
    Schemaless,
    Unreadable,
    entry_rows,
    frames_of_rows,
)
from lean_tumbler.stores.formats.json_fields import as_row
from lean_tumbler.stores.formats.streams import lines
from lean_tumbler.stores.json_text import load_record

_DEPTH = 8  # of structures within structures

_DEPTH = 8  # of structures within structures

RowReader = Callable[[Path, Sequence[str], Unreadable], Rows]


@dataclass(frozen=True)
class RecordTable(Schemaless):
    """A file of records that name their own fields, as one table."""

    path: Path
    read: RowReader

    @property
    def name(self) -> str:
        """The file's name."""
        return self.path.name

    @cached_property
    def columns(self) -> tuple[str, ...]:
        """The fields of the first records, in order of appearance."""
        names: dict[str, None] = {}
        with closing(self.read(self.path, (), Unreadable())) as rows:
            for _, row in islice(rows, SAMPLE_ROWS):
                names.update(dict.fromkeys(row))
        return tuple(names)

    def frames(self, wanted: Sequence[str], unreadable: Unreadable) -> Frames:
        """Read the wanted columns as text."""
        return frames_of_rows(self.read(self.path, wanted, unreadable), wanted, unreadable)


def json_rows(path: Path, _: Sequence[str], unreadable: Unreadable) -> Rows:
    """Read JSON Lines: one object a line."""
    for number, line in lines(path, unreadable):
        if not line.strip():
            continue
        try:
            document = load_record(line)
        except ValueError as error:
            unreadable.add(number, f"no JSON object: {error}")
            continue
        if not isinstance(document, dict):
            unreadable.add(number, "JSON, but not an object")
            continue
        yield number, as_row(document)


# passwd(5) and shadow(5); the web servers' files have login and value, and maybe more.
_PASSWD = ("login", "value", "uid", "gid", "comment", "home", "shell")
_SHADOW = ("login", "value", "changed", "minimum", "maximum", "warning", "inactive", "expires", "")


def account_fields(line: str) -> tuple[Sequence[str], list[str]]:
    """Split an account's line: the names of its fields, and the fields."""
    fields = line.split(":")
    names = {7: _PASSWD, 9: _SHADOW}.get(len(fields))
    if names is None:  # a value may hold colons itself: all after the login is the value
        return _PASSWD[:2], line.split(":", 1)
    return names, fields


def account_rows(path: Path, _: Sequence[str], unreadable: Unreadable) -> Rows:
    """Read lines of `login:value` with whatever colon fields follow."""
    for number, line in lines(path, unreadable):
        if not line.strip() or line.startswith("#"):
            continue
        names, fields = account_fields(line)
        if len(fields) < 2:
            unreadable.add(number, "no colon between login and value")
            continue
        yield number, {name: text for name, text in zip(names, fields, strict=True) if name}


def ldif_rows(path: Path, wanted: Sequence[str], unreadable: Unreadable) -> Rows:
    """Read LDIF (RFC 2849): folded lines, `::` base64, one row for each value of userPassword."""
    entry: dict[str, list[str]] = {}
    started, is_readable = 0, True
    for number, line in _unfolded(path, unreadable):
        if not line:
            if is_readable:
                yield from entry_rows(started, entry)
            entry, is_readable = {}, True
            continue
        if line.startswith("#") or (not entry and line.lower().startswith("version:")):
            continue
        name, colon, value = line.partition(":")
        if not colon:
            unreadable.add(number, "no colon after the attribute's name")
            continue
        name = name.split(";")[0]
        text = attribute_text(value)
        if text is not None:
            started = started if entry else number
            entry.setdefault(name, []).append(text)
        elif name in wanted:  # elsewhere pictures and certificates are no fault
            unreadable.add(number, "base64 that does not decode to UTF-8 text")
            is_readable = False
    if is_readable:
        yield from entry_rows(started, entry)


def _unfolded(path: Path, unreadable: Unreadable) -> Iterator[tuple[int, str]]:
    """Join lines that go on after a blank (RFC 2849, note 2); an empty line ends an entry."""
    held, started = "", 0
    for number, line in lines(path, unreadable):
        if line.startswith(" ") and held:
            held += line[1:]
            continue
        if held:
            yield started, held
        held, started = line, number
        if not line:
            yield number, ""
    if held:
        yield started, held


def attribute_text(value: str) -> str | None:
    """Read what follows an attribute's colon; None where it is not UTF-8 text."""
    if not value.startswith(":"):
        return value.strip()
    try:
        return base64.b64decode(value[1:].strip(), validate=True).decode("utf-8")
    except (binascii.Error, ValueError):
        return None


@contextmanager
def _parquet_errors(path: Path) -> Iterator[None]:
    """Turn Polars' errors into one line: a Parquet file is read whole or not at all."""
    try:
        yield
    except (pl.exceptions.PolarsError, OSError):
        raise SourceError(f"{path}: not a whole Parquet file; copy it again") from None


@dataclass(frozen=True)
class ParquetTable(Schemaless):
    """A Parquet file as one table."""

    path: Path

    @property
    def name(self) -> str:
        """The file's name."""
        return self.path.name

    @cached_property
    def _schema(self) -> dict[str, pl.Expr]:
        """Columns and nested fields of text, with the expression that reads each."""
        found: dict[str, pl.Expr] = {}

        def add(name: str, kind: Any, expression: pl.Expr, depth: int) -> None:
            if isinstance(kind, pl.Struct) and depth < _DEPTH:
                for inner in kind.fields:
                    field = expression.struct.field(inner.name)
                    add(f"{name}.{inner.name}", inner.dtype, field, depth + 1)
            elif not kind.is_nested():
                found[name] = expression.alias(name)

        with _parquet_errors(self.path):
            schema = pl.read_parquet_schema(self.path)
        for name, kind in schema.items():
            add(name, kind, pl.col(name), 0)
        return found

    @property
    def columns(self) -> tuple[str, ...]:
        """The names of its columns; nested fields with dots."""
        return tuple(self._schema)

    def frames(self, wanted: Sequence[str], unreadable: Unreadable) -> Frames:
        """Read the wanted columns as text."""
        del unreadable  # Parquet is read whole or not at all
        scan = pl.scan_parquet(self.path).select(self._schema[name] for name in wanted)
        with _parquet_errors(self.path):
            rows = pl.scan_parquet(self.path).select(pl.len()).collect().item()
            for start in range(0, rows, ROWS_PER_FRAME):
                part = scan.slice(start, ROWS_PER_FRAME).collect()
                texts = pl.col(pl.Binary).map_elements(text_of, return_dtype=pl.String)
                lines = pl.int_range(start + 1, start + 1 + part.height, dtype=pl.Int64, eager=True)
                yield part.with_columns(texts).cast(pl.String).insert_column(0, lines.alias(LINE))
