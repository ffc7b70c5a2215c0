"""Equal tables: the many schemas of one program, of which each table is a store of its own."""

from pathlib import Path

from msgspec.structs import replace

from lean_tumbler.core.policy import StoragePolicy, StorePolicy
from lean_tumbler.errors import UsageError
from lean_tumbler.stores.sql.opening import open_database


def with_equal_tables(policy: StoragePolicy, *, base: Path) -> StoragePolicy:
    """Give a policy in which each of a store's equal tables is a store, named STORE/TABLE.

    Only stores with `tables` are looked at; their database is asked which tables are there now.

    Args:
        policy: as its file says it.
        base: the folder that a relative path starts from.

    Raises:
        UsageError: no table has such a name.
        SourceError: the database cannot be read.
    """
    stores: dict[str, StorePolicy] = {}
    for name, store in policy.stores.items():
        stores.update(_each(store, base) if store.tables else {name: store})
    return replace(policy, stores=stores)


def _each(store: StorePolicy, base: Path) -> dict[str, StorePolicy]:
    database = open_database(store.locator, base=base)
    try:
        there = database.tables(of_schemas=[name.rpartition(".")[0] for name in store.tables])
        each = store.for_each(list(map(str, there)))
    finally:
        database.engine.dispose()
    if not each:
        wanted = "”, “".join(store.tables)
        raise UsageError(f"[store.{store.name}] no table of {store.locator} is “{wanted}”")
    return each
