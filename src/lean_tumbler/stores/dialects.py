"""Where SQL servers differ: a column's exact bytes, as the tool compares and writes them."""

import hashlib
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from types import MappingProxyType
from typing import Any

import sqlalchemy as sa

Column = sa.ColumnClause[Any]
Expression = sa.ColumnElement[Any]

_FALSE = ("", "0", "f", "n", "false", "no")


@dataclass(frozen=True, slots=True, kw_only=True)
class Dialect:
    """One kind of server.

    Attributes:
        raw: a column, and whether it is of bytes -> an expression for the bytes of its text,
            in UTF-8, whatever its type, its character set and its collation.
        hidden_key: the name of a row's own number, where a table has no other key; or empty.
        updates_by_join: whether many rows are best updated by a join with a table of values.
        claim: a number -> a query that claims it for the session and tells whether it could.
        release: a number -> a query that lets it go.
    """

    raw: Callable[[Column, bool], Expression]
    hidden_key: str = ""
    updates_by_join: bool = False
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


def claim_number(name: str) -> int:
    """Give the number that stands for a claimed name: 63 bits, as both servers take them."""
    return int.from_bytes(hashlib.sha256(f"lean-tumbler:{name}".encode()).digest()[:8], "big") >> 1


_MYSQL = Dialect(
    raw=_mysql_raw,
    updates_by_join=True,
    claim=lambda number: sa.select(sa.func.get_lock(f"lean-tumbler:{number:x}", 0)),
    release=lambda number: sa.select(sa.func.release_lock(f"lean-tumbler:{number:x}")),
)
DIALECTS: Mapping[str, Dialect] = MappingProxyType(
    {
        "sqlite": Dialect(raw=_sqlite_raw, hidden_key="rowid"),
        "postgresql": Dialect(
            raw=_postgresql_raw,
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
