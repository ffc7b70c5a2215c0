"""Bulk layering: what each row gets, and derivations on an executor while others are written."""

from collections import Counter
from collections.abc import Iterator, Sequence
from concurrent.futures import Executor, Future
from contextlib import nullcontext
from importlib.util import find_spec
from itertools import chain
from typing import TYPE_CHECKING

from msgspec import Struct
from msgspec.structs import replace

from lean_tumbler.core.policy import StoragePolicy, StorePolicy
from lean_tumbler.core.reading.layers import with_alternatives
from lean_tumbler.core.reading.of_stores import store_reader
from lean_tumbler.core.reading.ways import Bounds
from lean_tumbler.core.reasons import Reason
from lean_tumbler.core.row_plans import (
    DerivationTask,
    RowPlan,
    holds_for_alike,
    moved,
    plan_row,
    require_confirmed,
    require_opening,
    task_of,
)
from lean_tumbler.core.schemes.catalogue import own_formulas
from lean_tumbler.core.warrant import Warrant
from lean_tumbler.errors import PolicyError, UsageError
from lean_tumbler.migration.bulk.context import Randomness, RunContext
from lean_tumbler.migration.bulk.deriving import (
    CHECKED_SHARE,
    Derived,
    RemoteDerivation,
    expected_seconds,
    require_right,
    results_of,
    timed,
)
from lean_tumbler.migration.bulk.engine import BulkRun, Due
from lean_tumbler.migration.bulk.key_checks import require_keys
from lean_tumbler.migration.bulk.pages import all_pages
from lean_tumbler.migration.bulk.strata import CohortProof, CohortRows
from lean_tumbler.migration.bulk.summary import LayeringSummary
from lean_tumbler.stores.interface import Account, LoginStore, Store, Swap, SwapResult, as_stored
from lean_tumbler.stores.scans.surveying import surveyed_once

if TYPE_CHECKING:
    from lean_tumbler.core.reading.evidence import CohortKey

_CALLS_FOR_EACH_WORKER = 8  # of a batch's; more even out workers of different speed


class Selection(Struct, frozen=True, kw_only=True):
    """Which rows a run takes of those that it may write, and whether it writes."""

    only: str = ""  # one cohort, as `RowPlan.cohort` names it; empty for all
    dry_run: bool = False  # count what would be done, and derive and write nothing
    lists_left: bool = False  # whether all rows that are left are to be named


_ALL_ROWS = Selection()


class Workers(Struct, frozen=True):
    """Who derives."""

    executor: Executor  # runs the derivations
    count: int  # how many run at once
    # other machines that run them instead; not those of rows whose password is known, which stays
    # on this one
    elsewhere: RemoteDerivation | None = None


def require_formulas(store: LoginStore, policy: StoragePolicy) -> None:
    """Refuse to touch a store whose layered values refer to a formula that the policy lacks.

    Raises:
        PolicyError: naming the fingerprint.
    """
    refers_to = store.origins() if isinstance(store, Store) else set()
    known = with_alternatives({**own_formulas(), **policy.formulas_by_fingerprint})
    missing = sorted(refers_to - known.keys())
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
    store: Store,  # opened for writing
    *,
    store_policy: StorePolicy,  # its formulas and options
    policy: StoragePolicy,  # target, floor and limits
    warrant: Warrant,  # says which rows may be written
    context: RunContext,  # backup, pace and stop
    workers: Workers,  # who derives
    selection: Selection = _ALL_ROWS,  # which rows
) -> LayeringSummary:
    """Put the target over every legacy digest of a store.

    All rows are counted first, because what proves a cohort depends on how many rows it has.

    Raises:
        UsageError: the store cannot be layered in bulk.
        NotReady: nothing may be written to it now.
        PolicyError: a formula that stored values refer to is missing.
        WriteNotConfirmed: a value would not be read as what it is; none of its batch was written.
        Interrupted: the store failed half-way; what was written is whole.
    """
    _require_possible(store, policy)
    require_keys(store, policy)
    if not selection.dry_run:
        warrant.require()
        if policy.target.over_digests is not None:
            require_opening(policy.target, context.randomness, Bounds(limits=policy.limits))
    layering = _Layering(store, store_policy, policy, context, workers, selection, warrant)
    layering.count_cohorts(store)
    run = BulkRun(
        store,
        layering,
        context,
        privileged_first=bool(store_policy.columns.privileged),
        dry_run=selection.dry_run,
    )
    summary, started = layering.summary, context.clock()
    try:
        run.all_rows()
        if selection.dry_run:
            task = task_of(RowPlan(plain=b"measured"), policy.target, context.randomness)
            each = expected_seconds(task, workers.executor, workers.count, context.clock)
            summary.expected = each.times(summary.written)
    finally:
        summary.stopped, summary.waited_seconds = run.stopped, run.waited_seconds
        summary.seconds = context.clock() - started
    return summary


