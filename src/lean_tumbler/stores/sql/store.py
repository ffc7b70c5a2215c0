"""A table of an SQL database as a store."""

from typing import Any

from lean_tumbler.stores.sql.claims import SessionClaims
from lean_tumbler.stores.sql.column_move import ColumnMove, column_move
from lean_tumbler.stores.sql.database import Database
from lean_tumbler.stores.sql.server import SchemaChange
from lean_tumbler.stores.sql.surroundings import Surroundings, surroundings
from lean_tumbler.stores.sql.swaps import SqlSwaps

ROOMY_CHARACTERS = 255  # a width that holds every value this tool writes today, with room


class SqlStore(SqlSwaps):
    """One table, with its schema, and with claims for runs that share it.

    Args:
        database: where it is.
        further: as for `TableRows`.
    """

    def __init__(self, database: Database, **further: Any) -> None:
        super().__init__(database, **further)
        self._claims = SessionClaims(database)

    def width(self) -> int | None:
        """Give the characters that the stored column has room for; None without a bound."""
        if not self._is_written_column_there:
            return None
        column = self._relation.written
        return self._database.server.declared(self._database, self._name, column).characters

    def schema_change(self, *, needed: int) -> SchemaChange | None:
        """Say what the stored column needs for values of so many characters."""
        if not self._is_written_column_there:
            return None
        column, server = self._relation.written, self._database.server
        declared = server.declared(self._database, self._name, column)
        has_room = declared.characters is None or declared.characters >= needed
        if has_room or server.widened is None:
            return None
        width = max(ROOMY_CHARACTERS, needed)
        return server.widened(self._database, self._name, column, declared, width)

    @property
    def _is_written_column_there(self) -> bool:
        return self._relation.source.write_to is None or self._relation.is_moving

    def column_move(self) -> ColumnMove | None:
        """Say how far values have moved to another column; None where they stay in theirs."""
        return column_move(self._database, self._relation, characters=ROOMY_CHARACTERS)

    def surroundings(self) -> Surroundings:
        """Say what a change of the table would touch."""
        return surroundings(self._database, self._name, self._columns.stored or "")

    def claim(self, name: str) -> bool:
        """Claim a name among all programs that write to this server; False where another has it."""
        return self._claims.claim(name)

    def release(self, name: str) -> None:
        """Let a claimed name go."""
        self._claims.release(name)

    def close(self) -> None:
        """Let go of connections, and of the claims with them."""
        self._claims.close()
        super().close()
