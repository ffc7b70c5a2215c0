"""What a server's catalogue says of tables, whatever reads it."""

from typing import Any, Protocol


class Catalogue(Protocol):
    """What is read of a catalogue, as SQLAlchemy's inspector gives it."""

    @property
    def default_schema_name(self) -> str | None:
        """The schema that a name without one is of."""

    def get_schema_names(self) -> list[str]:
        """Give the names of all schemas."""

    def get_table_names(self, schema: str | None = None) -> list[str]:
        """Give the names of a schema's tables."""

    def get_view_names(self, schema: str | None = None) -> list[str]:
        """Give the names of a schema's views."""

    def get_columns(self, table_name: str, schema: str | None = None) -> list[Any]:
        """Give a table's columns: name, type, and whether NULL may stand there."""

    def get_pk_constraint(self, table_name: str, schema: str | None = None) -> Any:
        """Give the columns of the primary key."""

    def get_unique_constraints(self, table_name: str, schema: str | None = None) -> list[Any]:
        """Give the columns of each unique constraint."""

    def get_indexes(self, table_name: str, schema: str | None = None) -> list[Any]:
        """Give the columns of each index."""

    def get_foreign_keys(self, table_name: str, schema: str | None = None) -> list[Any]:
        """Give which columns refer to which of another table."""
