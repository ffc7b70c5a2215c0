"""An open database, and what its catalogue says of tables and keys."""

from collections.abc import Iterator, Mapping, Sequence
from contextlib import AbstractContextManager, contextmanager
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, Any

import sqlalchemy as sa
from msgspec import Struct

from lean_tumbler.core.policy.model import names_any
from lean_tumbler.core.records import Hidden, MaskedRecord
from lean_tumbler.errors import SourceError
from lean_tumbler.stores.sql.catalogue import Catalogue
from lean_tumbler.stores.sql.errors import database_errors

if TYPE_CHECKING:
    from lean_tumbler.stores.sql.server import Server

AS_TEXT = {"literal_binds": True}  # how a query is compiled that takes no parameters
_PER_CENT = "\0"  # which no name holds; it stands for a sign that would be doubled


class TableName(Struct, frozen=True):
    """A table's name, and its schema's; None for the one that a connection begins with."""

    name: str
    schema: str | None = None

    def __str__(self) -> str:
        """Give it as policies and reports write it."""
        return f"{self.schema}.{self.name}" if self.schema else self.name


class Database(MaskedRecord, Struct, frozen=True):
    """An open database."""

    engine: Hidden[sa.Engine]  # its connections
    locator: str  # what messages call it; without a password
    server: "Server"  # its kind

    def place(self) -> str:
        """Give what tells this database from every copy of it."""
        if not self.server.place:
            file = Path(self.told("SELECT file FROM pragma_database_list WHERE name = 'main'"))
            found = file.stat()
            return f"{found.st_dev} {found.st_ino}"
        return self.told(self.server.place)

    def data_folder(self) -> str:
        """Name the folder of the server's own files; empty where none is told."""
        try:
            return self.told(self.server.data_folder) if self.server.data_folder else ""
        except SourceError:
            return ""

    def told(self, query: str) -> str:
        """Ask for one text.

        Raises:
            SourceError: it is not answered.
        """
        with self.connect() as connection:
            return str(connection.exec_driver_sql(query).scalar())

    def quoted(self, name: str | TableName) -> str:
        """Write a name for a statement without parameters, in which per cent signs stay single."""
        preparer = self.engine.dialect.identifier_preparer

        def quote(text: str) -> str:
            return preparer.quote(text.replace("%", _PER_CENT)).replace(_PER_CENT, "%")

        if isinstance(name, TableName):
            schema = f"{quote(name.schema)}." if name.schema else ""
            return schema + quote(name.name)
        return quote(name)

    def quoted_text(self, text: str) -> str:
        """Write a text for a statement without parameters."""
        literal = sa.literal(text.replace("%", _PER_CENT), sa.String)
        written = literal.compile(self.engine, compile_kwargs=AS_TEXT)
        return str(written).replace(_PER_CENT, "%")

    def tables(self, *, of_schemas: Sequence[str] = ()) -> list[TableName]:
        """List the tables, those of other schemas last; parts of a table are none.

        Args:
            of_schemas: which other schemas are looked at, with `*` for any text; none for those
                that a URL of this kind of server means.
        """
        parts = self._partitions()
        with self.inspector() as inspector:
            usual = inspector.default_schema_name
            found = [
                TableName(name)
                for name in inspector.get_table_names()
                if (usual, name) not in parts
            ]
            is_own = self.server.is_own
            if any(of_schemas):
                is_own = partial(names_any, of_schemas)
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

    def primary_key(self, table: TableName) -> list[str]:
        """Name the columns of the primary key, in its order."""
        with self.inspector() as inspector:
            found = inspector.get_pk_constraint(table.name, table.schema)
        return list(found["constrained_columns"])

    def foreign_keys(self, table: TableName) -> list[tuple[str, TableName, str]]:
        """Name the columns that each refer to a row of a table: column, that table, its column."""
        with self.inspector() as inspector:
            found = inspector.get_foreign_keys(table.name, table.schema)
            usual = inspector.default_schema_name
        return [
            (
                str(each["constrained_columns"][0]),
                TableName(each["referred_table"], _unusual(each["referred_schema"], usual)),
                str(each["referred_columns"][0]),
            )
            for each in found
            if len(each["constrained_columns"]) == len(each["referred_columns"]) == 1
        ]

    def table_named(self, text: str, *, views: bool = False) -> TableName | None:
        """Find a table by its name, or by its schema's name, a dot and its own.

        Args:
            text: the name.
            views: whether a view will do, which is only read.
        """
        schema, _, name = text.rpartition(".")
        with self.inspector() as inspector:

            def names(of: str | None = None) -> list[str]:
                return inspector.get_table_names(of) + (
                    inspector.get_view_names(of) if views else []
                )

            if text in names():
                return TableName(text)
            if schema and schema in inspector.get_schema_names():
                return TableName(name, schema) if name in names(schema) else None
        return None

    def errors(self) -> AbstractContextManager[None]:
        """Turn the database's own errors into one clear line.

        Raises:
            StoreUnavailable: the server is away, or a lock is held.
            SourceError: for every other of the database's errors.
        """
        return database_errors(self.locator, self.server.meaning, self.engine.dialect.loaded_dbapi)

    @contextmanager
    def inspector(self) -> Iterator[Catalogue]:
        """Give what reads the catalogue, over one connection; errors are told as with `errors`."""
        with self.connect() as connection:
            yield self.server.catalogue(connection)

    @contextmanager
    def connect(self) -> Iterator[sa.Connection]:
        """Give a connection; errors are told as with `errors`."""
        with self.errors(), self.engine.connect() as connection:
            yield connection


def _unusual(schema: str | None, usual: str | None) -> str | None:
    return None if schema == usual else schema


def _is_partial(index: Mapping[str, Any]) -> bool:
    """Tell an index that holds some of the rows alone."""
    return any(name.endswith("_where") for name in index.get("dialect_options", {}))
