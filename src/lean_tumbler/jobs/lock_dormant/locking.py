"""Locking accounts that never came back: a marker in place of a weak or layered value."""

from collections import Counter
from collections.abc import Callable, Iterator, Mapping, Sequence
from datetime import date

import polars as pl
from msgspec import Struct, field
from msgspec.structs import replace

from lean_tumbler.core.forecast.times import Times, day_of, days_of
from lean_tumbler.core.grades import BELOW_FLOOR, Grade
from lean_tumbler.core.policy import StoragePolicy, StorePolicy
from lean_tumbler.core.printable import printable
from lean_tumbler.core.reading.grading import grade_of
from lean_tumbler.core.reading.of_stores import store_reader
from lean_tumbler.core.reasons import Reason
from lean_tumbler.core.row_plans import why_closed
from lean_tumbler.core.schemes.base import Kind
from lean_tumbler.core.schemes.lock_markers import new_marker
from lean_tumbler.core.stored_days import is_never
from lean_tumbler.core.warrant import Warrant
from lean_tumbler.errors import UsageError
from lean_tumbler.migration.bulk.context import RunContext
from lean_tumbler.migration.bulk.engine import BulkRun, Due
from lean_tumbler.reports.csv_lines import neutral_cell
from lean_tumbler.stores.interface import Account, AccountKey, Store, Swap, SwapResult
from lean_tumbler.stores.scans.login_log import folded_login

_LOCKED_GRADES = frozenset({*BELOW_FLOOR, Grade.LAYERED})


class Dormant(Struct, frozen=True, kw_only=True):
    """One account that did not come back."""

    key: AccountKey
    login: str | None
    last_seen: str
    grade: Grade
    administrator: bool


class LockChoice(Struct, frozen=True, kw_only=True):
    """Which accounts are locked."""

    before: date | None  # those last seen before that day; None where `accounts` says which
    undated: bool = False  # whether those without a date are taken for never seen
    # the keys of exactly those, whenever they were last seen, and at whatever grade
    accounts: frozenset[str] | None = None
    # login, folded -> the day that a password was last typed, from a log; it counts beside the
    # store's own date
    typed: Mapping[str, date] = field(default_factory=dict)
    dry_run: bool = False  # count and list, and write nothing


class Locked(Struct, kw_only=True):
    """What a run did, or a dry run would do."""

    dry_run: bool
    wanted: int | None = None  # how many accounts a list asked for; None without one
    considered: int = 0
    changed_meanwhile: int = 0
    not_selected: int = 0
    listed: int = 0  # how many of these the table has
    stopped: bool = False
    copy: str | None = None
    # keys of accounts that were locked before
    locked_already: set[str] = field(default_factory=set)
    accounts: list[Dormant] = field(default_factory=list)
    left: Counter[Reason] = field(default_factory=Counter)
    hindrances: list[Reason] = field(default_factory=list)

    @property
    def locked(self) -> int:
        """Accounts that were locked."""
        return len(self.accounts)

    @property
    def administrators(self) -> list[Dormant]:
        """Those with special rights."""
        return [account for account in self.accounts if account.administrator]


def lock_dormant(
    store: Store,  # opened for writing, with a column of last logins or a log beside it
    *,
    store_policy: StorePolicy,  # its options
    policy: StoragePolicy,  # the floor
    choice: LockChoice,  # which accounts
    warrant: Warrant,  # says which rows may be written
    context: RunContext,  # backup, pace and stop
    # told of all accounts that are to be locked, before any is
    tell: Callable[[Locked], None] = lambda _: None,
) -> Locked:
    """Lock the accounts that did not come back.

    All of them are found and told of before the first is locked. A row is written only where value
    and last login are what they were when it was read: who logs in meanwhile is left alone.

    Raises:
        UsageError: nothing says when accounts were last seen.
        NotReady: nothing may be written to the store now.
        Interrupted: the store failed half-way; what was written is whole.
    """
    if store.layering_refused:
        raise UsageError(f"{store.table}: {store.layering_refused}")
    if choice.accounts is None and not store_policy.columns.last_login and not choice.typed:
        raise UsageError(
            f"[store.{store_policy.name}] names no column “last_login”, and there is no --logins: "
            "nothing says who has not come back"
        )
    if not choice.dry_run:
        warrant.require()
    is_first = bool(store_policy.columns.privileged)
    looking = _Locking(store_policy, policy, choice, context, warrant)
    found = BulkRun(store, looking, context, privileged_first=is_first, dry_run=True)
    found.all_rows()
    tell(looking.locked)
    if choice.dry_run or found.stopped:
        looking.locked.stopped = found.stopped
        return looking.locked
    locking = _Locking(store_policy, policy, choice, context, warrant)
    run = BulkRun(store, locking, context, privileged_first=is_first, dry_run=False)
    run.all_rows()
    locking.locked.stopped = run.stopped
    return locking.locked


