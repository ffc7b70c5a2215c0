"""What checks of a store's rows cost, seen before the first login."""

from collections.abc import Iterator

from lean_tumbler.core.login.gateway import CredentialGateway
from lean_tumbler.core.reading.rows import Row
from lean_tumbler.stores.interface import LoginStore, Store

ROWS_LOOKED_AT = 5000
_PAGE_ROWS = 1000


def learn_costs(
    gateway: CredentialGateway, store: LoginStore, *, store_name: str, at_once: bool = True
) -> None:
    """Look at a store's first rows, so that every refusal costs what the dearest of them does.

    Args:
        gateway: which refuses.
        store: whose rows.
        store_name: the policy's name of it.
        at_once: else at the first refusal.

    Raises:
        SourceError: they cannot be read.
        CheckImpossible: a key that the store's decryption needs is not there.
    """
    if isinstance(store, Store):
        gateway.learn_costs(_first_rows(store), store=store_name, at_once=at_once)


def _first_rows(store: Store) -> Iterator[Row]:
    after, seen = None, 0
    while seen < ROWS_LOOKED_AT:
        page = store.page(after=after, rows=min(_PAGE_ROWS, ROWS_LOOKED_AT - seen))
        if not page:
            return
        yield from (account.row for account in page)
        after, seen = page[-1].key, seen + len(page)