class _Derivations(Struct, frozen=True):
    """What is being derived, in an order of its own, with the rows that it is for."""

    rows: Sequence[Due[RowPlan]] = ()
    tasks: Sequence[DerivationTask] = ()
    calls: Sequence["Future[list[Derived]]"] = ()


class _Layering:
    """What each row gets: the slow hash over its digest, or over its password."""

    def __init__(
        self,
        store: Store,
        store_policy: StorePolicy,
        policy: StoragePolicy,
        context: RunContext,
        workers: Workers,
        selection: Selection,
        warrant: Warrant,
    ) -> None:
        self._policy, self._warrant = policy, warrant
        self._context, self._workers, self._selection = context, workers, selection
        self._only_counts = selection.dry_run
        reader = store_reader(policy, store_policy)
        self._reader = reader.seen_with(surveyed_once(lambda: nullcontext(store), reader))
        self.summary = LayeringSummary(
            workers=workers.count,
            key_label=store.key_label,
            dry_run=selection.dry_run,
            lists_left=selection.lists_left,
            hindrances=warrant.hindrances(),
        )

    def count_cohorts(self, store: Store) -> None:
        """Count the rows of each cohort that needs proof, and judge the proof by that."""
        if not self._warrant.proof_asked:
            return
        self._only_counts = True
        rows_of: Counter[CohortKey] = Counter()
        beside: dict[CohortKey, CohortRows] = {}
        covered = 0
        for rows in all_pages(store, self._context):
            for account, plan in zip(rows, self._plans(rows), strict=True):
                facts = account.facts
                covered += self._warrant.coverage.covers(facts.key, facts.created)
                if plan.leave is None and plan.needs_proof:
                    key = self._warrant.key_of(plan)
                    rows_of[key] += 1
                    beside.setdefault(key, CohortRows()).add(facts)
        self._only_counts = self._selection.dry_run
        years_of = {key: rows.years for key, rows in beside.items()}
        self._warrant = self._warrant.counted(rows_of, years_of, covered)
        self.summary.lapsed = self._warrant.evidence.store(self._warrant.store.name).lapsed
        self.summary.proofs = {
            key: CohortProof(
                counts=self._warrant.evidence.of(key),
                rows=number,
                bound=self._warrant.evidence.of(key).bound_among(number),
                missing=None if key.cohort in self._warrant.unproven else self._warrant.judged(key),
                untouched=beside[key].untouched_by(self._warrant.evidence.of(key)),
                most=self._warrant.most_otherwise,
                beside=beside[key],
            )
            for key, number in rows_of.most_common()
        }

    def choose(self, rows: Sequence[Account], *, privileged: bool) -> Iterator[RowPlan | None]:
        """Decide about rows, by their readings and by what the warrant says of each."""
        del privileged
        for account, plan in zip(rows, self._plans(rows), strict=True):
            self.summary.considered += 1
            self.summary.under[plan.keyed_by] += 1
            leave = plan.leave or self._warrant.of_plan(plan, account.facts)
            if leave is None and self._selection.only not in {"", plan.cohort}:
                leave = Reason.OUTSIDE_SHARE
            if leave is Reason.OUTSIDE_SHARE:
                self.summary.not_selected += 1
            elif leave is not None:
                self.summary.leave(account.key, leave, plan)
            yield plan if leave is None else None

    def _plans(self, rows: Sequence[Account]) -> Iterator[RowPlan]:
        """Plan rows; of those that are alike and only counted, one."""
        if not self._only_counts or not self._reader.reads_by_shape or find_spec("polars") is None:
            yield from map(self._plan, rows)
            return
        from lean_tumbler.core.audit.alike_rows import alike  # noqa: PLC0415 - an extra

        plans: dict[tuple[int, bool], RowPlan] = {}
        groups = alike([account.row for account in rows], self._reader)
        for account, group in zip(rows, groups, strict=True):
            alike_too = None if group is None else (group, account.is_left_behind)
            plan = None if alike_too is None else plans.get(alike_too)
            if plan is None:
                plan = self._plan(account)
                if alike_too is not None and holds_for_alike(plan):
                    plans[alike_too] = plan
            yield plan

    def _plan(self, account: Account) -> RowPlan:
        reading = self._reader.read(account.row)
        plan = plan_row(reading, self._policy)
        if reading.keyed is not None:
            plan = replace(plan, keyed_by=reading.keyed.name)
        return moved(plan) if account.is_left_behind and account.stored else plan

    def make(self, rows: Sequence[Due[RowPlan]]) -> _Derivations:
        """Have rows derived, some at a time: a call for each would cost more than a cheap target.

        Rows whose password is known are apart; they stay on this machine.
        """
        workers, randomness = self._workers, self._context.randomness
        at_once = max(1, len(rows) // (workers.count * _CALLS_FOR_EACH_WORKER))
        ordered: list[Due[RowPlan]] = []
        made: list[DerivationTask] = []
        calls = []
        for known in (False, True):
            chosen = [
                row
                for row in rows
                if not row.choice.moves and (row.choice.plain is not None) is known
            ]
            ordered += chosen
            for start in range(0, len(chosen), at_once):
                tasks = [
                    task_of(row.choice, self._policy.target, randomness)
                    for row in chosen[start : start + at_once]
                ]
                made += tasks
                if workers.elsewhere is not None and not known:
                    calls.append(workers.elsewhere.derive(tasks))
                else:
                    calls.append(workers.executor.submit(timed, tasks, self._context.clock))
        return _Derivations(ordered, made, calls)

    def swaps(self, rows: Sequence[Due[RowPlan]], made: _Derivations) -> Sequence[Swap | None]:
        """Wait for what was derived, and hold it against what it was made from."""
        elsewhere = self._workers.elsewhere
        values = list(chain.from_iterable(results_of(call, elsewhere) for call in made.calls))
        self._check_again(made, [value for value, _ in values])
        swaps: dict[int, Swap | None] = {}
        for due, task, (value, seconds) in zip(made.rows, made.tasks, values, strict=True):
            if not value:
                self.summary.failed += 1
                self.summary.list_row(due.account.key, "not enough memory to derive")
                swaps[id(due)] = None
                continue
            require_confirmed(value, task, self._reader)
            value = self._policy.keyring.sealed(  # noqa: PLW2901 - what is written of it
                value, account=due.account.bound_name, randomness=self._context.randomness
            )
            self.summary.hashing_seconds += seconds
            if not self._warrant.has_room(len(value)):
                self.summary.leave(due.account.key, Reason.TOO_NARROW, due.choice)
                swaps[id(due)] = None
                continue
            swaps[id(due)] = due.account.swap(value)
        return [
            due.account.swap(as_stored(due.account.stored or b""))
            if due.choice.moves
            else swaps[id(due)]
            for due in rows
        ]

    def _check_again(self, made: _Derivations, values: Sequence[str]) -> None:
        """Derive some of what came from elsewhere again, here, before anything is written."""
        elsewhere, drawn = self._workers.elsewhere, self._context.randomness
        if elsewhere is None:
            return
        chosen = [
            (task, value)
            for due, task, value in zip(made.rows, made.tasks, values, strict=True)
            if value and task.head is not None and (due.page.privileged or _is_drawn(drawn))
        ]
        tasks, given = [task for task, _ in chosen], [value for _, value in chosen]
        require_right(tasks, given, executor=self._workers.executor, name=elsewhere.name)

    def count(self, choice: RowPlan, result: SwapResult) -> None:
        """Count a row that was to be written."""
        if not result.is_written:
            self.summary.changed_meanwhile += 1
            return
        self.summary.cohorts[choice.cohort] += 1
        if self._selection.dry_run:
            self.summary.examples.setdefault(choice.cohort, choice)
        if choice.moves:
            self.summary.moved += 1
        elif choice.plain is not None:
            self.summary.replaced += 1
        else:
            self.summary.layered += 1


def _is_drawn(randomness: Randomness) -> bool:
    return int.from_bytes(randomness(4), "big") < CHECKED_SHARE * (1 << 32)
