"""Tables in SQL databases, through SQLAlchemy.

Values are compared and read as bytes, so neither a collation nor a declared type stands between
the tool and what is really there.
"""

import sqlite3
from collections import Counter
from collections.abc import Mapping, Sequence
from contextlib import closing
from functools import cached_property
from pathlib import Path
from types import MappingProxyType
from typing import Any
from urllib.parse import quote

import sqlalchemy as sa
from sqlalchemy import event
from sqlalchemy.pool import ConnectionPoolEntry
from sqlalchemy.sql.compiler import SQLCompiler

from lean_tumbler.core.policy import Columns
from lean_tumbler.errors import SourceError, UsageError
from lean_tumbler.stores.claims import SessionClaims
from lean_tumbler.stores.database_errors import database_errors
from lean_tumbler.stores.dialects import DIALECTS, JoinedUpdate, is_binary, is_true
from lean_tumbler.stores.files import file_errors
from lean_tumbler.stores.interface import (
    Account,
    AccountKey,
    Swap,
    SwapResult,
)
from lean_tumbler.stores.layered_origins import origins
from lean_tumbler.stores.naming import nearest, require_column
from lean_tumbler.stores.schema import declared_in_database
from lean_tumbler.stores.schema_change import SchemaChange, schema_change
from lean_tumbler.stores.surroundings import Surroundings, surroundings

_SQLITE_HEADER = b"SQLite format 3\x00"  # sqlite.org/fileformat.html section 1.3
_SQLITE_HEADER_BYTES = 100
_WRITES = "lean_tumbler_writes"  # marks a connection whose transaction will write
_KEY_CHARACTERS = 255
LOCK_SECONDS = 10
LOGIN_LOCK_SECONDS = 2  # people wait for it


def is_sqlite(path: Path) -> bool:
    """Tell an SQLite file by its first bytes; a file that cannot be read is none."""
    try:
        with path.open("rb") as file:
            return file.read(len(_SQLITE_HEADER)) == _SQLITE_HEADER
    except OSError:
        return False


def _require_whole(path: Path) -> None:
    """Refuse what is no SQLite database, or only the beginning of one.

    The header holds the page size at byte 16 (1 stands for 65,536) and the number of pages at
    byte 28, which is valid where the change counters at 24 and 92 agree (section 1.3.8).
    """
    with file_errors(path):
        size = path.stat().st_size
        with path.open("rb") as file:
            header = file.read(_SQLITE_HEADER_BYTES)
    if header[: len(_SQLITE_HEADER)] != _SQLITE_HEADER or len(header) < _SQLITE_HEADER_BYTES:
        raise SourceError(f"{path}: not an SQLite database")
    page_bytes = int.from_bytes(header[16:18], "big")
    page_bytes = 65_536 if page_bytes == 1 else page_bytes
    pages = int.from_bytes(header[28:32], "big")
    if header[24:28] == header[92:96] and size < pages * page_bytes:
        raise SourceError(
            f"{path}: cut off: {size:,} bytes of {pages * page_bytes:,}; copy it again"
        )


