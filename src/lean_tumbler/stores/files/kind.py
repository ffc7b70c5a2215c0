"""Files of records as a kind of store: whatever is nothing else."""

from typing import TYPE_CHECKING

from lean_tumbler.core.policy import StorePolicy
from lean_tumbler.errors import SourceError, UsageError
from lean_tumbler.stores.interface import LoginStore
from lean_tumbler.stores.kinds import Opening, StoreKind, Wanted

if TYPE_CHECKING:
    from lean_tumbler.stores.files.base import Table


def _open(store: StorePolicy, opening: Opening) -> LoginStore:
    path = opening.base / store.locator
    if not path.is_file():
        raise SourceError(f"{store.locator}: no such file")
    if store.table:
        raise UsageError(
            f"[store.{store.name}] {store.locator} is a file of records, without tables: leave "
            "“table” away"
        )
    if opening.writable and opening.into is None:
        raise UsageError(
            f"{store.locator}: a file is never written in place; `layer` and `undo` write a copy "
            "with --into FILE, and logins need a database"
        )
    from lean_tumbler.stores.files.file_store import FileStore  # noqa: PLC0415 - needs an extra

    return FileStore(path, store, into=opening.into)


def _tables(locator: str, wanted: Wanted) -> "tuple[str, list[Table]]":
    from lean_tumbler.stores.files.kinds import tables_of_file  # noqa: PLC0415 - needs an extra

    return locator, tables_of_file(wanted.base / locator)


KIND = StoreKind(
    is_mine=lambda _locator, _base: True,
    tables=_tables,
    open=_open,
    has_logins=False,
    written_in_place=False,
)
