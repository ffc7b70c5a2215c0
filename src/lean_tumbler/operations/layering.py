"""Bulk layering: pages of rows in, derivations on an executor, short transactions of swaps.

The row is the state: nothing is noted anywhere else, so a run that was killed is simply run
again. Derivations of the next batch go on while a batch is written; none runs inside a
transaction.
"""

from collections import Counter
from collections.abc import Callable, Iterator
from concurrent.futures import Executor, Future
from dataclasses import dataclass, field

from lean_tumbler.core.layering import Leave, RowPlan, new_value, plan_row
from lean_tumbler.core.policy import StoragePolicy, StorePolicy, Target
from lean_tumbler.errors import PolicyError, SourceError, StoppedPartWay, UsageError
from lean_tumbler.stores.interface import Account, AccountKey, Store, Swap, SwapResult

PAGE_ROWS = 1000
FIRST_BATCH_ROWS = 16
BATCH_ROWS = 1024
BATCH_SECONDS = 0.5  # a batch is grown until it takes about this long: little is lost by a kill
ROWS_LISTED = 20

Clock = Callable[[], float]
Randomness = Callable[[int], bytes]


@dataclass(slots=True, kw_only=True)
class LayeringSummary:
    """What a run did."""

    workers: int
    considered: int = 0
    layered: int = 0
    replaced: int = 0
    changed_meanwhile: int = 0
    failed: int = 0
    left: Counter[Leave] = field(default_factory=Counter)
    listed: list[tuple[AccountKey, str]] = field(default_factory=list)
    seconds: float = 0.0
    hashing_seconds: float = 0.0
    stopped: bool = False

    @property
    def skipped(self) -> int:
        """Rows that were left as they are."""
        return sum(self.left.values())

    @property
    def written(self) -> int:
        """Rows that were changed."""
        return self.layered + self.replaced

    @property
    def per_second(self) -> float:
        """Rows written a second."""
        return self.written / self.seconds if self.seconds else 0.0

    @property
    def hashing_time_share(self) -> float:
        """Of the workers' time, the part that derivations took."""
        return self.hashing_seconds / (self.seconds * self.workers) if self.seconds else 0.0

    def leave(self, key: AccountKey, reason: Leave) -> None:
        """Count a row that stays; list it where a person must look."""
        self.left[reason] += 1
        if reason not in {Leave.SAFE, Leave.NO_VALUE}:
            self.list_row(key, reason)

    def list_row(self, key: AccountKey, reason: str) -> None:
        """Name a row in the summary, up to a bound."""
        if len(self.listed) < ROWS_LISTED:
            self.listed.append((key, reason))


@dataclass(frozen=True, slots=True, kw_only=True)
class Resources:
    """What a run works with.

    Attributes:
        executor: runs the derivations.
        workers: how many it runs at once.
        clock: seconds, monotonic.
        randomness: number of bytes -> random bytes.
    """

    executor: Executor
    workers: int
    clock: Clock
    randomness: Randomness


@dataclass(frozen=True, slots=True)
class _Pending:
    account: Account
    plan: RowPlan
    derived: "Future[tuple[str, float]]"


def require_formulas(store: Store, policy: StoragePolicy) -> None:
    """Refuse to touch a store whose layered values refer to a formula that the policy lacks.

    Raises:
        PolicyError: naming the fingerprint.
    """
    known = {named.fingerprint for named in policy.formulas.values()}
    missing = sorted(store.origins() - known)
    if missing:
        raise PolicyError(
            f"{store.table}: stored values refer to the formula {missing[0]}, "
            "which is not in the policy's [formulas]; put it back before anything else"
        )


