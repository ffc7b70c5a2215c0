"""What stands around a table, from the server's own catalogue: what a change would touch."""

import re
from collections.abc import Iterator, Mapping, Sequence
from typing import Any

import sqlalchemy as sa
from msgspec import Struct

from lean_tumbler.errors import SourceError
from lean_tumbler.stores.sql.database import Database, TableName
from lean_tumbler.stores.sql.server import GUARD

_HISTORY = re.compile(
    r"(?:^|_)(?:history|hist|audit|log|archive|old|backup|bak)(?:_|$)", re.IGNORECASE
)


_NAMED = 20  # of each


class Surroundings(Struct, frozen=True, kw_only=True):
    """What a change of a column's values or type would touch."""

    bytes: int | None = None  # of the table with its indexes; None where the server does not say
    triggers: tuple[str, ...] = ()  # on the table; not those that stand guard for this tool
    views: tuple[str, ...] = ()  # that read the table
    generated: tuple[str, ...] = ()  # columns of the table that are computed
    updated_by_itself: tuple[str, ...] = ()  # columns that the server sets at every update
    relatives: tuple[str, ...] = ()  # other tables whose names say that they keep the table's past
    # where the server sends or keeps changes: replicas, publications, binary log
    copies: tuple[str, ...] = ()
    readers: tuple[str, ...] = ()  # accounts of the server that may read the column
    routines: tuple[str, ...] = ()  # functions and procedures whose text names the table
    # that named the column lately, without values, where the server counts them
    statements: tuple[str, ...] = ()
    clients: tuple[str, ...] = ()  # programs and accounts that are connected now
    not_told: tuple[str, ...] = ()  # which of these the server does not tell this account


def surroundings(database: Database, table: TableName, column: str) -> Surroundings:
    """Ask a server what stands around a table and a column of it."""
    queries = database.server.around
    names = {
        "name": table.name,
        "schema": table.schema,
        "table": database.quoted(table),
        "guard": f"{GUARD}%",
        "column": column,
    }
    with database.connect() as connection:
        tables = sa.inspect(connection).get_table_names(table.schema)
        size = _asked(connection, queries.size, names)
        lists = {part: tuple(sorted(map(str, _asked(connection, text, names))))
                 for part, text in queries.lists.items()}  # fmt: skip
    told: dict[str, tuple[str, ...]] = {}
    not_told = []
    for part, text in queries.where_allowed.items():
        try:
            with database.connect() as connection:
                told[part] = tuple(map(str, _asked(connection, text, names)))[:_NAMED]
        except SourceError:
            not_told.append(part)
    return Surroundings(
        bytes=int(size[0]) if size else None,
        relatives=tuple(_relatives(table.name, tables)),
        not_told=tuple(not_told),
        **lists,
        **told,
    )


def _asked(connection: sa.Connection, text: str, names: Mapping[str, str | None]) -> list[Any]:
    if not text:
        return []
    wanted = {name: value for name, value in names.items() if f":{name}" in text}
    return list(connection.execute(sa.text(text), wanted).scalars())


def _relatives(table: str, tables: Sequence[str]) -> Iterator[str]:
    stem = table.rstrip("s").lower()
    for other in tables:
        if other != table and stem in other.lower() and _HISTORY.search(other):
            yield other
