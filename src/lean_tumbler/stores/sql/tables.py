"""Tables of a SQL database as frames of text."""

from collections.abc import Iterator, Sequence
from contextlib import closing
from dataclasses import dataclass
from functools import cached_property
from typing import TYPE_CHECKING, Any

import polars as pl
import sqlalchemy as sa

from lean_tumbler.core.reading.rows import CONTROL_SIGNS, text_of
from lean_tumbler.stores.files.base import (
    LINE,
    ROWS_PER_FRAME,
    VALUE_CHARACTERS,
    Frames,
    Rows,
    Unreadable,
    frames_of_rows,
)
from lean_tumbler.stores.sql.server import Database, Declared, TableName, is_binary

if TYPE_CHECKING:
    from lean_tumbler.stores.sql.server import Batches


@dataclass(frozen=True)
class DatabaseTable:
    """One table; every value is read as text, whatever its declared type."""

    database: Database
    table: TableName
    columns: tuple[str, ...]

    @property
    def name(self) -> str:
        """Its name, with its schema's where that is another than usual."""
        return str(self.table)

    def declared(self, column: str) -> Declared:
        """Say what the schema declares of a column."""
        return self.database.server.declared(self.database, self.table, column)

    @cached_property
    def keys(self) -> tuple[str, ...]:
        """The columns that each name a row alone, the primary key first."""
        return tuple(self.database.keys(self.table))

    @property
    def can_be_paged(self) -> bool:
        """Whether its rows can be named one by one."""
        return bool(self.keys or self.database.server.hidden_key)

    def frames(self, wanted: Sequence[str], unreadable: Unreadable) -> Frames:
        """Read the wanted columns as text, all rows in one consistent view."""
        parts: list[pl.DataFrame] = []
        first = 1
        with closing(self._batches(wanted)) as batches:
            for batch in batches:
                parts.extend(_frames(batch, first, wanted, unreadable))
                first += batch.height
                if sum(part.height for part in parts) >= ROWS_PER_FRAME:
                    yield pl.concat(parts)
                    parts = []
        if parts:
            yield pl.concat(parts)

    def _batches(self, wanted: Sequence[str]) -> "Batches":
        """Give rows as the driver gives them, a few at a time; each value is text or bytes."""
        server = self.database.server
        binary = self._binary_columns()
        as_text = server.is_text_certain(self.database)
        table = sa.table(
            self.table.name, *(sa.column(name) for name in wanted), schema=self.table.schema
        )

        def expression(name: str) -> sa.ColumnElement[Any]:
            if as_text and name not in binary:
                return sa.cast(table.c[name], sa.Text)
            return server.raw(table.c[name], name in binary)

        query = sa.select(*(expression(name).label(name) for name in wanted))
        return server.batches(self.database, query)

    def _binary_columns(self) -> frozenset[str]:
        with self.database.inspector() as inspector:
            columns = inspector.get_columns(self.table.name, self.table.schema)
        return frozenset(column["name"] for column in columns if is_binary(column["type"]))


def _frames(
    batch: pl.DataFrame, first: int, wanted: Sequence[str], unreadable: Unreadable
) -> Iterator[pl.DataFrame]:
    """Give a batch as a frame of text; value by value where one of them is odd."""
    batch.columns = list(wanted)
    try:
        text = batch.cast(pl.String)
        is_long = pl.all().str.len_bytes() > VALUE_CHARACTERS
        odd = text.select((is_long | pl.all().str.contains(CONTROL_SIGNS)).any()).row(0)
    except pl.exceptions.PolarsError:
        odd = (True,)
    if any(odd):
        yield from frames_of_rows(_decoded(batch, first), wanted, unreadable)
        return
    lines = pl.int_range(first, first + batch.height, dtype=pl.Int64, eager=True)
    yield text.select(lines.alias(LINE), pl.all())


def _decoded(batch: pl.DataFrame, first: int) -> Rows:
    """Read values one by one; bytes that are no text are printed."""
    for number, row in enumerate(batch.iter_rows(named=True), start=first):
        yield number, {name: _text(raw) for name, raw in row.items()}


def _text(raw: str | bytes | None) -> str | None:
    if raw is None:
        return None
    return text_of(raw if isinstance(raw, bytes) else raw.encode("utf-8"))


def tables_of_database(database: Database, wanted: str = "") -> list[DatabaseTable]:
    """Find the tables of a database, or the one that is wanted; all, where that is not there."""
    one = database.table_named(wanted) if wanted else None
    names = database.tables() if one is None else [one]
    with database.inspector() as inspector:
        found = {
            table: tuple(
                column["name"] for column in inspector.get_columns(table.name, table.schema)
            )
            for table in names
        }
    return [DatabaseTable(database, name, columns) for name, columns in found.items() if columns]
