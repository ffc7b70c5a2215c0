"""`report`: the file for whoever signs off."""

from dataclasses import dataclass, replace
from datetime import UTC
from pathlib import Path

from lean_tumbler.cli.declared import option
from lean_tumbler.cli.histories import history_path
from lean_tumbler.cli.option_types import CountOptions, ReportOptions
from lean_tumbler.cli.options import chosen_stores, policy_path, read_policy
from lean_tumbler.cli.session import Session
from lean_tumbler.cli.store_forecasts import counted

EXAMPLE = """\
  lean-tumbler report --output report.html
  lean-tumbler report --backup layer-1.sealed --output report.html
  lean-tumbler report --format json

In a browser it prints well; nothing in it is loaded from elsewhere."""


@dataclass(frozen=True, kw_only=True)
class Options(CountOptions, ReportOptions):
    """What the command was asked for."""

    backup: list[Path] = option("FILE", "a sealed backup to list with its date; no key is needed")
    residue: list[Path] = option(
        "FILE", "what `residue --format json --output FILE` found elsewhere; may be repeated"
    )
    history: Path | None = option(
        "FILE", "the history that `progress` keeps; without it, the one beside the policy"
    )
    store: str | None = option("NAME", "a store of the policy; without it, all of them")
    format: str = option(None, "how to write the report", choices=("html", "json"), default="html")


def run(options: Options, session: Session) -> int:
    """Run the command."""
    from lean_tumbler.jobs.report.page import report_document, report_page
    from lean_tumbler.jobs.report.reporting import Report, kept_backup, report_store
    from lean_tumbler.jobs.report.residue_result import read_result
    from lean_tumbler.stores.history import read_history

    policy = read_policy(options)
    base = policy_path(options).parent
    history = read_history(history_path(options))
    taken_at = session.clock().astimezone(UTC)
    stores = []
    for store in chosen_stores(policy, options.store):
        column, along = counted(
            options, session, policy, store, entries=history.entries, taken_at=taken_at
        )
        stores.append(report_store(store, base=base, policy=policy, migration=along, column=column))
    report = Report(
        taken_at=taken_at,
        policy=policy_path(options),
        target=str(policy.target),
        floor=policy.floor.source,
        stores=stores,
        entries=history.entries,
        backups=[kept_backup(backup, taken_at) for backup in options.backup],
        notes=history.notes,
        residue=[read_result(path) for path in options.residue],
    )
    if options.output is None and options.format == "html" and session.stdout.isatty():
        page = Path(f"report-{taken_at.date().isoformat()}.html")
        options = replace(options, output=page)
        session.message(f"{page}: report written; open it in a browser")
    session.emit(options, report_document(report), others={"html": lambda: [report_page(report)]})
    return 0
