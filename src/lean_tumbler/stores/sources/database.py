"""Tables of a SQL database as frames of text."""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field

import polars as pl
import sqlalchemy as sa

from lean_tumbler.stores.sources.base import ROWS_PER_FRAME, Row, Unreadable, frames_of_rows
from lean_tumbler.stores.sql import database_errors, tables_of


@dataclass(frozen=True)
class DatabaseTable:
    """One table; every value is read as its bytes, whatever its declared type."""

    engine: sa.Engine = field(repr=False)
    locator: str
    name: str
    columns: tuple[str, ...]

    def frames(self, wanted: Sequence[str], unreadable: Unreadable) -> Iterator[pl.DataFrame]:
        """Read the wanted columns as text, all rows in one consistent view."""
        return frames_of_rows(self._rows(wanted, unreadable), wanted, unreadable)

    def _rows(self, wanted: Sequence[str], unreadable: Unreadable) -> Iterator[Row]:
        table = sa.table(self.name, *(sa.column(name) for name in wanted))
        query = sa.select(*(sa.cast(table.c[name], sa.LargeBinary) for name in wanted))
        number = 0
        with database_errors(self.locator), self.engine.connect() as connection:
            result = connection.execution_options(stream_results=True).execute(query)
            while rows := result.fetchmany(ROWS_PER_FRAME):
                for row in rows:
                    number += 1
                    try:
                        values = [None if raw is None else raw.decode("utf-8") for raw in row]
                    except UnicodeDecodeError:
                        unreadable.add(number, _undecodable(wanted, row))
                        continue
                    yield number, dict(zip(wanted, values, strict=True))


def _undecodable(wanted: Sequence[str], row: Sequence[bytes | None]) -> str:
    """Name the column that is no text; a row number alone finds nothing in a database."""
    for name, raw in zip(wanted, row, strict=True):
        try:
            (raw or b"").decode("utf-8")
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
