"""Tables of a SQL database as frames of text."""

import gc
from collections.abc import Generator, Iterable, Iterator, Sequence
from contextlib import closing, contextmanager
from dataclasses import dataclass, field
from typing import Any

import polars as pl
import sqlalchemy as sa

from lean_tumbler.stores.dialects import is_binary
from lean_tumbler.stores.schema import Declared, declared_in_database
from lean_tumbler.stores.sources.base import (
    LINE,
    ROWS_PER_FRAME,
    VALUE_CHARACTERS,
    Frames,
    Rows,
    Unreadable,
    frames_of_rows,
)
from lean_tumbler.stores.sql import database_errors, tables_of

# Small batches stay in the processor's caches: measured, they are read twice as quickly.
_ROWS_PER_BATCH = 2_000
_NEW_OBJECTS_PER_COLLECTION = 50_000
Batch = Sequence[Sequence[object]]


@dataclass(frozen=True)
class DatabaseTable:
    """One table; every value is read as text, whatever its declared type."""

    engine: sa.Engine = field(repr=False)
    locator: str
    name: str
    columns: tuple[str, ...]

    def declared(self, column: str) -> Declared:
        """Say what the schema declares of a column."""
        with database_errors(self.locator):
            return declared_in_database(self.engine, self.name, column)

    def frames(self, wanted: Sequence[str], unreadable: Unreadable) -> Frames:
        """Read the wanted columns as text, all rows in one consistent view."""
        parts: list[pl.DataFrame] = []
        with closing(self._batches(wanted)) as batches:
            for first, rows in batches:
                parts.extend(_frames(rows, first, wanted, unreadable))
                if sum(part.height for part in parts) >= ROWS_PER_FRAME:
                    yield pl.concat(parts)
                    parts = []
        if parts:
            yield pl.concat(parts)

    def _batches(self, wanted: Sequence[str]) -> Generator[tuple[int, Batch], None, None]:
        """Give rows as the driver gives them, a few at a time, with the number of the first."""
        driver = self.engine.dialect.loaded_dbapi
        with database_errors(self.locator, driver), self.engine.connect() as connection:
            binary = self._binary_columns(connection)
            table = sa.table(self.name, *(sa.column(name) for name in wanted))
            query = sa.select(*(self._raw(table.c[name], name in binary) for name in wanted))
            # The driver's own cursor: a result of SQLAlchemy's takes twice as long.
            with closing(_cursor(connection)) as cursor, _rarely_collecting():
                cursor.execute(str(query.compile(self.engine)))
                first = 1
                while rows := cursor.fetchmany(_ROWS_PER_BATCH):
                    yield first, rows
                    first += len(rows)

    def _binary_columns(self, connection: sa.Connection) -> frozenset[str]:
        if connection.dialect.name == "sqlite":
            return frozenset(self.columns)
        return frozenset(
            column["name"]
            for column in sa.inspect(connection).get_columns(self.name)
            if is_binary(column["type"])
        )

    def _raw(self, column: sa.ColumnClause[str], binary: bool) -> sa.ColumnElement[object]:
        """Ask for bytes where the column is binary, or may be, and for text elsewhere."""
        if binary and self.engine.dialect.name == "postgresql":
            return sa.type_coerce(column, sa.LargeBinary)
        return sa.cast(column, sa.LargeBinary if binary else sa.Text)


@contextmanager
def _rarely_collecting() -> Iterator[None]:
    """Let Python look for cycles less often: rows make none, and looking costs a tenth."""
    usual = gc.get_threshold()
    gc.set_threshold(_NEW_OBJECTS_PER_COLLECTION, *usual[1:])
    try:
        yield
    finally:
        gc.set_threshold(*usual)


def _cursor(connection: sa.Connection) -> Any:
    """Open a cursor that leaves the rows with the server until they are fetched."""
    driver: Any = connection.connection.driver_connection
    if connection.dialect.name == "postgresql":
        return driver.cursor(name="audit")
    if connection.dialect.name == "mysql":
        from pymysql.cursors import SSCursor  # noqa: PLC0415 - an extra

        return driver.cursor(SSCursor)
    return driver.cursor()


def _frames(
    rows: Batch, first: int, wanted: Sequence[str], unreadable: Unreadable
) -> Iterator[pl.DataFrame]:
    """Give a batch as a frame; value by value where one of them is odd."""
    columns: list[pl.Series] = []
    for name, values in zip(wanted, zip(*rows, strict=True), strict=True):
        text = _as_text(values)
        if text is None:
            decoded = _decoded(rows, first, wanted, unreadable)
            yield from frames_of_rows(decoded, wanted, unreadable)
            return
        columns.append(text.alias(name))
    lines = pl.int_range(first, first + len(rows), dtype=pl.Int64, eager=True)
    yield pl.DataFrame([lines.alias(LINE), *columns])


def _as_text(values: Sequence[object]) -> pl.Series | None:
    """Give a column at once; None where a value is no text, is too long, or kinds are mixed."""
    kind = next((type(value) for value in values if value is not None), str)
    if kind not in {str, bytes}:
        return None
    try:
        column = pl.Series(values, dtype=pl.String if kind is str else pl.Binary, strict=True)
        text = column.cast(pl.String)
    except (TypeError, pl.exceptions.PolarsError):
        return None
    return None if (text.str.len_bytes() > VALUE_CHARACTERS).any() else text


def _decoded(
    rows: Iterable[Sequence[object]], first: int, wanted: Sequence[str], unreadable: Unreadable
) -> Rows:
    """Read values one by one; a row with one that is no text is counted as unreadable."""
    for number, row in enumerate(rows, start=first):
        try:
            values = [_text(raw) for raw in row]
        except UnicodeDecodeError:
            unreadable.add(number, _undecodable(wanted, row))
            continue
        yield number, dict(zip(wanted, values, strict=True))


def _text(raw: object) -> str | None:
    if isinstance(raw, bytes | memoryview):
        return bytes(raw).decode("utf-8")
    return None if raw is None else str(raw)


def _undecodable(wanted: Sequence[str], row: Iterable[object]) -> str:
    """Name the column that is no text; a row number alone finds nothing in a database."""
    for name, raw in zip(wanted, row, strict=True):
        try:
            _text(raw)
        except UnicodeDecodeError:
            return f"the column {name} is not UTF-8 text"
    return "not UTF-8 text"


def tables_of_database(engine: sa.Engine, locator: str) -> list[DatabaseTable]:
    """Find the tables of a database."""
    return [
        DatabaseTable(engine, locator, name, tuple(columns))
        for name, columns in tables_of(engine, locator).items()
        if columns
    ]
