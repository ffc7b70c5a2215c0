"""Bulk layering: pages of rows in, derivations on an executor, short transactions of swaps.

The row is the state: nothing is noted anywhere else, so a run that was killed is simply run
again. Derivations of the next batch go on while a batch is written; none runs inside a
transaction. Pages are claimed while they are in work, so that two runs share a table.
"""

from collections.abc import Callable, Iterator, Mapping, Sequence
from concurrent.futures import Executor, Future
from contextlib import nullcontext
from dataclasses import dataclass, field, replace
from itertools import chain
from typing import TypeVar

from lean_tumbler.core.layering import (
    DerivationTask,
    RowPlan,
    SkipReason,
    plan_row,
    require_confirmed,
    require_opening,
    task_of,
)
from lean_tumbler.core.login.gateway import store_reader
from lean_tumbler.core.login.sharing import in_share
from lean_tumbler.core.policy import StoragePolicy, StorePolicy
from lean_tumbler.core.reading.evidence import CohortKey, Evidence, Proof
from lean_tumbler.core.reading.ways import Bounds
from lean_tumbler.core.schemes.catalogue import own_formulas
from lean_tumbler.errors import Interrupted, PolicyError, SourceError, StoreUnavailable, UsageError
from lean_tumbler.jobs.bulk.deriving import (
    CHECKED_SHARE,
    Clock,
    Derived,
    Elsewhere,
    expected_seconds,
    require_right,
    results_of,
    timed,
)
from lean_tumbler.jobs.bulk.summary import LayeringSummary
from lean_tumbler.stores.interface import Account, AccountKey, Store, Swap, SwapResult
from lean_tumbler.stores.scans.surveying import surveyed_once

PAGE_ROWS = 1000
FIRST_BATCH_ROWS = 16
BATCH_ROWS = 1024
_CALLS_FOR_EACH_WORKER = 8  # of a batch's; more even out workers of different speed
BATCH_SECONDS = 0.5  # a batch is grown until it takes about this long: little is lost by a kill
_CLAIM_SECONDS = 0.5
_REPLICA_SECONDS = 1.0  # how often replicas are asked
# How long to wait before trying again, when a server is away or another program holds a lock.
_BACK_OFF_SECONDS = (0.5, 1.0, 2.0, 4.0, 8.0, 16.0)

T = TypeVar("T")

Randomness = Callable[[int], bytes]


@dataclass(frozen=True, slots=True, kw_only=True)
class Selection:
    """Which rows a run takes, and whether it writes.

    Attributes:
        share: the part of all accounts; a larger one contains every smaller one.
        only: one cohort, as `RowPlan.cohort` names it; empty for all.
        dry_run: count what would be done, and derive and write nothing.
        evidence: what is known of the store's cohorts.
        unproven: cohorts that are taken without proof.
        most_otherwise: the largest share of a cohort's rows that may be made otherwise, at 95 %.
        lists_left: whether all rows that are left are to be named.
        proofs_asked: whether proof is asked for at all; not on a throw-away copy.
    """

    share: float = 1.0
    only: str = ""
    dry_run: bool = False
    evidence: Evidence = field(default_factory=Evidence)
    unproven: frozenset[str] = frozenset()
    most_otherwise: float = 1.0
    lists_left: bool = False
    proofs_asked: bool = True


@dataclass(frozen=True, slots=True, kw_only=True)
class RunContext:
    """What a run works with.

    Attributes:
        executor: runs the derivations.
        elsewhere: other machines that run them instead; not those of rows whose password is known,
            which stays on this one.
        workers: how many derivations run at once.
        clock: seconds, monotonic.
        randomness: number of bytes -> random bytes.
        pause: waits so many seconds, or until a stop is asked for.
        rows_per_second: the most rows to write; 0 for no bound.
        keys: the legacy system's keys, by the names in the policy.
        keep: told of swaps before they are written; where it fails, nothing is.
        seconds_behind: tells how far replicas are behind; None to wait for none.
        most_seconds_behind: how far they may be.
    """

    executor: Executor
    workers: int
    clock: Clock
    randomness: Randomness
    pause: Callable[[float], object]
    rows_per_second: float = 0.0
    elsewhere: Elsewhere | None = None
    keys: Mapping[str, bytes] = field(default_factory=dict)
    keep: Callable[[Sequence[Swap]], None] = lambda _: None
    seconds_behind: Callable[[], float] | None = None
    most_seconds_behind: float = 0.0


