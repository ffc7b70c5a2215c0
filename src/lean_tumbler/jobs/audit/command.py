"""`audit`: what is stored, who is at risk, and what to do first."""

import os
import time
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from datetime import UTC, date
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING

from lean_tumbler.cli.declared import argument, flag, option
from lean_tumbler.cli.histories import begin_history
from lean_tumbler.cli.option_types import (
    FORMATS,
    SEVERITIES,
    AttackerOptions,
    PolicyOptions,
    ReportOptions,
    is_as_severe,
)
from lean_tumbler.cli.options import (
    policy_path,
    read_policy,
)
from lean_tumbler.cli.session import Session
from lean_tumbler.cli.typed import seconds
from lean_tumbler.errors import UsageError

if TYPE_CHECKING:
    from collections.abc import Callable
    from concurrent.futures import Executor

    from lean_tumbler.core.policy import StoragePolicy
    from lean_tumbler.stores.scans.auditing import Audit
    from lean_tumbler.stores.scans.profiling import AuditContext

EXAMPLE = """\
  lean-tumbler audit harbour.db
  lean-tumbler audit harbour.db --table passengers --column pw --salt-column pw_salt
  lean-tumbler audit old-portal.sql.gz --format sarif --output findings.sarif
  lean-tumbler audit passengers --policy tumbler.toml --fail-on high"""

_COLUMN_OPTIONS = ("login", "salt", "privileged")


@dataclass(frozen=True, kw_only=True)
class Options(AttackerOptions, PolicyOptions, ReportOptions):
    """What the command was asked for."""

    source: str = argument(
        "SOURCE",
        "a file (SQLite, CSV, JSON, Parquet, LDIF, shadow form, SQL dump; .gz .bz2 .xz .zst), a "
        "URL, or a store of the policy",
    )
    table: str | None = option("NAME", "read this table alone")
    column: str | None = option("NAME", "the column of the stored values")
    login_column: str | None = option("NAME", "the login column")
    salt_column: str | None = option("NAME", "the salt column")
    privileged_column: str | None = option("NAME", "the privileged column")
    privileged_values: str | None = option(
        "TEXT,TEXT",
        "the values that mark an administrator in that column; without it, anything but no",
    )
    words: str | None = option(
        "WORD,WORD", "your organisation's own words, for the list of likely passwords"
    )
    blocklist: Path | None = option("FILE", "a file of further likely passwords, one on each line")
    budget: float = option(
        "SECONDS",
        "try likely passwords on salted rows for so long (default: on unsalted ones alone)",
        read=seconds,
        default=0.0,
    )
    slow_schemes: bool = flag("within the budget, try slow schemes too")
    fail_on: str | None = option(
        "SEVERITY|CODE", "exit with 1 if there is such a finding, or a worse one"
    )
    all_accounts: bool = flag(
        "with --format csv: list every account, also those that no finding concerns"
    )
    format: str = option(
        None,
        "how to write the result",
        choices=(*FORMATS, "csv", "html", "sarif"),
        default=FORMATS[0],
    )


def run(options: Options, session: Session) -> int:
    """Run the command."""
    from lean_tumbler.core.audit.rules import RULES
    from lean_tumbler.jobs.audit.audit_document import audit_document
    from lean_tumbler.jobs.audit.audit_report import draw_audit
    from lean_tumbler.jobs.audit.tables import all_accounts_csv, audit_csv, audit_sarif
    from lean_tumbler.reports.documents import as_json

    fail_on = options.fail_on
    if fail_on is not None and fail_on not in (*SEVERITIES, *RULES):
        known = ", ".join((*SEVERITIES, *RULES))
        raise UsageError(f"--fail-on: no severity or finding of that name; known: {known}")
    if options.all_accounts and options.format != "csv":
        raise UsageError("--all-accounts goes with --format csv")
    policy = read_policy(options, required=False)
    with ThreadPoolExecutor(os.cpu_count() or 1) as executor:
        audit = _audit(options, policy, executor, session)
        session.emit(
            options,
            audit_document(audit),
            draw=lambda console, _: draw_audit(console, audit),
            others={
                "csv": lambda: (all_accounts_csv if options.all_accounts else audit_csv)(audit),
                "html": lambda: [_page(audit, session)],
                "sarif": lambda: [as_json(audit_sarif(audit))],
            },
        )
        if audit.by_policy:
            _begin_history(options, session, audit)
    return int(fail_on is not None and _fails(audit, fail_on))


def _begin_history(options: Options, session: Session, audit: "Audit") -> None:
    from lean_tumbler.stores.scans.migration_progress import store_count

    for column in audit.columns:
        count = partial(store_count, column.profile, column.table, None)
        begin_history(options, session, options.source, count)


def _page(audit: "Audit", session: Session) -> str:
    from lean_tumbler.jobs.audit.page import audit_page

    return audit_page(audit, session.clock().astimezone(UTC))


def _audit(
    options: Options,
    policy: "StoragePolicy",
    executor: "Executor",
    session: Session,
) -> "Audit":
    from lean_tumbler.core.policy import Columns
    from lean_tumbler.stores.scans import auditing

    named = {role: getattr(options, f"{role}_column") for role in _COLUMN_OPTIONS}
    values = tuple(filter(None, (options.privileged_values or "").split(",")))
    if values and not options.privileged_column:
        raise UsageError("--privileged-values goes with --privileged-column")
    with session.progress("Reading", total=0, unit="rows") as advance:
        context = _context(options, policy, executor, advance, session.today())
        if options.source in policy.stores:
            if options.table or options.column or any(named.values()):
                raise UsageError(
                    f"the policy names the columns of {options.source}; "
                    "--table and --…column go with a file or URL"
                )
            store = policy.stores[options.source]
            return auditing.audit_policy_store(
                store, base=policy_path(options).parent, context=context
            )
        return auditing.audit_source(
            options.source,
            base=Path(),
            context=context,
            table=options.table,
            columns=Columns(stored=options.column, privileged_values=values, **named),
        )


def _context(
    options: Options,
    policy: "StoragePolicy",
    executor: "Executor",
    advance: "Callable[[int], None]",
    today: date,
) -> "AuditContext":
    from lean_tumbler.core.audit.digest_guesses import matcher_of
    from lean_tumbler.core.audit.likely import likely_passwords
    from lean_tumbler.stores.file_access import read_lines
    from lean_tumbler.stores.scans.guessing import Budget
    from lean_tumbler.stores.scans.profiling import AuditContext
    from lean_tumbler.stores.tuning_files import read_attacker

    own = read_lines(options.blocklist) if options.blocklist else []
    made = likely_passwords((options.words or "").split(","))
    passwords = tuple(dict.fromkeys((*own, *made)))
    seconds = options.budget
    return AuditContext(
        floor=policy.floor,
        policy=policy,
        today=today,
        attacker=read_attacker(options.attacker),
        likely=matcher_of(passwords),
        budget=Budget(
            passwords=passwords,
            seconds=seconds,
            slow_schemes=options.slow_schemes,
            clock=time.monotonic,
        )
        if seconds
        else None,
        executor=executor,
        frames_at_once=(os.cpu_count() or 1) + 1,
        progress=advance,
    )


def _fails(audit: "Audit", fail_on: str) -> bool:
    found = [finding for column in audit.columns for finding in column.findings]
    if fail_on in SEVERITIES:
        severities = [finding.severity for finding in found]
        severities += [other.severity for other in audit.others if other.readable]
        return is_as_severe(severities, fail_on)
    return any(finding.code == fail_on for finding in found)
