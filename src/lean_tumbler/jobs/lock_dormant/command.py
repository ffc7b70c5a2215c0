"""`lock-dormant`: closes the accounts that never came back, reversibly."""

import csv
from dataclasses import dataclass
from datetime import date, timedelta
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING

from lean_tumbler.cli.bulk import finished_copy, warranted_context
from lean_tumbler.cli.declared import flag, option
from lean_tumbler.cli.option_types import BackupOptions, BulkOptions, ReportOptions
from lean_tumbler.cli.options import (
    chosen_store,
    opened_rows,
    policy_path,
    read_policy,
)
from lean_tumbler.cli.session import Session
from lean_tumbler.cli.typed import days
from lean_tumbler.errors import Interrupted, UsageError

if TYPE_CHECKING:
    from collections.abc import Sequence

    from lean_tumbler.core.policy import StoragePolicy, StorePolicy
    from lean_tumbler.jobs.lock_dormant.locking import Locked

_LIST_BYTES = 1 << 28
EXAMPLE = """\
  lean-tumbler lock-dormant --inactive-days 180 --dry-run --list reset.csv
  lean-tumbler lock-dormant --before 2026-06-01 --share 1% \\
      --backup lock-1.sealed --to recovery.public.pem --list reset-1.csv
  lean-tumbler lock-dormant --accounts reset.csv --backup lock.sealed --to recovery.public.pem
  lean-tumbler undo lock-1.sealed --key recovery.private.pem"""


@dataclass(frozen=True, kw_only=True)
class Options(BackupOptions, BulkOptions, ReportOptions):
    """What the command was asked for."""

    before: date | None = option(
        "DATE", "lock accounts that were last seen before that day", one_of="when!"
    )
    accounts: Path | None = option(
        "FILE",
        "lock the accounts on this list, whenever they were last seen: a CSV with a column "
        "“account”, as `exposed --list` writes it",
        one_of="when!",
    )
    inactive_days: int | None = option(
        "DAYS", "lock accounts that were not seen for so long", read=days, one_of="when!"
    )
    logins: str | None = option(
        "FILE|TABLE", "a log of logins (who, when) that counts beside the store's own dates"
    )
    include_never_seen: bool = flag(
        "count accounts without a date as never seen; without it they stay as they are"
    )
    list: Path | None = option("FILE", "write the accounts for the reset mail, as CSV")


def run(options: Options, session: Session) -> int:
    """Run the command."""
    from lean_tumbler.jobs.lock_dormant.lock_dormant_report import draw_locked, locked_document

    policy = read_policy(options)
    store_policy = chosen_store(policy, options.store)
    locked = _locked(options, session, policy, store_policy)
    session.emit(
        options,
        locked_document(locked),
        draw=partial(draw_locked, listed=str(options.list or "")),
    )
    return Interrupted.exit_code if locked.stopped else 0


def _locked(
    options: Options, session: Session, policy: "StoragePolicy", store_policy: "StorePolicy"
) -> "Locked":
    from lean_tumbler.core.warrant import Step
    from lean_tumbler.jobs.lock_dormant.locking import LockChoice, lock_dormant
    from lean_tumbler.stores.known_accounts import listed_accounts

    choice = LockChoice(
        before=_before(options, session.today()),
        accounts=None if options.accounts is None else listed_accounts(options.accounts),
        undated=options.include_never_seen,
        typed=_typed(options, store_policy, session.today()),
        dry_run=options.dry_run,
    )
    earlier = _listed_before(options)
    with (
        opened_rows(options, store_policy) as store,
        warranted_context(
            options,
            session,
            Step.LOCK,
            store,
            (policy, store_policy),
            title="Locking",
        ) as (context, warrant),
    ):
        locked = lock_dormant(
            store,
            store_policy=store_policy,
            policy=policy,
            choice=choice,
            warrant=warrant,
            context=context,
            tell=lambda found: _write_list(options, earlier, found),
        )
        if not locked.stopped:
            _write_list(options, earlier, locked)
            locked.copy = finished_copy(store)
    return locked


def _listed_before(options: Options) -> list[str]:
    """Give the lines of the list of a run that this one continues.

    Raises:
        UsageError: the list is there, and no backup says that a run is continued.
    """
    from lean_tumbler.stores.file_access import read_text

    if options.list is None or not options.list.exists():
        return []
    is_continued = options.backup is not None and options.backup.exists()
    if not is_continued and not options.dry_run:
        raise UsageError(f"{options.list} is there already; name a new file with --list")
    return read_text(options.list, limit_bytes=_LIST_BYTES).splitlines() if is_continued else []


def _write_list(options: Options, earlier: "Sequence[str]", locked: "Locked") -> None:
    """Write the list: of all accounts that the step has locked, or is about to."""
    from lean_tumbler.jobs.lock_dormant.lock_dormant_report import reset_list
    from lean_tumbler.stores.file_access import write_text

    if options.list is not None:
        still = [f"{line}\n" for line in earlier if _key_of(line) in locked.locked_already]
        lines = dict.fromkeys([*reset_list(locked), *still])
        write_text(options.list, "".join(lines))


def _key_of(line: str) -> str:
    """Give the key of an account on a list."""
    return next(csv.reader([line]), [""])[0]


def _before(options: Options, today: date) -> date | None:
    """Give the day before which accounts must have been seen last; None where a list says which."""
    if options.inactive_days is not None:
        return today - timedelta(days=options.inactive_days)
    return options.before


def _typed(options: Options, store: "StorePolicy", today: date) -> dict[str, date]:
    """Give when each login of the log was last seen."""
    from lean_tumbler.stores.scans.login_log import logins_of, read_log

    if options.logins is None:
        return {}
    base = policy_path(options).parent
    accounts = logins_of(store, base=base)
    return read_log(options.logins, store, base=base, today=today, accounts=accounts).last_days()
