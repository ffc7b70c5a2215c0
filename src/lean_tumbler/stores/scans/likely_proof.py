"""What likely passwords show of a store's cohorts: rows that one opens, under one reading alone."""

import random
from collections.abc import Callable, Iterator, Sequence

from lean_tumbler.core.audit.likely import likely_passwords
from lean_tumbler.core.reading.reader import RowReader
from lean_tumbler.core.reading.readings import Reading, State
from lean_tumbler.core.reading.ways import Bounds, Certainty, FormulaWay, PasswordWay, Way
from lean_tumbler.errors import CheckImpossible
from lean_tumbler.stores.evidence_file import CohortTrial
from lean_tumbler.stores.interface import Account, AccountKey, Store
from lean_tumbler.stores.scans.verification import cohort_shown

PASSWORDS, PASSWORDS_SALTED = 6_000, 60
LEAST_CHARACTERS = 16  # of a digest: a shorter one fits by chance
SECONDS = 20.0
_PAGE_ROWS = 1_000
_SOME_ROWS = 50_000  # from here on, pages are drawn all over the table
_DRAWN_PAGES = 200
_LEAST_WORK = 20  # digests that a formula may run for one password


def guessed(
    store: Store,  # opened
    *,
    store_name: str,  # the policy's
    reader: RowReader,  # of its rows
    bounds: Bounds,  # limits and keys
    clock: Callable[[], float],  # seconds that pass
) -> list[CohortTrial]:
    """Try likely passwords on a store's fast digests and plain texts.

    A row that opens speaks for its cohort where one of its ways alone opens. No password is kept.
    """
    trying = _Likely(bounds)
    end = clock() + SECONDS
    found: list[CohortTrial] = []
    for page in _pages(store):
        for account in page:
            reading = reader.read(account.row)
            key = cohort_shown(store_name, reading)
            if key is None or not trying.opens_one(reading):
                continue
            login = account.login or repr(account.key)
            found.append(
                CohortTrial(store=store_name, key=key, login=login, right=True, row=account.facts)
            )
        if clock() > end:
            break
    return found


def _pages(store: Store) -> Iterator[list[Account]]:
    """Give all rows, or of a large table pages that are drawn all over it."""
    highest, rows = store.highest_key(), store.count()
    if rows > _SOME_ROWS and highest is not None:
        chance = random.Random(rows)  # noqa: S311 - a sample, the same at every run
        for place in chance.sample(range(highest), min(highest, _DRAWN_PAGES)):
            yield store.page(after=place, rows=_PAGE_ROWS // 4)
        return
    after: AccountKey | None = None
    while page := store.page(after=after, rows=_PAGE_ROWS):
        yield page
        after = page[-1].key


class _Likely:
    """Tries likely passwords on readings.

    Args:
        bounds: limits and keys.
    """

    def __init__(self, bounds: Bounds) -> None:
        self._bounds = bounds
        self._passwords: Sequence[str] = likely_passwords()[:PASSWORDS]
        self._texts = frozenset(self._passwords)
        self._ready: dict[str, frozenset[str]] = {}

    def opens_one(self, reading: Reading) -> bool:
        """Tell whether a likely password opens a row in one of its ways, and in no other."""
        if reading.state is not State.VALUE or reading.doubt is not None:
            return False
        mains: dict[object, Way] = {}
        for way in reading.ways:
            beside = way.alternative if isinstance(way, FormulaWay) else None
            mains.setdefault(beside.main if beside else way.rests_on, way)
        if any(way.certainty is not Certainty.DECLARED for way in mains.values()):
            return False
        try:
            return sum(self._opens(way) for way in mains.values()) == 1
        except CheckImpossible:
            return False

    def _opens(self, way: Way) -> bool:
        if isinstance(way, PasswordWay):
            return way.password in self._texts
        if not isinstance(way, FormulaWay) or len(way.canonical) < LEAST_CHARACTERS:
            return False
        if way.formula.numbers or way.formula.work > _LEAST_WORK:
            return False
        if way.salt is None and way.login is None and not way.parts:
            return way.canonical in self._of_all(way)
        compute = way.computing(self._bounds)
        return any(compute(each) == way.canonical for each in self._passwords[:PASSWORDS_SALTED])

    def _of_all(self, way: FormulaWay) -> frozenset[str]:
        if way.origin not in self._ready:
            compute = way.computing(self._bounds)
            made = (compute(password) for password in self._passwords)
            self._ready[way.origin] = frozenset(filter(None, made))
        return self._ready[way.origin]
