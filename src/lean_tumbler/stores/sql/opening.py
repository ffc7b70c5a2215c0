"""From a locator to an open database; a new kind of server is a module and its name here."""

import logging
from collections.abc import Mapping
from importlib import import_module
from pathlib import Path
from types import MappingProxyType
from typing import Any

import sqlalchemy as sa

from lean_tumbler.errors import SourceError, UsageError
from lean_tumbler.stores.credentials import PASSWORD_VARIABLE, server_login
from lean_tumbler.stores.interface import LOCK_SECONDS
from lean_tumbler.stores.sql.database import Database
from lean_tumbler.stores.sql.recognition import SQLITE, is_url
from lean_tumbler.stores.sql.server import Network, Server
from lean_tumbler.stores.sql.sqlite import open_sqlite
from lean_tumbler.stores.transport import leaves_this_machine, require_no_secret

_MODULES = (
    "sqlite",
    "postgresql",
    "mysql",
)
SERVERS: Mapping[str, Server] = MappingProxyType(
    {
        name: server
        for module in _MODULES
        for server in [import_module(f"{__package__}.{module}").SERVER]
        for name in (server.name, *server.other_names)
    }
)
_CONNECT_SECONDS = 10
# A reader holds one connection for its one long query; a writer comes back to a few.
_NO_POOL: Mapping[str, Any] = {"poolclass": sa.pool.NullPool, "pool_reset_on_return": None}
_POOL: Mapping[str, Any] = {"pool_size": 5, "max_overflow": -1, "pool_pre_ping": True}


def open_database(
    locator: str, *, base: Path, writable: bool = False, lock_seconds: int = LOCK_SECONDS
) -> Database:
    """Open a database.

    Args:
        locator: a path, `sqlite:///` and a path, or the URL of a server without a password.
        base: the folder that a relative path starts from.
        writable: whether it will be written to.
        lock_seconds: how long to wait for another program's lock.

    Raises:
        UsageError: a locator of a kind that is not read, or that holds a password.
        SourceError: it cannot be opened.
    """
    if is_url(locator) and not locator.startswith(SQLITE):
        return _on_a_server(locator, writable=writable, lock_seconds=lock_seconds)
    name = locator.removeprefix(SQLITE)
    return open_sqlite(base / name, writable=writable, lock_seconds=lock_seconds, locator=name)


def _on_a_server(locator: str, *, writable: bool, lock_seconds: int) -> Database:
    scheme = locator.partition("://")[0].lower()
    server = SERVERS.get(scheme)
    if server is None:
        reachable = (found.name for found in SERVERS.values() if found.network is not None)
        known = ", ".join((SQLITE, *(f"{name}://" for name in dict.fromkeys((*reachable, "ldap")))))
        raise UsageError(f"{scheme}:// is not supported; supported are {known}")
    if server.network is None:
        raise UsageError(
            f"{locator}: the URL of an SQLite file is {SQLITE}PATH, with three slashes before a "
            "relative path and four before an absolute one; the path alone works too"
        )
    network = server.network
    try:
        url = sa.make_url(locator).set(drivername=network.driver)
    except (sa.exc.ArgumentError, ValueError):
        raise SourceError("the URL of the database cannot be understood") from None
    if url.password:
        raise UsageError(
            f"the URL holds a password, which others can see; put it into {PASSWORD_VARIABLE}"
        )
    require_no_secret(url.query, PASSWORD_VARIABLE)
    login = server_login()
    url = url.set(username=login.user) if login.user else url
    name = url.render_as_string().replace(network.driver, server.name, 1)
    url = url.set(password=login.password) if login.password else url
    # The pool and the driver log, the one with a traceback, what is raised and reported anyway.
    for logger in ("sqlalchemy.pool", "psycopg"):
        logging.getLogger(logger).setLevel(logging.CRITICAL + 1)
    begins = network.writing.format(seconds=lock_seconds) if writable else network.reading
    settings = {
        "connect_timeout": str(_CONNECT_SECONDS),
        **network.arguments,
        network.setting: begins,
    }
    verified, arguments = _verified(url, network)
    url = url.update_query_dict({**settings, **verified})
    engine = sa.create_engine(url, connect_args=arguments, **(_POOL if writable else _NO_POOL))
    return Database(engine, name, server)


def _verified(url: sa.URL, network: Network) -> tuple[dict[str, str], dict[str, Any]]:
    """Have a server on another machine verified, unless the URL says how to go about it."""
    host = url.host or str(url.query.get("host", ""))
    says = any(name.startswith("ssl") for name in url.query)
    if "unix_socket" in url.query and not says:
        return {}, dict(network.on_socket)
    if says or not leaves_this_machine(host):
        return {}, {}
    return network.verified()
