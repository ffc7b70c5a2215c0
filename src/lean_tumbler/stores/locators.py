"""What stands around an open store: its guard, its replicas, and the names of its place."""

from functools import partial
from pathlib import Path, PurePath
from typing import TYPE_CHECKING, cast
from urllib.parse import urlsplit

from lean_tumbler.core.policy import StoragePolicy, StorePolicy
from lean_tumbler.errors import UsageError
from lean_tumbler.stores.interface import LoginStore, Store
from lean_tumbler.stores.kinds import kind_of, open_store
from lean_tumbler.stores.sql.guard import ColumnGuard
from lean_tumbler.stores.sql.opening import open_database
from lean_tumbler.stores.sql.recognition import is_url
from lean_tumbler.stores.sql.server import Clock, Replicas

if TYPE_CHECKING:
    from lean_tumbler.stores.sql.store import SqlStore


def names_around(locator: str, table: str) -> tuple[str, ...]:
    """Give the names of a table, its schema and its database, which old code takes as constants."""
    place = urlsplit(locator).path if is_url(locator) else locator
    words = [*table.split("."), PurePath(place.strip("/")).stem]
    forms = (form for word in words if word for form in (word, word.lower(), word.upper()))
    return tuple(dict.fromkeys(forms))


def require_bulk(store: LoginStore) -> Store:
    """Give a store to a bulk step.

    Raises:
        UsageError: it is none whose rows can be gone through.
    """
    if isinstance(store, Store):
        return store
    raise UsageError(f"{store.table}: {store.layering_refused}")


def open_guard(
    store: StorePolicy, *, base: Path, policy: StoragePolicy, writable: bool = True
) -> ColumnGuard:
    """Open the guard of a store's column.

    Args:
        store: of the policy.
        base: the folder that a relative path starts from.
        policy: the least that is current, and the most that a value may ask for.
        writable: whether the guard will be put there or taken away.

    Raises:
        UsageError: the store is no database, or its table or column is not there.
        SourceError: it cannot be opened.
    """
    if not kind_of(store.locator, base=base).is_sql:
        raise UsageError(
            f"[store.{store.name}] is not a SQL database; only such a database has constraints"
        )
    opened = cast("SqlStore", open_store(store, base=base, writable=writable))
    opened.close()
    database = open_database(store.locator, base=base, writable=writable)
    return ColumnGuard(
        database,
        relation=opened.relation,
        key=opened.key,
        policy=policy,
    )


def open_replicas(store: StorePolicy, *, base: Path, clock: Clock) -> Replicas:
    """Find the replicas of a store's server.

    Raises:
        UsageError: it has none that can be asked.
    """
    database = open_database(store.locator, base=base)
    if database.server.replicas is None:
        raise UsageError(f"{database.locator}: an SQLite file has no replicas to wait for")
    return database.server.replicas(database, store, partial(open_database, base=base), clock)
