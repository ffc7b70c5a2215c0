"""From a locator (a path or a URL) to an open store."""

from functools import partial
from pathlib import Path, PurePath
from urllib.parse import urlsplit

from lean_tumbler.core.policy import APPLICATION, StoragePolicy, StorePolicy
from lean_tumbler.errors import UsageError
from lean_tumbler.stores.directory.connection import is_directory_url
from lean_tumbler.stores.directory.store import DirectoryStore
from lean_tumbler.stores.interface import LoginStore, Store
from lean_tumbler.stores.naming import require_plain
from lean_tumbler.stores.sql.guard import ColumnGuard
from lean_tumbler.stores.sql.opening import open_database
from lean_tumbler.stores.sql.recognition import is_database, is_url
from lean_tumbler.stores.sql.server import LOCK_SECONDS, Clock, Replicas
from lean_tumbler.stores.sql.store import SqlStore


def names_around(locator: str, table: str) -> tuple[str, ...]:
    """Give the names of a table, its schema and its database, which old code takes as constants."""
    place = urlsplit(locator).path if is_url(locator) else locator
    words = [*table.split("."), PurePath(place.strip("/")).stem]
    forms = (form for word in words if word for form in (word, word.lower(), word.upper()))
    return tuple(dict.fromkeys(forms))


def is_file(store: StorePolicy, *, base: Path) -> bool:
    """Tell a store that is a file of records, and no database, by its locator and content."""
    is_there = (base / store.locator).is_file()
    return is_there and not store.table and not is_database(store.locator, base=base)


def open_store(
    store: StorePolicy,  # where it is, and its columns
    *,
    base: Path,  # the folder that a relative path starts from
    writable: bool = False,  # whether swaps will be asked for
    into: Path | None = None,  # the copy to write, where the store is a file
    lock_seconds: int = LOCK_SECONDS,  # how long to wait for another program's lock
) -> LoginStore:
    """Open a store of the policy.

    Raises:
        UsageError: the policy does not say enough, or names what is not there.
        SourceError: it cannot be opened.
    """
    if store.locator == APPLICATION:
        raise UsageError(
            f"[store.{store.name}] is kept by the application itself: `serve` answers for its "
            "values at /v1/admit-value; `audit` reads an export of it"
        )
    if is_file(store, base=base):
        require_plain(store.source, store.locator)
        if writable and into is None:
            raise UsageError(
                f"{store.locator}: a file is never written in place; `layer` and `undo` write a "
                "copy with --into FILE, and logins need a database"
            )
        from lean_tumbler.stores.files.file_store import FileStore  # noqa: PLC0415 - needs an extra

        return FileStore(base / store.locator, store, into=into)
    if into is not None:
        raise UsageError(f"[store.{store.name}] is not a file; --into is for files alone")
    if is_directory_url(store.locator):
        require_plain(store.source, store.locator)
        return DirectoryStore(store.locator, store.columns, others=store.other_columns)
    if not store.table:
        raise UsageError(f"[store.{store.name}] “table” is missing: the table of the accounts")
    database = open_database(store.locator, base=base, writable=writable, lock_seconds=lock_seconds)
    return SqlStore(
        database,
        table=store.table,
        columns=store.columns,
        source=store.source,
        others={name: name for name in store.other_columns},
        writable=writable,
    )


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
    none = UsageError(
        f"[store.{store.name}] is not a SQL database; only such a database has constraints"
    )
    if store.locator == APPLICATION or is_file(store, base=base):
        raise none
    opened = open_store(store, base=base, writable=writable)
    opened.close()
    if not isinstance(opened, SqlStore):
        raise none
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
