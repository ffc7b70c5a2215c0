"""`rekey`: the same stored values, under a key that stands apart, another one, or none."""

from dataclasses import dataclass
from typing import TYPE_CHECKING

from lean_tumbler.cli.bulk import finished_copy, warranted_context
from lean_tumbler.cli.declared import flag
from lean_tumbler.cli.option_types import BackupOptions, BulkOptions, ReportOptions
from lean_tumbler.cli.options import chosen_store, opened_rows, read_policy
from lean_tumbler.cli.session import Session
from lean_tumbler.errors import Interrupted, UsageError

if TYPE_CHECKING:
    from lean_tumbler.core.policy import StoragePolicy, StorePolicy
    from lean_tumbler.jobs.rekey.rekeying import Rekeyed

EXAMPLE = """\
  lean-tumbler rekey --store passengers --dry-run
  lean-tumbler rekey --store passengers --backup rekey.sealed --to recovery.public.pem
  lean-tumbler rekey --store passengers --remove --no-backup

The key is the one of [target] keyed_by. No password is needed, and nothing is hashed again."""


@dataclass(frozen=True, kw_only=True)
class Options(BackupOptions, BulkOptions, ReportOptions):
    """What the command was asked for."""

    remove: bool = flag("take the key off; [target] names no keyed_by any more")


def run(options: Options, session: Session) -> int:
    """Run the command."""
    from lean_tumbler.jobs.rekey.rekey_report import draw_rekey, rekey_document

    policy = read_policy(options)
    store_policy = chosen_store(policy, options.store)
    _require_one_wish(options, policy)
    found = _rekeyed(options, session, policy, store_policy)
    session.emit(options, rekey_document(store_policy.name, found), draw=draw_rekey)
    return Interrupted.exit_code if found.stopped else 0


def _require_one_wish(options: Options, policy: "StoragePolicy") -> None:
    """Refuse what policy and options say differently.

    Raises:
        UsageError: saying what has to be changed.
    """
    named = policy.target.keyed_by
    if named and options.remove:
        raise UsageError(
            f"[target] keyed_by is “{named}”, so that logins would put the key back: take that "
            "line out first; leave the realm and [keys], which the values still need"
        )
    if not named and not options.remove:
        raise UsageError(
            "[target] names no keyed_by: name a key of [keys] there, and a realm; or take keys off "
            "with --remove"
        )


def _rekeyed(
    options: Options, session: Session, policy: "StoragePolicy", store_policy: "StorePolicy"
) -> "Rekeyed":
    from lean_tumbler.core.warrant import Step
    from lean_tumbler.jobs.rekey.rekeying import rekey_store

    with (
        opened_rows(options, store_policy) as store,
        warranted_context(
            options,
            session,
            Step.REKEY,
            store,
            (policy, store_policy),
            title="Rekeying",
        ) as (context, warrant),
    ):
        found = rekey_store(
            store,
            store_policy=store_policy,
            policy=policy,
            warrant=warrant,
            context=context,
            dry_run=options.dry_run,
        )
        if not found.stopped:
            found.copy = finished_copy(store)
    return found
