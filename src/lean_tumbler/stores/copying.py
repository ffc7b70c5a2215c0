"""Copying accounts into a throw-away SQLite database, to try on them what a run would do."""

import sqlite3
from collections.abc import Iterable, Iterator
from contextlib import closing
from pathlib import Path

from lean_tumbler.core.policy import Columns
from lean_tumbler.stores.interface import Account, AccountKey, Store

TABLE = "accounts"
COPIED = Columns(account="account", login="login", stored="stored", salt="salt")
_PAGE_ROWS = 1000


def copy_accounts(store: Store, path: Path, *, logins: Iterable[str], rows: int) -> int:
    """Copy the accounts of some logins, and others up to a number.

    Args:
        store: where they stand; it is only read.
        path: the database file to make.
        logins: whose accounts are wanted in any case.
        rows: how many others at most, in the order of their keys.

    Returns:
        How many were copied.
    """
    with closing(sqlite3.connect(path)) as connection, connection:
        connection.execute(
            f"CREATE TABLE {TABLE} (account PRIMARY KEY NOT NULL, login TEXT, stored, salt)"
        )
        before = connection.total_changes
        connection.executemany(
            f"INSERT OR IGNORE INTO {TABLE} VALUES (?, ?, ?, ?)",  # noqa: S608 - our own name
            map(_cells, _wanted(store, logins, rows)),
        )
        return connection.total_changes - before


def _wanted(store: Store, logins: Iterable[str], rows: int) -> Iterator[Account]:
    for login in logins:
        yield from store.fetch(login)
    after: AccountKey | None = None
    left = rows
    while left > 0 and (page := store.page(after=after, rows=min(left, _PAGE_ROWS))):
        yield from page
        left -= len(page)
        after = page[-1].key


def _cells(account: Account) -> tuple[object, ...]:
    return account.key, account.login, _text(account.stored), _text(account.salt)


def _text(raw: bytes | None) -> str | bytes | None:
    """Give text where it is; other bytes stay what they are."""
    try:
        return None if raw is None else raw.decode("utf-8")
    except UnicodeDecodeError:
        return raw
