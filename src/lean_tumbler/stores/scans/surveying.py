"""The survey of a store: one pass over its texts before anything is taken for plain text."""

from collections.abc import Callable, Iterator
from contextlib import AbstractContextManager
from threading import Lock

from lean_tumbler.core.reading.reader import RowReader
from lean_tumbler.core.reading.rows import text_of
from lean_tumbler.core.reading.survey import ALONE, Column, Survey
from lean_tumbler.stores.interface import Account, AccountKey, LoginStore, Store

_PAGE_ROWS = 4000


def survey_store(store: Store, reader: RowReader) -> Column:
    """Look at every text that a cohort of plain text may hold.

    Raises:
        SourceError: the store cannot be read.
    """
    survey = Survey()
    for page in pages_of(store):
        survey.add(_texts(page, reader))
    return survey.column()


def pages_of(store: Store) -> Iterator[list[Account]]:
    """Give all rows of a store, page by page."""
    after: AccountKey | None = None
    while page := store.page(after=after, rows=_PAGE_ROWS):
        yield page
        after = page[-1].key


def _texts(page: list[Account], reader: RowReader) -> Iterator[str]:
    for account in page:
        stored = account.stored
        # What says itself how it was made is no plain text, and needs no look.
        if stored and stored[0] not in b"${" and reader.may_be_plain_text(account.row):
            yield text_of(stored)


def surveyed_once(
    opened: Callable[[], AbstractContextManager[LoginStore]], reader: RowReader
) -> Callable[[], Column]:
    """Give what surveys a store when it is first asked for, and remembers the result.

    Args:
        opened: opens the store, and closes it.
        reader: of its rows, without a column.
    """
    lock = Lock()
    found: list[Column] = []

    def column() -> Column:
        with lock:
            if not found:
                with opened() as store:
                    found.append(_surveyed(store, reader))
            return found[0]

    return column


def _surveyed(store: LoginStore, reader: RowReader) -> Column:
    # Where there are no pages, as in a directory, each text is judged by itself.
    if isinstance(store, Store) and reader.needs_column:
        return survey_store(store, reader)
    return ALONE
