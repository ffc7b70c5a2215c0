"""Claims among programs that write to one server: locks of a session, under a number."""

import hashlib
from contextlib import suppress
from typing import Any

import sqlalchemy as sa

from lean_tumbler.errors import SourceError
from lean_tumbler.stores.sql.database import Database


class SessionClaims:
    """The claims of one program: they end with `release`, or with the program.

    Args:
        database: where; on a server without claims, every one is given.
    """

    def __init__(self, database: Database) -> None:
        self._database = database
        self._queries = database.server.claims
        self._connection: sa.Connection | None = None

    def claim(self, name: str) -> bool:
        """Claim a name; False where another program has it."""
        return self._queries is None or bool(self._ask(self._queries.claim(_number(name))))

    def release(self, name: str) -> None:
        """Let a claimed name go; with a lost connection it has gone already."""
        if self._queries is not None and self._connection is not None:
            with suppress(SourceError):
                self._ask(self._queries.release(_number(name)))

    def _ask(self, query: sa.Select[Any]) -> Any:
        """Ask on the connection that holds the claims: they belong to its session."""
        try:
            with self._database.errors():
                if self._connection is None:
                    connection = self._database.engine.connect()
                    self._connection = connection.execution_options(isolation_level="AUTOCOMMIT")
                return self._connection.execute(query).scalar()
        except SourceError:
            self.close()
            raise

    def close(self) -> None:
        """Let all of them go."""
        connection, self._connection = self._connection, None
        if connection is not None:
            with suppress(SourceError), self._database.errors():
                connection.close()


def _number(name: str) -> int:
    """Give the number that stands for a claimed name: 63 bits, as all servers take them."""
    return int.from_bytes(hashlib.sha256(f"lean-tumbler:{name}".encode()).digest()[:8], "big") >> 1
