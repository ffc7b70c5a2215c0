"""Tables of a SQL database as frames of text."""

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field

import sqlalchemy as sa

from lean_tumbler.stores.sources.base import (
    ROWS_PER_FRAME,
    Declared,
    Frames,
    Rows,
    Unreadable,
    frames_of_rows,
)
from lean_tumbler.stores.sources.schema import declared_in_database
from lean_tumbler.stores.sql import database_errors, tables_of


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
        return frames_of_rows(self._rows(wanted, unreadable), wanted, unreadable)

    def _rows(self, wanted: Sequence[str], unreadable: Unreadable) -> Rows:
        number = 0
        with database_errors(self.locator), self.engine.connect() as connection:
            binary = self._binary_columns(connection)
            table = sa.table(self.name, *(sa.column(name) for name in wanted))
            query = sa.select(*(self._raw(table.c[name], name in binary) for name in wanted))
            result = connection.execution_options(stream_results=True).execute(query)
            while rows := result.fetchmany(ROWS_PER_FRAME):
                for row in rows:
                    number += 1
                    try:
                        values = [_text(raw) for raw in row]
                    except UnicodeDecodeError:
                        unreadable.add(number, _undecodable(wanted, row))
                        continue
                    yield number, dict(zip(wanted, values, strict=True))

    def _binary_columns(self, connection: sa.Connection) -> frozenset[str]:
        if connection.dialect.name == "sqlite":
            return frozenset(self.columns)
        return frozenset(
            column["name"]
            for column in sa.inspect(connection).get_columns(self.name)
            if isinstance(column["type"], sa.LargeBinary | sa.types.BINARY | sa.types.VARBINARY)
        )

    def _raw(self, column: sa.ColumnClause[str], is_binary: bool) -> sa.ColumnElement[object]:
        """Ask for bytes where the column is binary, or may be, and for text elsewhere."""
        if is_binary and self.engine.dialect.name == "postgresql":
            return sa.type_coerce(column, sa.LargeBinary)
        return sa.cast(column, sa.LargeBinary if is_binary else sa.Text)


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
