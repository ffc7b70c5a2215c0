"""What `rekey` does with each row: the same value, under the key of new values."""

from collections import Counter
from collections.abc import Iterator, Sequence

from msgspec import Struct, field

from lean_tumbler.core.policy import StoragePolicy, StorePolicy
from lean_tumbler.core.reading.of_stores import store_reader
from lean_tumbler.core.reading.readings import Reading, State
from lean_tumbler.core.reading.under_keys import is_sealable
from lean_tumbler.core.reasons import Reason
from lean_tumbler.core.records import Hidden, MaskedRecord
from lean_tumbler.core.row_plans import STATES, why_closed
from lean_tumbler.core.warrant import Warrant
from lean_tumbler.errors import UsageError
from lean_tumbler.migration.bulk.context import RunContext
from lean_tumbler.migration.bulk.engine import BulkRun, Due
from lean_tumbler.migration.bulk.key_checks import require_keys
from lean_tumbler.stores.interface import Account, AccountKey, Store, Swap, SwapResult

ACCOUNTS_NAMED = 20


class Rekeyed(Struct, kw_only=True):
    """What a run did, or a dry run would do."""

    key: str | None  # under which values go; None where it is taken off
    dry_run: bool
    considered: int = 0
    moved: Counter[str] = field(default_factory=Counter)  # by the key before; "" for none
    changed_meanwhile: int = 0
    not_selected: int = 0
    left: Counter[Reason] = field(default_factory=Counter)
    listed: list[tuple[AccountKey, Reason]] = field(default_factory=list)
    # rows that a person left out, or that were not opened, by the key that they are under
    still_under: Counter[str] = field(default_factory=Counter)
    hindrances: list[Reason] = field(default_factory=list)
    seconds: float = 0.0
    stopped: bool = False
    copy: str | None = None

    @property
    def rekeyed(self) -> int:
        """Rows that were written."""
        return self.moved.total()

    @property
    def per_second(self) -> float:
        """Rows written a second."""
        return self.rekeyed / self.seconds if self.seconds else 0.0


class _Choice(MaskedRecord, Struct, frozen=True, kw_only=True):
    """A value that goes under another key."""

    text: Hidden[str]
    before: str  # the key that it is under; empty for none


def rekey_store(
    store: Store,  # opened for writing
    *,
    store_policy: StorePolicy,  # its options
    policy: StoragePolicy,  # the keyring
    warrant: Warrant,  # says which rows may be written
    context: RunContext,  # backup, pace and stop
    dry_run: bool,  # count, and write nothing
) -> Rekeyed:
    """Put all direct and layered values under the key of new values, or under none.

    Nothing is derived, and no password is needed. Each key that rows name is checked first.

    Raises:
        UsageError: other programs check the store's values.
        KeyMissing: rows are under a key that is not there, or is another one.
        NotReady: nothing may be written to the store now.
        Interrupted: the store failed half-way; what was written is whole.
    """
    if store.layering_refused:
        raise UsageError(f"{store.table}: {store.layering_refused}")
    require_keys(store, policy)
    if not dry_run:
        warrant.require()
    step = _Rekeying(store_policy, policy, context, warrant, dry_run=dry_run)
    run = BulkRun(
        store,
        step,
        context,
        privileged_first=bool(store_policy.columns.privileged),
        dry_run=dry_run,
    )
    started = context.clock()
    try:
        run.all_rows()
    finally:
        step.rekeyed.stopped = run.stopped
        step.rekeyed.seconds = context.clock() - started
    return step.rekeyed


class _Rekeying:
    """What each row gets: its own value again, sealed anew."""

    def __init__(
        self,
        store_policy: StorePolicy,
        policy: StoragePolicy,
        context: RunContext,
        warrant: Warrant,
        *,
        dry_run: bool,
    ) -> None:
        self._keyring, self._context, self._warrant = policy.keyring, context, warrant
        self._reader = store_reader(policy, store_policy)
        self.rekeyed = Rekeyed(
            key=policy.keyring.sealed_by or None,
            dry_run=dry_run,
            hindrances=warrant.hindrances(),
        )

    def choose(self, rows: Sequence[Account], *, privileged: bool) -> Iterator[_Choice | None]:
        """Decide about rows: by what they are under, and by what the warrant says of each."""
        del privileged
        for account in rows:
            self.rekeyed.considered += 1
            reading = self._reader.read(account.row)
            before = reading.keyed.name if reading.keyed else ""
            leave = self._leave(reading) or self._warrant.of_row(account.facts)
            if leave is None and not self._warrant.is_in_share(account.key):
                self.rekeyed.not_selected += 1
            elif leave is None:
                yield _Choice(text=reading.text, before=before)
                continue
            else:
                self._left(account, leave)
            if reading.keyed or reading.closed:
                self.rekeyed.still_under[before or reading.parsed.contents.variant] += 1
            yield None

    def _leave(self, reading: Reading) -> Reason | None:
        state = STATES.get(reading.state) or why_closed(reading)
        if state is not None:
            return state
        if self._keyring.is_latest(reading.keyed):
            return Reason.KEYED_ALREADY if reading.keyed else Reason.UNDER_NO_KEY
        if reading.keyed is not None or is_sealable(reading):
            return None
        return Reason.REMNANT if reading.state is State.REMNANT else Reason.NOT_SEALABLE

    def _left(self, account: Account, reason: Reason) -> None:
        self.rekeyed.left[reason] += 1
        if not reason.is_settled and len(self.rekeyed.listed) < ACCOUNTS_NAMED:
            self.rekeyed.listed.append((account.key, reason))

    def make(self, rows: Sequence[Due[_Choice]]) -> Sequence[str]:
        """Seal each row's value; it is opened again before it is given."""
        randomness = self._context.randomness
        return [
            self._keyring.sealed(
                due.choice.text, account=due.account.bound_name, randomness=randomness
            )
            for due in rows
        ]

    def swaps(self, rows: Sequence[Due[_Choice]], made: Sequence[str]) -> Sequence[Swap | None]:
        """Give the swaps of those that the column has room for."""
        swaps: list[Swap | None] = []
        for due, value in zip(rows, made, strict=True):
            if self._warrant.has_room(len(value)):
                swaps.append(due.account.swap(value))
            else:
                self._left(due.account, Reason.TOO_NARROW)
                swaps.append(None)
        return swaps

    def count(self, choice: _Choice, result: SwapResult) -> None:
        """Count a row that was to be written."""
        if result.is_written:
            self.rekeyed.moved[choice.before] += 1
        else:
            self.rekeyed.changed_meanwhile += 1
