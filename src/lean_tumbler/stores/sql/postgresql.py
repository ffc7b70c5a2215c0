"""PostgreSQL. Sections are those of its manual."""

from collections import deque
from collections.abc import Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from types import MappingProxyType
from typing import TYPE_CHECKING, Any
from weakref import WeakKeyDictionary

import sqlalchemy as sa

from lean_tumbler.core.policy import StoragePolicy, StorePolicy
from lean_tumbler.core.stored_forms import pattern
from lean_tumbler.errors import SourceError
from lean_tumbler.stores.definitions import Declared, declared_in_text
from lean_tumbler.stores.sql import server
from lean_tumbler.stores.sql.database import AS_TEXT, Database, TableName
from lean_tumbler.stores.sql.errors import (
    FULL,
    GUARDED,
    HIDDEN,
    LOCKED,
    NO_RIGHT,
    PASSWORD,
    READ_ONLY,
    Meaning,
    class_names,
    first_line,
)

if TYPE_CHECKING:
    from lean_tumbler.stores.sql.arrow_batches import ArrowReading
    from lean_tumbler.stores.sql.server import Batches

_LOCK_TIMEOUT = "5s"
_DEFINITIONS = (
    "SELECT 'view ' || viewname, definition FROM pg_views"
    " WHERE schemaname NOT IN ('pg_catalog', 'information_schema')"
    " UNION ALL SELECT 'routine ' || p.proname, p.prosrc FROM pg_proc p"
    " JOIN pg_namespace n ON n.oid = p.pronamespace"
    " WHERE n.nspname NOT IN ('pg_catalog', 'information_schema')"
    " UNION ALL SELECT 'trigger ' || tgname, pg_get_triggerdef(oid) FROM pg_trigger"
    " WHERE NOT tgisinternal"
)
_ROW_SECURITY = "row-level security"  # in the server's message, where it is in English
# Section 32.19: without these, any certificate would do, or none.
_VERIFIED = {"sslmode": "verify-full", "sslrootcert": "system"}

# By the driver's class for each error code (appendix A).
_MEANING: Mapping[str, Meaning] = MappingProxyType(
    {
        "LockNotAvailable": LOCKED,
        "DeadlockDetected": LOCKED,
        "InsufficientPrivilege": NO_RIGHT,
        "InvalidPassword": PASSWORD,
        "InvalidAuthorizationSpecification": PASSWORD,
        "CheckViolation": GUARDED,
        "ReadOnlySqlTransaction": READ_ONLY,
        "DiskFull": FULL,
    }
)


def _meaning(cause: Exception) -> Meaning | None:
    found = next((_MEANING[name] for name in class_names(cause) if name in _MEANING), None)
    text = first_line(cause)
    if found is NO_RIGHT and _ROW_SECURITY in text:
        return HIDDEN
    # While it connects, the driver knows no codes.
    refused = "password authentication failed" in text or "no password supplied" in text
    return PASSWORD if found is None and refused else found


def _raw(column: server.Column, binary: bool) -> server.Expression:
    if binary:
        return sa.type_coerce(column, sa.LargeBinary)
    # Not a cast to bytea, which would read backslashes as escapes.
    return sa.func.convert_to(
        sa.cast(column, sa.Text), sa.literal_column("'UTF8'"), type_=sa.LargeBinary()
    )


def _update_each(cursor: Any, statement: str, rows: Sequence[Any]) -> list[int]:
    """Send many without waiting for each answer."""
    cursor.executemany(statement, rows, returning=True)
    changed = [cursor.rowcount]
    while cursor.nextset():
        changed.append(cursor.rowcount)
    return changed


def _joined_update(update: server.JoinedUpdate) -> tuple[str, list[Any]]:
    keys = [str(key) for key, _, _ in update.rows]
    old = [_hexadecimal(raw) for _, raw, _ in update.rows]
    kind, new = _written([new for _, _, new in update.rows])
    # Quoted names; the values are parameters.
    statement = (
        f"UPDATE {update.table} SET {update.stored} = swap_new{update.beside} "  # noqa: S608
        f"FROM unnest(%s::bigint[], %s::bytea[], %s::{kind}[]) "
        "AS swaps (swap_key, swap_old, swap_new) "
        f"WHERE {update.table}.{update.key} = swap_key AND {update.raw} = swap_old"
    )
    return statement, [_array(texts) for texts in (keys, old, new)]


