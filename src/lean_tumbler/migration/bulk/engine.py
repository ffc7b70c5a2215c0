"""The one engine of steps that write many rows: what differs is what a row gets.

The row is the state: nothing is noted anywhere else, so a run that was killed is simply run
again. New values of the next batch are made while a batch is written; none is made inside a
transaction.
"""

from collections.abc import Iterator, Sequence
from typing import Generic, Protocol, TypeVar

from msgspec import Struct

from lean_tumbler.errors import SourceError
from lean_tumbler.migration.bulk.context import RunContext
from lean_tumbler.migration.bulk.pages import Page, Pages
from lean_tumbler.migration.bulk.writing import BATCH_SECONDS, BulkWriter
from lean_tumbler.stores.interface import Account, Store, Swap, SwapResult

FIRST_BATCH_ROWS = 16  # grown until a batch takes as long as it may

Choice = TypeVar("Choice")
Made = TypeVar("Made")


class Due(Struct, Generic[Choice], frozen=True):
    """A row that is to be written, what it gets, and the page that it came with."""

    account: Account
    choice: Choice
    page: Page


class BulkStep(Protocol[Choice, Made]):
    """What one command does to rows."""

    def choose(self, rows: Sequence[Account], *, privileged: bool) -> Iterator[Choice | None]:
        """Decide about rows, in their order; None, and counted, for one that is left."""

    def make(self, rows: Sequence[Due[Choice]]) -> Made:
        """Begin to make new values."""

    def swaps(self, rows: Sequence[Due[Choice]], made: Made) -> Sequence[Swap | None]:
        """Give what is to be written, in the rows' order; None, and counted, where nothing is."""

    def count(self, choice: Choice, result: SwapResult) -> None:
        """Count a row that was to be written; in a dry run each as done."""


class BulkRun(Generic[Choice, Made]):
    """One pass over the store, with one batch being written while the next is made."""

    def __init__(
        self,
        store: Store,  # opened for writing
        step: BulkStep[Choice, Made],  # what rows get
        context: RunContext,  # backup, pace, replicas and stop
        *,
        privileged_first: bool,  # whether the store tells administrators apart
        dry_run: bool,  # count, and write nothing
    ) -> None:
        self._step, self._context, self._dry_run = step, context, dry_run
        self._writer = BulkWriter(store, context)
        self._pages = Pages(
            store,
            self._writer,
            context,
            privileged_first=privileged_first,
            claims=not dry_run,
        )
        self._batch_rows = min(FIRST_BATCH_ROWS, self._writer.most_rows)
        self._stopped = False

    @property
    def stopped(self) -> bool:
        """Whether a stop was asked for before all rows were gone through."""
        return self._stopped or self._pages.stopped

    @property
    def waited_seconds(self) -> float:
        """How long replicas were waited for."""
        return self._writer.waited_seconds

    def all_rows(self) -> None:
        """Go through every row.

        Raises:
            Interrupted: the store failed half-way; what was written is whole.
            SourceError: it failed before anything was written.
        """
        try:
            self._in_batches()
        except SourceError as error:
            raise self._writer.interrupted(error) from None
        finally:
            self._pages.release_all()

    def _in_batches(self) -> None:
        waiting: tuple[Sequence[Due[Choice]], Made] | None = None
        rows: list[Due[Choice]] = []
        for due in self._due():
            if due is None:  # before a wait for others, nobody is to wait for us
                self._write(waiting)
                self._write(self._made(rows))
                waiting, rows = None, []
                continue
            if self._dry_run:
                self._step.count(due.choice, SwapResult.DONE)
                continue
            due.page.waiting += 1
            rows.append(due)
            if len(rows) < self._batch_rows:
                continue
            made = self._made(rows)
            self._write(waiting)
            waiting, rows = made, []
            if self._context.should_stop():
                self._stopped = True
                break
        made = self._made(rows)
        self._write(waiting)
        self._write(made)

    def _due(self) -> Iterator[Due[Choice] | None]:
        for page in self._pages:
            if page is None:
                yield None
                continue
            left = 0
            choices = self._step.choose(page.rows, privileged=page.privileged)
            for account, choice in zip(page.rows, choices, strict=True):
                if choice is None:
                    left += 1
                else:
                    yield Due(account, choice, page)
            self._context.progress(len(page.rows) if self._dry_run else left)
            page.read_whole = True
            self._pages.release(page)

    def _made(self, rows: Sequence[Due[Choice]]) -> tuple[Sequence[Due[Choice]], Made] | None:
        return (rows, self._step.make(rows)) if rows else None

    def _write(self, batch: tuple[Sequence[Due[Choice]], Made] | None) -> None:
        if batch is None:
            return
        started = self._context.clock()
        rows, made = batch
        swaps = self._step.swaps(rows, made)
        results = iter(self._writer.write([swap for swap in swaps if swap is not None]))
        for due, swap in zip(rows, swaps, strict=True):
            if swap is not None:
                self._step.count(due.choice, next(results))
            due.page.waiting -= 1
            self._pages.release(due.page)
        self._context.progress(len(rows))
        if self._context.clock() - started < BATCH_SECONDS / 2:
            self._batch_rows = min(self._batch_rows * 2, self._writer.most_rows)
        self._writer.keep_pace()
