"""LDAP directories as a kind of store."""

from typing import TYPE_CHECKING

from lean_tumbler.core.policy import StorePolicy
from lean_tumbler.stores.directory.connection import is_directory_url
from lean_tumbler.stores.interface import LoginStore
from lean_tumbler.stores.kinds import Opening, StoreKind, Wanted

if TYPE_CHECKING:
    from lean_tumbler.stores.files.base import Table


def _open(store: StorePolicy, _: Opening) -> LoginStore:
    from lean_tumbler.stores.directory.store import DirectoryStore  # noqa: PLC0415 - an extra

    return DirectoryStore(store.locator, store.columns, others=store.other_columns)


def _tables(locator: str, _: Wanted) -> "tuple[str, list[Table]]":
    from lean_tumbler.stores.directory.tables import tables_of_directory  # noqa: PLC0415

    name, tables = tables_of_directory(locator)
    return name, list(tables)


KIND = StoreKind(is_mine=lambda locator, _: is_directory_url(locator), tables=_tables, open=_open)