def _written(values: Sequence[str | bytes]) -> tuple[str, list[str]]:
    """Give the type of new values, and their texts; a column takes bytes alone, or text alone."""
    raws = [value for value in values if isinstance(value, bytes)]
    if len(raws) == len(values):
        return "bytea", [_hexadecimal(raw) for raw in raws]
    return "text", [value if isinstance(value, str) else value.decode("utf-8") for value in values]


def _hexadecimal(raw: bytes) -> str:
    return "\\x" + raw.hex()


def _array(texts: Iterable[str]) -> str:
    """Write an array as the server reads it, in a fifth of the driver's time.

    PostgreSQL documentation, 8.15.2 (Array Value Input): quoted, quotes and backslashes escaped.
    """
    escaped = (text.replace("\\", "\\\\").replace('"', '\\"') for text in texts)
    return '{"' + '","'.join(escaped) + '"}'


def _declared(database: Database, table: TableName, column: str) -> Declared:
    query = sa.text(
        "SELECT format_type(a.atttypid, a.atttypmod), c.collname, c.collisdeterministic"
        " FROM pg_attribute a LEFT JOIN pg_collation c ON c.oid = a.attcollation"
        " WHERE a.attrelid = CAST(:table AS regclass) AND a.attname = :column"
    )
    names = {"table": database.quoted(table), "column": column}
    with database.connect() as connection:
        kind, collation, deterministic = connection.execute(query, names).one()
    known = declared_in_text(kind)
    folds = collation if deterministic is False else known.collation
    return Declared(characters=known.characters, collation=folds)


def _widened(
    database: Database, table: TableName, column: str, _: Declared, width: int
) -> server.SchemaChange:
    query = sa.text(
        "SELECT format_type(atttypid, atttypmod) FROM pg_attribute"
        " WHERE attrelid = CAST(:table AS regclass) AND attname = :column"
    )
    with database.connect() as connection:
        names = {"table": database.quoted(table), "column": column}
        kind = str(connection.execute(query, names).scalar_one())
    altered = database.quoted(column)
    change = f"ALTER TABLE {database.quoted(table)} ALTER COLUMN {altered} TYPE"
    widens = kind.startswith("character varying")
    locks = (
        "ACCESS EXCLUSIVE for a moment: a wider varchar changes the catalogue alone "
        "(PostgreSQL's manual, ALTER TABLE, notes). Set lock_timeout, so that it does not queue."
        if widens
        else "ACCESS EXCLUSIVE while the whole table is written anew: char(n) pads its values."
    )
    return server.SchemaChange(
        statements=(f"SET lock_timeout = '{_LOCK_TIMEOUT}';", f"{change} varchar({width});"),
        reverse=(f"{change} {kind};",),
        locks=locks,
    )


_AROUND = server.CatalogueQueries(
    size="SELECT pg_total_relation_size(CAST(:table AS regclass))",
    lists={
        "triggers": "SELECT tgname FROM pg_trigger"
        " WHERE tgrelid = CAST(:table AS regclass) AND NOT tgisinternal",
        "views": "SELECT DISTINCT CAST(r.ev_class AS regclass)::text FROM pg_depend d"
        " JOIN pg_rewrite r ON r.oid = d.objid"
        " WHERE d.refobjid = CAST(:table AS regclass) AND r.ev_class <> d.refobjid",
        "generated": "SELECT attname FROM pg_attribute"
        " WHERE attrelid = CAST(:table AS regclass) AND attgenerated <> ''",
        "copies": "SELECT 'replica ' || coalesce(nullif(application_name, ''), '(unnamed)')"
        " FROM pg_stat_replication UNION ALL SELECT 'publication ' || pubname"
        " FROM pg_publication_tables WHERE tablename = :name"
        " AND schemaname = coalesce(:schema, current_schema())",
        "readers": "SELECT rolname FROM pg_roles WHERE rolcanlogin"
        " AND has_column_privilege(rolname, CAST(:table AS regclass), :column, 'SELECT')",
        "routines": "SELECT CAST(p.oid AS regprocedure)::text FROM pg_proc p"
        " JOIN pg_namespace n ON n.oid = p.pronamespace"
        " WHERE n.nspname NOT IN ('pg_catalog', 'information_schema')"
        " AND position(lower(:name) in lower(p.prosrc)) > 0",
    },
    where_allowed={
        # Constants stand there as $1 (manual, appendix F, pg_stat_statements).
        "statements": "SELECT left(regexp_replace(query, '\\s+', ' ', 'g'), 120)"
        " FROM pg_stat_statements WHERE query ~* '^\\s*(select|with|update|insert)'"
        " AND position(lower(:name) in lower(query)) > 0"
        " AND position(lower(:column) in lower(query)) > 0 ORDER BY calls DESC LIMIT 20",
        "clients": "SELECT DISTINCT coalesce(nullif(application_name, ''), '(unnamed)')"
        " || ' as ' || usename FROM pg_stat_activity WHERE usename IS NOT NULL"
        " AND datname = current_database() AND pid <> pg_backend_pid() ORDER BY 1",
    },
)


