"""SQLite: a file, which one program writes at a time."""

import re
import sqlite3
from collections.abc import Iterator
from contextlib import AbstractContextManager, contextmanager
from pathlib import Path
from typing import TYPE_CHECKING, Any
from urllib.parse import quote

import sqlalchemy as sa
from sqlalchemy import event
from sqlalchemy.pool import ConnectionPoolEntry

from lean_tumbler.core.policy import StoragePolicy
from lean_tumbler.core.stored_forms import sqlite_condition
from lean_tumbler.errors import SourceError
from lean_tumbler.stores.definitions import Declared, declared_in_text
from lean_tumbler.stores.file_access import file_errors
from lean_tumbler.stores.interface import LOCK_SECONDS
from lean_tumbler.stores.sql.database import AS_TEXT, Database, TableName
from lean_tumbler.stores.sql.errors import Meaning, database_errors, first_line
from lean_tumbler.stores.sql.recognition import SQLITE_HEADER
from lean_tumbler.stores.sql.server import (
    GUARD,
    CatalogueQueries,
    Column,
    Expression,
    Guard,
    GuardedColumn,
    Server,
    one_after_the_other,
)

if TYPE_CHECKING:
    from lean_tumbler.stores.sql.server import Batches

_HEADER_BYTES = 100
WRITES = "lean_tumbler_writes"  # marks a connection whose transaction will write
_BATCH_ROWS = "50000"


def _require_whole(path: Path) -> None:
    """Refuse what is no SQLite database, or only the beginning of one.

    The header holds the page size at byte 16 (1 stands for 65,536) and the number of pages at
    byte 28, which is valid where the change counters at 24 and 92 agree (section 1.3.8).
    """
    with file_errors(path):
        size = path.stat().st_size
        with path.open("rb") as file:
            header = file.read(_HEADER_BYTES)
    if header[: len(SQLITE_HEADER)] != SQLITE_HEADER or len(header) < _HEADER_BYTES:
        raise SourceError(f"{path}: not an SQLite database")
    page_bytes = int.from_bytes(header[16:18], "big")
    page_bytes = 65_536 if page_bytes == 1 else page_bytes
    pages = int.from_bytes(header[28:32], "big")
    if header[24:28] == header[92:96] and size < pages * page_bytes:
        raise SourceError(
            f"{path}: cut off: {size:,} bytes of {pages * page_bytes:,}; copy it again"
        )


def open_sqlite(
    path: Path, *, writable: bool, lock_seconds: int = LOCK_SECONDS, locator: str = ""
) -> Database:
    """Open an SQLite file; it must exist, and reading never writes to it.

    Args:
        path: of the file.
        writable: whether it will be written to.
        lock_seconds: how long to wait for another program's lock.
        locator: what messages call it; the path, where it is empty.

    Raises:
        SourceError: the file is not there, not readable, cut off, or no SQLite database.
    """
    _require_whole(path)
    mode = "rw" if writable else "ro"
    address = f"file:{quote(str(path.resolve()))}?mode={mode}"
    # A writer comes back for many short transactions, from any thread, one at a time.
    pool: dict[str, Any] = (
        {"poolclass": sa.pool.QueuePool, "max_overflow": -1}
        if writable
        else {"poolclass": sa.pool.NullPool}
    )
    engine = sa.create_engine(
        "sqlite://",
        creator=lambda: sqlite3.connect(
            address, uri=True, timeout=lock_seconds, check_same_thread=not writable
        ),
        **pool,
    )

    @event.listens_for(engine, "connect")
    def _leave_transactions_to_us(connection: sqlite3.Connection, _: ConnectionPoolEntry) -> None:
        connection.isolation_level = None

    @event.listens_for(engine, "begin")
    def _begin(connection: sa.Connection) -> None:
        # A writer takes its lock at once: upgrading a read lock later can fail without waiting.
        # A statement that reads by itself needs no more.
        if connection.get_execution_options().get(WRITES, False):
            connection.exec_driver_sql("BEGIN IMMEDIATE")

    return Database(engine, locator or str(path), SERVER)


def _raw(column: Column, _: bool) -> Expression:
    # A column may hold text and bytes side by side, whatever its declared type.
    return sa.cast(column, sa.LargeBinary)


def meaning(cause: Exception) -> Meaning | None:
    """Say what an error means; SQLite's messages name tables, columns and files, and no values."""
    if not isinstance(cause, sqlite3.Error):
        return None
    text = first_line(cause)
    locked = "locked" in text
    return Meaning(
        text + (" (locked by another program; run again)" if locked else ""), may_pass=locked
    )


def sqlite_errors(locator: str) -> AbstractContextManager[None]:
    """Turn the errors of Python's own driver, used by itself, into one clear line."""
    return database_errors(locator, meaning, sqlite3)  # type: ignore[arg-type] # it is such a module


