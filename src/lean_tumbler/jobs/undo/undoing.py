"""Putting back what a bulk step replaced: only where exactly its own values still stand."""

from collections import Counter
from collections.abc import Callable, Iterable
from dataclasses import dataclass, field

from lean_tumbler.stores.interface import Store, Swap, SwapResult


@dataclass(slots=True, kw_only=True)
class Undone:
    """What was put back.

    Attributes:
        step: the command whose writes are undone.
        considered: rows in the backup.
        results: of each, what became of it.
        dry_run: whether nothing was written; then DONE counts what would be.
        copy: the file that was written, where the store is a file.
    """

    step: str
    considered: int = 0
    results: Counter[SwapResult] = field(default_factory=Counter)
    dry_run: bool = False
    copy: str = ""

    @property
    def restored(self) -> int:
        """Rows that hold their old value again."""
        return self.results[SwapResult.DONE]

    @property
    def changed(self) -> int:
        """Rows that were left, because something else stands there now."""
        return self.results[SwapResult.CHANGED]

    @property
    def is_overtaken(self) -> bool:
        """Whether later writes stand in the place of all that the step wrote."""
        return not self.dry_run and self.considered > 0 and not self.restored

    @property
    def gone(self) -> int:
        """Rows that are not there any more."""
        return self.results[SwapResult.GONE]


def undo_swaps(
    store: Store,
    batches: Iterable[list[Swap]],
    *,
    step: str,
    dry_run: bool,
    progress: Callable[[int], None] = lambda _: None,
) -> Undone:
    """Put old values back, batch by batch.

    Args:
        store: opened for writing.
        batches: swaps that put old values back.
        step: the command that replaced them.
        dry_run: count the rows of the backup, and write nothing.
        progress: told of each row.

    Raises:
        SourceError: the store or the backup failed; what was written is whole.
    """
    undone = Undone(step=step, dry_run=dry_run)
    for batch in batches:
        undone.considered += len(batch)
        if not dry_run:
            undone.results.update(store.swap_many(batch))
        progress(len(batch))
    return undone