def sqlite_engine(path: Path, *, writable: bool, lock_seconds: int = LOCK_SECONDS) -> sa.Engine:
    """Open an SQLite file; it must exist, and reading never writes to it.

    Args:
        path: of the file.
        writable: whether it will be written to.
        lock_seconds: how long to wait for another program's lock.

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
        if connection.get_execution_options().get(_WRITES, False):
            connection.exec_driver_sql("BEGIN IMMEDIATE")

    return engine


def tables_of(engine: sa.Engine, locator: str) -> dict[str, list[str]]:
    """List the tables and their columns."""
    with database_errors(locator):
        inspector = sa.inspect(engine)
        return {
            table: [column["name"] for column in inspector.get_columns(table)]
            for table in inspector.get_table_names()
        }


def _rows_changed(cursor: Any, statement: str, values: Any) -> int:
    cursor.execute(statement, values)
    return int(cursor.rowcount)


class SqlStore:
    """One table of an SQL database as a store.

    Args:
        engine: the database.
        locator: what messages call it; without a password.
        table: the table's name.
        columns: the table's own names for what is needed.
        others: further columns that readings need: the policy's name -> the table's own.
        writable: whether swaps will be asked for, which needs a unique key.
    """

    layering_refused = ""
    key_label = "account"

    def __init__(
        self,
        engine: sa.Engine,
        *,
        locator: str,
        table: str,
        columns: Columns,
        others: Mapping[str, str] = MappingProxyType({}),
        writable: bool = False,
    ) -> None:
        self._engine = engine
        self._others = dict(others)
        self._dialect = DIALECTS[engine.dialect.name]
        self._locator = locator
        self._columns = columns
        self._claims = SessionClaims(engine, locator)
        self._table_name = table
        place = f"{locator}, table {table}"
        types = self._column_types(place)
        named = {
            field: getattr(columns, field)
            for field in Columns.__dataclass_fields__
            if getattr(columns, field)
        }
        for name in (*named.values(), *others.values()):
            require_column(name, list(types), place)
        self._binary = frozenset(name for name, kind in types.items() if is_binary(kind))
        self._key_name = columns.account or self._primary_key(place, writable=writable)
        names = {self._key_name, *named.values(), *others.values()}
        self._table = sa.table(table, *(sa.column(name) for name in names))
        self._key = self._table.c[self._key_name]

    def _column_types(self, place: str) -> dict[str, Any]:
        with database_errors(self._locator):
            inspector = sa.inspect(self._engine)
            tables = inspector.get_table_names()
            if self._table_name in tables:
                found = inspector.get_columns(self._table_name)
                return {column["name"]: column["type"] for column in found}
            if self._table_name in inspector.get_view_names():
                raise UsageError(f"{place} is a view; name the table under it")
        hint = nearest(self._table_name, tuple(tables))
        raise UsageError(f"{self._locator} has no table “{self._table_name}”; {hint}")

    def _primary_key(self, place: str, *, writable: bool) -> str:
        with database_errors(self._locator):
            names = sa.inspect(self._engine).get_pk_constraint(self._table_name)[
                "constrained_columns"
            ]
        if len(names) == 1:
            return names[0]
        if writable or not self._dialect.hidden_key:
            raise UsageError(
                f"{place} has no primary key of one column; name a unique one as “account”"
            )
        return self._dialect.hidden_key  # enough to refer to a row in a report

    @property
    def table(self) -> str:
        """The table's name."""
        return self._table_name

    @property
    def key_name(self) -> str:
        """The column that names a row."""
        return self._key_name

    def _column(self, name: str | None) -> sa.ColumnElement[Any]:
        return self._table.c[name] if name else sa.null()

    def _raw(self, name: str | None) -> sa.ColumnElement[Any]:
        """A column's bytes, whatever its declared type."""
        if not name:
            return sa.null()
        return self._dialect.raw(self._table.c[name], name in self._binary)

    def _row_columns(self) -> list[sa.ColumnElement[Any]]:
        columns = self._columns
        return [
            self._key,
            self._raw(columns.stored),
            self._raw(columns.salt),
            self._raw(columns.login),
            self._raw(columns.last_login),
            *(self._raw(name) for name in self._others.values()),
        ]

    def _account(self, row: Any) -> Account:
        key, stored, salt, login, last_login, *others = row
        return Account(
            key=key if isinstance(key, int | str | bytes) else str(key),  # a UUID, for one
            stored=None if stored is None else bytes(stored),
            salt=None if salt is None else bytes(salt),
            login=None if login is None else bytes(login).decode("utf-8", "replace"),
            last_login=None if last_login is None else bytes(last_login),
            others={
                name: None if content is None else bytes(content)
                for name, content in zip(self._others, others, strict=True)
            },
        )

    def width(self) -> int | None:
        """Give the characters that the stored column has room for; None without a bound."""
        with database_errors(self._locator):
            return declared_in_database(
                self._engine, self._table_name, self._columns.stored or ""
            ).characters

    def schema_change(self, *, needed: int) -> SchemaChange | None:
        """Say what the stored column needs for values of so many characters."""
        with database_errors(self._locator):
            return schema_change(
                self._engine, self._table_name, self._columns.stored or "", needed=needed
            )

    def surroundings(self) -> Surroundings:
        """Say what a change of the table would touch."""
        with database_errors(self._locator):
            tables = sa.inspect(self._engine).get_table_names()
            return surroundings(self._engine, self._table_name, tables)

    def count(self) -> int:
        """Count the rows."""
        with database_errors(self._locator), self._engine.connect() as connection:
            query = sa.select(sa.func.count()).select_from(self._table)
            return int(connection.execute(query).scalar_one())

    def page(
        self, *, after: AccountKey | None, rows: int, privileged: bool | None = None
    ) -> list[Account]:
        """Read the next rows in order of their key; of administrators alone, or of the others."""
        query = sa.select(*self._row_columns()).order_by(self._key).limit(rows)
        if after is not None:
            query = query.where(self._key > after)
        if privileged is not None and self._columns.privileged:
            truth = is_true(self._table.c[self._columns.privileged])
            query = query.where(truth if privileged else sa.not_(truth))
        return self._accounts(query)

    def fetch(self, login: str) -> list[Account]:
        """Read the rows with a login: one, unless the login is unknown or not unique."""
        with database_errors(self._locator), self._engine.connect() as connection:
            rows = connection.exec_driver_sql(*self._fetch_statement(login))
            return [self._account(row) for row in rows]

    def find(self, key: str) -> Account | None:
        """Read the row with a key, given as text; None where there is none."""
        text = sa.cast(self._key, sa.String(_KEY_CHARACTERS))
        found = self._accounts(sa.select(*self._row_columns()).where(text == key).limit(2))
        return found[0] if len(found) == 1 else None

    def _fetch_statement(self, login: str) -> tuple[str, Any]:
        """Give the statement as text: making it anew each time takes longer than running it."""
        compiled = self._fetch_compiled
        values = {**compiled.params, "the_login": login}
        if compiled.positional:
            return str(compiled), tuple(values[name] for name in compiled.positiontup or [])
        return str(compiled), values

    @cached_property
    def _fetch_compiled(self) -> SQLCompiler:
        login = self._column(self._columns.login) == sa.bindparam("the_login")
        query = sa.select(*self._row_columns()).where(login).limit(sa.literal_column("2"))
        return query.compile(dialect=self._engine.dialect)

    def _accounts(self, query: sa.Select[Any]) -> list[Account]:
        with database_errors(self._locator), self._engine.connect() as connection:
            return [self._account(row) for row in connection.execute(query)]

    def swap(self, swap: Swap) -> SwapResult:
        """Write one value."""
        return self.swap_many([swap])[0]

    def fill(self, key: AccountKey, new: str) -> SwapResult:
        """Write a first value, only where none stands."""
        writer = self._engine.execution_options(**{_WRITES: True})
        column = self._table.c[self._columns.stored or ""]
        filled = sa.update(self._table).where(self._key == key, column.is_(None))
        swap = Swap(key=key, old=b"", new=new)
        driver = self._engine.dialect.loaded_dbapi
        with database_errors(self._locator, driver), writer.begin() as connection:
            rows = connection.execute(filled.values({column: self._as_written(new)})).rowcount
            if rows != 1:
                return self._not_written(connection, swap, rows)
            self._require_written(connection, swap)
            return SwapResult.DONE

    def swap_many(self, swaps: Sequence[Swap]) -> list[SwapResult]:
        """Write many values in one short transaction; results in the same order."""
        writer = self._engine.execution_options(**{_WRITES: True})
        driver = self._engine.dialect.loaded_dbapi
        with database_errors(self._locator, driver), writer.begin() as connection:
            changed = self._update(connection, swaps)
            results = [
                SwapResult.DONE if rows == 1 else self._not_written(connection, swap, rows)
                for swap, rows in zip(swaps, changed, strict=True)
            ]
            done = [swap for swap, rows in zip(swaps, changed, strict=True) if rows == 1]
            if done:
                self._require_written(connection, max(done, key=lambda swap: len(swap.new_bytes)))
            return results

    def _update(self, connection: sa.Connection, swaps: Sequence[Swap]) -> list[int]:
        """Write each value where its old bytes stand; give how many rows each has changed.

        By the driver's own cursor: a statement of SQLAlchemy's takes five times as long, and
        psycopg sends many without waiting for each answer.
        """
        dated = any(swap.last_login is not None for swap in swaps)
        compiled = self._swap_while_away_statement if dated else self._swap_statement
        statement = str(compiled)
        parameters: list[Any] = [
            {
                "the_key": swap.key,
                "the_old": swap.old,
                "the_new": self._as_written(swap.new),
                "the_last_login": swap.last_login or b"",
            }
            for swap in swaps
        ]
        if compiled.positional:
            order = compiled.positiontup or []
            parameters = [tuple(values[name] for name in order) for values in parameters]
        with closing(connection.connection.cursor()) as opened:
            cursor: Any = opened
            joined = self._dialect.joined_update
            if joined is not None and not dated and all(type(swap.key) is int for swap in swaps):
                statement, values = joined(self._joined(swaps))
                return self._changed(connection, swaps, _rows_changed(cursor, statement, values))
            if connection.dialect.name != "postgresql":
                return [_rows_changed(cursor, statement, values) for values in parameters]
            cursor.executemany(statement, parameters, returning=True)
            changed = [cursor.rowcount]
            while cursor.nextset():
                changed.append(cursor.rowcount)
            return changed

    def _joined(self, swaps: Sequence[Swap]) -> JoinedUpdate:
        dialect, stored = self._engine.dialect, self._columns.stored or ""
        quoted = dialect.identifier_preparer.quote
        return JoinedUpdate(
            table=quoted(self._table_name),
            key=quoted(self._key_name),
            stored=quoted(stored),
            raw=str(self._raw(stored).compile(dialect=dialect)),
            rows=[(int(swap.key), swap.old, self._as_written(swap.new)) for swap in swaps],
        )

    def _changed(self, connection: sa.Connection, swaps: Sequence[Swap], number: int) -> list[int]:
        """Give how many rows each swap has changed, where the number of all of them is known."""
        keys = {swap.key for swap in swaps}
        if number == len(keys):
            return [1] * len(swaps)
        query = sa.select(self._key, self._raw(self._columns.stored)).where(self._key.in_(keys))
        found = Counter(
            (key, bytes(value)) for key, value in connection.execute(query) if value is not None
        )
        return [found[swap.key, swap.new_bytes] for swap in swaps]

    @cached_property
    def _swap_statement(self) -> SQLCompiler:
        return self._swap_where().compile(dialect=self._engine.dialect)

    @cached_property
    def _swap_while_away_statement(self) -> SQLCompiler:
        last_login = sa.func.coalesce(self._raw(self._columns.last_login), sa.literal_column("''"))
        wanted = sa.bindparam("the_last_login", type_=sa.LargeBinary())
        unchanged = self._swap_where().where(sa.cast(last_login, sa.LargeBinary) == wanted)
        return unchanged.compile(dialect=self._engine.dialect)

    def _swap_where(self) -> sa.Update:
        stored = self._columns.stored or ""
        return (
            sa.update(self._table)
            .where(
                self._key == sa.bindparam("the_key"),
                self._raw(stored) == sa.bindparam("the_old", type_=sa.LargeBinary()),
            )
            .values({self._table.c[stored]: sa.bindparam("the_new")})
        )

    def _require_written(self, connection: sa.Connection, swap: Swap) -> None:
        """Read the longest value back before the transaction ends.

        Some servers cut off, and triggers change, what is written, without an error.
        """
        query = sa.select(self._raw(self._columns.stored)).where(self._key == swap.key)
        found = connection.execute(query).scalar()
        if found is None or bytes(found) != swap.new_bytes:
            raise SourceError(
                f"{self._locator}, table {self._table_name}: the column “{self._columns.stored}” "
                "did not keep a value as written (too narrow, or changed by a trigger); "
                "nothing of this batch was written"
            )

    def require_answer(self) -> None:
        """Ask for one row's key."""
        with database_errors(self._locator), self._engine.connect() as connection:
            connection.execute(sa.select(self._key).limit(1)).first()

    def origins(self) -> set[str]:
        """Name the formulas that layered values refer to, by fingerprint."""
        with database_errors(self._locator), self._engine.connect() as connection:
            return origins(connection, self._table, self._raw(self._columns.stored))

    def _as_written(self, value: str | bytes) -> str | bytes:
        """Give a new value as the column takes it."""
        is_text = isinstance(value, str) and self._columns.stored in self._binary
        return value.encode("utf-8") if is_text else value  # type: ignore[union-attr] # text

    def _not_written(self, connection: sa.Connection, swap: Swap, rows: int) -> SwapResult:
        """Tell why a swap changed no row; more than one is an error."""
        if rows > 1:
            raise SourceError(
                f"{self._locator}, table {self._table_name}: the account column "
                f"“{self._key_name}” is not unique; nothing of this batch was written"
            )
        again = sa.select(self._raw(self._columns.stored)).where(self._key == swap.key)
        found = connection.execute(again).first()
        if found is None:
            return SwapResult.GONE
        # After a lost connection the write may have been done already: salts make it unmistakable.
        written = found[0] is not None and bytes(found[0]) == swap.new_bytes
        return SwapResult.DONE if written else SwapResult.CHANGED

    def claim(self, name: str) -> bool:
        """Claim a name among all programs that write to this server; False where another has it."""
        return self._claims.claim(name)

    def release(self, name: str) -> None:
        """Let a claimed name go."""
        self._claims.release(name)

    def finish(self) -> str:
        """Give nothing: every batch was written by itself."""
        return ""

    def close(self) -> None:
        """Let go of connections, and of the claims with them."""
        self._claims.close()
        self._engine.dispose()
