"""What a kind of SQL server says of itself: all that differs from one to another.

One module a server fills this in; what they have in common stands in the other modules here.
"""

from collections.abc import Callable, Generator, Iterator, Mapping, Sequence
from contextlib import AbstractContextManager, contextmanager
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any, Protocol

import sqlalchemy as sa

from lean_tumbler.core.policy import StoragePolicy, StorePolicy
from lean_tumbler.stores.sql.errors import Meaning, database_errors

if TYPE_CHECKING:
    import polars as pl

    Batches = Generator[pl.DataFrame, None, None]

LOCK_SECONDS = 10
LOGIN_LOCK_SECONDS = 2  # people wait for it
GUARD = "tumbler_stored_forms"  # the name of the constraint, or how triggers' names begin
_PER_CENT = "\0"  # which no name holds; it stands for a sign that would be doubled
Column = sa.ColumnClause[Any]
Expression = sa.ColumnElement[Any]
Clock = Callable[[], float]


@dataclass(frozen=True, slots=True)
class TableName:
    """A table's name, and its schema's; None for the one that a connection begins with."""

    name: str
    schema: str | None = None

    def __str__(self) -> str:
        """Give it as policies and reports write it."""
        return f"{self.schema}.{self.name}" if self.schema else self.name


@dataclass(frozen=True, slots=True)
class Database:
    """An open database.

    Attributes:
        engine: its connections.
        locator: what messages call it; without a password.
        server: its kind.
    """

    engine: sa.Engine = field(repr=False)
    locator: str
    server: "Server"

    def quoted(self, name: str | TableName) -> str:
        """Write a name for a statement without parameters, in which per cent signs stay single."""
        preparer = self.engine.dialect.identifier_preparer

        def quote(text: str) -> str:
            return preparer.quote(text.replace("%", _PER_CENT)).replace(_PER_CENT, "%")

        if isinstance(name, TableName):
            schema = f"{quote(name.schema)}." if name.schema else ""
            return schema + quote(name.name)
        return quote(name)

    def tables(self) -> list[TableName]:
        """List the tables, those of other schemas last; parts of a table are none."""
        parts = self._partitions()
        with self.inspector() as inspector:
            usual = inspector.default_schema_name
            found = [
                TableName(name)
                for name in inspector.get_table_names()
                if (usual, name) not in parts
            ]
            is_own = self.server.is_own
            if is_own is None:
                return found
            for schema in inspector.get_schema_names():
                if schema != usual and is_own(schema):
                    names = inspector.get_table_names(schema)
                    found += [TableName(n, schema) for n in names if (schema, n) not in parts]
        return found

    def _partitions(self) -> set[tuple[str, str]]:
        """Name the tables that are parts of another, each with its schema."""
        if not self.server.partitions:
            return set()
        with self.connect() as connection:
            rows = connection.exec_driver_sql(self.server.partitions)
            return {(str(schema), str(name)) for schema, name in rows}

    def keys(self, table: TableName) -> list[str]:
        """Name the columns that each name a row alone: the primary key first, then unique ones."""
        with self.inspector() as inspector:
            primary = inspector.get_pk_constraint(table.name, table.schema)["constrained_columns"]
            unique = inspector.get_unique_constraints(table.name, table.schema)
            indexes = inspector.get_indexes(table.name, table.schema)
        sets: list[Sequence[str | None]] = [primary]
        sets += [each["column_names"] for each in unique]
        sets += [
            each["column_names"] for each in indexes if each["unique"] and not _is_partial(each)
        ]
        return list(dict.fromkeys(str(names[0]) for names in sets if len(names) == 1 and names[0]))

    def table_named(self, text: str) -> TableName | None:
        """Find a table by its name, or by its schema's name, a dot and its own."""
        schema, _, name = text.rpartition(".")
        with self.inspector() as inspector:
            if text in inspector.get_table_names():
                return TableName(text)
            if schema and schema in inspector.get_schema_names():
                known = inspector.get_table_names(schema)
                return TableName(name, schema) if name in known else None
        return None

    def errors(self) -> AbstractContextManager[None]:
        """Turn the database's own errors into one clear line.

        Raises:
            StoreUnavailable: the server is away, or a lock is held.
            SourceError: for every other of the database's errors.
        """
        return database_errors(self.locator, self.server.meaning, self.engine.dialect.loaded_dbapi)

    @contextmanager
    def inspector(self) -> Iterator[sa.Inspector]:
        """Give what reads the catalogue, over one connection; errors are told as with `errors`."""
        with self.connect() as connection:
            yield sa.inspect(connection)

    @contextmanager
    def connect(self) -> Iterator[sa.Connection]:
        """Give a connection; errors are told as with `errors`."""
        with self.errors(), self.engine.connect() as connection:
            yield connection


def _is_partial(index: Mapping[str, Any]) -> bool:
    """Tell an index that holds some of the rows alone."""
    return any(name.endswith("_where") for name in index.get("dialect_options", {}))


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
class Claims:
    """Locks of a session, under a number: a query that takes one and tells, one that lets go."""

    claim: Callable[[int], sa.Select[Any]]
    release: Callable[[int], sa.Select[Any]]


@dataclass(frozen=True, slots=True, kw_only=True)
class GuardedColumn:
    """The column that is to be guarded: names quoted and as text, and whether it holds bytes."""

    table: str
    column: str
    binary: bool
    table_text: str
    schema_text: str


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
        seen: a query that gives a row where this account sees constraints of the table; empty where
            every account does.
        together: whether the statements and a look at the rows are one transaction; else the server
            looks at the rows itself.
    """

    admits: str
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
    """

    size: str = ""
    lists: Mapping[str, str] = field(default_factory=dict)


@dataclass(frozen=True, slots=True, kw_only=True)
class Declared:
    """How a schema declares a column, as far as it can spoil stored values.

    Attributes:
        characters: the most that it holds; None where nothing bounds it, or nothing is known.
        collation: the name of a collation that takes upper and lower case for one; or empty.
    """

    characters: int | None = None
    collation: str = ""


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
        verified: gives settings of the URL and arguments of the driver by which a server on another
            machine is verified.
    """

    driver: str
    arguments: Mapping[str, str]
    setting: str
    reading: str
    writing: str
    verified: Callable[[], tuple[dict[str, str], dict[str, Any]]]


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
        batches: runs a query, and gives its rows as bytes or text.
        is_text_certain: whether what it calls text is UTF-8 when it arrives, so that none is
            checked.
        is_own: tells a schema's name from one of the server's; None where a URL means one schema.
        partitions: a query for schema and name of tables that are parts of another; or empty.
        cast_keys: types of keys that it compares with their own type alone.
        hidden_key: the name of a row's own number, where a table has no other key; or empty.
        joined_update: gives the statement, and its values, that writes many rows at once; None
            where a statement for each is as quick.
        claims: locks for runs that share a table; None where a single program writes.
        widened: the change that gives a column room for so many characters; None where none is
            ever needed.
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
    is_text_certain: Callable[[Database], bool] = lambda _: False
    is_own: Callable[[str], bool] | None = None
    partitions: str = ""
    cast_keys: tuple[type[Any], ...] = (sa.Numeric,)
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
