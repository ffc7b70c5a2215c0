"""Tables of a SQL database as frames of text."""

from collections.abc import Iterator, Sequence
from contextlib import closing
from functools import cached_property
from typing import TYPE_CHECKING, Any

import polars as pl
import sqlalchemy as sa
from msgspec import Struct
from msgspec.structs import replace

from lean_tumbler.core.audit.cohort_marks import OTHER, holding
from lean_tumbler.core.policy import PLAIN_ROWS, RowSource
from lean_tumbler.core.reading.conditions import Condition
from lean_tumbler.core.reading.rows import CONTROL_SIGNS, text_of
from lean_tumbler.stores.definitions import Declared
from lean_tumbler.stores.files.base import (
    LINE,
    ROWS_PER_FRAME,
    VALUE_CHARACTERS,
    Frames,
    Rows,
    Unreadable,
    frames_of_rows,
)
from lean_tumbler.stores.sql.database import Database, TableName
from lean_tumbler.stores.sql.relation import Relation

if TYPE_CHECKING:
    from lean_tumbler.stores.sql.server import Batches


class DatabaseTable(Struct, frozen=True, dict=True):
    """One table; every value is read as text, whatever its declared type."""

    database: Database
    table: TableName
    columns: tuple[str, ...]
    source: RowSource = PLAIN_ROWS
    stored: str = ""

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

    @cached_property
    def row_key(self) -> tuple[str, ...]:
        """The columns that together name a row: those of the policy, or the primary key."""
        return self.source.key or tuple(self._primary_key())

    @property
    def only_rows(self) -> str:
        """Which rows are read, as a condition; empty for all."""
        return str(self.source.rows or "")

    def only(self, condition: Condition) -> "DatabaseTable":
        """Give the rows alone of which a condition holds."""
        return replace(self, source=replace(self.source, rows=condition))

    @property
    def can_be_paged(self) -> bool:
        """Whether its rows can be named one by one."""
        return bool(self.keys or self.database.server.hidden_key or self._primary_key())

    def _primary_key(self) -> list[str]:
        return self.database.primary_key(self.table)

    @cached_property
    def _relation(self) -> Relation:
        return Relation(self.database, self.table, self.source, stored=self.stored)

    def frames(self, wanted: Sequence[str], unreadable: Unreadable) -> Frames:
        """Read the wanted columns as text, all rows in one consistent view."""
        parts: list[pl.DataFrame] = []
        first = 1
        rows = None if self._relation.is_exact else self.source.rows
        asked = dict.fromkeys((*wanted, *(rows.columns if rows else ())))
        with closing(self._batches(tuple(asked))) as batches:
            for batch in batches:
                read = _frames(batch, first, tuple(asked), unreadable)
                parts.extend(
                    frame if rows is None else self._own(frame, rows, wanted) for frame in read
                )
                first += batch.height
                if sum(part.height for part in parts) >= ROWS_PER_FRAME:
                    yield pl.concat(parts)
                    parts = []
        if parts:
            yield pl.concat(parts)

    def _own(
        self, frame: pl.DataFrame, condition: Condition, wanted: Sequence[str]
    ) -> pl.DataFrame:
        """Keep the rows that are the store's: the server has only narrowed the choice."""
        named = frame.select(
            *(pl.col(name).alias(OTHER + name) for name in condition.columns),
            *(pl.col(self.stored).alias("stored") for _ in (1,) if self.stored in frame.columns),
        )
        return frame.filter(holding(named, condition)).select(LINE, *wanted)

    def _batches(self, wanted: Sequence[str]) -> "Batches":
        """Give rows as the driver gives them, a few at a time; each value is text or bytes."""
        server, relation = self.database.server, self._relation
        as_text = server.is_text_certain(self.database)

        def expression(name: str) -> sa.ColumnElement[Any]:
            is_moving = name == self.stored and relation.is_moving
            if as_text and not is_moving and not relation.is_binary(name):
                return sa.cast(relation.column(name), sa.Text)
            return relation.raw(name)

        query = relation.select(*(expression(name).label(name) for name in wanted))
        return server.batches(self.database, query)


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


def tables_of_database(
    database: Database, wanted: str = "", *, source: RowSource = PLAIN_ROWS, stored: str = ""
) -> list[DatabaseTable]:
    """Find the tables of a database, or the one that is wanted; all, where that is not there.

    Args:
        database: where they are.
        wanted: a table or a view.
        source: what makes up a row of the one that is wanted.
        stored: the column that `source.write_to` takes the place of.
    """
    one = database.table_named(wanted, views=True) if wanted else None
    if one is not None:
        relation = Relation(database, one, source, stored=stored)
        return [DatabaseTable(database, one, tuple(relation.names), source, stored)]
    names = database.tables()
    with database.inspector() as inspector:
        found = {
            table: tuple(
                column["name"] for column in inspector.get_columns(table.name, table.schema)
            )
            for table in names
        }
    return [DatabaseTable(database, name, columns) for name, columns in found.items() if columns]
