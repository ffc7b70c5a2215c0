"""From a locator (a path or a URL) to an open store."""

import logging
import os
from collections.abc import Mapping
from pathlib import Path
from types import MappingProxyType

import sqlalchemy as sa

from lean_tumbler.core.policy import StorePolicy
from lean_tumbler.errors import SourceError, UsageError
from lean_tumbler.stores.sql import SqlStore, sqlite_engine

SQLITE = "sqlite:///"
PASSWORD_VARIABLE = "LEAN_TUMBLER_DATABASE_PASSWORD"  # noqa: S105 - the name of a variable
_CONNECT_SECONDS = 10

# URL scheme: the driver that SQLAlchemy is to use, and what keeps it from writing.
_SERVERS: Mapping[str, tuple[str, Mapping[str, object]]] = MappingProxyType(
    {
        "postgresql": (
            "postgresql+psycopg",
            {
                "options": "-c default_transaction_read_only=on",
                "connect_timeout": _CONNECT_SECONDS,
            },
        ),
        "mysql": (
            "mysql+pymysql",
            {
                "init_command": "SET SESSION TRANSACTION READ ONLY",
                "connect_timeout": _CONNECT_SECONDS,
                "charset": "utf8mb4",
            },
        ),
    }
)
_OTHER_NAMES = MappingProxyType({"mariadb": "mysql", "postgres": "postgresql"})


def password_from_environment() -> str | None:
    """Give the password of a server; from the environment, never from a locator."""
    return os.environ.get(PASSWORD_VARIABLE) or None


def is_url(locator: str) -> bool:
    """Tell a URL from a path."""
    return "://" in locator


def open_engine(locator: str, *, base: Path, writable: bool = False) -> tuple[sa.Engine, str]:
    """Open a database.

    Args:
        locator: a path, `sqlite:///` and a path, or the URL of a server without a password.
        base: the folder that a relative path starts from.
        writable: whether it will be written to.

    Returns:
        The engine, and what messages call the database.

    Raises:
        UsageError: a locator of a kind that is not read, or that holds a password.
        SourceError: it cannot be opened.
    """
    if is_url(locator) and not locator.startswith(SQLITE):
        return _server_engine(locator, writable=writable)
    path = base / locator.removeprefix(SQLITE)
    return sqlite_engine(path, writable=writable), locator.removeprefix(SQLITE)


def _server_engine(locator: str, *, writable: bool) -> tuple[sa.Engine, str]:
    scheme = locator.partition("://")[0].lower()
    scheme = _OTHER_NAMES.get(scheme, scheme)
    if scheme not in _SERVERS:
        known = ", ".join(f"{name}://" for name in ("sqlite", *_SERVERS, "ldap"))
        raise UsageError(f"a store at {scheme}:// is not read by this version; it reads {known}")
    if writable:
        raise UsageError(f"a store at {scheme}:// is only read by this version, not written to")
    driver, arguments = _SERVERS[scheme]
    try:
        url = sa.make_url(locator).set(drivername=driver)
    except (sa.exc.ArgumentError, ValueError):
        raise SourceError("the URL of the database cannot be understood") from None
    if url.password:
        raise UsageError(
            f"the URL holds a password, which others can see; put it into {PASSWORD_VARIABLE}"
        )
    name = url.render_as_string().replace(driver, scheme, 1)
    url = url.set(password=password_from_environment()) if password_from_environment() else url
    # The pool logs, with a traceback, what is raised and reported anyway.
    logging.getLogger("sqlalchemy.pool").setLevel(logging.CRITICAL + 1)
    engine = sa.create_engine(
        url,
        connect_args=dict(arguments),
        poolclass=sa.pool.NullPool,
        pool_reset_on_return=None,
    )
    return engine, name


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
