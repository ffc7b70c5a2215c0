"""How far the replicas of a server are behind it, in seconds."""

from collections import deque
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any, Protocol

import sqlalchemy as sa

from lean_tumbler.core.policy import StorePolicy
from lean_tumbler.errors import SourceError, UsageError
from lean_tumbler.stores.database_errors import database_errors
from lean_tumbler.stores.locators import open_engine

Clock = Callable[[], float]

# PostgreSQL's manual, section 27.2.4: positions are null for accounts that may not see them.
_POSITIONS = sa.text(
    "SELECT CAST(pg_wal_lsn_diff(pg_current_wal_lsn(), '0/0') AS bigint),"
    " CAST(pg_wal_lsn_diff(replay_lsn, '0/0') AS bigint),"
    " CAST(EXTRACT(EPOCH FROM coalesce(replay_lag, interval '0')) AS double precision)"
    " FROM pg_stat_replication"
)
# MariaDB's and MySQL's manuals: the statement and its column by the newer name, then the older.
_STATUS = (
    ("SHOW REPLICA STATUS", ("Seconds_Behind_Source", "Seconds_Behind_Master")),
    ("SHOW SLAVE STATUS", ("Seconds_Behind_Master",)),
)


class Replicas(Protocol):
    """The replicas of one server."""

    def seconds_behind(self) -> float:
        """Say how far the one furthest behind is behind.

        Raises:
            StoreUnavailable: a server cannot be asked now.
            SourceError: it does not say, or replication has stopped.
        """


class StreamingReplicas:
    """PostgreSQL's replicas, as their primary sees them.

    The server's own figure stands still where a replica stops to apply. So positions are noted
    with the time when they were written, and a replica is as far behind as the oldest position
    that it has not applied yet.
    """

    def __init__(self, engine: sa.Engine, locator: str, clock: Clock) -> None:
        self._engine, self._locator, self._clock = engine, locator, clock
        self._written: deque[tuple[float, int]] = deque()

    def seconds_behind(self) -> float:
        """Say how far the one furthest behind is behind."""
        with database_errors(self._locator), self._engine.connect() as connection:
            rows = connection.execute(_POSITIONS).all()
        if not rows:
            raise SourceError(f"{self._locator}: no replica is attached to wait for")
        if any(applied is None for _, applied, _ in rows):
            raise SourceError(
                f"{self._locator}: this account may not see the replicas; grant it pg_monitor"
            )
        now, current = self._clock(), rows[0][0]
        if not self._written or self._written[-1][1] < current:
            self._written.append((now, current))
        slowest = min(applied for _, applied, _ in rows)
        while self._written and self._written[0][1] <= slowest:
            self._written.popleft()
        if not self._written:
            return 0.0
        told = max((lag for _, applied, lag in rows if applied < current), default=0.0)
        return max(float(told), now - self._written[0][0])


class AskedReplicas:
    """MariaDB's and MySQL's replicas, each asked by itself: their primary does not know."""

    def __init__(self, engines: Sequence[tuple[sa.Engine, str]]) -> None:
        self._engines = engines

    def seconds_behind(self) -> float:
        """Say how far the one furthest behind is behind."""
        return max(_asked(engine, locator) for engine, locator in self._engines)


def _asked(engine: sa.Engine, locator: str) -> float:
    with database_errors(locator), engine.connect() as connection:
        status, names = _status(connection)
    if status is None:
        raise SourceError(f"{locator}: no replica, or its account lacks REPLICA MONITOR")
    behind = next((status[name] for name in names if name in status), None)
    if behind is None:
        raise SourceError(f"{locator}: replication has stopped there; start it first")
    return float(behind)


def _status(connection: sa.Connection) -> tuple[Any, Sequence[str]]:
    for statement, names in _STATUS:
        try:
            return connection.exec_driver_sql(statement).mappings().first(), names
        except sa.exc.ProgrammingError:  # the other server's, or another version's, statement
            connection.rollback()
        except sa.exc.OperationalError as error:
            # An account without the right is told so in this class too.
            if "denied" not in str(error.orig):
                raise
            break
    return None, ()


def replicas_of(store: StorePolicy, *, base: Path, clock: Clock) -> Replicas:
    """Find the replicas of a store's server.

    Raises:
        UsageError: it has none that can be asked.
    """
    engine, locator = open_engine(store.locator, base=base)
    if engine.dialect.name == "postgresql":
        return StreamingReplicas(engine, locator, clock)
    if engine.dialect.name == "sqlite":
        raise UsageError(f"{locator}: an SQLite file has no replicas to wait for")
    if not store.replicas:
        raise UsageError(
            f"[store.{store.name}] “replicas” is missing: the URLs of this server's replicas, "
            "each of which is asked how far behind it is"
        )
    return AskedReplicas([open_engine(replica, base=base) for replica in store.replicas])
