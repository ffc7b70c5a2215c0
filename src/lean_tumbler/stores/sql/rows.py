"""Reading: the rows of one table, as bytes, whatever a column's type and collation."""

from collections.abc import Mapping
from functools import cached_property
from types import MappingProxyType
from typing import Any

import sqlalchemy as sa
from sqlalchemy.sql.compiler import SQLCompiler

from lean_tumbler.core.policy import Columns
from lean_tumbler.core.policy.model import NOT_PRIVILEGED
from lean_tumbler.errors import UsageError
from lean_tumbler.stores.interface import Account, AccountKey
from lean_tumbler.stores.naming import nearest, require_column
from lean_tumbler.stores.sql.origins import origins
from lean_tumbler.stores.sql.server import Column, Database, Expression, TableName, is_binary

_KEY_CHARACTERS = 255


class TableRows:
    """One table of an SQL database.

    Args:
        database: where it is.
        table: the table's name.
        columns: the table's own names for what is needed.
        others: further columns that readings need: the policy's name -> the table's own.
        writable: whether swaps will be asked for, which needs a unique key.
    """

    layering_refused = ""
    key_label = "account"

    def __init__(
        self,
        database: Database,
        *,
        table: str,
        columns: Columns,
        others: Mapping[str, str] = MappingProxyType({}),
        writable: bool = False,
    ) -> None:
        self._database = database
        self._others = dict(others)
        self._columns = columns
        self._place = f"{database.locator}, table {table}"
        self._name = self._named(table)
        types = self._column_types()
        named = columns.mapped
        for name in (*named.values(), *others.values()):
            require_column(name, list(types), self._place)
        self._binary = frozenset(name for name, kind in types.items() if is_binary(kind))
        self._key_name = columns.account or self._primary_key(writable=writable)
        names = {self._key_name, *named.values(), *others.values()}
        named_columns: list[sa.ColumnClause[Any]] = [sa.column(name) for name in names]
        self._table = sa.table(self._name.name, *named_columns, schema=self._name.schema)
        self._key = self._table.c[self._key_name]
        kind = types.get(self._key_name)
        is_cast = isinstance(kind, database.server.cast_keys)
        self._kind_of_key, self._key_type = kind, kind if is_cast else None

    def _as_key(self, key: Any) -> sa.ColumnElement[Any]:
        """Give a key as the column's own type; one that Python has no type for is kept as text.

        Args:
            key: a value, or a parameter for one.
        """
        given = key if isinstance(key, sa.ColumnElement) else sa.literal(key)
        return given if self._key_type is None else sa.cast(given, self._key_type)

    def _column_types(self) -> dict[str, Any]:
        with self._database.inspector() as inspector:
            found = inspector.get_columns(self._name.name, self._name.schema)
        return {column["name"]: column["type"] for column in found}

    def _named(self, text: str) -> TableName:
        found = self._database.table_named(text)
        if found is not None:
            return found
        with self._database.inspector() as inspector:
            if text in inspector.get_view_names():
                raise UsageError(f"{self._place} is a view; name the table under it")
        hint = nearest(text, tuple(map(str, self._database.tables())))
        raise UsageError(f"{self._database.locator} has no table “{text}”; {hint}")

    def _primary_key(self, *, writable: bool) -> str:
        with self._database.inspector() as inspector:
            names = inspector.get_pk_constraint(self._name.name, self._name.schema)[
                "constrained_columns"
            ]
        hidden_key = self._database.server.hidden_key
        if len(names) == 1:
            return names[0]
        if writable or not hidden_key:
            raise UsageError(
                f"{self._place} has no primary key of one column; name a unique one as “account”"
            )
        return hidden_key  # enough to refer to a row in a report

    @property
    def table(self) -> str:
        """The table's name."""
        return str(self._name)

    @property
    def table_name(self) -> TableName:
        """Its name and its schema's."""
        return self._name

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
        return self._database.server.raw(self._table.c[name], name in self._binary)

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

    def count(self) -> int:
        """Count the rows."""
        with self._database.connect() as connection:
            query = sa.select(sa.func.count()).select_from(self._table)
            return int(connection.execute(query).scalar_one())

    def page(
        self, *, after: AccountKey | None, rows: int, privileged: bool | None = None
    ) -> list[Account]:
        """Read the next rows in order of their key; of administrators alone, or of the others."""
        query = sa.select(*self._row_columns()).order_by(self._key).limit(rows)
        if after is not None:
            query = query.where(self._key > self._as_key(after))
        if privileged is not None and self._columns.privileged:
            truth = self._is_privileged(self._table.c[self._columns.privileged])
            query = query.where(truth if privileged else sa.not_(truth))
        return self._accounts(query)

    def _is_privileged(self, column: Column) -> Expression:
        """Give an expression for an administrator's row; NULL is none's."""
        text = sa.func.lower(sa.cast(column, sa.String))
        values = [value.lower() for value in self._columns.privileged_values]
        told = text.in_(values) if values else text.not_in(NOT_PRIVILEGED)
        return sa.and_(column.is_not(None), told)

    def fetch(self, login: str) -> list[Account]:
        """Read the rows with a login: one, unless the login is unknown or not unique."""
        with self._database.connect() as connection:
            rows = connection.exec_driver_sql(*self._fetch_statement(login))
            return [self._account(row) for row in rows]

    def find(self, key: str) -> Account | None:
        """Read the row with a key, given as text; None where there is none."""
        # Blanks at the end of a char(n) count for none of the server's, and a cast takes them off.
        is_text = isinstance(self._kind_of_key, sa.String)
        text = self._key if is_text else sa.cast(self._key, sa.String(_KEY_CHARACTERS))
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
        return query.compile(dialect=self._database.engine.dialect)

    def _accounts(self, query: sa.Select[Any]) -> list[Account]:
        with self._database.connect() as connection:
            return [self._account(row) for row in connection.execute(query)]

    def require_answer(self) -> None:
        """Ask for one row's key."""
        with self._database.connect() as connection:
            connection.execute(sa.select(self._key).limit(1)).first()

    def origins(self) -> set[str]:
        """Name the formulas that layered values refer to, by fingerprint."""
        with self._database.connect() as connection:
            return origins(connection, self._table, self._raw(self._columns.stored))

    def close(self) -> None:
        """Let go of connections."""
        self._database.engine.dispose()
