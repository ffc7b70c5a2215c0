"""What databases report, as one clear line without statement or values."""

import sqlite3
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from dataclasses import dataclass
from types import MappingProxyType

from sqlalchemy.engine.interfaces import DBAPIModule
from sqlalchemy.exc import DBAPIError

from lean_tumbler.errors import SourceError, StoreUnavailable
from lean_tumbler.stores.credentials import PASSWORD_VARIABLE


@dataclass(frozen=True, slots=True)
class _Known:
    """What an error means, and whether it may pass by itself."""

    text: str
    may_pass: bool = False


_LOCKED = _Known("another program holds a lock on the table for too long", may_pass=True)
_NO_RIGHT = _Known("this account lacks the right to do that; grant it, or use another account")
_READ_ONLY = _Known("the server only reads; name the one that is written to")
_FULL = _Known("the server's disk is full")
_PASSWORD = _Known(
    f"the user or the password is refused; the password comes from {PASSWORD_VARIABLE}"
)
_GUARDED = _Known(
    "a constraint of the column refused a value; where it is the guard of `enforce constraint`, "
    "remove it first, and put it back afterwards"
)
# PostgreSQL's by the driver's class for them (its manual, appendix A); MariaDB's and MySQL's by
# their numbers (their manuals' lists of error codes).
_MEANING: Mapping[str | int, _Known] = MappingProxyType(
    {
        "LockNotAvailable": _LOCKED, "DeadlockDetected": _LOCKED, 1205: _LOCKED, 1213: _LOCKED,
        "InsufficientPrivilege": _NO_RIGHT, 1044: _NO_RIGHT, 1142: _NO_RIGHT,
        1143: _NO_RIGHT, 1227: _NO_RIGHT,
        "InvalidPassword": _PASSWORD, "InvalidAuthorizationSpecification": _PASSWORD,
        1045: _PASSWORD, 1698: _PASSWORD,
        "CheckViolation": _GUARDED, 3819: _GUARDED, 4025: _GUARDED,
        "ReadOnlySqlTransaction": _READ_ONLY, 1290: _READ_ONLY, 1792: _READ_ONLY,
        1836: _READ_ONLY,
        "DiskFull": _FULL, 1021: _FULL, 1114: _FULL,
    }
)  # fmt: skip


@contextmanager
def database_errors(locator: str, driver: DBAPIModule | None = None) -> Iterator[None]:
    """Turn the database's own errors into one clear line, without statement or values.

    Args:
        locator: what messages call the database.
        driver: the module of a driver that is used without SQLAlchemy.

    Raises:
        StoreUnavailable: the server is away, or a lock is held.
        SourceError: for every other of the database's errors.
    """
    kinds: tuple[type[Exception], ...] = (DBAPIError, *_own_errors(driver))
    try:
        yield
    except kinds as error:
        found = _meaning(getattr(error, "orig", None) or error)
        kind = StoreUnavailable if found.may_pass else SourceError
        raise kind(f"{locator}: {found.text}") from None


def _own_errors(driver: DBAPIModule | None) -> tuple[type[Exception], ...]:
    own = () if driver is None else (driver.Error,)
    return tuple(kind for kind in (sqlite3.Error, *own) if issubclass(kind, Exception))


def _meaning(cause: Exception) -> _Known:
    """Say what an error means.

    SQLite's messages name tables, columns and files; a server's own messages may hold values, and
    are left out; what the driver says of a connection does not.
    """
    text = " ".join(str(cause).split())[:200]
    if isinstance(cause, sqlite3.Error):
        locked = "locked" in text
        return _Known(
            text + (" (locked by another program; run again)" if locked else ""), may_pass=locked
        )
    names = [kind.__name__ for kind in type(cause).__mro__]
    for name in (*names, *cause.args[:1]):
        if isinstance(name, str | int) and name in _MEANING:
            return _MEANING[name]
    if "password authentication failed" in text or "no password supplied" in text:
        return _PASSWORD  # while it connects, this driver knows no codes
    # A driver raises the second where it is asked on a connection that it has lost already.
    if "OperationalError" in names or "InterfaceError" in names:
        return _Known(f"the server cannot be reached, or went away: {text}", may_pass=True)
    return _Known(f"the server refused: {type(cause).__name__}")
