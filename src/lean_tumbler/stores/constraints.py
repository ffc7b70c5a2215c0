"""A guard on the column itself: whatever writes to the table, only admitted forms get in."""

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from types import MappingProxyType
from typing import Any

import sqlalchemy as sa

from lean_tumbler.core.policy import StoragePolicy
from lean_tumbler.core.stored_forms import pattern, sqlite_condition
from lean_tumbler.errors import UsageError
from lean_tumbler.stores.database_errors import database_errors
from lean_tumbler.stores.dialects import is_binary

NAME = "tumbler_stored_forms"
ROWS_NAMED = 20
_LOCK_TIMEOUT = "5s"


@dataclass(frozen=True, slots=True, kw_only=True)
class Guard:
    """What stands guard, as statements of one server.

    Attributes:
        admits: the condition, of a value that is not NULL.
        apply: puts it there.
        remove: takes it away, whole or half.
        locks: what the server locks meanwhile.
        stands: a query that gives a row where it stands, and holds for every row.
        exists: a query that gives a row where it stands, or half of it does.
        together: whether the statements and a look at the rows are one transaction; else the server
            looks at the rows itself.
    """

    admits: str
    apply: tuple[str, ...]
    remove: tuple[str, ...]
    locks: str
    stands: str
    exists: str
    together: bool = False


@dataclass(frozen=True, slots=True, kw_only=True)
class _Names:
    """Quoted names, and the plain ones as text."""

    table: str
    column: str
    binary: bool
    table_text: str


@dataclass(frozen=True, slots=True, kw_only=True)
class Violations:
    """Rows that the guard would not admit: how many, and the keys of the first."""

    rows: int
    keys: tuple[Any, ...]


@dataclass(frozen=True, slots=True, kw_only=True)
class GuardState:
    """How a store's column is guarded.

    Attributes:
        store: the store's name in the policy.
        stands: whether the guard is there.
        admitted: what it admits, in words.
        guard: its statements.
        violations: rows that it would not admit.
    """

    store: str
    stands: bool
    admitted: Sequence[str]
    guard: Guard
    violations: Violations


class ColumnGuard:
    """The guard of one column on one server.

    Args:
        engine: the database, opened for writing.
        locator: what messages call it.
        table: the table's name.
        column: of the stored values.
        key: the column that names a row.
        policy: the least that is current, and the most that a value may ask for.
    """

    def __init__(
        self,
        engine: sa.Engine,
        *,
        locator: str,
        table: str,
        column: str,
        key: str,
        policy: StoragePolicy,
    ) -> None:
        self._engine, self._locator = engine, locator
        quote = engine.dialect.identifier_preparer.quote
        with database_errors(locator):
            columns = sa.inspect(engine).get_columns(table)
        kind = next((each["type"] for each in columns if each["name"] == column), None)
        if kind is None:
            raise UsageError(f"{locator}, table {table}: no column “{column}”")
        names = _Names(
            table=quote(table), column=quote(column), binary=is_binary(kind),
            table_text=table.replace("'", "''"),
        )  # fmt: skip
        self._key = quote(key)
        self._names = names
        self.guard = _GUARDS[engine.dialect.name](names, policy)

    def stands(self) -> bool:
        """Tell whether the guard is there, whole."""
        return self._gives_a_row(self.guard.stands)

    def exists(self) -> bool:
        """Tell whether the guard is there, or what a run left of it that ended half way."""
        return self._gives_a_row(self.guard.exists)

    def _gives_a_row(self, query: str) -> bool:
        with database_errors(self._locator), self._engine.connect() as connection:
            return connection.exec_driver_sql(query).first() is not None

    def violations(self) -> Violations:
        """Find the rows that it would not admit, by the server's own reading of it."""
        with database_errors(self._locator), self._engine.connect() as connection:
            return self._violations(connection)

    def _violations(self, connection: sa.Connection) -> Violations:
        names, admits = self._names, self.guard.admits
        # Quoted names and our own patterns.
        where = f"FROM {names.table} WHERE {names.column} IS NOT NULL AND NOT ({admits})"
        rows = connection.exec_driver_sql(f"SELECT COUNT(*) {where}").scalar_one()
        keys = connection.exec_driver_sql(
            f"SELECT {self._key} {where} ORDER BY {self._key} LIMIT {ROWS_NAMED}"
        )
        return Violations(rows=int(rows), keys=tuple(row[0] for row in keys))

    def apply(self) -> Violations:
        """Put the guard there; give the rows that others wrote meanwhile and that hinder it.

        Where there are such rows, nothing of it is left behind.
        """
        with database_errors(self._locator), self._engine.connect() as connection:
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
        with database_errors(self._locator), self._engine.connect() as connection:
            _run(connection.execution_options(isolation_level="AUTOCOMMIT"), self.guard.remove)

    def close(self) -> None:
        """Let go of the connection."""
        self._engine.dispose()


