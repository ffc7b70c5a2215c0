"""Claims among programs that write to one server: locks of a session, under a number."""

from contextlib import suppress
from typing import Any

import sqlalchemy as sa

from lean_tumbler.errors import SourceError
from lean_tumbler.stores.database_errors import database_errors
from lean_tumbler.stores.dialects import DIALECTS, claim_number


class SessionClaims:
    """The claims of one program: they end with `release`, or with the program.

    Args:
        engine: of the server; SQLite has no claims, and every one is given.
        locator: what messages call it.
    """

    def __init__(self, engine: sa.Engine, locator: str) -> None:
        self._engine = engine
        self._dialect = DIALECTS[engine.dialect.name]
        self._locator = locator
        self._connection: sa.Connection | None = None

    def claim(self, name: str) -> bool:
        """Claim a name; False where another program has it."""
        if self._dialect.claim is None:
            return True
        return bool(self._ask(self._dialect.claim(claim_number(name))))

    def release(self, name: str) -> None:
        """Let a claimed name go; with a lost connection it has gone already."""
        if self._dialect.release is not None and self._connection is not None:
            with suppress(SourceError):
                self._ask(self._dialect.release(claim_number(name)))

    def _ask(self, query: sa.Select[Any]) -> Any:
        """Ask on the connection that holds the claims: they belong to its session."""
        try:
            with database_errors(self._locator):
                if self._connection is None:
                    connection = self._engine.connect()
                    self._connection = connection.execution_options(isolation_level="AUTOCOMMIT")
                return self._connection.execute(query).scalar()
        except SourceError:
            self.close()
            raise

    def close(self) -> None:
        """Let all of them go."""
        connection, self._connection = self._connection, None
        if connection is not None:
            with suppress(SourceError), database_errors(self._locator):
                connection.close()
