"""What a kind of SQL server says of itself: all that differs from one to another.

One module a server fills this in; what they have in common stands in the other modules here.
"""

from collections.abc import Callable, Generator, Mapping, Sequence
from typing import TYPE_CHECKING, Any, Protocol

import sqlalchemy as sa
from msgspec import Struct, field

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

GUARD = "tumbler_stored_forms"  # the name of the constraint, or how triggers' names begin
Column = sa.ColumnClause[Any]
Expression = sa.ColumnElement[Any]
Clock = Callable[[], float]


class JoinedUpdate(Struct, frozen=True, kw_only=True):
    """Many rows of one table that are to be written by one statement."""

    table: str  # its name, quoted
    key: str  # the name of its column of whole numbers, quoted
    stored: str  # the name of the column that is written, quoted
    beside: str  # further assignments, each after a comma; or empty
    raw: str  # the expression for that column's bytes
    rows: Sequence[tuple[int, bytes, str | bytes]]  # key, old bytes and new value of each


class Claims(Struct, frozen=True, kw_only=True):
    """Locks of a session, under a number: a query that takes one and tells, one that lets go."""

    claim: Callable[[int], sa.Select[Any]]
    release: Callable[[int], sa.Select[Any]]


class GuardedColumn(Struct, frozen=True, kw_only=True):
    """The column that is to be guarded: names quoted and as text, and whether it holds bytes."""

    table: str
    column: str
    binary: bool
    table_text: str
    schema_text: str
    left_behind: str = ""  # the column whose place it takes, quoted; or empty
    rows: Condition | None = None  # which rows are guarded; None for all
    quoted: Callable[[str], str] = str  # quotes a column's name
    quoted_text: Callable[[str], str] = str  # quotes a text

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


class Guard(Struct, frozen=True, kw_only=True):
    """What stands guard, as statements of one server."""

    refuses: str  # the condition of a row that it does not admit
    apply: tuple[str, ...]  # puts it there
    remove: tuple[str, ...]  # takes it away, whole or half
    locks: str  # what the server locks meanwhile
    stands: str  # a query that gives a row where it stands, and holds for every row
    exists: str  # a query that gives a row where it stands, or half of it does
    # a query that gives a row where this account sees constraints of the table; empty where every
    # account does
    seen: str = ""
    # whether the statements and a look at the rows are one transaction; else the server looks at
    # the rows itself
    together: bool = False


class CatalogueQueries(Struct, frozen=True, kw_only=True):
    """What stands around a table: a query a part; each gives names, or one number."""

    # gives the bytes of the table with its indexes; empty where the server does not say
    size: str = ""
    lists: Mapping[str, str] = field(default_factory=dict)  # part of `Surroundings` -> query
    # the same, of what a server may not tell this account
    where_allowed: Mapping[str, str] = field(default_factory=dict)


class SchemaChange(Struct, frozen=True, kw_only=True):
    """A change of one column, for a person to review."""

    statements: tuple[str, ...]  # what to run before layering
    reverse: tuple[str, ...]  # what takes it back, once no long value stands there any more
    locks: str  # what the server locks meanwhile, and for how long


Open = Callable[[str], Database]  # opens another database of the policy, by its locator


class Replicas(Protocol):
    """The replicas of one server."""

    def seconds_behind(self) -> float:
        """Say how far the one furthest behind is behind.

        Raises:
            StoreUnavailable: a server cannot be asked now.
            SourceError: it does not say, or replication has stopped.
        """


class Network(Struct, frozen=True, kw_only=True):
    """How a server is reached over a network."""

    driver: str  # SQLAlchemy's name of it
    arguments: Mapping[str, str]  # what the driver is told for every connection
    setting: str  # the argument that says what a connection begins with
    reading: str  # what a connection begins with that only reads
    writing: str  # the same for one that writes; `{seconds}` to wait for locks
    # gives settings of the URL and arguments of the driver by which a server on another machine is
    # verified
    verified: Callable[[], tuple[dict[str, str], dict[str, Any]]]
    # what the driver is told besides, where the server is reached by a socket
    on_socket: Mapping[str, Any] = field(default_factory=dict)


class Server(Struct, frozen=True, kw_only=True):
    """One kind of server, or of database file."""

    name: str  # SQLAlchemy's name of the dialect, and how URLs begin
    other_names: tuple[str, ...] = ()  # of the same, likewise
    network: Network | None = None  # how it is reached; None for a file
    # a column, and whether it is of bytes -> an expression for the bytes of its text, in UTF-8,
    # whatever its type, its character set and its collation
    raw: Callable[[Column, bool], Expression]
    # cursor, statement, values of each row -> how many rows each has changed
    update_each: Callable[[Any, str, Sequence[Any]], list[int]]
    declared: Callable[[Database, TableName, str], Declared]  # how the catalogue declares a column
    around: CatalogueQueries  # queries for what stands around a table
    guard: Callable[[GuardedColumn, StoragePolicy], Guard]  # the statements that guard a column
    # what an error of its driver means; None where that is not known
    meaning: Callable[[Exception], Meaning | None]
    # runs a query, and gives its rows as bytes or text
    batches: "Callable[[Database, sa.Select[Any]], Batches]"
    # reads tables, columns and keys over a connection
    catalogue: Callable[[sa.Connection], Catalogue] = sa.inspect
    column_locks: str = ""  # what it locks where a column is added or dropped
    # whether what it calls text is UTF-8 when it arrives, so that none is checked
    is_text_certain: Callable[[Database], bool] = lambda _: False
    # tells a schema's name from one of the server's; None where a URL means one schema
    is_own: Callable[[str], bool] | None = None
    # a query for schema and name of tables that are parts of another; or empty
    partitions: str = ""
    # types of keys that it compares with their own type alone
    cast_keys: tuple[type[Any], ...] = (sa.Numeric,)
    # a query for what tells this database from every copy of it; empty where its file does
    place: str = ""
    data_folder: str = ""  # a query for the folder of the server's own files; empty for none
    # a query for what is stored as text beside rows: name, and text, of views, triggers and
    # routines; or empty
    definitions: str = ""
    # a query for columns that the server sets at every update, except where a statement sets them
    # itself and may; or empty
    kept: str = ""
    hidden_key: str = ""  # the name of a row's own number, where a table has no other key; or empty
    # gives the statement, and its values, that writes many rows at once; None where a statement for
    # each is as quick
    joined_update: Callable[[JoinedUpdate], tuple[str, list[Any]]] | None = None
    # locks for runs that share a table; None where a single program writes
    claims: Claims | None = None
    # the change that gives a column room for so many characters; None where none is ever needed
    widened: Callable[[Database, TableName, str, Declared, int], SchemaChange] | None = None
    # finds the replicas of a store's server; None where there are none
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
