"""From a locator (a path or a URL) to an open store."""

from pathlib import Path

import sqlalchemy as sa

from lean_tumbler.core.policy import StorePolicy
from lean_tumbler.errors import UsageError
from lean_tumbler.stores.sql import SqlStore, sqlite_engine

SQLITE = "sqlite:///"


def is_url(locator: str) -> bool:
    """Tell a URL from a path."""
    return "://" in locator


def open_engine(locator: str, *, base: Path, writable: bool = False) -> tuple[sa.Engine, str]:
    """Open a database.

    Args:
        locator: a path, or `sqlite:///` and a path.
        base: the folder that a relative path starts from.
        writable: whether it will be written to.

    Returns:
        The engine, and what messages call the database.

    Raises:
        UsageError: a locator of a kind that is not read.
        SourceError: it cannot be opened.
    """
    if is_url(locator) and not locator.startswith(SQLITE):
        scheme = locator.partition("://")[0]
        raise UsageError(f"a store at {scheme}:// is not read by this version; use sqlite:///PATH")
    path = base / locator.removeprefix(SQLITE)
    return sqlite_engine(path, writable=writable), locator.removeprefix(SQLITE)


def open_store(store: StorePolicy, *, base: Path, writable: bool = False) -> SqlStore:
    """Open a store of the policy.

    Raises:
        UsageError: the policy does not say enough, or names what is not there.
        SourceError: it cannot be opened.
    """
    if not store.table:
        raise UsageError(f"[store.{store.name}] “table” is missing: the table of the accounts")
    engine, locator = open_engine(store.locator, base=base, writable=writable)
    return SqlStore(
        engine, locator=locator, table=store.table, columns=store.columns, writable=writable
    )
