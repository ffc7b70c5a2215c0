"""How a bulk step writes: sealed first, patiently, and no quicker than others can bear."""

from collections.abc import Callable, Sequence
from typing import TypeVar

from lean_tumbler.errors import Interrupted, SourceError, StoreUnavailable
from lean_tumbler.migration.bulk.context import RunContext
from lean_tumbler.stores.interface import Store, Swap, SwapResult

BATCH_ROWS = 1024
BATCH_SECONDS = 0.5  # a batch takes about this long at most: little is lost by a kill
_REPLICA_SECONDS = 1.0  # how often replicas are asked
# How long to wait before trying again, when a server is away or another program holds a lock.
_BACK_OFF_SECONDS = (0.5, 1.0, 2.0, 4.0, 8.0, 16.0)

T = TypeVar("T")


class BulkWriter:
    """Writes batches of swaps, each in one short transaction.

    Args:
        store: opened for writing.
        context: backup, pace, replicas and stop.
    """

    def __init__(self, store: Store, context: RunContext) -> None:
        self._store, self._context = store, context
        self._started = context.clock()
        self._replicas_asked = self._started - _REPLICA_SECONDS
        self.written = 0
        self.waited_seconds = 0.0

    @property
    def most_rows(self) -> int:
        """How many rows a batch may have, so that the pace is kept within a batch too."""
        rate = self._context.rows_per_second
        return max(1, min(BATCH_ROWS, int(rate * BATCH_SECONDS))) if rate else BATCH_ROWS

    def patiently(self, action: Callable[[], T]) -> T:
        """Do something again, a while later, where the server was away or a lock was held."""
        for seconds in _BACK_OFF_SECONDS:
            try:
                return action()
            except StoreUnavailable:
                if self._context.should_stop():
                    raise
                self._context.pause(seconds)
        return action()

    def write(self, swaps: Sequence[Swap]) -> list[SwapResult]:
        """Seal what is replaced, and write; results in the same order."""
        self._wait_for_replicas()
        if not swaps:
            return []
        self._context.keep(swaps)
        results = self.patiently(lambda: self._store.swap_many(swaps))
        self.written += sum(result.is_written for result in results)
        return results

    def interrupted(self, error: SourceError) -> SourceError | Interrupted:
        """Give what to raise where the store failed: another error where rows were written."""
        if not self.written:
            return error
        return Interrupted(
            f"{error}; {self.written:,} rows were written whole, run again to continue"
        )

    def _wait_for_replicas(self) -> None:
        """Wait while a replica is too far behind; a stop ends the wait, the batch is written."""
        seconds_behind, clock = self._context.seconds_behind, self._context.clock
        started = clock()
        if seconds_behind is None or started - self._replicas_asked < _REPLICA_SECONDS:
            return
        while self.patiently(seconds_behind) > self._context.most_seconds_behind:
            if self._context.should_stop():
                break
            self._context.pause(_REPLICA_SECONDS)
        self._replicas_asked = clock()
        if self._replicas_asked - started > _REPLICA_SECONDS:
            self.waited_seconds += self._replicas_asked - started

    def keep_pace(self) -> None:
        """Wait where rows were written quicker than asked for."""
        if self._context.rows_per_second:
            due = self.written / self._context.rows_per_second
            ahead = due - (self._context.clock() - self._started)
            if ahead > 0:
                self._context.pause(ahead)
