"""What an unknown login is checked against, so that its refusal costs what a known one's does."""

import hashlib
import hmac
from collections.abc import Mapping
from itertools import accumulate

from lean_tumbler.core.reading.rows import text_of
from lean_tumbler.core.schemes.base import Kind, ParsedValue
from lean_tumbler.core.schemes.catalogue import read_value
from lean_tumbler.errors import UsageError
from lean_tumbler.stores.interface import Account, Store

ROWS_LOOKED_AT = 5000
_PAGE_ROWS = 1000
_SLOW = frozenset({Kind.DERIVATION, Kind.ITERATED, Kind.LAYERED})

# Scheme, kind and costs; None for all values whose check takes no time worth speaking of.
_Cost = tuple[str, Kind, tuple[tuple[str, int], ...]] | None


class StandIns:
    """One row of each cost that a store's values have, and how many rows cost as much.

    A refusal of a fast value takes one derivation at the target, and so does that of an unknown
    login. Where values are dearer than the target, that would tell the two apart. So an unknown
    login is given a cohort: by a keyed hash, so that the same login costs the same each time,
    and in proportion to the rows, so that no cost stands out.

    Args:
        key: for the hash; secret, and the same for all instances that answer side by side.
        rows: of each cost, how many, and one of them.
    """

    def __init__(self, key: bytes, rows: Mapping[_Cost, tuple[int, Account | None]]) -> None:
        self._key = key
        self._ends = list(accumulate(number for number, _ in rows.values()))
        self._accounts = [account for _, account in rows.values()]

    def of(self, login: str) -> Account | None:
        """Give the row that an unknown login is checked against; None for the target alone."""
        if not any(self._accounts):
            return None
        digest = hmac.digest(self._key, login.encode("utf-8", "replace"), hashlib.sha256)
        place = int.from_bytes(digest[:8], "big") * self._ends[-1] >> 64
        return next(
            account for end, account in zip(self._ends, self._accounts, strict=True) if place < end
        )


def stand_ins(store: Store, *, key: bytes) -> StandIns:
    """Look at a store's first rows.

    Raises:
        SourceError: they cannot be read.
    """
    rows: dict[_Cost, tuple[int, Account | None]] = {}
    after, seen = None, 0
    while seen < ROWS_LOOKED_AT:
        try:
            page = store.page(after=after, rows=_PAGE_ROWS)
        except UsageError:  # a directory gives no pages
            break
        if not page:
            break
        for account in page:
            cost = _cost(read_value(text_of(account.stored or b"")))
            number, first = rows.get(cost, (0, account if cost else None))
            rows[cost] = (number + 1, first)
        after, seen = page[-1].key, seen + len(page)
    return StandIns(key, rows)


def _cost(parsed: ParsedValue) -> _Cost:
    if parsed.kind not in _SLOW:
        return None
    return parsed.scheme, parsed.kind, tuple(sorted(parsed.parameters.items()))
