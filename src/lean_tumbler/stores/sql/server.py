"""What a kind of SQL server says of itself: all that differs from one to another.

One module a server fills this in; what they have in common stands in the other modules here.
"""

from collections.abc import Callable, Generator, Mapping, Sequence
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any, Protocol

import sqlalchemy as sa

from lean_tumbler.core.policy import StoragePolicy, StorePolicy
from lean_tumbler.core.reading.conditions import Condition, Test
from lean_tumbler.errors import UsageError
from lean_tumbler.stores.definitions import Declared
from lean_tumbler.stores.sql.catalogue import Catalogue
from lean_tumbler.stores.sql.database import Database, TableName
from lean_tumbler.stores.sql.errors import Meaning

if TYPE_CHECKING:
    import polars as pl

    Batches = Generator[pl.DataFrame, None, None]

LOCK_SECONDS = 10
LOGIN_LOCK_SECONDS = 2  # people wait for it
GUARD = "tumbler_stored_forms"  # the name of the constraint, or how triggers' names begin
Column = sa.ColumnClause[Any]
Expression = sa.ColumnElement[Any]
Clock = Callable[[], float]


@dataclass(frozen=True, slots=True, kw_only=True)
class JoinedUpdate:
    """Many rows of one table that are to be written by one statement.

    Attributes:
        table: its name, quoted.
        key: the name of its column of whole numbers, quoted.
        stored: the name of the column that is written, quoted.
        beside: further assignments, each after a comma; or empty.
        raw: the expression for that column's bytes.
        rows: key, old bytes and new value of each.
    """

    table: str
    key: str
    stored: str
    beside: str
    raw: str
    rows: Sequence[tuple[int, bytes, str | bytes]]


@dataclass(frozen=True, slots=True, kw_only=True)
class Claims:
    """Locks of a session, under a number: a query that takes one and tells, one that lets go."""

    claim: Callable[[int], sa.Select[Any]]
    release: Callable[[int], sa.Select[Any]]


@dataclass(frozen=True, slots=True, kw_only=True)
class GuardedColumn:
    """The column that is to be guarded: names quoted and as text, and whether it holds bytes.

    Attributes:
        left_behind: the column whose place it takes, quoted; or empty.
        rows: which rows are guarded; None for all.
        quoted: quotes a column's name.
        quoted_text: quotes a text.
    """

    table: str
    column: str
    binary: bool
    table_text: str
    schema_text: str
    left_behind: str = ""
    rows: Condition | None = None
    quoted: Callable[[str], str] = str
    quoted_text: Callable[[str], str] = str

    @property
    def beside(self) -> list[str]:
        """The columns, quoted, that say whether a row is guarded."""
        return [self.quoted(name) for name in self.rows.columns] if self.rows else []

    def refuses(self, admits: str, row: str = "", *, text: str = "text") -> str:
        """Give the condition of a row that is not admitted, which is never unknown.

        Where a column is left behind, a value may stand there only beside one in its successor.

        Args:
            admits: the condition of a value that is not NULL.
            row: what stands before the columns' names; or nothing.
            text: the type that texts are compared as.
        """
        column, left_behind = row + self.column, row + self.left_behind
        refused = f"{column} IS NOT NULL AND NOT ({admits})"
        if self.left_behind:
            alone = f"{left_behind} IS NOT NULL AND {left_behind} <> ''"
            is_empty = f"({column} IS NULL OR {column} = '')"
            refused = f"({column} <> '' AND {refused}) OR ({is_empty} AND {alone})"
        if self.rows is None:
            return refused
        return f"({self._guarded(self.rows, row, text)}) AND ({refused})"

    def _guarded(self, condition: Condition | Test, row: str, text: str) -> str:
        """Write a condition as the server asks it; it is never unknown."""
        if isinstance(condition, Condition):
            word = " OR " if condition.is_any else " AND "
            return word.join(f"({self._guarded(part, row, text)})" for part in condition.parts)
        of = row + self.quoted(condition.name)
        if condition.verb == "null":
            return f"{of} IS NULL"
        written = f"CAST({of} AS {text})"
        if condition.verb in {"empty", "present"}:
            word = "=" if condition.verb == "empty" else "<>"
            return f"COALESCE({written}, '') {word} ''"
        if condition.verb in {"=", "in"} and not condition.is_bare:
            texts = ", ".join(map(self.quoted_text, condition.operands))
            return f"{of} IS NOT NULL AND {written} IN ({texts})"
        raise UsageError(
            f"[store.NAME.rows]: a constraint of the server cannot ask “{condition}”; it can ask "
            "null, empty, present, = and in"
        )


@dataclass(frozen=True, slots=True, kw_only=True)
class Guard:
    """What stands guard, as statements of one server.

    Attributes:
        refuses: the condition of a row that it does not admit.
        apply: puts it there.
        remove: takes it away, whole or half.
        locks: what the server locks meanwhile.
        stands: a query that gives a row where it stands, and holds for every row.
        exists: a query that gives a row where it stands, or half of it does.
        seen: a query that gives a row where this account sees constraints of the table; empty where
            every account does.
        together: whether the statements and a look at the rows are one transaction; else the server
            looks at the rows itself.
    """

    refuses: str
    apply: tuple[str, ...]
    remove: tuple[str, ...]
    locks: str
    stands: str
    exists: str
    seen: str = ""
    together: bool = False


