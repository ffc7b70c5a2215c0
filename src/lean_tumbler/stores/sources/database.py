"""Tables of a SQL database as frames of text."""

import gc
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import closing, contextmanager
from dataclasses import dataclass, field
from types import MappingProxyType
from typing import Any

import polars as pl
import sqlalchemy as sa

from lean_tumbler.core.reading.rows import CONTROL_SIGNS, text_of
from lean_tumbler.stores.database_errors import database_errors
from lean_tumbler.stores.dialects import DIALECTS, is_binary
from lean_tumbler.stores.schema import Declared, declared_in_database
from lean_tumbler.stores.sources.arrow_batches import (
    Batches,
    is_text_certain,
    postgresql_batches,
    sqlite_batches,
)
from lean_tumbler.stores.sources.base import (
    LINE,
    ROWS_PER_FRAME,
    VALUE_CHARACTERS,
    Frames,
    Rows,
    Unreadable,
    frames_of_rows,
)
from lean_tumbler.stores.sql import tables_of

# Small batches stay in the processor's caches: measured, they are read twice as quickly.
_ROWS_PER_BATCH = 2_000
_NEW_OBJECTS_PER_COLLECTION = 50_000


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

    def _batches(self, wanted: Sequence[str]) -> Batches:
        """Give rows as the driver gives them, a few at a time; each value is text or bytes."""
        with database_errors(self.locator):
            binary = self._binary_columns()
            as_text = is_text_certain(self.engine)
        table = sa.table(self.name, *(sa.column(name) for name in wanted))
        raw = DIALECTS[self.engine.dialect.name].raw

        def expression(name: str) -> sa.ColumnElement[Any]:
            if as_text and name not in binary:
                return sa.cast(table.c[name], sa.Text)
            return raw(table.c[name], name in binary)

        query = sa.select(*(expression(name).label(name) for name in wanted))
        read = _BATCHES.get(self.engine.dialect.name, _cursor_batches)
        return read(self.engine, self.locator, query)

    def _binary_columns(self) -> frozenset[str]:
        return frozenset(
            column["name"]
            for column in sa.inspect(self.engine).get_columns(self.name)
            if is_binary(column["type"])
        )


_BATCHES: Mapping[str, Callable[[sa.Engine, str, sa.Select[Any]], Batches]] = MappingProxyType(
    {"sqlite": sqlite_batches, "postgresql": postgresql_batches}
)


def _cursor_batches(engine: sa.Engine, locator: str, query: sa.Select[Any]) -> Batches:
    """Run a query by the driver's own cursor: a result of SQLAlchemy's takes twice as long."""
    from pymysql.cursors import SSCursor  # noqa: PLC0415 - an extra

    names = list(query.selected_columns.keys())
    driver = engine.dialect.loaded_dbapi
    with database_errors(locator, driver), engine.connect() as connection:
        # Rows stay with the server until they are fetched.
        opened: Any = connection.connection.driver_connection
        with _read_out(opened.cursor(SSCursor), driver) as cursor, _rarely_collecting():
            cursor.execute(str(query.compile(engine)))
            while rows := cursor.fetchmany(_ROWS_PER_BATCH):
                values = zip(names, zip(*rows, strict=True), strict=True)
                yield pl.DataFrame(
                    {name: pl.Series(column, dtype=pl.Binary) for name, column in values}
                )


@contextmanager
def _read_out(cursor: Any, driver: Any) -> Iterator[Any]:
    """Close a cursor, which reads what is left; of a lost connection nothing is, and no error."""
    try:
        yield cursor
    finally:
        try:
            cursor.close()
        except (driver.Error, AttributeError):  # the second where the socket is gone already
            # Else their finalisers would try again.
            unread = getattr(cursor.connection, "_result", None)
            if unread is not None:
                unread.unbuffered_active = False
            cursor.connection = None


@contextmanager
def _rarely_collecting() -> Iterator[None]:
    """Let Python look for cycles less often: rows make none, and looking costs a tenth."""
    usual = gc.get_threshold()
    gc.set_threshold(_NEW_OBJECTS_PER_COLLECTION, *usual[1:])
    try:
        yield
    finally:
        gc.set_threshold(*usual)


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


def tables_of_database(engine: sa.Engine, locator: str) -> list[DatabaseTable]:
    """Find the tables of a database."""
    return [
        DatabaseTable(engine, locator, name, tuple(columns))
        for name, columns in tables_of(engine, locator).items()
        if columns
    ]
