"""The rows of a table, page by page, each page claimed so that two runs share the table."""

from collections.abc import Iterator, Sequence
from functools import partial

from msgspec import Struct

from lean_tumbler.migration.bulk.context import RunContext
from lean_tumbler.migration.bulk.writing import BulkWriter
from lean_tumbler.stores.interface import Account, AccountKey, HasClaims, Store

PAGE_ROWS = 1000
COUNTED_ROWS = 20_000  # of a page from which nothing is written
_CLAIM_SECONDS = 0.5


class Page(Struct):
    """Rows that were read and claimed together; the claim ends when none is left to write."""

    rows: Sequence[Account]  # as they were read
    claim: str
    privileged: bool = False  # whether they are administrators'
    waiting: int = 0  # how many are still to be written
    read_whole: bool = False  # whether all were decided about


class Pages:
    """Goes through a store, administrators first where they are known."""

    def __init__(
        self,
        store: Store,  # whose rows
        writer: BulkWriter,  # which tries again
        context: RunContext,  # pause and stop
        *,
        privileged_first: bool,  # whether the store tells administrators apart
        claims: bool,  # whether pages are claimed; not where nothing is written
    ) -> None:
        self._store, self._writer, self._context = store, writer, context
        self._passes = (True, False) if privileged_first else (None,)
        self._page_rows = PAGE_ROWS if claims else COUNTED_ROWS
        self._claims_of = store if claims and isinstance(store, HasClaims) else None
        self._claims: set[str] = set()
        self.stopped = False

    def __iter__(self) -> Iterator[Page | None]:
        """Give each page; None before a wait for another run, when nobody is to wait for us."""
        for privileged in self._passes:
            yield from self._among(privileged)

    def _among(self, privileged: bool | None) -> Iterator[Page | None]:
        after: AccountKey | None = None
        elsewhere: list[AccountKey | None] = []
        while claim := self._next_claim(after, privileged):
            is_ours = self._claimed(claim)
            rows = self._read(after, privileged)  # what was done before the claim shows
            if is_ours:
                yield Page(rows, claim, privileged=bool(privileged))
            else:
                elsewhere.append(after)
            if not rows:
                break
            after = rows[-1].key
        while elsewhere:  # in work by another run; looked at again when it has let go
            after = elsewhere[0]
            claim = self._next_claim(after, privileged)
            if claim and not self._claimed(claim):
                if self._context.should_stop():
                    self.stopped = True
                    return
                yield None
                self._context.pause(_CLAIM_SECONDS)
                continue
            if claim:
                yield Page(self._read(after, privileged), claim, privileged=bool(privileged))
            elsewhere.pop(0)

    def _next_claim(self, after: AccountKey | None, privileged: bool | None) -> str:
        """Name the page that comes next by its first row; empty where there is none."""
        first = self._read(after, privileged, rows=1)
        return f"{self._store.table}:{first[0].key!r}" if first else ""

    def _read(
        self, after: AccountKey | None, privileged: bool | None, rows: int | None = None
    ) -> list[Account]:
        return self._writer.patiently(
            lambda: self._store.page(
                after=after, rows=rows or self._page_rows, privileged=privileged
            )
        )

    def _claimed(self, claim: str) -> bool:
        claims = self._claims_of
        if claims is None:
            return True
        if not self._writer.patiently(lambda: claims.claim(claim)):
            return False
        self._claims.add(claim)
        return True

    def release(self, page: Page) -> None:
        """Let a page go, where all of it was written."""
        if page.read_whole and page.waiting == 0 and page.claim in self._claims:
            self._let_go(page.claim)
            self._claims.discard(page.claim)

    def release_all(self) -> None:
        """Let go of the pages in work."""
        for claim in self._claims:
            self._let_go(claim)
        self._claims.clear()

    def _let_go(self, claim: str) -> None:
        if self._claims_of is not None:
            self._claims_of.release(claim)


def all_pages(store: Store, context: RunContext) -> Iterator[list[Account]]:
    """Give all rows once, as they are, and claim none: to count them.

    Args:
        store: whose.
        context: pause and stop.
    """
    writer = BulkWriter(store, context)
    after: AccountKey | None = None
    while rows := writer.patiently(partial(store.page, after=after, rows=COUNTED_ROWS)):
        yield rows
        after = rows[-1].key