# Their rows are read and written by the table that they are of (manual, section 5.12).
_PARTITIONS = (
    "SELECT n.nspname, c.relname FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace"
    " WHERE c.relispartition"
)


def _guard(names: server.GuardedColumn, policy: StoragePolicy) -> server.Guard:
    text = f"convert_from({names.column}, 'UTF8')" if names.binary else f"{names.column}::text"
    # By bytes: a collation that folds letter case would be asked else, and may refuse patterns.
    admits = f"({text} COLLATE \"C\") ~ '{pattern(policy)}'"
    refuses = names.refuses(admits)
    table = f"ALTER TABLE {names.table}"
    name = names.table.replace("'", "''")  # as the server spells it, letter case and all
    exists = (
        f"SELECT 1 FROM pg_constraint WHERE conname = '{server.GUARD}'"  # noqa: S608 - quoted names
        f" AND conrelid = '{name}'::regclass"
    )
    return server.Guard(
        refuses=refuses,
        apply=(
            f"SET lock_timeout = '{_LOCK_TIMEOUT}';",
            f"{table} ADD CONSTRAINT {server.GUARD} CHECK (NOT ({refuses})) NOT VALID;",
            f"{table} VALIDATE CONSTRAINT {server.GUARD};",
        ),
        remove=(f"{table} DROP CONSTRAINT {server.GUARD};",),
        locks="ACCESS EXCLUSIVE for a moment, new rows are checked from then on; then SHARE UPDATE "
        "EXCLUSIVE while the old rows are read: others read and write meanwhile.",
        stands=f"{exists} AND convalidated",
        exists=exists,
    )


