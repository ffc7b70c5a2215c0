"""From a locator (a path or a URL) to an open store."""

import logging
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path
from types import MappingProxyType
from typing import Any

import sqlalchemy as sa

from lean_tumbler.core.policy import APPLICATION, StoragePolicy, StorePolicy
from lean_tumbler.errors import SourceError, UsageError
from lean_tumbler.stores.constraints import ColumnGuard
from lean_tumbler.stores.credentials import PASSWORD_VARIABLE, password_from_environment
from lean_tumbler.stores.directories import is_directory_url
from lean_tumbler.stores.directory_store import DirectoryStore
from lean_tumbler.stores.interface import Store
from lean_tumbler.stores.sql import LOCK_SECONDS, SqlStore, is_sqlite, sqlite_engine
from lean_tumbler.stores.transport import (
    leaves_this_machine,
    require_no_secret,
    verifying_context,
)

SQLITE = "sqlite:///"
_CONNECT_SECONDS = 10


@dataclass(frozen=True, slots=True, kw_only=True)
class _Server:
    """A kind of server: its driver, and what its connections are told at their start."""

    driver: str
    arguments: Mapping[str, str]
    setting: str
    reading: str
    writing: str


# Writers wait for locks for a bounded time, and MariaDB raises an error where it would else cut
# a value off.
_SERVERS: Mapping[str, _Server] = MappingProxyType(
    {
        "postgresql": _Server(
            driver="postgresql+psycopg",
            arguments={"connect_timeout": str(_CONNECT_SECONDS)},
            setting="options",
            reading="-c default_transaction_read_only=on",
            writing="-c lock_timeout={seconds}s",
        ),
        "mysql": _Server(
            driver="mysql+pymysql",
            arguments={"connect_timeout": str(_CONNECT_SECONDS), "charset": "utf8mb4"},
            setting="init_command",
            reading="SET SESSION TRANSACTION READ ONLY",
            writing="SET SESSION innodb_lock_wait_timeout = {seconds},"
            " SESSION lock_wait_timeout = {seconds},"
            " SESSION sql_mode = CONCAT(@@sql_mode, ',STRICT_ALL_TABLES')",
        ),
    }
)
# A reader holds one connection for its one long query; a writer comes back to a few.
_NO_POOL: Mapping[str, Any] = {"poolclass": sa.pool.NullPool, "pool_reset_on_return": None}
_POOL: Mapping[str, Any] = {"pool_size": 5, "max_overflow": -1, "pool_pre_ping": True}
_OTHER_NAMES = MappingProxyType({"mariadb": "mysql", "postgres": "postgresql"})


def is_url(locator: str) -> bool:
    """Tell a URL from a path."""
    return "://" in locator


def open_engine(
    locator: str, *, base: Path, writable: bool = False, lock_seconds: int = LOCK_SECONDS
) -> tuple[sa.Engine, str]:
    """Open a database.

    Args:
        locator: a path, `sqlite:///` and a path, or the URL of a server without a password.
        base: the folder that a relative path starts from.
        writable: whether it will be written to.
        lock_seconds: how long to wait for another program's lock.

    Returns:
        The engine, and what messages call the database.

    Raises:
        UsageError: a locator of a kind that is not read, or that holds a password.
        SourceError: it cannot be opened.
    """
    if is_url(locator) and not locator.startswith(SQLITE):
        return _server_engine(locator, writable=writable, lock_seconds=lock_seconds)
    path = base / locator.removeprefix(SQLITE)
    engine = sqlite_engine(path, writable=writable, lock_seconds=lock_seconds)
    return engine, locator.removeprefix(SQLITE)


