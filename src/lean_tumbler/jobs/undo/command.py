"""`undo`: puts back what a bulk step replaced, from its sealed backup."""

from contextlib import closing
from dataclasses import dataclass
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING

from lean_tumbler.cli.backups import backup_opener
from lean_tumbler.cli.bulk import finished_copy, run_context
from lean_tumbler.cli.declared import argument, flag, option
from lean_tumbler.cli.option_types import BulkOptions, ReportOptions
from lean_tumbler.cli.options import (
    chosen_store,
    gateway_of,
    opened_rows,
    read_policy,
)
from lean_tumbler.cli.session import Session
from lean_tumbler.errors import Interrupted, UsageError

if TYPE_CHECKING:
    from collections.abc import Callable

    from lean_tumbler.core.policy import StorePolicy
    from lean_tumbler.jobs.undo.undoing import Undone
    from lean_tumbler.stores.interface import Account
    from lean_tumbler.stores.sealed_backup import BackupReader, SealedHead

EXAMPLE = """\
  lean-tumbler undo layer-1.sealed --key recovery.private.pem --dry-run
  lean-tumbler undo layer-1.sealed --key recovery.private.pem --store passengers

Only rows that still hold exactly what the bulk step wrote are put back, and only from a backup that
the key beside the policy has signed. --even-if-changed also takes rows whose value was damaged."""


@dataclass(frozen=True, kw_only=True)
class Options(BulkOptions, ReportOptions):
    """What the command was asked for."""

    backup: Path = argument("BACKUP", "the sealed backup")
    key: Path = option("FILE", "the private half of its key")
    unfinished: bool = flag("accept the backup of a run that was killed")
    even_if_changed: bool = flag(
        "also put back rows that somebody else has changed since and that no password opens by "
        "the policy; they are listed first, with --dry-run alone"
    )


def run(options: Options, session: Session) -> int:
    """Run the command."""
    from lean_tumbler.jobs.undo.undo_report import UndoDocument, draw_undo
    from lean_tumbler.jobs.undo.undoing import is_damaged

    policy = read_policy(options)
    reader = partial(backup_opener(options, options.key), options.backup)
    with closing(reader()) as backup:
        store_policy = chosen_store(policy, options.store or backup.head.store)
        _require_fitting(options, session, store_policy, backup.head)
        damaged = None
        if options.even_if_changed:
            gateway = gateway_of(options, policy)
            damaged = partial(is_damaged, gateway.reader(store_policy.name))
        undone = _undone(options, session, store_policy, backup, reader, damaged)
    session.emit(options, UndoDocument.of(undone), draw=draw_undo)
    return Interrupted.exit_code if undone.stopped else int(undone.overtaken)


def _require_fitting(
    options: Options, session: Session, store_policy: "StorePolicy", head: "SealedHead"
) -> None:
    if (head.store, head.table) != (store_policy.name, store_policy.table):
        raise UsageError(f"{options.backup}: of the store {head.store}, table {head.table}")
    if head.expired(session.clock()):
        session.message(
            f"{options.backup}: it was to be deleted by {head.expires_at}; it is still used"
        )


def _undone(
    options: Options,
    session: Session,
    store_policy: "StorePolicy",
    backup: "BackupReader",
    reader: "Callable[[], BackupReader]",
    damaged: "Callable[[Account], bool] | None",
) -> "Undone":
    """Put back, after the file was opened from end to end: nothing comes from a changed one."""
    from lean_tumbler.jobs.undo.undoing import undo_swaps

    with (
        opened_rows(options, store_policy) as store,
        run_context(
            options, session, store_policy, step="undo", title="Putting back", rows=0
        ) as context,
    ):
        undo = partial(
            undo_swaps,
            store,
            step=backup.head.step,
            context=context,
            share=options.share,
            damaged=damaged,
        )
        undone = undo(backup.swaps(unfinished=options.unfinished), dry_run=True)
        if not options.dry_run:
            with closing(reader()) as again:
                undone = undo(again.swaps(unfinished=options.unfinished), dry_run=False)
            if not undone.stopped:
                undone.copy = finished_copy(store)
    return undone