def _declared(database: Database, table: TableName, column: str) -> Declared:
    """SQLite declares widths, but does not keep to them; only the collation counts."""
    query = sa.text("SELECT sql FROM sqlite_master WHERE type = 'table' AND name = :table")
    with database.connect() as connection:
        statement = connection.execute(query, {"table": table.name}).scalar() or ""
    found = re.search(
        rf"[(,]\s*[\"`\[]?{re.escape(column)}[\"`\]]?\s(?P<definition>[^,]*)",
        statement,
        re.IGNORECASE,
    )
    return Declared(collation=declared_in_text(found["definition"] if found else "").collation)


_AROUND = CatalogueQueries(
    lists={
        "triggers": "SELECT name FROM sqlite_master WHERE type = 'trigger' AND tbl_name = :name"
        " AND name NOT LIKE :guard",
        "views": "SELECT name FROM sqlite_master WHERE type = 'view'"
        " AND instr(lower(sql), lower(:name)) > 0",
        "generated": "SELECT name FROM pragma_table_xinfo(:name) WHERE hidden IN (2, 3)",
    },
)


def _guard(names: GuardedColumn, policy: StoragePolicy) -> Guard:
    def admits(value: str) -> str:
        return sqlite_condition(f"CAST({value} AS TEXT)", policy)

    refused = names.refuses(admits(f"NEW.{names.column}"), "NEW.")
    columns = ", ".join(filter(None, (names.column, names.left_behind, *names.beside)))
    raised = f"SELECT RAISE(ABORT, '{GUARD}: only the stored forms that the policy admits');"
    triggers = tuple(
        f"CREATE TRIGGER {GUARD}_{event.lower()} BEFORE {event}{of} ON {names.table} FOR EACH ROW "
        f"WHEN {refused} BEGIN {raised} END;"
        for event, of in (("INSERT", ""), ("UPDATE", f" OF {columns}"))
    )
    exists = (
        "SELECT 1 FROM sqlite_master WHERE type = 'trigger'"  # noqa: S608 - quoted names
        f" AND name IN ('{GUARD}_insert', '{GUARD}_update') AND tbl_name = '{names.table_text}'"
    )
    return Guard(
        refuses=names.refuses(admits(names.column)),
        apply=triggers,
        remove=(
            f"DROP TRIGGER IF EXISTS {GUARD}_insert;",
            f"DROP TRIGGER IF EXISTS {GUARD}_update;",
        ),
        locks="the file, briefly; SQLite cannot add a CHECK without rebuilding the table, so two "
        "triggers are used.",
        stands=f"{exists} GROUP BY tbl_name HAVING COUNT(*) = 2",
        exists=exists,
        together=True,
    )


def _batches(database: Database, query: sa.Select[Any]) -> "Batches":
    """Run a query in Arrow's layout; every value of its result is bytes or null."""
    import adbc_driver_sqlite  # noqa: PLC0415 - only where it is needed

    from lean_tumbler.stores.sql.arrow_batches import ArrowReading  # noqa: PLC0415 - an extra

    with database.connect() as connection:
        path = connection.exec_driver_sql("PRAGMA database_list").all()[0][2]
    reading = ArrowReading(
        adbc_driver_sqlite,
        f"file:{quote(path)}?mode=ro",
        {"adbc.sqlite.query.batch_rows": _BATCH_ROWS},
        before=f"PRAGMA busy_timeout = {1000 * LOCK_SECONDS}",
    )
    # The driver takes a column's type from the first rows, so the first of all holds bytes.
    first = ", ".join(f"x'' AS c{number}" for number in range(len(query.selected_columns)))
    text = f"SELECT {first} UNION ALL {query.compile(database.engine, compile_kwargs=AS_TEXT)}"
    with database.errors(), _python_errors():
        for number, batch in enumerate(reading.batches(text)):
            yield batch.slice(1) if number == 0 else batch


@contextmanager
def _python_errors() -> Iterator[None]:
    """Raise what Python's own driver would raise."""
    from lean_tumbler.stores.sql.arrow_batches import ARROW_ERRORS  # noqa: PLC0415 - an extra

    try:
        yield
    except ARROW_ERRORS as error:
        raise sqlite3.OperationalError(str(error)) from None


SERVER = Server(
    name="sqlite",
    raw=_raw,
    update_each=one_after_the_other,
    declared=_declared,
    around=_AROUND,
    guard=_guard,
    meaning=meaning,
    batches=_batches,
    definitions="SELECT type || ' ' || name, sql FROM sqlite_master WHERE sql IS NOT NULL",
    column_locks="the file; adding is a moment's work, dropping writes the whole table anew.",
    cast_keys=(),
    hidden_key="rowid",
)
