"""What the rows of a store are read from: its table, one joined to it, and their columns."""

from collections.abc import Sequence
from functools import cached_property
from typing import Any

import sqlalchemy as sa

from lean_tumbler.core.policy import RowSource
from lean_tumbler.core.reading.conditions import Condition, Test
from lean_tumbler.core.reading.rows import STORED
from lean_tumbler.errors import UsageError
from lean_tumbler.stores.naming import nearest, require_column
from lean_tumbler.stores.sql.database import Database, TableName
from lean_tumbler.stores.sql.server import Column, Expression, is_binary

_JOINED = "tumbler_joined"  # the joined table's alias: a table may be joined to itself


class Relation:
    """Columns by the names that the policy gives them, and what they are selected from.

    Args:
        database: where it is.
        table: the store's own table.
        source: what makes up a row.
        stored: the column that `source.write_to` takes the place of.

    Raises:
        UsageError: the joined table, or a column that `source` names, is not there.
    """

    def __init__(
        self, database: Database, table: TableName, source: RowSource, *, stored: str = ""
    ) -> None:
        self._database, self.name, self.source = database, table, source
        self.stored = stored
        self.place = f"{database.locator}, table {table}"
        self.types: dict[str, Any] = _types(database, table)
        own: list[Column] = [
            sa.column(name) for name in self.types
        ]  # without types, which would judge values
        # SQLite's number of a row is a column that no catalogue lists.
        hidden: list[Column] = [sa.column(name) for name in (database.server.hidden_key,)
                  if name and name not in self.types]  # fmt: skip
        self.table = sa.table(table.name, *own, *hidden, schema=table.schema)
        self._columns: dict[str, Column] = {column.name: column for column in own}
        self._other: sa.FromClause | None = None
        self._is_joined: Expression = sa.true()
        self._join_table()
        for name in source.rows.columns if source.rows else ():
            require_column(name, self.names, self.place)
        self._binary = {name for name, kind in self.types.items() if is_binary(kind)}

    def _join_table(self) -> None:
        join = self.source.join
        if join is None:
            return
        other = self._database.table_named(join.table)
        if other is None:
            hint = nearest(join.table, tuple(map(str, self._database.tables())))
            raise UsageError(f"{self._database.locator} has no table “{join.table}”; {hint}")
        types = _types(self._database, other)
        require_column(join.by, list(self.types), self.place)
        require_column(join.key, list(types), f"{self._database.locator}, table {other}")
        if join.key not in self._database.keys(other):
            raise UsageError(
                f"{self._database.locator}, table {other}: “{join.key}” is not unique there, so "
                "a row of the store could be joined to several"
            )
        joined = sa.table(
            other.name, *map(sa.column, types),
            schema=other.schema,
        ).alias(_JOINED)  # fmt: skip
        for name, kind in types.items():
            # The store's own column goes first, where it has that very name.
            self._columns.setdefault(f"{join.table}.{name}", joined.c[name])
            self.types.setdefault(f"{join.table}.{name}", kind)
        self._other, self._is_joined = joined, joined.c[join.key] == self.table.c[join.by]

    @property
    def names(self) -> list[str]:
        """All columns, the joined table's as TABLE.COLUMN."""
        return list(self._columns)

    @property
    def rows(self) -> sa.FromClause:
        """What rows are selected from."""
        if self._other is None:
            return self.table
        return self.table.outerjoin(self._other, self._is_joined)

    def column(self, name: str) -> Column:
        """Give a column."""
        return self._columns[name]

    def require_own(self, name: str) -> None:
        """Refuse a column of the joined table, where one is written or names a row.

        Raises:
            UsageError: it is not of the store's own table.
        """
        if name not in self.table.c:
            raise UsageError(f"{self.place}: “{name}” must be a column of that table itself")

    @cached_property
    def selected(self) -> Sequence[Expression]:
        """What must hold of a row for it to be the store's, as far as the server can say."""
        return [] if self.source.rows is None else [Narrowing(self).of(self.source.rows)]

    @property
    def is_exact(self) -> bool:
        """Whether the server's answer is that of the policy's condition."""
        return self.source.rows is None or all(
            test.verb in EXACT_VERBS for test in self.source.rows.tests
        )

    def select(self, *expressions: Any) -> sa.Select[Any]:
        """Begin a query of the store's rows."""
        return sa.select(*expressions).select_from(self.rows).where(*self.selected)

    def is_binary(self, name: str) -> bool:
        """Tell a column of bytes from one of text."""
        return name in self._binary

    @property
    def is_moving(self) -> bool:
        """Whether another column takes the place of `stored`, and is there."""
        write_to = self.source.write_to
        return write_to is not None and write_to.column in self.table.c

    @property
    def written(self) -> str:
        """The column that values are written to.

        Raises:
            UsageError: it is not there yet.
        """
        write_to = self.source.write_to
        if write_to is None:
            return self.stored
        if not self.is_moving:
            raise UsageError(
                f"{self.place} has no column “{write_to.column}” yet; `lean-tumbler plan` prints "
                "the statement that adds it"
            )
        return write_to.column

    def raw(self, name: str) -> Expression:
        """Give a column's bytes, whatever its type; of `stored`, those that count."""
        if name != self.stored or not self.is_moving:
            return self.raw_alone(name)
        return sa.case((self.is_moved, self.raw_alone(self.written)), else_=self.raw_alone(name))

    @property
    def is_moved(self) -> Expression:
        """Whether a row's value stands in the column that takes the place of `stored`."""
        return sa.func.coalesce(
            sa.func.length(self.raw_alone(self.written)), sa.literal_column("0")
        ) > (sa.literal_column("0"))

    def raw_alone(self, name: str) -> Expression:
        """Give the bytes of that very column."""
        return self._database.server.raw(self._columns[name], name in self._binary)

    def raw_in_update(self, name: str) -> Expression:
        """Give a column's bytes in a statement that names the store's own table alone."""
        if name in self.table.c:
            return self.raw(name)
        found = sa.select(self.raw_alone(name)).where(self._is_joined)
        return found.correlate(self.table).scalar_subquery()

    def kept(self) -> list[str]:
        """Name the columns that would change at every write, and are kept as they are."""
        query = self._database.server.kept
        if not query:
            return []
        names = {"schema": self.name.schema, "name": self.name.name}
        with self._database.connect() as connection:
            return list(connection.execute(sa.text(query), names).scalars())

    def emptied(self, name: str) -> Expression:
        """Give what stands in a column that was emptied: NULL, where it may."""
        return sa.null() if name in self._nullable else sa.literal_column("''")

    @cached_property
    def _nullable(self) -> frozenset[str]:
        with self._database.inspector() as inspector:
            columns = inspector.get_columns(self.name.name, self.name.schema)
        return frozenset(column["name"] for column in columns if column["nullable"])