def layer_store(
    store: Store,
    *,
    store_policy: StorePolicy,
    policy: StoragePolicy,
    resources: Resources,
    should_stop: Callable[[], bool] = lambda: False,
    progress: Callable[[int], None] = lambda _: None,
) -> LayeringSummary:
    """Put the target over every legacy digest of a store.

    Args:
        store: opened for writing.
        store_policy: its formulas and options.
        policy: target, floor and limits.
        resources: executor, clock and randomness.
        should_stop: asked before each batch; the batch in hand is finished.
        progress: told the number of rows gone through.

    Raises:
        UsageError: the target cannot lie over a digest.
        PolicyError: a formula that stored values refer to is missing.
        StoppedPartWay: the store failed half-way; what was written is whole.
    """
    if not policy.target.derivation.may_layer:
        raise UsageError(
            f"{policy.target.scheme} cannot lie over a legacy digest; "
            "set [target] to argon2id, scrypt or pbkdf2-sha256"
        )
    require_formulas(store, policy)
    summary = LayeringSummary(workers=resources.workers)
    run = _Run(store, store_policy, policy, resources, summary, progress)
    started = resources.clock()
    try:
        run.all_rows(should_stop)
    except SourceError as error:
        if not summary.written:
            raise
        raise StoppedPartWay(
            f"{error}; {summary.written:,} rows were written whole, run again to continue"
        ) from None
    finally:
        summary.seconds = resources.clock() - started
    return summary


class _Run:
    """One pass over the store, with one batch being written while the next is derived."""

    def __init__(
        self,
        store: Store,
        store_policy: StorePolicy,
        policy: StoragePolicy,
        resources: Resources,
        summary: LayeringSummary,
        progress: Callable[[int], None],
    ) -> None:
        self._store = store
        self._store_policy = store_policy
        self._policy = policy
        self._resources = resources
        self._summary = summary
        self._progress = progress
        self._batch_rows = FIRST_BATCH_ROWS

    def all_rows(self, should_stop: Callable[[], bool]) -> None:
        """Go through every row that is due, in batches."""
        waiting: list[_Pending] = []
        batch: list[_Pending] = []
        for account, plan in self._due():
            batch.append(_Pending(account, plan, self._submit(plan)))
            if len(batch) < self._batch_rows:
                continue
            self._write(waiting)
            waiting, batch = batch, []
            if should_stop():
                self._summary.stopped = True
                break
        self._write(waiting)
        self._write(batch)

    def _due(self) -> Iterator[tuple[Account, RowPlan]]:
        after: AccountKey | None = None
        while page := self._store.page(after=after, rows=PAGE_ROWS):
            for account in page:
                self._summary.considered += 1
                plan = plan_row(
                    account.stored,
                    salt=account.salt,
                    login=account.login,
                    store=self._store_policy,
                    policy=self._policy,
                )
                if plan.leave is None:
                    yield account, plan
                else:
                    self._summary.leave(account.key, plan.leave)
                    self._progress(1)
            after = page[-1].key

    def _submit(self, plan: RowPlan) -> "Future[tuple[str, float]]":
        return self._resources.executor.submit(_derive, plan, self._policy.target, self._resources)

    def _write(self, batch: list[_Pending]) -> None:
        if not batch:
            return
        started = self._resources.clock()
        swaps: list[Swap] = []
        written: list[_Pending] = []
        for pending in batch:
            try:
                value, seconds = pending.derived.result()
            except MemoryError:
                self._summary.failed += 1
                self._summary.list_row(pending.account.key, "not enough memory to derive")
                continue
            self._summary.hashing_seconds += seconds
            old = pending.account.stored or b""
            swaps.append(Swap(key=pending.account.key, old=old, new=value))
            written.append(pending)
        for pending, result in zip(written, self._store.swap_many(swaps), strict=True):
            self._count(pending, result)
        self._progress(len(batch))
        if self._resources.clock() - started < BATCH_SECONDS / 2:
            self._batch_rows = min(self._batch_rows * 2, BATCH_ROWS)

    def _count(self, pending: _Pending, result: SwapResult) -> None:
        if result is not SwapResult.DONE:
            self._summary.changed_meanwhile += 1
        elif pending.plan.plain is not None:
            self._summary.replaced += 1
        else:
            self._summary.layered += 1


def _derive(plan: RowPlan, target: Target, resources: Resources) -> tuple[str, float]:
    started = resources.clock()
    value = new_value(plan, target, resources.randomness)
    return value, resources.clock() - started
