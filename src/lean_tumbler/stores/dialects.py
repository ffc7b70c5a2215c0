"""Where SQL servers differ: a column's exact bytes, as the tool compares and writes them."""

import hashlib
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from types import MappingProxyType
from typing import Any

import sqlalchemy as sa

Column = sa.ColumnClause[Any]
Expression = sa.ColumnElement[Any]

_FALSE = ("", "0", "f", "n", "false", "no")


@dataclass(frozen=True, slots=True, kw_only=True)
class JoinedUpdate:
    """Many rows of one table that are to be written by one statement.

    Attributes:
        table: its name, quoted.
        key: the name of its column of whole numbers, quoted.
        stored: the name of the column that is written, quoted.
        raw: the expression for that column's bytes.
        rows: key, old bytes and new value of each.
    """

    table: str
    key: str
    stored: str
    raw: str
    rows: Sequence[tuple[int, bytes, str | bytes]]


@dataclass(frozen=True, slots=True, kw_only=True)
class Dialect:
    """One kind of server.

    Attributes:
        raw: a column, and whether it is of bytes -> an expression for the bytes of its text,
            in UTF-8, whatever its type, its character set and its collation.
        hidden_key: the name of a row's own number, where a table has no other key; or empty.
        joined_update: gives the statement, and its values, that writes many rows at once, where
            each statement waits for its answer.
        claim: a number -> a query that claims it for the session and tells whether it could.
        release: a number -> a query that lets it go.
    """

    raw: Callable[[Column, bool], Expression]
    hidden_key: str = ""
    joined_update: Callable[[JoinedUpdate], tuple[str, list[Any]]] | None = None
    claim: Callable[[int], sa.Select[Any]] | None = None
    release: Callable[[int], sa.Select[Any]] | None = None


def _sqlite_raw(column: Column, _: bool) -> Expression:
    # A column may hold text and bytes side by side, whatever its declared type.
    return sa.cast(column, sa.LargeBinary)


def _postgresql_raw(column: Column, binary: bool) -> Expression:
    if binary:
        return sa.type_coerce(column, sa.LargeBinary)
    # Not a cast to bytea, which would read backslashes as escapes.
    return sa.func.convert_to(
        sa.cast(column, sa.Text), sa.literal_column("'UTF8'"), type_=sa.LargeBinary()
    )


def _mysql_raw(column: Column, binary: bool) -> Expression:
    if binary:
        return sa.type_coerce(column, sa.LargeBinary)
    # The cast alone would give the bytes of the column's own character set.
    in_utf8 = sa.func.convert(column.op("USING")(sa.literal_column("utf8mb4")))
    return sa.cast(in_utf8, sa.LargeBinary)


def _postgresql_joined(update: JoinedUpdate) -> tuple[str, list[Any]]:
    keys, old, new = ([row[part] for row in update.rows] for part in range(3))
    kind = "bytea" if isinstance(new[0], bytes) else "text"
    # Quoted names; the values are parameters.
    statement = (
        f"UPDATE {update.table} SET {update.stored} = swap_new "  # noqa: S608
        f"FROM unnest(%s::bigint[], %s::bytea[], %s::{kind}[]) "
        "AS swaps (swap_key, swap_old, swap_new) "
        f"WHERE {update.table}.{update.key} = swap_key AND {update.raw} = swap_old"
    )
    return statement, [keys, old, new]


def _mysql_joined(update: JoinedUpdate) -> tuple[str, list[Any]]:
    one = "SELECT %s AS swap_key, %s AS swap_old, %s AS swap_new"
    rows = " UNION ALL ".join([one] * len(update.rows))
    # Quoted names; the values are parameters.
    statement = (
        f"UPDATE {update.table} JOIN ({rows}) AS swaps ON {update.key} = swap_key "  # noqa: S608
        f"SET {update.stored} = swap_new WHERE {update.raw} = swap_old"
    )
    return statement, [value for row in update.rows for value in row]


def claim_number(name: str) -> int:
    """Give the number that stands for a claimed name: 63 bits, as both servers take them."""
    return int.from_bytes(hashlib.sha256(f"lean-tumbler:{name}".encode()).digest()[:8], "big") >> 1


_MYSQL = Dialect(
    raw=_mysql_raw,
    joined_update=_mysql_joined,
    claim=lambda number: sa.select(sa.func.get_lock(f"lean-tumbler:{number:x}", 0)),
    release=lambda number: sa.select(sa.func.release_lock(f"lean-tumbler:{number:x}")),
)
DIALECTS: Mapping[str, Dialect] = MappingProxyType(
    {
        "sqlite": Dialect(raw=_sqlite_raw, hidden_key="rowid"),
        "postgresql": Dialect(
            raw=_postgresql_raw,
            joined_update=_postgresql_joined,
            claim=lambda number: sa.select(sa.func.pg_try_advisory_lock(number)),
            release=lambda number: sa.select(sa.func.pg_advisory_unlock(number)),
        ),
        "mysql": _MYSQL,
        "mariadb": _MYSQL,
    }
)


def is_true(column: Column) -> Expression:
    """Give an expression for a column's truth, as people write it; NULL is not true."""
    text = sa.func.lower(sa.cast(column, sa.String))
    return sa.and_(column.is_not(None), text.not_in(_FALSE))


def is_binary(type_: Any) -> bool:
    """Tell a column of bytes from one of text."""
    return isinstance(type_, sa.LargeBinary | sa.types.BINARY | sa.types.VARBINARY)
