"""The kinds of store. A new one is a module that declares its own, and a line below."""

from collections.abc import Callable, Iterator
from importlib import import_module
from pathlib import Path
from typing import TYPE_CHECKING

from msgspec import Struct

from lean_tumbler.core.policy import PLAIN_ROWS, RowSource, StorePolicy
from lean_tumbler.errors import UsageError
from lean_tumbler.stores.interface import LOCK_SECONDS, LoginStore

if TYPE_CHECKING:
    from lean_tumbler.stores.files.base import Table


class Opening(Struct, frozen=True, kw_only=True):
    """How a store is opened."""

    base: Path  # the folder that a relative path starts from
    writable: bool = False  # whether swaps will be asked for
    into: Path | None = None  # the copy to write, where the store is a file
    lock_seconds: int  # how long to wait for another program's lock


class Wanted(Struct, frozen=True, kw_only=True):
    """Which tables are looked for, and where."""

    base: Path  # the folder that a relative path starts from
    table: str = ""  # the one that is wanted, where it is known: no other is looked at
    source: RowSource = PLAIN_ROWS  # what makes up a row of that table
    stored: str = ""  # the column that `source.write_to` takes the place of


class StoreKind(Struct, frozen=True, kw_only=True):
    """What one kind of store is, and how it is read and opened."""

    is_mine: Callable[[str, Path], bool]  # by the locator and the folder that it starts from
    # what messages call the source, and its tables
    tables: "Callable[[str, Wanted], tuple[str, list[Table]]]"
    open: Callable[[StorePolicy, Opening], LoginStore]
    is_sql: bool = (
        False  # whether its rows can be joined, filtered and moved, and its column guarded
    )
    has_tables: bool = False  # whether a store of it names one of several tables
    has_logins: bool = True  # whether a login can be read and written in it, one by one
    written_in_place: bool = True  # else a bulk step writes a copy


# The first whose locator it is; files are what nothing else is.
_MODULES = ("application", "directory.kind", "sql.kind", "files.kind")


def kind_of(locator: str, *, base: Path) -> StoreKind:
    """Tell the kind of a store by its locator, and by the first bytes of a file."""
    kinds: Iterator[StoreKind] = (
        import_module(f"{__package__}.{module}").KIND for module in _MODULES
    )
    return next(kind for kind in kinds if kind.is_mine(locator, base))


def _require_plain(kind: StoreKind, source: RowSource, locator: str) -> None:
    """Refuse what only an SQL database has."""
    if not source.is_plain and not kind.is_sql:
        raise UsageError(
            f"{locator} is not a SQL database; only such a database can have “join”, “rows” and "
            "“write_to”"
        )


def open_store(
    store: StorePolicy,  # where it is, and its columns
    *,
    base: Path,
    writable: bool = False,
    into: Path | None = None,
    lock_seconds: int = LOCK_SECONDS,
) -> LoginStore:
    """Open a store of the policy, as `Opening` says.

    Raises:
        UsageError: the policy does not say enough, or names what is not there.
        SourceError: it cannot be opened.
    """
    kind = kind_of(store.locator, base=base)
    if into is not None and kind.written_in_place:
        raise UsageError(f"[store.{store.name}] is not a file; --into is for files alone")
    _require_plain(kind, store.source, store.locator)
    if kind.has_tables and not store.table:
        raise UsageError(f"[store.{store.name}] “table” is missing: the table of the accounts")
    opening = Opening(base=base, writable=writable, into=into, lock_seconds=lock_seconds)
    return kind.open(store, opening)


def tables_at(
    locator: str, *, base: Path, table: str = "", source: RowSource = PLAIN_ROWS, stored: str = ""
) -> "tuple[str, list[Table]]":
    """Give what messages call the source at a locator, and its tables, as `Wanted` says.

    Raises:
        UsageError: a locator of a kind that is not read, or that has no such rows.
        SourceError: it cannot be read.
    """
    kind = kind_of(locator, base=base)
    _require_plain(kind, source, locator)
    return kind.tables(locator, Wanted(base=base, table=table, source=source, stored=stored))