@dataclass(slots=True)
class _Page:
    """Rows that were read and claimed together; the claim ends when none is left to write."""

    claim: str
    privileged: bool = False
    waiting: int = 0
    read_whole: bool = False


@dataclass(frozen=True, slots=True)
class _Due:
    """A row that is to be written, and the page that it came with."""

    account: Account
    plan: RowPlan
    page: _Page


@dataclass(frozen=True, slots=True)
class _Batch:
    """Rows that are written together, while they are being derived."""

    rows: Sequence[_Due] = ()
    tasks: Sequence[DerivationTask] = ()
    derived: Sequence["Future[list[Derived]]"] = ()


def require_formulas(store: Store, policy: StoragePolicy) -> None:
    """Refuse to touch a store whose layered values refer to a formula that the policy lacks.

    Raises:
        PolicyError: naming the fingerprint.
    """
    missing = sorted(store.origins() - {*policy.formulas_by_fingerprint, *own_formulas()})
    if missing:
        raise PolicyError(
            f"{store.table}: stored values refer to the formula {missing[0]}, which neither a "
            "cohort nor [formulas] of the policy has; put it back before anything else"
        )


def _require_possible(store: Store, policy: StoragePolicy) -> None:
    if store.layering_refused:
        raise UsageError(f"{store.table}: {store.layering_refused}")
    require_formulas(store, policy)


def layer_store(
    store: Store,
    *,
    store_policy: StorePolicy,
    policy: StoragePolicy,
    context: RunContext,
    selection: Selection = Selection(),
    should_stop: Callable[[], bool] = lambda: False,
    progress: Callable[[int], None] = lambda _: None,
) -> LayeringSummary:
    """Put the target over every legacy digest of a store.

    Args:
        store: opened for writing.
        store_policy: its formulas and options.
        policy: target, floor and limits.
        context: executor, clock and randomness.
        selection: which rows.
        should_stop: asked before each batch; the batch in hand is finished.
        progress: told the number of rows gone through.

    Raises:
        UsageError: the store cannot be layered in bulk.
        PolicyError: a formula that stored values refer to is missing.
        WriteNotConfirmed: a value would not be read as what it is; none of its batch was written.
        Interrupted: the store failed half-way; what was written is whole.
    """
    _require_possible(store, policy)
    summary = LayeringSummary(
        workers=context.workers,
        key_label=store.key_label,
        dry_run=selection.dry_run,
        lists_left=selection.lists_left,
    )
    if not selection.dry_run and policy.target.lies_over_digests:
        require_opening(policy.target, context.randomness, Bounds(limits=policy.limits))
    run = _LayeringRun(
        store, store_policy, policy, context, selection, summary, should_stop, progress
    )
    started = context.clock()
    try:
        run.all_rows()
        if selection.dry_run:
            task = task_of(RowPlan(plain=b"measured"), policy.target, context.randomness)
            each = expected_seconds(task, context.executor, context.workers, context.clock)
            summary.expected_seconds = summary.written * each
    except SourceError as error:
        if not summary.written:
            raise
        raise Interrupted(
            f"{error}; {summary.written:,} rows were written whole, run again to continue"
        ) from None
    finally:
        run.release_all()
        summary.seconds = context.clock() - started
    return summary


