"""MariaDB and MySQL, by what they have in common."""

import gc
import re
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from types import MappingProxyType
from typing import TYPE_CHECKING, Any

import sqlalchemy as sa

from lean_tumbler.core.policy import StoragePolicy, StorePolicy
from lean_tumbler.core.stored_forms import pattern
from lean_tumbler.errors import SourceError, UsageError
from lean_tumbler.stores.definitions import Declared, folds_case
from lean_tumbler.stores.sql import server
from lean_tumbler.stores.sql.database import AS_TEXT, Database, TableName
from lean_tumbler.stores.sql.errors import (
    FULL,
    GUARDED,
    LOCKED,
    NO_RIGHT,
    PASSWORD,
    READ_ONLY,
    Meaning,
)
from lean_tumbler.stores.sql.mysql_catalogue import InformationSchema
from lean_tumbler.stores.transport import verifying_context

if TYPE_CHECKING:
    from lean_tumbler.stores.sql.server import Batches

_TYPE = re.compile(r"(?P<kind>(?:var)?char)\s*\(\d+\)", re.IGNORECASE)
_ONE_LENGTH_BYTE = 255  # InnoDB: beyond it the length takes two bytes, and the table is rebuilt
# Small batches stay in the processor's caches: measured, they are read twice as quickly.
_ROWS_PER_BATCH = 2_000
_NEW_OBJECTS_PER_COLLECTION = 50_000

# By their numbers (the manuals' lists of error codes).
_MEANING: Mapping[int, Meaning] = MappingProxyType(
    {
        **dict.fromkeys((1205, 1213), LOCKED),
        **dict.fromkeys((1044, 1142, 1143, 1227), NO_RIGHT),
        **dict.fromkeys((1045, 1698), PASSWORD),
        **dict.fromkeys((3819, 4025), GUARDED),
        **dict.fromkeys((1290, 1792, 1836), READ_ONLY),
        **dict.fromkeys((1021, 1114), FULL),
    }
)
# The statement and its column by the newer name, then the older.
_STATUS = (
    ("SHOW REPLICA STATUS", ("Seconds_Behind_Source", "Seconds_Behind_Master")),
    ("SHOW SLAVE STATUS", ("Seconds_Behind_Master",)),
)


def _meaning(cause: Exception) -> Meaning | None:
    number = next(iter(cause.args), None)
    return _MEANING.get(number) if isinstance(number, int) else None


def _raw(column: server.Column, binary: bool) -> server.Expression:
    if binary:
        return sa.type_coerce(column, sa.LargeBinary)
    # The cast alone would give the bytes of the column's own character set.
    in_utf8 = sa.func.convert(column.op("USING")(sa.literal_column("utf8mb4")))
    return sa.cast(in_utf8, sa.LargeBinary)


def _joined_update(update: server.JoinedUpdate) -> tuple[str, list[Any]]:
    one = "SELECT %s AS swap_key, %s AS swap_old, %s AS swap_new"
    rows = " UNION ALL ".join([one] * len(update.rows))
    # Quoted names; the values are parameters.
    statement = (
        f"UPDATE {update.table} JOIN ({rows}) AS swaps ON {update.key} = swap_key "  # noqa: S608
        f"SET {update.stored} = swap_new{update.beside} WHERE {update.raw} = swap_old"
    )
    return statement, [value for row in update.rows for value in row]


def _declared(database: Database, table: TableName, column: str) -> Declared:
    # The standard's information schema (ISO/IEC 9075-11).
    query = sa.text(
        "SELECT character_maximum_length, collation_name FROM information_schema.columns"
        " WHERE table_schema = :schema AND table_name = :table AND column_name = :column"
    )
    schema = table.schema or database.engine.url.database
    names = {"schema": schema, "table": table.name, "column": column}
    with database.connect() as connection:
        width, name = connection.execute(query, names).one()
    return Declared(
        characters=None if width is None else int(width),
        collation=name if name and folds_case(name) else "",
    )


def _widened(
    database: Database, table: TableName, column: str, declared: Declared, width: int
) -> server.SchemaChange:
    quoted = database.quoted(table)
    with database.connect() as connection:
        created = connection.execute(sa.text(f"SHOW CREATE TABLE {quoted}")).one()[1]
        bytes_each = connection.execute(
            sa.text(
                "SELECT s.maxlen FROM information_schema.columns c"
                " JOIN information_schema.character_sets s"
                " ON s.character_set_name = c.character_set_name"
                " WHERE c.table_schema = coalesce(:schema, DATABASE()) AND c.table_name = :table"
                " AND c.column_name = :column"
            ),
            {"schema": table.schema, "table": table.name, "column": column},
        ).scalar()
    lines = (line.strip().rstrip(",") for line in str(created).splitlines())
    old = next(line for line in lines if line.startswith(f"`{column.replace('`', '``')}` "))
    new = _TYPE.sub(f"varchar({width})", old, count=1)
    in_place = "varchar" in old.lower() and (
        ((declared.characters or 0) * int(bytes_each or 1) > _ONE_LENGTH_BYTE)
        == (width * int(bytes_each or 1) > _ONE_LENGTH_BYTE)
    )
    change = f"ALTER TABLE {quoted} MODIFY COLUMN"
    algorithm = "ALGORITHM=INPLACE, LOCK=NONE" if in_place else "ALGORITHM=COPY, LOCK=SHARED"
    locks = (
        "none: the column is widened in place, while others read and write."
        if in_place
        else "SHARED while the table is copied: others read, but do not write. Logins that upgrade "
        "are deferred meanwhile."
    )
    return server.SchemaChange(
        statements=(f"{change} {new}, {algorithm};",),
        reverse=(f"{change} {old}, ALGORITHM=COPY, LOCK=SHARED;",),
        locks=locks,
    )