class _Locking:
    """What each row gets: a marker that nobody can foresee."""

    def __init__(
        self,
        store_policy: StorePolicy,
        policy: StoragePolicy,
        choice: LockChoice,
        context: RunContext,
        warrant: Warrant,
    ) -> None:
        self._columns, self._warrant = store_policy.columns, warrant
        self._policy, self._choice, self._context = policy, choice, context
        self._reader = store_reader(policy, replace(store_policy, decryption=None))
        wanted = None if choice.accounts is None else len(choice.accounts)
        self.locked = Locked(dry_run=choice.dry_run, wanted=wanted, hindrances=warrant.hindrances())

    def choose(self, rows: Sequence[Account], *, privileged: bool) -> Iterator[Dormant | None]:
        """Decide about rows, by their grade and by when they were last seen."""
        for account, seen in zip(rows, self._seen(rows), strict=True):
            self.locked.considered += 1
            yield self._due(account, seen, administrator=privileged)

    def make(self, rows: Sequence[Due[Dormant]]) -> Sequence[str]:
        """Make a marker for each row."""
        return [new_marker(self._context.randomness) for _ in rows]

    def swaps(self, rows: Sequence[Due[Dormant]], made: Sequence[str]) -> Sequence[Swap]:
        """Give the swaps; the last login is compared too, where the store has one."""
        dated = bool(self._columns.last_login)
        return [
            due.account.swap(marker, last_login=(due.account.last_login or b"") if dated else None)
            for due, marker in zip(rows, made, strict=True)
        ]

    def count(self, choice: Dormant, result: SwapResult) -> None:
        """Count an account that was to be locked."""
        if result.is_written:
            self.locked.accounts.append(choice)
        else:
            self.locked.changed_meanwhile += 1

    def _seen(self, page: Sequence[Account]) -> Iterator[date | Reason | None]:
        """Tell when each account was last seen; None for never, as far as is known."""
        texts = [
            None if row.last_login is None else row.last_login.decode("utf-8", "replace")
            for row in page
        ]
        days = days_of(pl.Series(texts, dtype=pl.String), today=self._warrant.today, times=Times())
        for account, text, day in zip(page, texts, days, strict=True):
            own = None if day is None else day_of(day)
            if own is None and not is_never(text):
                yield Reason.UNREADABLE_DATE
                continue
            typed = self._choice.typed.get(folded_login(account.login or ""))
            yield max((found for found in (own, typed) if found), default=None)

    def _due(
        self, account: Account, seen: date | Reason | None, *, administrator: bool
    ) -> Dormant | None:
        """Decide about one account, and count why it stays."""
        found, stays = self._grade(account)
        choice = self._choice
        if choice.accounts is not None:
            stays = self._why_not_listed(account, found, stays)
        elif stays is None and isinstance(seen, Reason):
            stays = seen
        elif stays is None and choice.before and isinstance(seen, date) and seen >= choice.before:
            stays = Reason.SEEN
        elif stays is None and seen is None and not choice.undated:
            stays = Reason.UNDATED
        if found is Grade.LOCKED:
            self.locked.locked_already.add(str(account.key))
        stays = stays or self._warrant.of_row(account.facts)
        if stays is not None:
            self.locked.left[stays] += 1
            return None
        if not self._warrant.is_in_share(account.key):
            self.locked.not_selected += 1
            return None
        return Dormant(
            key=account.key,
            login=account.login,
            last_seen=seen.isoformat() if isinstance(seen, date) else "",
            grade=found,
            administrator=administrator,
        )

    def _why_not_listed(
        self, account: Account, found: Grade, stays: Reason | None
    ) -> Reason | None:
        """Say why an account is left alone where a list says which are locked."""
        key = str(account.key)
        # A list has keys as a spreadsheet may see them: what that changes is on no list.
        is_plain = printable(key) == key and not key.startswith("'")
        if not is_plain or neutral_cell(key) not in (self._choice.accounts or ()):
            return Reason.NOT_LISTED
        self.locked.listed += 1
        return None if stays is Reason.NOT_WEAK and found is not Grade.LOCKED else stays

    def _grade(self, account: Account) -> tuple[Grade, Reason | None]:
        if not account.stored:
            return Grade.UNKNOWN, Reason.NO_VALUE
        reading = self._reader.read(account.row)
        closed = why_closed(reading)
        if closed is not None:
            return Grade.KEYED, closed
        if not reading.ways and reading.parsed.kind is Kind.UNKNOWN:
            return Grade.UNKNOWN, Reason.NOT_UNDERSTOOD
        found = grade_of(reading, self._policy.floor, salt=account.salt)
        return found, None if found in _LOCKED_GRADES else Reason.NOT_WEAK