class _LayeringRun:
    """One pass over the store, with one batch being written while the next is derived."""

    def __init__(
        self,
        store: Store,
        store_policy: StorePolicy,
        policy: StoragePolicy,
        context: RunContext,
        selection: Selection,
        summary: LayeringSummary,
        should_stop: Callable[[], bool],
        progress: Callable[[int], None],
    ) -> None:
        self._store = store
        self._store_policy = store_policy
        self._policy = policy
        self._context = context
        self._selection = selection
        self._summary = summary
        reader = store_reader(policy, store_policy, keys=context.keys)
        self._reader = reader.seen_with(surveyed_once(lambda: nullcontext(store), reader))
        self._should_stop = should_stop
        self._progress = progress
        self._batch_rows = FIRST_BATCH_ROWS
        self._claims: set[str] = set()
        self._replicas_asked = context.clock() - _REPLICA_SECONDS
        self._started = context.clock()

    def all_rows(self) -> None:
        """Go through every row that is due, in batches."""
        waiting = _Batch()
        rows: list[_Due] = []
        for due in self._due():
            if due is None:  # before a wait for others, nobody is to wait for us
                self._write(waiting)
                self._write(self._submitted(rows))
                waiting, rows = _Batch(), []
                continue
            if self._selection.dry_run:
                self._count(due.plan)
                continue
            due.page.waiting += 1
            rows.append(due)
            if len(rows) < self._batch_rows:
                continue
            batch = self._submitted(rows)
            self._write(waiting)
            waiting, rows = batch, []
            if self._should_stop():
                self._summary.stopped = True
                break
        batch = self._submitted(rows)
        self._write(waiting)
        self._write(batch)

    def _due(self) -> Iterator[_Due | None]:
        """Give the rows that are due, those of administrators first; None before a wait."""
        passes = (True, False) if self._store_policy.columns.privileged else (None,)
        for privileged in passes:
            yield from self._due_among(privileged)

    def _due_among(self, privileged: bool | None) -> Iterator[_Due | None]:
        after: AccountKey | None = None
        elsewhere: list[AccountKey | None] = []
        while claim := self._next_claim(after, privileged):
            page = self._claimed(claim, privileged)
            rows = self._page(after, privileged)  # what was done before the claim shows
            if page is None:
                elsewhere.append(after)
            else:
                yield from self._due_of(rows, page)
            if not rows:
                break
            after = rows[-1].key
        while elsewhere:  # in work by another run; looked at again when it has let go
            after = elsewhere[0]
            claim = self._next_claim(after, privileged)
            page = self._claimed(claim, privileged) if claim else None
            if claim and page is None:
                if self._should_stop():
                    self._summary.stopped = True
                    return
                yield None
                self._context.pause(_CLAIM_SECONDS)
                continue
            if page is not None:
                yield from self._due_of(self._page(after, privileged), page)
            elsewhere.pop(0)

    def _next_claim(self, after: AccountKey | None, privileged: bool | None) -> str:
        """Name the page that comes next by its first row; empty where there is none."""
        first = self._page(after, privileged, rows=1)
        return f"{self._store.table}:{first[0].key!r}" if first else ""

    def _page(
        self, after: AccountKey | None, privileged: bool | None, rows: int = PAGE_ROWS
    ) -> list[Account]:
        return self._patiently(
            lambda: self._store.page(after=after, rows=rows, privileged=privileged)
        )

    def _claimed(self, claim: str, privileged: bool | None) -> _Page | None:
        if self._selection.dry_run:
            return _Page(claim)
        if not self._patiently(lambda: self._store.claim(claim)):
            return None
        self._claims.add(claim)
        return _Page(claim, privileged=bool(privileged))

    def _due_of(self, rows: list[Account], page: _Page) -> Iterator[_Due]:
        for account in rows:
            self._summary.considered += 1
            plan = self._plan(account)
            if plan.leave is not None:
                self._summary.leave(account.key, plan)
                self._progress(1)
            elif not self._is_selected(account, plan):
                self._summary.not_selected += 1
                self._progress(1)
            else:
                yield _Due(account, plan, page)
        page.read_whole = True
        self._release(page)

    def _plan(self, account: Account) -> RowPlan:
        """Decide about a row: by its reading, and by what is known of its cohort."""
        plan = plan_row(self._reader.read(account.row), self._policy)
        if plan.leave is not None or not plan.needs_proof:
            return plan
        key = CohortKey(self._store_policy.name, plan.cohort, plan.identity)
        self._summary.proofs.setdefault(plan.cohort, self._selection.evidence.of(key))
        proof = self._selection.evidence.judged(key, most=self._selection.most_otherwise)
        is_free = plan.cohort in self._selection.unproven or not self._selection.proofs_asked
        if proof is Proof.PROVEN or is_free:
            return plan
        self._summary.unproven[plan.cohort] = proof
        if self._selection.dry_run:
            return plan
        return replace(plan, leave=SkipReason.UNPROVEN)

    def _is_selected(self, account: Account, plan: RowPlan) -> bool:
        if self._selection.only and plan.cohort != self._selection.only:
            return False
        reference = f"{self._store.table}:{account.key!r}".encode()
        return self._selection.share >= 1 or in_share(reference, self._selection.share)

    def _release(self, page: _Page) -> None:
        if page.read_whole and page.waiting == 0 and page.claim in self._claims:
            self._store.release(page.claim)
            self._claims.discard(page.claim)

    def release_all(self) -> None:
        """Let go of the pages in work."""
        for claim in self._claims:
            self._store.release(claim)
        self._claims.clear()

    def _patiently(self, action: Callable[[], T]) -> T:
        """Do something again, a while later, where the server was away or a lock was held."""
        for seconds in _BACK_OFF_SECONDS:
            try:
                return action()
            except StoreUnavailable:
                if self._should_stop():
                    raise
                self._context.pause(seconds)
        return action()

    def _submitted(self, rows: Sequence[_Due]) -> _Batch:
        """Have rows derived, some at a time: a call for each would cost more than a cheap target.

        Rows whose password is known are apart; they stay on this machine.
        """
        context = self._context
        at_once = max(1, len(rows) // (context.workers * _CALLS_FOR_EACH_WORKER))
        ordered: list[_Due] = []
        made: list[DerivationTask] = []
        calls = []
        for known in (False, True):
            chosen = [row for row in rows if (row.plan.plain is not None) is known]
            ordered += chosen
            for start in range(0, len(chosen), at_once):
                tasks = [
                    task_of(row.plan, self._policy.target, context.randomness)
                    for row in chosen[start : start + at_once]
                ]
                made += tasks
                if context.elsewhere is not None and not known:
                    calls.append(context.elsewhere.derive(tasks))
                else:
                    calls.append(context.executor.submit(timed, tasks, context.clock))
        return _Batch(ordered, made, calls)

    def _write(self, batch: _Batch) -> None:
        if not batch.rows:
            return
        started = self._context.clock()
        swaps: list[Swap] = []
        written: list[_Due] = []
        elsewhere = self._context.elsewhere
        values = list(chain.from_iterable(results_of(call, elsewhere) for call in batch.derived))
        self._check_again(batch, [value for value, _ in values])
        for due, task, (value, seconds) in zip(batch.rows, batch.tasks, values, strict=True):
            if not value:
                self._summary.failed += 1
                self._summary.list_row(due.account.key, "not enough memory to derive")
                continue
            require_confirmed(value, task, self._reader)
            self._summary.hashing_seconds += seconds
            old = due.account.stored or b""
            swaps.append(Swap(key=due.account.key, old=old, new=value))
            written.append(due)
        self._wait_for_replicas()
        if swaps:
            self._context.keep(swaps)
        results = self._patiently(lambda: self._store.swap_many(swaps))
        for due, result in zip(written, results, strict=True):
            if result is SwapResult.DONE:
                self._count(due.plan)
            else:
                self._summary.changed_meanwhile += 1
        for due in batch.rows:
            due.page.waiting -= 1
            self._release(due.page)
        self._progress(len(batch.rows))
        if self._context.clock() - started < BATCH_SECONDS / 2:
            self._batch_rows = min(self._batch_rows * 2, BATCH_ROWS)
        self._slow_down()

    def _check_again(self, batch: _Batch, values: Sequence[str]) -> None:
        """Derive some of what came from elsewhere again, here, before anything is written."""
        elsewhere, drawn = self._context.elsewhere, self._context.randomness
        if elsewhere is None:
            return
        chosen = [
            (task, value)
            for due, task, value in zip(batch.rows, batch.tasks, values, strict=True)
            if value and task.head is not None and (due.page.privileged or _is_drawn(drawn))
        ]
        tasks, given = [task for task, _ in chosen], [value for _, value in chosen]
        require_right(tasks, given, executor=self._context.executor, name=elsewhere.name)

    def _count(self, plan: RowPlan) -> None:
        self._summary.cohorts[plan.cohort] += 1
        if self._selection.dry_run:
            self._summary.examples.setdefault(plan.cohort, plan)
        if plan.plain is not None:
            self._summary.replaced += 1
        else:
            self._summary.layered += 1
        if self._selection.dry_run:
            self._progress(1)

    def _wait_for_replicas(self) -> None:
        """Wait while a replica is too far behind; a stop ends the wait, the batch is written."""
        seconds_behind, clock = self._context.seconds_behind, self._context.clock
        started = clock()
        if seconds_behind is None or started - self._replicas_asked < _REPLICA_SECONDS:
            return
        while self._patiently(seconds_behind) > self._context.most_seconds_behind:
            if self._should_stop():
                break
            self._context.pause(_REPLICA_SECONDS)
        self._replicas_asked = clock()
        if self._replicas_asked - started > _REPLICA_SECONDS:
            self._summary.waited_seconds += self._replicas_asked - started

    def _slow_down(self) -> None:
        """Wait where rows were written quicker than asked for."""
        if self._context.rows_per_second:
            due = self._summary.written / self._context.rows_per_second
            ahead = due - (self._context.clock() - self._started)
            if ahead > 0:
                self._context.pause(ahead)


def _is_drawn(randomness: Randomness) -> bool:
    return int.from_bytes(randomness(4), "big") < CHECKED_SHARE * (1 << 32)
