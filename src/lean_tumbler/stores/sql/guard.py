"""A guard on the column itself: whatever writes to the table, only admitted forms get in."""

from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from typing import Any

import sqlalchemy as sa
from msgspec import Struct

from lean_tumbler.core.policy import StoragePolicy
from lean_tumbler.stores.interface import AccountKey
from lean_tumbler.stores.sql.database import Database
from lean_tumbler.stores.sql.relation import Relation
from lean_tumbler.stores.sql.row_key import RowKey
from lean_tumbler.stores.sql.server import GuardedColumn

ROWS_NAMED = 10  # the others go into a file


class Violations(Struct, frozen=True, kw_only=True):
    """Rows that the guard would not admit: how many, and the keys of the first."""

    rows: int
    keys: tuple[Any, ...]


class ColumnGuard:
    """The guard of one column on one server.

    Args:
        database: opened for writing.
        relation: the table and its columns.
        key: what names a row.
        policy: the least that is current, and the most that a value may ask for.
    """

    def __init__(
        self, database: Database, *, relation: Relation, key: RowKey, policy: StoragePolicy
    ) -> None:
        self._database = database
        table, column = relation.name, relation.written
        rows = relation.source.rows
        for name in rows.columns if rows else ():
            relation.require_own(name)  # a constraint sees one table
        self._key = ", ".join(database.quoted(column.name) for column in key.columns)
        self._key_of = key.of
        self._names = GuardedColumn(
            table=database.quoted(table),
            column=database.quoted(column),
            binary=relation.is_binary(column),
            left_behind=database.quoted(relation.stored) if relation.is_moving else "",
            rows=rows,
            quoted=database.quoted,
            quoted_text=database.quoted_text,
            table_text=table.name.replace("'", "''"),
            schema_text=(table.schema or "").replace("'", "''"),
        )
        self.guard = database.server.guard(self._names, policy)

    @contextmanager
    def _connect(self) -> Iterator[sa.Connection]:
        """Give a connection for statements as they stand: per cent signs mean nothing in them."""
        with self._database.connect() as connection:
            yield connection.execution_options(no_parameters=True)

    def stands(self) -> bool | None:
        """Tell whether the guard is there, whole; None where this account cannot see it."""
        if self._gives_a_row(self.guard.stands):
            return True
        is_seen = not self.guard.seen or self._gives_a_row(self.guard.seen)
        return False if is_seen else None

    def exists(self) -> bool:
        """Tell whether the guard is there, or what a run left of it that ended half way."""
        return self._gives_a_row(self.guard.exists)

    def _gives_a_row(self, query: str) -> bool:
        with self._connect() as connection:
            return connection.exec_driver_sql(query).first() is not None

    def violations(self) -> Violations:
        """Find the rows that it would not admit, by the server's own reading of it."""
        with self._connect() as connection:
            return self._violations(connection)

    def refused_keys(self) -> Iterator[AccountKey]:
        """Name every row that it would not admit, in order."""
        with self._connect() as connection:
            for row in connection.exec_driver_sql(self._refused):
                yield self._key_of(row)

    @property
    def _refused(self) -> str:
        return f"SELECT {self._key} {self._from} ORDER BY {self._key}"

    @property
    def _from(self) -> str:
        """The rows that it would not admit: quoted names, and our own patterns."""
        return f"FROM {self._names.table} WHERE {self.guard.refuses}"

    def _violations(self, connection: sa.Connection) -> Violations:
        rows = connection.exec_driver_sql(f"SELECT COUNT(*) {self._from}").scalar_one()
        keys = connection.exec_driver_sql(f"{self._refused} LIMIT {ROWS_NAMED}")
        return Violations(rows=int(rows), keys=tuple(self._key_of(row) for row in keys))

    def apply(self) -> Violations:
        """Put the guard there; give the rows that others wrote meanwhile and that hinder it.

        Where there are such rows, nothing of it is left behind.
        """
        with self._connect() as connection:
            alone = connection.execution_options(isolation_level="AUTOCOMMIT")
            return self._together(alone) if self.guard.together else self._one_by_one(alone)

    def _together(self, connection: sa.Connection) -> Violations:
        _run(connection, ("BEGIN IMMEDIATE",))
        end = "ROLLBACK"
        try:
            _run(connection, (*self.guard.remove, *self.guard.apply))
            violations = self._violations(connection)
            end = end if violations.rows else "COMMIT"
        finally:
            _run(connection, (end,))
        return violations

    def _one_by_one(self, connection: sa.Connection) -> Violations:
        """Run each statement by itself, so that locks are short."""
        self._clear(connection)
        try:
            _run(connection, self.guard.apply)
        except sa.exc.DBAPIError:
            violations = self._violations(connection)
            self._clear(connection)
            if not violations.rows:
                raise
            return violations
        return Violations(rows=0, keys=())

    def _clear(self, connection: sa.Connection) -> None:
        if connection.exec_driver_sql(self.guard.exists).first() is not None:
            _run(connection, self.guard.remove)

    def remove(self) -> None:
        """Take it away, whole or half."""
        with self._connect() as connection:
            _run(connection.execution_options(isolation_level="AUTOCOMMIT"), self.guard.remove)

    def close(self) -> None:
        """Let go of the connection."""
        self._database.engine.dispose()


def _run(connection: sa.Connection, statements: Sequence[str]) -> None:
    for statement in statements:
        connection.exec_driver_sql(statement.rstrip(";"))
