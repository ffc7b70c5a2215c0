"""The catalogue of MariaDB and MySQL, also for accounts that may see some columns of a table alone.

The usual way asks for the statement that makes a table, which needs a right on all of it. The
information schema shows each account what it may use.
"""

from collections.abc import Mapping
from typing import Any

import sqlalchemy as sa

_COLUMNS = sa.text(
    "SELECT column_name, data_type, is_nullable, numeric_precision, numeric_scale,"
    " datetime_precision FROM information_schema.columns"
    " WHERE table_schema = COALESCE(:schema, DATABASE()) AND table_name = :name"
    " ORDER BY ordinal_position"
)
_INDEXES = sa.text(
    "SELECT index_name, column_name, non_unique FROM information_schema.statistics"
    " WHERE table_schema = COALESCE(:schema, DATABASE()) AND table_name = :name"
    " ORDER BY index_name, seq_in_index"
)
_FOREIGN_KEYS = sa.text(
    "SELECT constraint_name, column_name, referenced_table_schema, referenced_table_name,"
    " referenced_column_name FROM information_schema.key_column_usage"
    " WHERE table_schema = COALESCE(:schema, DATABASE()) AND table_name = :name"
    " AND referenced_table_name IS NOT NULL ORDER BY constraint_name, ordinal_position"
)
_PRIMARY = "PRIMARY"
_WITH_SCALE = frozenset({"decimal"})
_WITH_FRACTION = frozenset({"datetime", "timestamp", "time"})


class InformationSchema:
    """Reads names as the library's inspector does, and tables from the information schema."""

    def __init__(self, connection: sa.Connection) -> None:
        self._connection = connection
        self._inspector = sa.inspect(connection)
        self.default_schema_name = self._inspector.default_schema_name
        self.get_schema_names = self._inspector.get_schema_names
        self.get_table_names = self._inspector.get_table_names
        self.get_view_names = self._inspector.get_view_names

    def get_columns(self, table_name: str, schema: str | None = None) -> list[Any]:
        """Give name, type and whether it may be NULL, of each column that the account may use."""
        return [
            {"name": name, "type": self._type(kind, numbers), "nullable": nullable == "YES"}
            for name, kind, nullable, *numbers in self._rows(_COLUMNS, table_name, schema)
        ]

    def _type(self, kind: str, numbers: list[int | None]) -> sa.types.TypeEngine[Any]:
        known = self._connection.dialect.ischema_names  # type: ignore[attr-defined]
        precision, scale, fraction = numbers
        found = known.get(kind.lower(), sa.types.NullType)
        made: sa.types.TypeEngine[Any]
        if kind in _WITH_SCALE:
            made = found(precision, scale)
        else:
            made = found(fsp=fraction or None) if kind in _WITH_FRACTION else found()
        return made

    def get_pk_constraint(self, table_name: str, schema: str | None = None) -> Any:
        """Give the columns of the primary key."""
        return {"constrained_columns": self._indexes(table_name, schema).get((_PRIMARY, True), [])}

    def get_unique_constraints(self, table_name: str, schema: str | None = None) -> list[Any]:
        """Give none: each has an index of its own."""
        del table_name, schema
        return []

    def get_indexes(self, table_name: str, schema: str | None = None) -> list[Any]:
        """Give the indexes but for the primary key's."""
        return [
            {"name": name, "column_names": columns, "unique": is_unique}
            for (name, is_unique), columns in self._indexes(table_name, schema).items()
            if name != _PRIMARY
        ]

    def _indexes(
        self, table: str, schema: str | None
    ) -> Mapping[tuple[str, bool], list[str | None]]:
        found: dict[tuple[str, bool], list[str | None]] = {}
        for name, column, non_unique in self._rows(_INDEXES, table, schema):
            found.setdefault((name, not int(non_unique)), []).append(column)
        return found

    def get_foreign_keys(self, table_name: str, schema: str | None = None) -> list[Any]:
        """Give which columns refer to which of another table."""
        found: dict[str, dict[str, Any]] = {}
        for name, column, *referred in self._rows(_FOREIGN_KEYS, table_name, schema):
            key = found.setdefault(
                name,
                {
                    "constrained_columns": [],
                    "referred_schema": referred[0],
                    "referred_table": referred[1],
                    "referred_columns": [],
                },
            )
            key["constrained_columns"].append(column)
            key["referred_columns"].append(referred[2])
        return list(found.values())

    def _rows(self, query: sa.TextClause, table: str, schema: str | None) -> list[tuple[Any, ...]]:
        rows = self._connection.execute(query, {"schema": schema, "name": table})
        return [tuple(row) for row in rows]
