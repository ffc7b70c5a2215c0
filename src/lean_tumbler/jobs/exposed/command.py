"""`exposed`: who must be reset after a copy of the table has left the house."""

from dataclasses import dataclass
from datetime import date
from functools import partial
from pathlib import Path

from lean_tumbler.cli.declared import option
from lean_tumbler.cli.option_types import AttackerOptions, ReportOptions, StoreOptions
from lean_tumbler.cli.options import (
    chosen_store,
    policy_path,
    read_policy,
)
from lean_tumbler.cli.session import Session
from lean_tumbler.errors import UsageError

EXAMPLE = """\
  lean-tumbler exposed --since 2026-05-01 --store passengers
  lean-tumbler exposed --since 2026-05-01 --copy dump.sql --list reset.csv
  lean-tumbler lock-dormant --accounts reset.csv --backup lock.sealed --to recovery.public.pem

An upgrade does not change a password: who was layered or upgraded since that day is exposed by
what lay there then."""


@dataclass(frozen=True, kw_only=True)
class Options(AttackerOptions, StoreOptions, ReportOptions):
    """What the command was asked for."""

    since: date = option("DATE", "the day on which the copy was taken")
    copy: str | None = option(
        "SOURCE",
        "the copy itself, a file or a database: without it, today's values stand for it, and "
        "what was written since counts as the worst that it can have been",
    )
    list: Path | None = option(
        "FILE", "write the accounts that must be reset today, as CSV, administrators first"
    )


def run(options: Options, session: Session) -> int:
    """Run the command."""
    from lean_tumbler.jobs.exposed.exposed_report import draw_exposed, exposed_document, reset_list
    from lean_tumbler.jobs.exposed.exposing import judged
    from lean_tumbler.stores.file_access import write_text
    from lean_tumbler.stores.scans.leaked import leaked
    from lean_tumbler.stores.scans.profiling import AuditContext
    from lean_tumbler.stores.tuning_files import read_attacker

    if options.since > session.today():
        raise UsageError("--since: that day has not come")
    policy = read_policy(options)
    store = chosen_store(policy, options.store)
    attacker = read_attacker(options.attacker)
    found = judged(
        store.name,
        leaked(
            store,
            base=policy_path(options).parent,
            context=AuditContext(floor=policy.floor, policy=policy, attacker=attacker),
            since=options.since,
            copy=options.copy,
        ),
        since=options.since,
        attacker=attacker,
    )
    if options.list:
        write_text(options.list, "".join(reset_list(found)))
    session.emit(
        options,
        exposed_document(found),
        draw=partial(draw_exposed, listed=str(options.list or "")),
    )
    return 0