def _run(connection: sa.Connection, statements: Sequence[str]) -> None:
    for statement in statements:
        connection.exec_driver_sql(statement.rstrip(";"))


def _postgresql(names: _Names, policy: StoragePolicy) -> Guard:
    text = f"convert_from({names.column}, 'UTF8')" if names.binary else f"{names.column}::text"
    admits = f"{text} ~ '{pattern(policy.floor, policy.limits)}'"
    table = f"ALTER TABLE {names.table}"
    name = names.table.replace("'", "''")  # as the server spells it, letter case and all
    exists = (
        f"SELECT 1 FROM pg_constraint WHERE conname = '{NAME}'"  # noqa: S608 - quoted names
        f" AND conrelid = '{name}'::regclass"
    )
    return Guard(
        admits=admits,
        apply=(
            f"SET lock_timeout = '{_LOCK_TIMEOUT}';",
            f"{table} ADD CONSTRAINT {NAME} CHECK ({names.column} IS NULL OR {admits}) NOT VALID;",
            f"{table} VALIDATE CONSTRAINT {NAME};",
        ),
        remove=(f"{table} DROP CONSTRAINT {NAME};",),
        locks="ACCESS EXCLUSIVE for a moment, new rows are checked from then on; then SHARE UPDATE "
        "EXCLUSIVE while the old rows are read: others read and write meanwhile.",
        stands=f"{exists} AND convalidated",
        exists=exists,
    )


def _mysql(names: _Names, policy: StoragePolicy) -> Guard:
    # Letter case counts, whatever the column's collation.
    text = f"CAST({names.column} AS BINARY)"
    # There the end of the pattern fits before a line end at the value's end too.
    admits = (
        f"({text} REGEXP BINARY '{pattern(policy.floor, policy.limits)}'"
        f" AND INSTR({text}, CHAR(10)) = 0)"
    )
    table = f"ALTER TABLE {names.table}"
    exists = (
        "SELECT 1 FROM information_schema.table_constraints WHERE constraint_schema ="  # noqa: S608
        f" DATABASE() AND table_name = '{names.table_text}' AND constraint_name = '{NAME}'"
    )
    return Guard(
        admits=admits,
        apply=(f"{table} ADD CONSTRAINT {NAME} CHECK ({names.column} IS NULL OR {admits});",),
        remove=(f"{table} DROP CONSTRAINT {NAME};",),
        locks="SHARED while the table is copied: others read, but do not write.",
        stands=exists,
        exists=exists,
    )


def _sqlite(names: _Names, policy: StoragePolicy) -> Guard:
    def admits(value: str) -> str:
        return sqlite_condition(f"CAST({value} AS TEXT)", policy.floor, policy.limits)

    new = f"NEW.{names.column}"
    raised = f"SELECT RAISE(ABORT, '{NAME}: only current, layered or locked values');"
    triggers = tuple(
        f"CREATE TRIGGER {NAME}_{event.lower()} BEFORE {event}{of} ON {names.table} FOR EACH ROW "
        f"WHEN {new} IS NOT NULL AND NOT ({admits(new)}) BEGIN {raised} END;"
        for event, of in (("INSERT", ""), ("UPDATE", f" OF {names.column}"))
    )
    exists = (
        "SELECT 1 FROM sqlite_master WHERE type = 'trigger'"  # noqa: S608 - quoted names
        f" AND name IN ('{NAME}_insert', '{NAME}_update') AND tbl_name = '{names.table_text}'"
    )
    return Guard(
        admits=admits(names.column),
        apply=triggers,
        remove=(f"DROP TRIGGER IF EXISTS {NAME}_insert;", f"DROP TRIGGER IF EXISTS {NAME}_update;"),
        locks="the file for a moment; a CHECK would need the table to be built anew, so two "
        "triggers stand for it.",
        stands=f"{exists} GROUP BY tbl_name HAVING COUNT(*) = 2",
        exists=exists,
        together=True,
    )


_GUARDS: Mapping[str, Callable[[_Names, StoragePolicy], Guard]] = MappingProxyType(
    {"postgresql": _postgresql, "mysql": _mysql, "mariadb": _mysql, "sqlite": _sqlite}
)