_SET_BY_ITSELF = (
    "SELECT column_name FROM information_schema.columns WHERE table_schema ="
    " coalesce(:schema, DATABASE()) AND table_name = :name AND extra LIKE '%on update%'"
)
_DEFINITIONS = (
    "SELECT CONCAT('view ', table_name), view_definition FROM information_schema.views WHERE"
    " table_schema = DATABASE() UNION ALL SELECT CONCAT('trigger ', trigger_name), action_statement"
    " FROM information_schema.triggers WHERE trigger_schema = DATABASE() UNION ALL SELECT"
    " CONCAT('routine ', routine_name), routine_definition FROM information_schema.routines WHERE"
    " routine_schema = DATABASE() AND routine_definition IS NOT NULL"
)
_AROUND = server.CatalogueQueries(
    size="SELECT data_length + index_length FROM information_schema.tables"
    " WHERE table_schema = coalesce(:schema, DATABASE()) AND table_name = :name",
    lists={
        "triggers": "SELECT trigger_name FROM information_schema.triggers"
        " WHERE event_object_schema = coalesce(:schema, DATABASE()) AND event_object_table = :name",
        "views": "SELECT table_name FROM information_schema.views"
        " WHERE table_schema = coalesce(:schema, DATABASE())"
        " AND view_definition LIKE CONCAT('%`', :name, '`%')",
        "generated": "SELECT column_name FROM information_schema.columns WHERE table_schema ="
        " coalesce(:schema, DATABASE()) AND table_name = :name AND extra LIKE '%GENERATED%'",
        "updated_by_itself": _SET_BY_ITSELF,
        "copies": "SELECT 'the binary log, and what reads it' WHERE @@log_bin = 1",
        "routines": "SELECT CONCAT(routine_schema, '.', routine_name)"
        " FROM information_schema.routines WHERE INSTR(routine_definition, :name) > 0",
    },
    where_allowed={
        "readers": "SELECT grantee FROM information_schema.user_privileges"
        " WHERE privilege_type = 'SELECT' UNION SELECT grantee"
        " FROM information_schema.schema_privileges WHERE privilege_type = 'SELECT'"
        " AND table_schema = coalesce(:schema, DATABASE()) UNION SELECT grantee"
        " FROM information_schema.table_privileges WHERE privilege_type = 'SELECT'"
        " AND table_schema = coalesce(:schema, DATABASE()) AND table_name = :name"
        " UNION SELECT grantee FROM information_schema.column_privileges"
        " WHERE privilege_type = 'SELECT' AND table_schema = coalesce(:schema, DATABASE())"
        " AND table_name = :name AND column_name = :column",
        # Constants stand there as question marks.
        "statements": "SELECT LEFT(digest_text, 120)"
        " FROM performance_schema.events_statements_summary_by_digest"
        " WHERE digest_text LIKE CONCAT('%`', :name, '`%')"
        " AND digest_text LIKE CONCAT('%`', :column, '`%') ORDER BY count_star DESC LIMIT 20",
        "clients": "SELECT DISTINCT CONCAT(user, '@', SUBSTRING_INDEX(host, ':', 1))"
        " FROM information_schema.processlist WHERE id <> CONNECTION_ID() ORDER BY 1",
    },
)


def _guard(names: server.GuardedColumn, policy: StoragePolicy) -> server.Guard:
    # Letter case counts, whatever the column's collation.
    text = f"CAST({names.column} AS BINARY)"
    # There the end of the pattern fits before a line end at the value's end too.
    admits = f"({text} REGEXP BINARY '{pattern(policy)}' AND INSTR({text}, CHAR(10)) = 0)"
    refuses = names.refuses(admits, text="char")
    table = f"ALTER TABLE {names.table}"
    schema = f"'{names.schema_text}'" if names.schema_text else "DATABASE()"
    exists = (
        "SELECT 1 FROM information_schema.table_constraints WHERE constraint_schema ="  # noqa: S608
        f" {schema} AND table_name = '{names.table_text}' AND constraint_name = '{server.GUARD}'"
    )
    # With SELECT alone, the catalogue shows the key of the columns, and no constraints.
    seen = (
        "SELECT 1 FROM information_schema.table_constraints WHERE constraint_schema ="  # noqa: S608
        f" {schema} AND table_name = '{names.table_text}'"
        " UNION SELECT 1 FROM DUAL WHERE NOT EXISTS (SELECT 1 FROM information_schema.columns WHERE"
        f" table_schema = {schema} AND table_name = '{names.table_text}' AND column_key <> '')"
    )
    return server.Guard(
        refuses=refuses,
        apply=(f"{table} ADD CONSTRAINT {server.GUARD} CHECK (NOT ({refuses}));",),
        remove=(f"{table} DROP CONSTRAINT {server.GUARD};",),
        locks="SHARED while the table is copied: others read, but do not write.",
        stands=exists,
        exists=exists,
        seen=seen,
    )


