"""Putting back what a bulk step replaced: only where exactly its own values still stand."""

from collections import Counter
from collections.abc import Callable, Iterable

from msgspec import Struct, field
from msgspec.structs import replace

from lean_tumbler.core.login.sharing import in_share
from lean_tumbler.core.reading.reader import RowReader
from lean_tumbler.core.reading.readings import State
from lean_tumbler.errors import SourceError
from lean_tumbler.migration.bulk.context import RunContext
from lean_tumbler.migration.bulk.writing import BulkWriter
from lean_tumbler.stores.interface import Account, AccountKey, Store, Swap, SwapResult


class Undone(Struct, kw_only=True):
    """What was put back."""

    step: str  # the command whose writes are undone
    # keys of rows that are put back although something else stands there: a value that no password
    # opens
    damaged: list[AccountKey] = field(default_factory=list)
    considered: int = 0  # rows in the backup that were selected
    not_selected: int = 0  # the others
    stopped: bool = False  # whether a stop was asked for before the end
    results: Counter[SwapResult] = field(default_factory=Counter)  # of each, what became of it
    dry_run: bool = False  # whether nothing was written; then DONE counts what would be
    copy: str | None = None  # the file that was written; None where the store is no file

    @property
    def restored(self) -> int:
        """Rows that hold their old value again."""
        return self.results[SwapResult.DONE]

    @property
    def changed_meanwhile(self) -> int:
        """Rows that were left, because something else stands there now."""
        return self.results[SwapResult.CHANGED]

    @property
    def held_already(self) -> int:
        """Rows that held their old value: the step never wrote them, or they were put back."""
        return self.results[SwapResult.STOOD]

    @property
    def overtaken(self) -> bool:
        """Whether later writes stand in the place of all that the step wrote."""
        return (
            not self.dry_run and self.considered > 0 and not self.restored and not self.held_already
        )

    @property
    def gone(self) -> int:
        """Rows that are not there any more."""
        return self.results[SwapResult.GONE]


def undo_swaps(
    store: Store,  # opened for writing
    batches: Iterable[list[Swap]],  # swaps that put old values back
    *,
    step: str,  # the command that replaced them
    context: RunContext,  # pace, replicas and stop
    share: float,  # the part of the accounts; a larger one contains every smaller one
    dry_run: bool,  # count the rows of the backup, and write nothing
    # tells rows that are put back although something else stands there now; None for none
    damaged: Callable[[Account], bool] | None = None,
) -> Undone:
    """Put old values back, batch by batch.

    Raises:
        Interrupted: the store or the backup failed half-way; what was written is whole.
    """
    undone = Undone(step=step, dry_run=dry_run)
    writer = BulkWriter(store, context)
    try:
        for batch in batches:
            chosen = [swap for swap in batch if share >= 1 or in_share(_name(store, swap), share)]
            undone.not_selected += len(batch) - len(chosen)
            undone.considered += len(chosen)
            if damaged is not None:
                chosen = [_as_it_stands(store, swap, damaged, undone) for swap in chosen]
            if dry_run:
                continue
            for start in range(0, len(chosen), writer.most_rows):
                if context.should_stop():
                    undone.stopped = True
                    return undone
                part = chosen[start : start + writer.most_rows]
                undone.results.update(writer.write(part))
                context.progress(len(part))
                writer.keep_pace()
    except SourceError as error:
        raise writer.interrupted(error) from None
    return undone


def is_damaged(reader: RowReader, row: Account) -> bool:
    """Tell a row whose value no password opens, by any reading of the policy, and no marker is."""
    reading = reader.read(row.row)
    if reading.closed is not None and reading.closed.is_the_operators:
        return False  # without its key nobody knows
    return bool(row.stored) and not reading.ways and reading.state is not State.LOCKED


def _as_it_stands(
    store: Store, swap: Swap, damaged: Callable[[Account], bool], undone: Undone
) -> Swap:
    """Give the swap against what stands there now, where that is damaged."""
    row = store.find(str(swap.key))
    if row is None or row.stored in {None, swap.old, swap.new_bytes} or not damaged(row):
        return swap
    undone.damaged.append(swap.key)
    return replace(swap, old=row.stored or b"")


def _name(store: Store, swap: Swap) -> bytes:
    return f"{store.table}:{swap.key!r}".encode()