def _server_engine(locator: str, *, writable: bool, lock_seconds: int) -> tuple[sa.Engine, str]:
    scheme = locator.partition("://")[0].lower()
    scheme = _OTHER_NAMES.get(scheme, scheme)
    if scheme == "sqlite":
        raise UsageError(
            f"{locator}: a SQLite file is written {SQLITE}PATH, with three slashes before a path "
            "that is relative and four before one from the root; the path alone works too"
        )
    if scheme not in _SERVERS:
        known = ", ".join((SQLITE, *(f"{name}://" for name in (*_SERVERS, "ldap"))))
        raise UsageError(f"a store at {scheme}:// is not read by this version; it reads {known}")
    server = _SERVERS[scheme]
    try:
        url = sa.make_url(locator).set(drivername=server.driver)
    except (sa.exc.ArgumentError, ValueError):
        raise SourceError("the URL of the database cannot be understood") from None
    if url.password:
        raise UsageError(
            f"the URL holds a password, which others can see; put it into {PASSWORD_VARIABLE}"
        )
    require_no_secret(url.query, PASSWORD_VARIABLE)
    name = url.render_as_string().replace(server.driver, scheme, 1)
    url = url.set(password=password_from_environment()) if password_from_environment() else url
    # The pool and the driver log, the one with a traceback, what is raised and reported anyway.
    for logger in ("sqlalchemy.pool", "psycopg"):
        logging.getLogger(logger).setLevel(logging.CRITICAL + 1)
    session = server.writing.format(seconds=lock_seconds) if writable else server.reading
    settings = {**server.arguments, server.setting: session}
    verified, arguments = _verified(url, server)
    url = url.update_query_dict({**settings, **verified})
    engine = sa.create_engine(url, connect_args=arguments, **(_POOL if writable else _NO_POOL))
    return engine, name


def _verified(url: sa.URL, server: _Server) -> tuple[dict[str, str], dict[str, Any]]:
    """Have a server on another machine verified, unless the URL says how to go about it."""
    host = url.host or str(url.query.get("host", ""))
    says = any(name.startswith("ssl") for name in url.query)
    if says or not leaves_this_machine(host) or "unix_socket" in url.query:
        return {}, {}
    if server.driver.startswith("postgresql"):
        # PostgreSQL's manual, section 32.19: without these, any certificate would do, or none.
        return {"sslmode": "verify-full", "sslrootcert": "system"}, {}
    return {}, {"ssl": verifying_context()}


def is_file(store: StorePolicy, *, base: Path) -> bool:
    """Tell a store that is a file of records, and no database, by its locator and content."""
    path = base / store.locator
    return not is_url(store.locator) and path.is_file() and not is_sqlite(path) and not store.table


def open_store(
    store: StorePolicy,
    *,
    base: Path,
    writable: bool = False,
    into: Path | None = None,
    lock_seconds: int = LOCK_SECONDS,
) -> Store:
    """Open a store of the policy.

    Args:
        store: where it is, and its columns.
        base: the folder that a relative path starts from.
        writable: whether swaps will be asked for.
        into: the copy to write, where the store is a file.
        lock_seconds: how long to wait for another program's lock.

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
        if writable and into is None:
            raise UsageError(
                f"{store.locator}: a file is never written in place; `layer` and `undo` write a "
                "copy with --into FILE, and logins need a database"
            )
        from lean_tumbler.stores.file_store import FileStore  # noqa: PLC0415 - needs an extra

        return FileStore(base / store.locator, store, into=into)
    if into is not None:
        raise UsageError(f"[store.{store.name}] is no file, so --into has nothing to write")
    if is_directory_url(store.locator):
        return DirectoryStore(store.locator, store.columns, others=store.other_columns)
    if not store.table:
        raise UsageError(f"[store.{store.name}] “table” is missing: the table of the accounts")
    engine, locator = open_engine(
        store.locator, base=base, writable=writable, lock_seconds=lock_seconds
    )
    return SqlStore(
        engine,
        locator=locator,
        table=store.table,
        columns=store.columns,
        others={name: name for name in store.other_columns},
        writable=writable,
    )


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
    if store.locator == APPLICATION or is_file(store, base=base) or is_directory_url(store.locator):
        raise UsageError(f"[store.{store.name}] is no SQL database, which alone has constraints")
    opened = open_store(store, base=base, writable=writable)
    key = opened.key_name if isinstance(opened, SqlStore) else ""
    opened.close()
    engine, locator = open_engine(store.locator, base=base, writable=writable)
    return ColumnGuard(
        engine,
        locator=locator,
        table=store.table,
        column=store.columns.stored or "",
        key=key,
        policy=policy,
    )