class AskedReplicas:
    """The replicas, each asked by itself: their primary does not know."""

    def __init__(self, replicas: Sequence[Database]) -> None:
        self._replicas = replicas

    def seconds_behind(self) -> float:
        """Say how far the one furthest behind is behind."""
        return max(map(_asked, self._replicas))


def _asked(replica: Database) -> float:
    with replica.connect() as connection:
        status, names = _status(connection)
    if status is None:
        raise SourceError(
            f"{replica.locator}: it is not a replica, or the account lacks REPLICA MONITOR"
        )
    behind = next((status[name] for name in names if name in status), None)
    if behind is None:
        raise SourceError(f"{replica.locator}: replication has stopped there; start it first")
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


def _replicas(
    _: Database, store: StorePolicy, opened: server.Open, __: server.Clock
) -> server.Replicas:
    if not store.replicas:
        raise UsageError(
            f"[store.{store.name}] “replicas” is missing: the URLs of this server's replicas, "
            "each of which is asked how far behind it is"
        )
    return AskedReplicas([opened(replica) for replica in store.replicas])


def _batches(database: Database, query: sa.Select[Any]) -> "Batches":
    """Run a query by the driver's own cursor: a result of SQLAlchemy's takes twice as long."""
    import polars as pl  # noqa: PLC0415 - an extra
    from pymysql.cursors import SSCursor  # noqa: PLC0415 - an extra

    names = list(query.selected_columns.keys())
    driver = database.engine.dialect.loaded_dbapi
    with database.connect() as connection:
        # Rows stay with the server until they are fetched.
        opened: Any = connection.connection.driver_connection
        with _read_out(opened.cursor(SSCursor), driver) as cursor, _rarely_collecting():
            cursor.execute(
                str(query.compile(database.engine, compile_kwargs=AS_TEXT)), ()
            )  # per cent signs are doubled
            while rows := cursor.fetchmany(_ROWS_PER_BATCH):
                values = zip(names, zip(*rows, strict=True), strict=True)
                yield pl.DataFrame(
                    {name: pl.Series(column, dtype=pl.Binary) for name, column in values}
                )


@contextmanager
def _read_out(cursor: Any, driver: Any) -> Iterator[Any]:
    """Close a cursor, which reads what is left; of a lost connection nothing is, and no error."""
    try:
        yield cursor
    finally:
        try:
            cursor.close()
        except (driver.Error, AttributeError):  # the second where the socket is gone already
            # Else their finalisers would try again.
            unread = getattr(cursor.connection, "_result", None)
            if unread is not None:
                unread.unbuffered_active = False
            cursor.connection = None


@contextmanager
def _rarely_collecting() -> Iterator[None]:
    """Let Python look for cycles less often: rows make none, and looking costs a tenth."""
    usual = gc.get_threshold()
    gc.set_threshold(_NEW_OBJECTS_PER_COLLECTION, *usual[1:])
    try:
        yield
    finally:
        gc.set_threshold(*usual)


SERVER = server.Server(
    name="mysql",
    other_names=("mariadb",),
    catalogue=InformationSchema,
    network=server.Network(
        driver="mysql+pymysql",
        arguments={"charset": "utf8mb4"},
        setting="init_command",
        reading="SET SESSION TRANSACTION READ ONLY",
        # Writers get an error where a value would else be cut off.
        writing="SET SESSION innodb_lock_wait_timeout = {seconds},"
        " SESSION lock_wait_timeout = {seconds},"
        " SESSION sql_mode = CONCAT(@@sql_mode, ',STRICT_ALL_TABLES')",
        verified=lambda: ({}, {"ssl": verifying_context()}),
        # Else the driver reads all certificates of the system for each connection.
        on_socket={"ssl_disabled": True},
    ),
    raw=_raw,
    update_each=server.one_after_the_other,
    kept=f"{_SET_BY_ITSELF} AND privileges LIKE '%update%'",
    place="SELECT CONCAT_WS(' ', @@hostname, @@port, @@socket, @@datadir, DATABASE())",
    data_folder="SELECT @@datadir",
    definitions=_DEFINITIONS,
    column_locks="the table's definition for a moment, where the server adds and drops columns "
    "instantly; else the table is copied.",
    joined_update=_joined_update,
    declared=_declared,
    widened=_widened,
    around=_AROUND,
    guard=_guard,
    meaning=_meaning,
    batches=_batches,
    claims=server.Claims(
        claim=lambda number: sa.select(sa.func.get_lock(f"lean-tumbler:{number:x}", 0)),
        release=lambda number: sa.select(sa.func.release_lock(f"lean-tumbler:{number:x}")),
    ),
    replicas=_replicas,
)
