"""Stores whose values the application keeps by itself, and sends with each request."""

from typing import NoReturn

from lean_tumbler.core.policy import APPLICATION, StorePolicy
from lean_tumbler.errors import UsageError
from lean_tumbler.stores.kinds import Opening, StoreKind, Wanted


def _open(store: StorePolicy, _: Opening) -> NoReturn:
    raise UsageError(
        f"[store.{store.name}] is kept by the application itself: `serve` answers for its values "
        "at /v1/admit-value; `audit` reads an export of it"
    )


def _tables(locator: str, _: Wanted) -> NoReturn:
    raise UsageError(f"“{locator}” stores are kept by the application itself; read an export")


KIND = StoreKind(
    is_mine=lambda locator, _: locator == APPLICATION,
    tables=_tables,
    open=_open,
    has_logins=False,
)