# Tests of which the server gives the very answer, or a text's in another letter case as well.
EXACT_VERBS = frozenset({"null", "empty", "present"})
_EQUAL = frozenset({"=", "in"})


class Narrowing:
    """A condition as the server can ask it: no row is left out that the condition means.

    Args:
        relation: whose columns it names.
    """

    def __init__(self, relation: Relation) -> None:
        self._relation = relation

    def of(self, condition: Condition | Test) -> Expression:
        """Give the expression."""
        if isinstance(condition, Test):
            return self._test(condition)
        parts = [self.of(part) for part in condition.parts]
        return sa.or_(*parts) if condition.is_any else sa.and_(*parts)

    def _test(self, test: Test) -> Expression:
        relation = self._relation
        name = relation.stored if test.role == STORED else test.name
        if name not in relation.names:
            return sa.true()
        column = relation.column(name)
        if test.verb == "null":
            return column.is_(None)
        if test.verb in {"empty", "present"}:
            length = sa.func.coalesce(sa.func.length(relation.raw(name)), sa.literal_column("0"))
            none = length == sa.literal_column("0")
            return none if test.verb == "empty" else sa.not_(none)
        if test.verb in _EQUAL and not (test.is_bare or relation.is_binary(name)):
            return sa.or_(*(sa.cast(column, sa.String) == text for text in test.operands))
        return sa.true()


def _types(database: Database, table: TableName) -> dict[str, Any]:
    with database.inspector() as inspector:
        found = inspector.get_columns(table.name, table.schema)
    return {column["name"]: column["type"] for column in found}
