"""Copying accounts into a throw-away SQLite database, to try on them what a run would do."""

import sqlite3
from collections.abc import Iterable, Iterator, Sequence
from contextlib import closing
from pathlib import Path

from lean_tumbler.core.policy import Columns
from lean_tumbler.stores.interface import Account, AccountKey, Store

TABLE = "accounts"
# No store's own columns are called so, which stand beside them under their own names.
COPIED = Columns(
    account="copied account",
    login="copied login",
    stored="copied stored",
    salt="copied salt",
    created="copied created",
)
_LARGEST_KEY = 2**63 - 1
_PAGE_ROWS = 1000


def copy_accounts(
    store: Store, path: Path, *, logins: Iterable[str], rows: int, others: Sequence[str] = ()
) -> int:
    """Copy the accounts of some logins, and others up to a number.

    Args:
        store: where they stand; it is only read.
        path: the database file to make.
        logins: whose accounts are wanted in any case.
        rows: how many others at most, in the order of their keys.
        others: further columns that readings need.

    Returns:
        How many were copied.
    """
    names = (COPIED.login, COPIED.stored, COPIED.salt, COPIED.created, *others)
    columns = ", ".join(map(_quoted, names))
    with closing(sqlite3.connect(path)) as connection, connection:
        connection.execute(
            f"CREATE TABLE {TABLE} ({_quoted(COPIED.account)} PRIMARY KEY NOT NULL, {columns})"
        )
        before = connection.total_changes
        connection.executemany(
            f"INSERT OR IGNORE INTO {TABLE} VALUES (?{', ?' * len(names)})",  # noqa: S608 - our own
            (_cells(account, others) for account in _wanted(store, logins, rows)),
        )
        return connection.total_changes - before


def _quoted(name: str | None) -> str:
    return '"' + (name or "").replace('"', '""') + '"'


def _wanted(store: Store, logins: Iterable[str], rows: int) -> Iterator[Account]:
    for login in logins:
        yield from store.fetch(login)
    after: AccountKey | None = None
    left = rows
    while left > 0 and (page := store.page(after=after, rows=min(left, _PAGE_ROWS))):
        yield from page
        left -= len(page)
        after = page[-1].key


def _cells(account: Account, others: Sequence[str]) -> tuple[object, ...]:
    own = (account.stored, account.salt, account.created)
    contents = (*own, *(account.others.get(name) for name in others))
    stored, *rest = map(_text, contents)
    # SQLite's whole numbers have 63 bits and a sign.
    is_large = isinstance(account.key, int) and account.key > _LARGEST_KEY
    return str(account.key) if is_large else account.key, account.login, stored, *rest


def _text(raw: bytes | None) -> str | bytes | None:
    """Give text where it is; other bytes stay what they are."""
    try:
        return None if raw is None else raw.decode("utf-8")
    except UnicodeDecodeError:
        return raw
