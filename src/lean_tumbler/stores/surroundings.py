"""What stands around a table, from the server's own catalogue: what a change would touch."""

import re
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from types import MappingProxyType
from typing import Any

import sqlalchemy as sa

from lean_tumbler.stores.constraints import NAME as GUARD

_HISTORY = re.compile(
    r"(?:^|_)(?:history|hist|audit|log|archive|old|backup|bak)(?:_|$)", re.IGNORECASE
)


@dataclass(frozen=True, slots=True, kw_only=True)
class Surroundings:
    """What a change of a column's values or type would touch.

    Attributes:
        bytes: of the table with its indexes; None where the server does not say.
        triggers: on the table; not those that stand guard for this tool.
        views: that read the table.
        generated: columns of the table that are computed.
        updated_by_itself: columns that the server sets at every update.
        relatives: other tables whose names say that they keep the table's past.
        copies: where the server sends or keeps changes: replicas, publications, binary log.
    """

    bytes: int | None = None
    triggers: tuple[str, ...] = ()
    views: tuple[str, ...] = ()
    generated: tuple[str, ...] = ()
    updated_by_itself: tuple[str, ...] = ()
    relatives: tuple[str, ...] = ()
    copies: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True, kw_only=True)
class _Queries:
    """One query for each part; each gives one column of names, or of one number."""

    size: str = ""
    lists: Mapping[str, str] = field(default_factory=dict)


_POSTGRESQL = _Queries(
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
        " FROM pg_publication_tables WHERE tablename = :name",
    },
)
_MYSQL = _Queries(
    size="SELECT data_length + index_length FROM information_schema.tables"
    " WHERE table_schema = DATABASE() AND table_name = :name",
    lists={
        "triggers": "SELECT trigger_name FROM information_schema.triggers"
        " WHERE event_object_schema = DATABASE() AND event_object_table = :name",
        "views": "SELECT table_name FROM information_schema.views WHERE table_schema = DATABASE()"
        " AND view_definition LIKE CONCAT('%`', :name, '`%')",
        "generated": "SELECT column_name FROM information_schema.columns WHERE table_schema ="
        " DATABASE() AND table_name = :name AND extra LIKE '%GENERATED%'",
        "updated_by_itself": "SELECT column_name FROM information_schema.columns WHERE"
        " table_schema = DATABASE() AND table_name = :name AND extra LIKE '%on update%'",
        "copies": "SELECT 'the binary log, and what reads it' WHERE @@log_bin = 1",
    },
)
_SQLITE = _Queries(
    lists={
        "triggers": "SELECT name FROM sqlite_master WHERE type = 'trigger' AND tbl_name = :name"
        " AND name NOT LIKE :guard",
        "views": "SELECT name FROM sqlite_master WHERE type = 'view'"
        " AND instr(lower(sql), lower(:name)) > 0",
        "generated": "SELECT name FROM pragma_table_xinfo(:name) WHERE hidden IN (2, 3)",
    },
)
_QUERIES: Mapping[str, _Queries] = MappingProxyType(
    {"sqlite": _SQLITE, "postgresql": _POSTGRESQL, "mysql": _MYSQL, "mariadb": _MYSQL}
)


def surroundings(engine: sa.Engine, table: str, tables: Sequence[str]) -> Surroundings:
    """Ask a server what stands around a table.

    Args:
        engine: the database.
        table: the table's name.
        tables: the names of all tables.
    """
    queries = _QUERIES[engine.dialect.name]
    quoted = engine.dialect.identifier_preparer.quote(table)
    names = {"name": table, "table": quoted, "guard": f"{GUARD}%"}
    with engine.connect() as connection:
        size = _asked(connection, queries.size, names)
        lists = {part: tuple(sorted(map(str, _asked(connection, text, names))))
                 for part, text in queries.lists.items()}  # fmt: skip
    return Surroundings(
        bytes=int(size[0]) if size else None,
        relatives=tuple(_relatives(table, tables)),
        **lists,
    )


def _asked(connection: sa.Connection, text: str, names: Mapping[str, str]) -> list[Any]:
    if not text:
        return []
    wanted = {name: value for name, value in names.items() if f":{name}" in text}
    return list(connection.execute(sa.text(text), wanted).scalars())


def _relatives(table: str, tables: Sequence[str]) -> Iterator[str]:
    stem = table.rstrip("s").lower()
    for other in tables:
        if other != table and stem in other.lower() and _HISTORY.search(other):
            yield other
