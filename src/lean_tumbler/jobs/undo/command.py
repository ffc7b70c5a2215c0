"""`undo`: puts back what a bulk step replaced, from its sealed backup."""

import argparse
from dataclasses import dataclass
from functools import partial
from pathlib import Path

from lean_tumbler.cli.bulk import add_bulk_options, finished_copy, run_context
from lean_tumbler.cli.option_types import BulkOptions, ReportOptions
from lean_tumbler.cli.options import (
    chosen_store,
    opened_rows,
    policy_path,
    read_policy,
)
from lean_tumbler.cli.session import Session
from lean_tumbler.errors import Interrupted, UsageError

EXAMPLE = """\
  lean-tumbler undo layer-1.sealed --key recovery.private.pem --dry-run
  lean-tumbler undo layer-1.sealed --key recovery.private.pem --store passengers

Only rows that still hold exactly what the bulk step wrote are put back, and only from a backup that
the key beside the policy has signed."""

_KEY_BYTES = 1 << 14


@dataclass(frozen=True, kw_only=True)
class Options(BulkOptions, ReportOptions):
    """What the command was asked for."""

    backup: Path
    key: Path
    unfinished: bool


def configure(parser: argparse.ArgumentParser) -> None:
    """Declare the options."""
    parser.add_argument("backup", type=Path, metavar="BACKUP", help="the sealed backup")
    parser.add_argument(
        "--key", type=Path, required=True, metavar="FILE", help="the private half of its key"
    )
    parser.add_argument(
        "--unfinished", action="store_true", help="take the backup of a run that was killed"
    )
    add_bulk_options(parser)


def run(options: Options, session: Session) -> int:
    """Run the command."""
    from lean_tumbler.jobs.undo.report import draw_undo, undo_document
    from lean_tumbler.jobs.undo.undoing import undo_swaps
    from lean_tumbler.stores.file_access import read_text
    from lean_tumbler.stores.sealed_backup import BackupReader
    from lean_tumbler.stores.signing_key import verifying_key

    policy = read_policy(options)
    key = read_text(options.key, limit_bytes=_KEY_BYTES)
    signed_by = verifying_key(policy_path(options))
    backup = BackupReader(options.backup, private_key=key, verifying_key=signed_by)
    try:
        store_policy = chosen_store(policy, options.store or backup.head.store)
        if (backup.head.store, backup.head.table) != (store_policy.name, store_policy.table):
            raise UsageError(
                f"{options.backup}: of the store {backup.head.store}, table {backup.head.table}"
            )
        if backup.head.expired(session.clock()):
            raise UsageError(f"{options.backup}: expired at {backup.head.expires_at}; delete it")
        with (
            opened_rows(options, store_policy) as store,
            run_context(
                options, session, store_policy, step="undo", title="Putting back", rows=0
            ) as context,
        ):
            # Opened from end to end first: nothing is put back from a file that was changed.
            undo = partial(
                undo_swaps, store, step=backup.head.step, context=context, share=options.share
            )
            undone = undo(backup.swaps(unfinished=options.unfinished), dry_run=True)
            if not options.dry_run:
                again = BackupReader(options.backup, private_key=key, verifying_key=signed_by)
                undone = undo(again.swaps(unfinished=options.unfinished), dry_run=False)
                again.close()
                if not undone.stopped:
                    undone.copy = finished_copy(store)
    finally:
        backup.close()
    session.emit(
        options,
        document=lambda: undo_document(undone),
        draw=lambda console: draw_undo(console, undone),
    )
    return Interrupted.exit_code if undone.stopped else int(undone.is_overtaken)