class StreamingReplicas:
    """The replicas, as their primary sees them.

    The server's own figure stands still where a replica stops to apply. So positions are noted
    with the time when they were written, and a replica is as far behind as the oldest position
    that it has not applied yet.
    """

    # Section 27.2.4: positions are null for accounts that may not see them.
    _POSITIONS = sa.text(
        "SELECT CAST(pg_wal_lsn_diff(pg_current_wal_lsn(), '0/0') AS bigint),"
        " CAST(pg_wal_lsn_diff(replay_lsn, '0/0') AS bigint),"
        " CAST(EXTRACT(EPOCH FROM coalesce(replay_lag, interval '0')) AS double precision)"
        " FROM pg_stat_replication"
    )

    def __init__(self, database: Database, clock: server.Clock) -> None:
        self._database, self._clock = database, clock
        self._written: deque[tuple[float, int]] = deque()

    def seconds_behind(self) -> float:
        """Say how far the one furthest behind is behind."""
        with self._database.connect() as connection:
            rows = connection.execute(self._POSITIONS).all()
        locator = self._database.locator
        if not rows:
            raise SourceError(f"{locator}: no replica is attached to wait for")
        if any(applied is None for _, applied, _ in rows):
            raise SourceError(
                f"{locator}: this account may not see the replicas; grant it pg_monitor"
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


def _replicas(
    database: Database, _: StorePolicy, __: server.Open, clock: server.Clock
) -> server.Replicas:
    return StreamingReplicas(database, clock)


_READINGS: "WeakKeyDictionary[sa.Engine, ArrowReading]" = WeakKeyDictionary()


def _reading(database: Database) -> "ArrowReading":
    """Give the driver for a database's tables; it takes 50 ms to open, and is opened once."""
    if database.engine not in _READINGS:
        _READINGS[database.engine] = _new_reading(database.engine.url)
    return _READINGS[database.engine]


def _new_reading(url: sa.URL) -> "ArrowReading":
    import adbc_driver_postgresql  # noqa: PLC0415 - an extra
    from psycopg.conninfo import make_conninfo  # noqa: PLC0415 - an extra

    from lean_tumbler.stores.sql.arrow_batches import ArrowReading  # noqa: PLC0415 - an extra

    named = url.translate_connect_args(username="user", database="dbname")
    further = {name: value if isinstance(value, str) else ",".join(value)
               for name, value in url.query.items()}  # fmt: skip
    address = make_conninfo(**{**named, **further, "client_encoding": "UTF8"})
    return ArrowReading(adbc_driver_postgresql, address)


def _batches(database: Database, query: sa.Select[Any]) -> "Batches":
    """Run a query as the server's binary COPY, in Arrow's layout."""
    from sqlalchemy.dialects import postgresql  # noqa: PLC0415 - only where it is needed

    # With this style of parameters, per cent signs in names stay single.
    dialect = postgresql.dialect(paramstyle="named")  # type: ignore[no-untyped-call]
    text = str(query.compile(dialect=dialect, compile_kwargs=AS_TEXT))
    with database.errors(), _driver_errors():
        yield from _reading(database).batches(text)


@contextmanager
def _driver_errors() -> Iterator[None]:
    """Raise what the other driver would raise: what the server says is told by its code alone."""
    from psycopg import OperationalError, errors  # noqa: PLC0415 - an extra

    from lean_tumbler.stores.sql.arrow_batches import ARROW_ERRORS  # noqa: PLC0415 - an extra

    try:
        yield
    except ARROW_ERRORS as error:
        sqlstate = str(getattr(error, "sqlstate", None) or "")
        if not sqlstate:  # the library's words repeat its own queries
            raise OperationalError("the query ended half-way") from None
        try:
            kind = errors.lookup(sqlstate)
        except KeyError:
            kind = OperationalError
        raise kind(_ROW_SECURITY if _ROW_SECURITY in str(error) else sqlstate) from None


def _is_text_certain(database: Database) -> bool:
    """Tell whether text is UTF-8 when it arrives; asking for it takes half the time of bytes.

    The server converts and checks it, except in a database that is said to be SQL_ASCII
    (section 24.3.4).
    """
    with database.connect() as connection:
        return connection.exec_driver_sql("SHOW server_encoding").scalar() != "SQL_ASCII"


SERVER = server.Server(
    name="postgresql",
    other_names=("postgres",),
    network=server.Network(
        driver="postgresql+psycopg",
        arguments={},
        setting="options",
        # Section 20.11.1: without row_security, rows are never hidden in silence.
        reading="-c default_transaction_read_only=on -c row_security=off",
        writing="-c lock_timeout={seconds}s -c row_security=off",
        verified=lambda: (dict(_VERIFIED), {}),
    ),
    raw=_raw,
    update_each=_update_each,
    joined_update=_joined_update,
    declared=_declared,
    widened=_widened,
    around=_AROUND,
    guard=_guard,
    meaning=_meaning,
    batches=_batches,
    is_text_certain=_is_text_certain,
    cast_keys=(sa.Uuid, sa.Numeric),
    # A restored or replicated copy bears the same system identifier, but not this start.
    place="SELECT pg_postmaster_start_time() || ' ' || current_database()",
    data_folder="SHOW data_directory",
    definitions=_DEFINITIONS,
    column_locks="ACCESS EXCLUSIVE for a moment. A dropped column's bytes stay in the table's file "
    "until its rows are written anew (VACUUM FULL).",
    partitions=_PARTITIONS,
    is_own=lambda schema: schema != "information_schema" and not schema.startswith("pg_"),
    claims=server.Claims(
        claim=lambda number: sa.select(sa.func.pg_try_advisory_lock(number)),
        release=lambda number: sa.select(sa.func.pg_advisory_unlock(number)),
    ),
    replicas=_replicas,
)