@dataclass(frozen=True, slots=True, kw_only=True)
class CatalogueQueries:
    """What stands around a table: a query a part; each gives names, or one number.

    Attributes:
        size: gives the bytes of the table with its indexes; empty where the server does not say.
        lists: part of `Surroundings` -> query.
        where_allowed: the same, of what a server may not tell this account.
    """

    size: str = ""
    lists: Mapping[str, str] = field(default_factory=dict)
    where_allowed: Mapping[str, str] = field(default_factory=dict)


@dataclass(frozen=True, slots=True, kw_only=True)
class SchemaChange:
    """A change of one column, for a person to review.

    Attributes:
        statements: what to run before layering.
        reverse: what takes it back, once no long value stands there any more.
        locks: what the server locks meanwhile, and for how long.
    """

    statements: tuple[str, ...]
    reverse: tuple[str, ...]
    locks: str


Open = Callable[[str], Database]  # opens another database of the policy, by its locator


class Replicas(Protocol):
    """The replicas of one server."""

    def seconds_behind(self) -> float:
        """Say how far the one furthest behind is behind.

        Raises:
            StoreUnavailable: a server cannot be asked now.
            SourceError: it does not say, or replication has stopped.
        """


@dataclass(frozen=True, slots=True, kw_only=True)
class Network:
    """How a server is reached over a network.

    Attributes:
        driver: SQLAlchemy's name of it.
        arguments: what the driver is told for every connection.
        setting: the argument that says what a connection begins with.
        reading: what a connection begins with that only reads.
        writing: the same for one that writes; `{seconds}` to wait for locks.
        on_socket: what the driver is told besides, where the server is reached by a socket.
        verified: gives settings of the URL and arguments of the driver by which a server on another
            machine is verified.
    """

    driver: str
    arguments: Mapping[str, str]
    setting: str
    reading: str
    writing: str
    verified: Callable[[], tuple[dict[str, str], dict[str, Any]]]
    on_socket: Mapping[str, Any] = field(default_factory=dict)


@dataclass(frozen=True, slots=True, kw_only=True)
class Server:
    """One kind of server, or of database file.

    Attributes:
        name: SQLAlchemy's name of the dialect, and how URLs begin.
        other_names: of the same, likewise.
        network: how it is reached; None for a file.
        raw: a column, and whether it is of bytes -> an expression for the bytes of its text,
            in UTF-8, whatever its type, its character set and its collation.
        update_each: cursor, statement, values of each row -> how many rows each has changed.
        declared: how the catalogue declares a column.
        around: queries for what stands around a table.
        guard: the statements that guard a column.
        meaning: what an error of its driver means; None where that is not known.
        catalogue: reads tables, columns and keys over a connection.
        batches: runs a query, and gives its rows as bytes or text.
        is_text_certain: whether what it calls text is UTF-8 when it arrives, so that none is
            checked.
        is_own: tells a schema's name from one of the server's; None where a URL means one schema.
        partitions: a query for schema and name of tables that are parts of another; or empty.
        cast_keys: types of keys that it compares with their own type alone.
        definitions: a query for what is stored as text beside rows: name, and text, of views,
            triggers and routines; or empty.
        kept: a query for columns that the server sets at every update, except where a statement
            sets them itself and may; or empty.
        hidden_key: the name of a row's own number, where a table has no other key; or empty.
        joined_update: gives the statement, and its values, that writes many rows at once; None
            where a statement for each is as quick.
        claims: locks for runs that share a table; None where a single program writes.
        widened: the change that gives a column room for so many characters; None where none is
            ever needed.
        column_locks: what it locks where a column is added or dropped.
        replicas: finds the replicas of a store's server; None where there are none.
    """

    name: str
    other_names: tuple[str, ...] = ()
    network: Network | None = None
    raw: Callable[[Column, bool], Expression]
    update_each: Callable[[Any, str, Sequence[Any]], list[int]]
    declared: Callable[[Database, TableName, str], Declared]
    around: CatalogueQueries
    guard: Callable[[GuardedColumn, StoragePolicy], Guard]
    meaning: Callable[[Exception], Meaning | None]
    batches: "Callable[[Database, sa.Select[Any]], Batches]"
    catalogue: Callable[[sa.Connection], Catalogue] = sa.inspect
    column_locks: str = ""
    is_text_certain: Callable[[Database], bool] = lambda _: False
    is_own: Callable[[str], bool] | None = None
    partitions: str = ""
    cast_keys: tuple[type[Any], ...] = (sa.Numeric,)
    definitions: str = ""
    kept: str = ""
    hidden_key: str = ""
    joined_update: Callable[[JoinedUpdate], tuple[str, list[Any]]] | None = None
    claims: Claims | None = None
    widened: Callable[[Database, TableName, str, Declared, int], SchemaChange] | None = None
    replicas: Callable[[Database, StorePolicy, Open, Clock], Replicas] | None = None


def one_after_the_other(cursor: Any, statement: str, rows: Sequence[Any]) -> list[int]:
    """Run a statement for each row."""
    changed = []
    for values in rows:
        cursor.execute(statement, values)
        changed.append(int(cursor.rowcount))
    return changed


def is_binary(type_: Any) -> bool:
    """Tell a column of bytes from one of text."""
    return isinstance(type_, sa.LargeBinary | sa.types.BINARY | sa.types.VARBINARY)
