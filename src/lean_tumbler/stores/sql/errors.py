"""What databases report, as one clear line without statement or values."""

from collections.abc import Callable, Iterator
from contextlib import contextmanager

from msgspec import Struct
from sqlalchemy.engine.interfaces import DBAPIModule
from sqlalchemy.exc import DBAPIError

from lean_tumbler.errors import SourceError, StoreUnavailable
from lean_tumbler.stores.credentials import PASSWORD_VARIABLE


class Meaning(Struct, frozen=True):
    """What an error means, and whether it may pass by itself."""

    text: str
    may_pass: bool = False


LOCKED = Meaning("another program has held a lock on the table for too long", may_pass=True)
NO_RIGHT = Meaning("this account lacks the right to do that; grant it, or use another account")
HIDDEN = Meaning(
    "row-level security would hide rows of the table from this account, and what is not seen is "
    "neither counted nor layered; use the table's owner, or an account with BYPASSRLS"
)
READ_ONLY = Meaning("the server is read-only; name the primary")
FULL = Meaning("the server's disk is full")
PASSWORD = Meaning(
    f"the user or the password is refused; the password comes from {PASSWORD_VARIABLE}"
)
GUARDED = Meaning(
    "a constraint of the column refused a value; where it is the guard of `enforce constraint`, "
    "remove it first, and put it back afterwards"
)


@contextmanager
def database_errors(
    locator: str, meaning: Callable[[Exception], Meaning | None], driver: DBAPIModule | None
) -> Iterator[None]:
    """Turn the database's own errors into one clear line, without statement or values.

    Args:
        locator: what messages call the database.
        meaning: the server's own reading of an error; None where it knows it not.
        driver: the module of its driver, which is used without SQLAlchemy too.

    Raises:
        StoreUnavailable: the server is away, or a lock is held.
        SourceError: for every other of the database's errors.
    """
    error_of_driver = None if driver is None else driver.Error
    kinds = (DBAPIError, error_of_driver) if isinstance(error_of_driver, type) else (DBAPIError,)
    try:
        yield
    except kinds as error:
        cause = getattr(error, "orig", None) or error
        found = meaning(cause) or _of_any_driver(cause)
        kind = StoreUnavailable if found.may_pass else SourceError
        raise kind(f"{locator}: {found.text}") from None


def first_line(cause: Exception) -> str:
    """Give an error's text as one line of bounded length."""
    return " ".join(str(cause).split())[:200]


def class_names(cause: Exception) -> list[str]:
    """Name an error's class, and those that it is of."""
    return [kind.__name__ for kind in type(cause).__mro__]


def _of_any_driver(cause: Exception) -> Meaning:
    """Say what an error means by the classes of PEP 249.

    A server's own messages may hold values, and are left out; what the driver says of a connection
    does not.
    """
    # A driver raises the second where it is asked on a connection that it has lost already.
    if {"OperationalError", "InterfaceError"} & set(class_names(cause)):
        text = f"the server cannot be reached, or went away: {first_line(cause)}"
        return Meaning(text, may_pass=True)
    return Meaning(f"the server refused: {type(cause).__name__}")
