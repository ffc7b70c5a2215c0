"""What checks of a store's rows cost, seen before the first login."""

from lean_tumbler.core.gateway import CredentialGateway
from lean_tumbler.errors import UsageError
from lean_tumbler.stores.interface import Store

ROWS_LOOKED_AT = 5000
_PAGE_ROWS = 1000


def learn_costs(
    gateway: CredentialGateway, store: Store, *, store_name: str, rows: int = ROWS_LOOKED_AT
) -> None:
    """Look at a store's first rows, so that every refusal costs what the dearest of them does.

    Raises:
        SourceError: they cannot be read.
        CheckImpossible: a key that the store's decryption needs is not there.
    """
    after, seen = None, 0
    while seen < rows:
        try:
            page = store.page(after=after, rows=min(_PAGE_ROWS, rows - seen))
        except UsageError:  # a directory gives no pages
            return
        if not page:
            return
        gateway.learn_costs((account.row for account in page), store=store_name)
        after, seen = page[-1].key, seen + len(page)
