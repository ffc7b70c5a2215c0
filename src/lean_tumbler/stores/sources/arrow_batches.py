"""Results of a query in Arrow's layout (arrow.apache.org/adbc): no object for each value."""

import sqlite3
from collections.abc import Generator, Iterator, Mapping
from contextlib import contextmanager
from dataclasses import dataclass, field
from types import MappingProxyType, ModuleType
from typing import Any
from urllib.parse import quote

import adbc_driver_manager as adbc
import nanoarrow
import polars as pl
import sqlalchemy as sa
from nanoarrow._utils import NanoarrowException
from sqlalchemy.dialects import postgresql

from lean_tumbler.stores.database_errors import database_errors
from lean_tumbler.stores.sql import LOCK_SECONDS

Batches = Generator[pl.DataFrame, None, None]

_SQLITE_OPTIONS = MappingProxyType({"adbc.sqlite.query.batch_rows": "50000"})


@dataclass(frozen=True, slots=True)
class _Reading:
    """One query on one connection."""

    driver: ModuleType
    address: str = field(repr=False)  # may hold a password
    options: Mapping[str, str] = field(default_factory=dict)
    before: str = ""

    def batches(self, text: str) -> Batches:
        with (
            self.driver.connect(self.address) as database,
            adbc.AdbcConnection(database) as connection,
            adbc.AdbcStatement(connection) as statement,
        ):
            if self.before:
                statement.set_sql_query(self.before)
                statement.execute_update()
            statement.set_options(**self.options)
            statement.set_sql_query(text)
            handle, _ = statement.execute_query()
            with nanoarrow.ArrayStream(handle) as stream:
                for batch in stream:
                    yield pl.DataFrame(batch)


def sqlite_batches(engine: sa.Engine, locator: str, query: sa.Select[Any]) -> Batches:
    """Run a query on an SQLite file; every value of its result is bytes or null.

    Raises:
        SourceError: the file fails, at the beginning or half-way.
    """
    import adbc_driver_sqlite  # noqa: PLC0415 - only where it is needed

    with database_errors(locator), engine.connect() as connection:
        path = connection.exec_driver_sql("PRAGMA database_list").all()[0][2]
    address = f"file:{quote(path)}?mode=ro"
    wait = f"PRAGMA busy_timeout = {1000 * LOCK_SECONDS}"
    reading = _Reading(adbc_driver_sqlite, address, _SQLITE_OPTIONS, before=wait)
    # The driver takes a column's type from the first rows, so the first of all holds bytes.
    first = ", ".join(f"x'' AS c{number}" for number in range(len(query.selected_columns)))
    text = f"SELECT {first} UNION ALL {query.compile(engine)}"
    with database_errors(locator), _sqlite_errors():
        for number, batch in enumerate(reading.batches(text)):
            yield batch.slice(1) if number == 0 else batch


@contextmanager
def _sqlite_errors() -> Iterator[None]:
    """Raise what Python's own driver would raise."""
    try:
        yield
    except (adbc.Error, NanoarrowException) as error:
        raise sqlite3.OperationalError(str(error)) from None


def postgresql_batches(engine: sa.Engine, locator: str, query: sa.Select[Any]) -> Batches:
    """Run a query on a PostgreSQL server, as its binary COPY.

    Raises:
        SourceError: the server fails, at the beginning or half-way.
    """
    import adbc_driver_postgresql  # noqa: PLC0415 - an extra
    from psycopg.conninfo import make_conninfo  # noqa: PLC0415 - an extra

    url = engine.url
    named = url.translate_connect_args(username="user", database="dbname")
    further = {name: value if isinstance(value, str) else ",".join(value)
               for name, value in url.query.items()}  # fmt: skip
    address = make_conninfo(**{**named, **further, "client_encoding": "UTF8"})
    # With this style of parameters, per cent signs in names stay single.
    text = str(query.compile(dialect=postgresql.dialect(paramstyle="named")))  # type: ignore[no-untyped-call]
    with database_errors(locator, engine.dialect.loaded_dbapi), _postgresql_errors():
        yield from _Reading(adbc_driver_postgresql, address).batches(text)


@contextmanager
def _postgresql_errors() -> Iterator[None]:
    """Raise what the other driver would raise: what the server says is told by its code alone."""
    from psycopg import OperationalError, errors  # noqa: PLC0415 - an extra

    try:
        yield
    except adbc.Error as error:
        if not error.sqlstate:
            raise OperationalError(str(error)) from None
        try:
            kind = errors.lookup(error.sqlstate)
        except KeyError:
            kind = OperationalError
        raise kind(error.sqlstate) from None
    except NanoarrowException:
        raise OperationalError("the query ended half-way") from None


def is_text_certain(engine: sa.Engine) -> bool:
    """Tell whether what a database calls text is UTF-8 when it arrives, so that none is checked.

    PostgreSQL converts and checks text, except in a database that is said to be SQL_ASCII
    (PostgreSQL's manual, section 24.3.4). Asking it for text takes half the time of bytes.
    """
    if engine.dialect.name != "postgresql":
        return False
    with engine.connect() as connection:
        return connection.exec_driver_sql("SHOW server_encoding").scalar() != "SQL_ASCII"
