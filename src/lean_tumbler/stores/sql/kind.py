"""SQL databases as a kind of store."""

from typing import TYPE_CHECKING

from lean_tumbler.core.policy import StorePolicy
from lean_tumbler.stores.interface import LoginStore
from lean_tumbler.stores.kinds import Opening, StoreKind, Wanted
from lean_tumbler.stores.sql.recognition import is_database

if TYPE_CHECKING:
    from lean_tumbler.stores.files.base import Table

# What servers are reached by takes long to import; who reads files does without.


def _open(store: StorePolicy, opening: Opening) -> LoginStore:
    from lean_tumbler.stores.sql.opening import open_database  # noqa: PLC0415
    from lean_tumbler.stores.sql.store import SqlStore  # noqa: PLC0415

    return SqlStore(
        open_database(
            store.locator,
            base=opening.base,
            writable=opening.writable,
            lock_seconds=opening.lock_seconds,
        ),
        table=store.table,
        columns=store.columns,
        source=store.source,
        others={name: name for name in store.other_columns},
        writable=opening.writable,
    )


def _tables(locator: str, wanted: Wanted) -> "tuple[str, list[Table]]":
    from lean_tumbler.stores.sql.opening import open_database  # noqa: PLC0415
    from lean_tumbler.stores.sql.tables import tables_of_database  # noqa: PLC0415

    database = open_database(locator, base=wanted.base)
    tables = tables_of_database(database, wanted.table, source=wanted.source, stored=wanted.stored)
    return database.locator, list(tables)


KIND = StoreKind(
    is_mine=lambda locator, base: is_database(locator, base=base),
    tables=_tables,
    open=_open,
    is_sql=True,
    has_tables=True,
)
