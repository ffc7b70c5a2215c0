"""Reading: the rows of one table, as bytes, whatever a column's type and collation."""

from collections.abc import Iterator, Mapping
from functools import cached_property
from itertools import chain, zip_longest
from types import MappingProxyType
from typing import Any

import sqlalchemy as sa
from sqlalchemy.sql.compiler import SQLCompiler

from lean_tumbler.core.policy import PLAIN_ROWS, Columns, RowSource
from lean_tumbler.errors import UsageError
from lean_tumbler.stores.interface import Account, AccountKey
from lean_tumbler.stores.naming import nearest, require_column
from lean_tumbler.stores.sql.database import Database, TableName
from lean_tumbler.stores.sql.key_heads import key_heads
from lean_tumbler.stores.sql.origins import origins
from lean_tumbler.stores.sql.relation import Relation
from lean_tumbler.stores.sql.row_key import RowKey
from lean_tumbler.stores.sql.server import Column, Expression

_PAGE_ROWS = 4000


class TableRows:
    """One table of an SQL database."""

    layering_refused = ""
    key_label = "account"

    def __init__(
        self,
        database: Database,  # where it is
        *,
        table: str,  # the table's name
        columns: Columns,  # the table's own names for what is needed
        source: RowSource = PLAIN_ROWS,  # what makes up a row
        # further columns that readings need: the policy's name -> the table's own
        others: Mapping[str, str] = MappingProxyType({}),
        writable: bool = False,  # whether swaps will be asked for, which needs a unique key
    ) -> None:
        self._database = database
        self._others = dict(others)
        self._columns = columns
        self._place = f"{database.locator}, table {table}"
        self._name = self._named(table, writable=writable)
        self._relation = Relation(database, self._name, source, stored=columns.stored or "")
        for name in (*columns.mapped.values(), *others.values()):
            require_column(name, self._relation.names, self._place)
        for name in filter(None, (columns.account, columns.stored, *source.key)):
            self._relation.require_own(name)
        self._table = self._relation.table
        self._key = self._row_key(writable=writable)
        if writable:
            _ = self._relation.written  # must be there

    def _named(self, text: str, *, writable: bool) -> TableName:
        found = self._database.table_named(text, views=not writable)
        if found is not None:
            return found
        if self._database.table_named(text, views=True) is not None:
            raise UsageError(
                f"{self._place} is a view, and views are only read; to write, name its table"
            )
        hint = nearest(text, tuple(map(str, self._database.tables())))
        raise UsageError(f"{self._database.locator} has no table “{text}”; {hint}")

    def _row_key(self, *, writable: bool) -> RowKey:
        """Find what names a row: the policy's column, or the table's primary key."""
        cast, types = self._database.server.cast_keys, self._relation.types
        account, told = self._columns.account, list(self._relation.source.key)
        names = told or ([account] if account else self._database.primary_key(self._name))
        is_told = len(names) == 1 or (names and not any(map(self._relation.is_binary, names)))
        if not is_told and (writable or not self._database.server.hidden_key):
            raise UsageError(
                f"{self._place} has no primary key that names a row; name a unique column as "
                "“account”"
            )
        if not is_told:  # enough to refer to a row in a report
            return RowKey([self._table.c[self._database.server.hidden_key]], [None], cast)
        return RowKey(
            [self._table.c[name] for name in names], [types[name] for name in names], cast
        )

    @property
    def table(self) -> str:
        """The table's name."""
        return str(self._name)

    @property
    def relation(self) -> Relation:
        """What rows are read from."""
        return self._relation

    @property
    def key(self) -> RowKey:
        """What names a row."""
        return self._key

    def _raw(self, name: str | None) -> Expression:
        """A column's bytes, whatever its declared type."""
        return self._relation.raw(name) if name else sa.null()

    def _row_columns(self) -> list[Expression]:
        columns, relation = self._columns, self._relation
        return [
            *self._key.columns,
            relation.is_moved if relation.is_moving else sa.true(),
            self._raw(columns.stored),
            self._raw(columns.salt),
            self._raw(columns.login),
            self._raw(columns.last_login),
            self._raw(columns.created),
            self._raw(columns.privileged),
            self._raw(columns.origin),
            *(self._raw(name) for name in self._others.values()),
        ]

    def _account(self, row: Any) -> Account:
        parts = len(self._key.columns)
        is_moved, stored, salt, login, last_login, created, role, origin, *others = row[parts:]
        return Account(
            key=self._key.of(row[:parts]),
            login=None if login is None else bytes(login).decode("utf-8", "replace"),
            stored=None if stored is None else bytes(stored),
            salt=None if salt is None else bytes(salt),
            last_login=None if last_login is None else bytes(last_login),
            created=None if created is None else bytes(created),
            role=None if role is None else bytes(role),
            origin=None if origin is None else bytes(origin),
            others={
                name: None if content is None else bytes(content)
                for name, content in zip(self._others, others, strict=True)
            },
            is_left_behind=not is_moved,
        )

    def _is_own(self, account: Account) -> bool:
        """Tell whether a row is the store's: the server has only narrowed the choice."""
        condition = self._relation.source.rows
        return condition is None or condition.holds(account.row)

    def count(self) -> int:
        """Count the rows."""
        if not self._relation.is_exact:
            return sum(len(page) for page in self._pages())
        with self._database.connect() as connection:
            query = self._relation.select(sa.func.count())
            return int(connection.execute(query).scalar_one())

    def page(
        self, *, after: AccountKey | None, rows: int, privileged: bool | None = None
    ) -> list[Account]:
        """Read the next rows in order of their key; of administrators alone, or of the others."""
        while found := self._page(after, rows, privileged):
            own = [account for account in found if self._is_own(account)]
            if own:
                return own
            after = found[-1].key
        return []

    def _pages(self) -> Iterator[list[Account]]:
        after: AccountKey | None = None
        while page := self.page(after=after, rows=_PAGE_ROWS):
            yield page
            after = page[-1].key

    def _page(self, after: AccountKey | None, rows: int, privileged: bool | None) -> list[Account]:
        query = self._relation.select(*self._row_columns()).order_by(*self._key.columns).limit(rows)
        if after is not None:
            query = query.where(self._key.after(after))
        if privileged is not None and self._columns.privileged:
            truth = self._is_privileged(self._relation.column(self._columns.privileged))
            query = query.where(truth if privileged else sa.not_(truth))
        return self._accounts(query)

    def _is_privileged(self, column: Column) -> Expression:
        """Give an expression for an administrator's row; NULL is none's."""
        text = sa.func.lower(sa.cast(column, sa.String))
        theirs, words = self._columns.role_words
        told = text.in_(words) if theirs else text.not_in(words)
        return sa.and_(column.is_not(None), told)

    def fetch(self, login: str) -> list[Account]:
        """Read the rows with a login: one, unless the login is unknown or not unique."""
        with self._database.connect() as connection:
            rows = connection.exec_driver_sql(*self._fetch_statement(login))
            found = [self._account(row) for row in rows]
        return [account for account in found if self._is_own(account)]

    def find(self, key: str) -> Account | None:
        """Read the row with a key, given as text; None where there is none."""
        query = self._relation.select(*self._row_columns()).where(self._key.is_text(key))
        found = self._accounts(query.limit(2))
        return found[0] if len(found) == 1 and self._is_own(found[0]) else None

    def newest(self, rows: int) -> list[Account]:
        """Read the rows that were written last: by the column `created`, or the highest keys."""
        order = list(self._key.columns)
        if self._columns.created:
            order.insert(0, self._relation.column(self._columns.created))
        elif not isinstance(self._relation.types.get(order[0].name), sa.Integer):
            raise UsageError(
                f"{self._place}: its keys do not say which row is the newest; name the column that "
                "says when as “created”"
            )
        query = self._relation.select(*self._row_columns()).where(order[0].is_not(None))
        found = self._accounts(query.order_by(*(each.desc() for each in order)).limit(rows))
        return list(filter(self._is_own, found))

    def beside(self, key: AccountKey, rows: int) -> list[Account]:
        """Read so many rows before a key and behind it, the nearest first."""
        query = self._relation.select(*self._row_columns()).limit(rows)
        sides = [
            self._accounts(query.where(self._key.after(key)).order_by(*self._key.columns)),
            self._accounts(
                query.where(self._key.before(key)).order_by(
                    *(column.desc() for column in self._key.columns)
                )
            ),
        ]
        both = chain.from_iterable(zip_longest(*sides))
        return [account for account in both if account is not None and self._is_own(account)]

    def _fetch_statement(self, login: str) -> tuple[str, Any]:
        """Give the statement as text: making it anew each time takes longer than running it."""
        compiled = self._fetch_compiled
        values = {**compiled.params, "the_login": login}
        if compiled.positional:
            return str(compiled), tuple(values[name] for name in compiled.positiontup or [])
        return str(compiled), values

    @cached_property
    def _fetch_compiled(self) -> SQLCompiler:
        login = self._relation.column(self._columns.login or "") == sa.bindparam("the_login")
        query = self._relation.select(*self._row_columns()).where(login)
        if self._relation.is_exact:
            query = query.limit(sa.literal_column("2"))
        return query.compile(dialect=self._database.engine.dialect)

    def _accounts(self, query: sa.Select[Any]) -> list[Account]:
        with self._database.connect() as connection:
            return [self._account(row) for row in connection.execute(query)]

    def require_answer(self) -> None:
        """Ask for one row's key."""
        with self._database.connect() as connection:
            connection.execute(self._relation.select(*self._key.columns).limit(1)).first()

    def require_readable(self) -> None:
        """Read a row by all columns that the policy names."""
        with self._database.connect() as connection:
            connection.execute(self._relation.select(*self._row_columns()).limit(1)).first()

    def origins(self) -> set[str]:
        """Name the formulas that layered values refer to, by fingerprint."""
        with self._database.connect() as connection:
            return origins(connection, self._relation, self._raw(self._columns.stored))

    def key_heads(self) -> Mapping[tuple[str, bytes], int]:
        """Count the rows under each key that stands apart, by its name and its check."""
        with self._database.connect() as connection:
            return key_heads(connection, self._relation, self._raw(self._columns.stored))

    def highest_key(self) -> int | None:
        """Give the highest number that names a row; None where keys are no numbers."""
        names = [column.name for column in self._key.columns]
        if len(names) != 1 or not isinstance(self._relation.types.get(names[0]), sa.Integer):
            return None
        with self._database.connect() as connection:
            query = self._relation.select(sa.func.max(self._key.columns[0]))
            highest = connection.execute(query).scalar_one()
        return highest if isinstance(highest, int) else None

    def repeated(self) -> frozenset[AccountKey]:
        """Give the keys of rows whose login others have too, as the store compares logins."""
        if not self._relation.is_exact:
            return self._repeated_by_reading()
        login = self._relation.column(self._columns.login or "")
        several = self._relation.select(login).where(login.is_not(None))
        several = several.group_by(login).having(sa.func.count() > 1)
        with self._database.connect() as connection:
            if connection.execute(several.limit(1)).first() is None:
                return frozenset()
            query = self._relation.select(*self._key.columns).where(login.in_(several))
            return frozenset(self._key.of(row) for row in connection.execute(query))

    def _repeated_by_reading(self) -> frozenset[AccountKey]:
        """Find repeated logins where the server cannot tell which rows are the store's."""
        login = self._relation.column(self._columns.login or "")
        several = self._relation.select(login).where(login.is_not(None))
        several = several.group_by(login).having(sa.func.count() > 1)
        with self._database.connect() as connection:
            texts = [row[0] for row in connection.execute(several)]
        found = [self.fetch(text) for text in texts]
        return frozenset(row.key for rows in found if len(rows) > 1 for row in rows)

    def close(self) -> None:
        """Let go of connections."""
        self._database.engine.dispose()
