"""`lock-dormant`: closes the accounts that never came back, reversibly."""

import argparse
import os
import time
from datetime import date, timedelta
from pathlib import Path
from typing import TYPE_CHECKING

from lean_tumbler.cli.bulk import (
    add_backup_options,
    add_pace_options,
    add_share_option,
    sealed_backup,
    stop_signals,
    to_stop,
)
from lean_tumbler.cli.options import (
    add_dry_run_option,
    add_store_options,
    chosen_store,
    day,
    opened_store,
    policy_path,
    positive_integer,
    read_policy,
)
from lean_tumbler.cli.session import Session
from lean_tumbler.errors import Interrupted, UsageError

if TYPE_CHECKING:
    from collections.abc import Callable
    from threading import Event

    from lean_tumbler.core.policy import StorePolicy

EXAMPLE = """\
  lean-tumbler lock-dormant --away 180 --dry-run --list reset.csv
  lean-tumbler lock-dormant --before 2026-06-01 --share 1% \\
      --backup lock-1.sealed --to recovery.public.pem --list reset-1.csv
  lean-tumbler undo lock-1.sealed --key recovery.private.pem"""


def configure(parser: argparse.ArgumentParser) -> None:
    """Declare the arguments."""
    when = parser.add_mutually_exclusive_group(required=True)
    when.add_argument(
        "--before", type=day, metavar="DATE", help="lock who was last seen before that day"
    )
    when.add_argument(
        "--away", type=positive_integer, metavar="DAYS", help="lock who was not seen for so long"
    )
    parser.add_argument(
        "--logins",
        metavar="FILE|TABLE",
        help="a log of logins (who, when) that counts beside the store's own dates",
    )
    parser.add_argument(
        "--undated",
        action="store_true",
        help="take accounts without a date for never seen; without it they stay as they are",
    )
    parser.add_argument(
        "--list", type=Path, metavar="FILE", help="write the accounts for the reset mail, as CSV"
    )
    add_share_option(parser)
    add_pace_options(parser)
    add_backup_options(parser)
    add_dry_run_option(parser)
    add_store_options(parser)


def run(arguments: argparse.Namespace, session: Session) -> int:
    """Run the command."""
    from lean_tumbler.jobs.lock_dormant.locking import Choice, Hands, lock_dormant
    from lean_tumbler.jobs.lock_dormant.report import draw_locked, locked_document, reset_list
    from lean_tumbler.stores.files import write_text

    policy = read_policy(arguments)
    store_policy = chosen_store(policy, arguments.store)
    if not arguments.dry_run and arguments.backup is None:
        raise UsageError(
            "--backup and --to are needed: what is locked must be possible to open again"
        )
    choice = Choice(
        before=arguments.before or session.today() - timedelta(days=arguments.away),
        undated=arguments.undated,
        share=arguments.share,
        typed=_typed(arguments, store_policy, session.today()),
        dry_run=arguments.dry_run,
    )
    started = session.clock()
    with (
        opened_store(
            arguments, store_policy, writable=not arguments.dry_run, ready_on=session.today()
        ) as store,
        stop_signals() as stopping,
        sealed_backup(arguments, store_policy, started, step="lock-dormant") as keep,
        session.progress("Locking", total=store.count(), unit="rows") as advance,
    ):
        locked = lock_dormant(
            store,
            store_policy=store_policy,
            policy=policy,
            choice=choice,
            hands=Hands(
                today=session.today(),
                randomness=os.urandom,
                keep=keep,
                wait=_pace(arguments.rate, stopping),
                should_stop=to_stop(arguments, session, stopping),
                progress=advance,
            ),
        )
    if arguments.list:
        write_text(arguments.list, "".join(reset_list(locked)))
    session.emit(
        arguments,
        document=lambda: locked_document(locked),
        draw=lambda console: draw_locked(console, locked, listed=str(arguments.list or "")),
    )
    return Interrupted.exit_code if locked.stopped else 0


def _typed(arguments: argparse.Namespace, store: "StorePolicy", today: date) -> dict[str, date]:
    """Give when each login of the log was last seen."""
    from lean_tumbler.stores.scans.login_log import logins_of, read_log

    if arguments.logins is None:
        return {}
    base = policy_path(arguments).parent
    accounts = logins_of(store, base=base)
    return read_log(arguments.logins, store, base=base, today=today, accounts=accounts).last_days()


def _pace(rows_per_second: float, stopping: "Event") -> "Callable[[int], None]":
    """Wait where rows were written quicker than asked for."""
    started = time.monotonic()

    def wait(rows: int) -> None:
        if rows_per_second:
            stopping.wait(max(0.0, rows / rows_per_second - (time.monotonic() - started)))

    return wait
