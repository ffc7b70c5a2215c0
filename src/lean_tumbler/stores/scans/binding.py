"""What evidence was taken from: whether the rows that were looked at still stand there."""

import hashlib
import hmac
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from contextlib import AbstractContextManager, closing, contextmanager
from datetime import date
from functools import partial
from pathlib import Path

from lean_tumbler.core.policy import APPLICATION, StoragePolicy, StorePolicy
from lean_tumbler.core.reading.evidence import Coverage, Evidence, RowFacts
from lean_tumbler.core.reading.of_stores import store_reader
from lean_tumbler.core.reading.reader import RowReader
from lean_tumbler.core.reasons import Reason
from lean_tumbler.core.row_plans import plan_row
from lean_tumbler.errors import SourceError
from lean_tumbler.stores.evidence_file import Binding, Bound, EvidenceFile, KnownOfStores
from lean_tumbler.stores.interface import Account, LoginStore, Store
from lean_tumbler.stores.kinds import open_store

SAMPLE_ROWS = 40
STILL_THERE = 0.9  # of the sample; people leave, and change their passwords in the old program
# What a row may have become since, without speaking against what was known of it.
_BECOME = frozenset(
    {Reason.LAYERED, Reason.CURRENT, Reason.REWRITTEN, Reason.LOCKED, Reason.KEY_MISSING}
)
OTHER_ROWS = (
    "the rows that known accounts were tried on do not stand there any more: another database, a "
    "restored one, or another table"
)


def look_at(store: LoginStore, *, key: bytes, today: date) -> Binding | None:
    """Say what evidence is taken from now; None where a store's rows cannot be gone through.

    Args:
        store: of which.
        key: of the fingerprints.
        today: the day.
    """
    if not isinstance(store, Store):
        return None
    return Binding(
        proved_on=today,
        rows=store.count(),
        highest=store.highest_key(),
        sample={_of_key(key, row): _of_value(key, row) for row in _sample(store)},
    )


def bound_to(
    store: LoginStore, *, settled: "Settled", today: date, rows: Sequence[RowFacts]
) -> Bound:
    """Give what says, while evidence is noted, what it was taken from.

    Where one of the new people's rows has come since the last proof, rows that came since are
    covered too.

    Args:
        store: whose rows the people's are.
        settled: tells rows that this tool has written.
        today: the day.
        rows: of the people who are noted.
    """

    def bound(_: str, before: Binding | None, key: bytes) -> tuple[Binding | None, bool]:
        if before is not None and still_stands(before, store, key=key, settled=settled):
            covered = coverage_of(before)
            if all(covered.covers(row.key, row.created) for row in rows):
                return before, True
            return look_at(store, key=key, today=today), True
        return look_at(store, key=key, today=today), before is None

    return bound


def bindings_of(
    stores: Mapping[str, LoginStore],  # opened, by the policy's names
    *,
    policy: StoragePolicy,  # theirs
    today: Callable[[], date],  # the day
) -> dict[str, Callable[[Sequence[RowFacts]], Bound]]:
    """Give for each store what says, while logins are noted, what evidence is taken from."""

    def of_store(name: str, rows: Sequence[RowFacts]) -> Bound:
        settled = settled_by(store_reader(policy, policy.stores[name]), policy)
        return bound_to(stores[name], settled=settled, today=today(), rows=rows)

    return {name: partial(of_store, name) for name in stores}


def still_stands(binding: Binding, store: LoginStore, *, key: bytes, settled: "Settled") -> bool:
    """Tell whether the rows of then are those of now, or have become what this tool writes."""
    if not isinstance(store, Store):
        return True
    left = dict(binding.sample)
    found = 0
    for row in _sample(store):
        value = left.pop(_of_key(key, row), None)
        found += value is not None and (value == _of_value(key, row) or settled(row))
    return found >= STILL_THERE * len(binding.sample)


Settled = Callable[[Account], bool]


def settled_by(reader: RowReader, policy: StoragePolicy) -> Settled:
    """Give what tells a row that is layered, current or locked."""
    return lambda row: plan_row(reader.read(row.row), policy).leave in _BECOME


def coverage_of(binding: Binding | None) -> Coverage:
    """Say which rows the proof was taken from."""
    if binding is None:
        return Coverage()
    return Coverage(proved_on=binding.proved_on, highest=binding.highest, rows=binding.rows)


Opened = Callable[[], AbstractContextManager[tuple[LoginStore, Settled]]]


def lapsed_of(known: KnownOfStores, opened: Mapping[str, Opened]) -> dict[str, str]:
    """Say of which stores the evidence does not count any more, and why.

    Args:
        known: what the file holds.
        opened: store -> opens it, and tells its rows that this tool has written.
    """
    return {
        name: OTHER_ROWS
        for name, binding in known.bindings.items()
        if name in opened and not _stands_in(opened[name], binding, known.key)
    }


def _stands_in(opened: Opened, binding: Binding, key: bytes) -> bool:
    try:
        with opened() as (store, settled):
            return still_stands(binding, store, key=key, settled=settled)
    except SourceError:
        return False


class LoginEvidence:
    """What logins go by: evidence of stores whose rows still stand there, read when it changes."""

    def __init__(
        self,
        file: EvidenceFile,  # the evidence
        # store -> opens it, and tells its rows that this tool has written
        opened: Mapping[str, Opened],
    ) -> None:
        self._file, self._opened = file, opened
        self._lapsed: dict[str, str] | None = None
        self._changed_at = -1
        self._evidence = Evidence()

    def __call__(self) -> Evidence:
        """Give what is known now."""
        try:
            changed_at = self._file.path.stat().st_mtime_ns
        except OSError:
            return Evidence()
        if changed_at != self._changed_at:
            known = self._file.load()
            if self._lapsed is None:
                self._lapsed = lapsed_of(known, self._opened)
            self._changed_at = changed_at
            self._evidence = known.evidence(self._lapsed)
        return self._evidence


def _sample(store: Store) -> list[Account]:
    return store.page(after=None, rows=SAMPLE_ROWS)


def _of_key(key: bytes, row: Account) -> str:
    return _fingerprint(key, repr(row.key).encode("utf-8", "replace"))


def _of_value(key: bytes, row: Account) -> str:
    named = repr(row.key).encode("utf-8", "replace")
    return _fingerprint(key, named + b"\0" + (row.stored or b"") + b"\0" + (row.salt or b""))


def _fingerprint(key: bytes, content: bytes) -> str:
    return hmac.digest(key, content, hashlib.sha256).hex()[:16]


def openers(names: Iterable[str], *, policy: StoragePolicy, base: Path) -> dict[str, Opened]:
    """Give what opens stores to see whether what was looked at still stands there.

    Args:
        names: of stores; those that an application keeps by itself cannot be looked at.
        policy: whose target tells rows that this tool has written.
        base: the folder that a relative path starts from.
    """
    return {
        name: partial(_opened_to_look, policy.stores[name], policy, base)
        for name in names
        if policy.stores[name].locator != APPLICATION
    }


@contextmanager
def _opened_to_look(
    store: StorePolicy, policy: StoragePolicy, base: Path
) -> Iterator[tuple[LoginStore, Settled]]:
    with closing(open_store(store, base=base)) as opened:
        yield opened, settled_by(store_reader(policy, store), policy)
