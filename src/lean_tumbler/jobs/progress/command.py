"""`progress`: how far the migration is, and whether it is on course."""

from dataclasses import dataclass
from datetime import UTC, date
from functools import partial
from itertools import chain
from pathlib import Path
from typing import TYPE_CHECKING

from lean_tumbler.cli.declared import option
from lean_tumbler.cli.histories import add_to_history, history_path
from lean_tumbler.cli.option_types import LATELY_DAYS, CountOptions, ReportOptions
from lean_tumbler.cli.options import (
    chosen_stores,
    policy_path,
    read_policy,
    write_plot,
)
from lean_tumbler.cli.session import Session
from lean_tumbler.cli.store_forecasts import counted
from lean_tumbler.cli.typed import days, plot_file
from lean_tumbler.errors import SourceError

if TYPE_CHECKING:
    from collections.abc import Sequence
    from datetime import datetime

    from lean_tumbler.stores.scans.migration_progress import MigrationProgress

EXAMPLE = """\
  lean-tumbler progress
  lean-tumbler progress --plot progress.png
  lean-tumbler progress --since 2026-10-01
  lean-tumbler progress --store passengers --prometheus /var/lib/node_exporter/tumbler.prom"""

_READABLE_BY_ALL = 0o644  # a node exporter runs as a user of its own; counts alone stand in it


@dataclass(frozen=True, kw_only=True)
class Options(CountOptions, ReportOptions):
    """What the command was asked for."""

    since: date | None = option("DATE", "use the history from that day on")
    prometheus: Path | None = option(
        "FILE", "write the counts for a node exporter's text-file collector too"
    )
    plot: Path | None = option(
        "FILE", "draw what was counted beside the forecasts, as .png or .svg", read=plot_file
    )
    history: Path | None = option(
        "FILE", "the history to add this count to; without it, the one beside the policy"
    )
    lately: int = option(
        "DAYS",
        f"the days that count as recent, for what is still needed (default {LATELY_DAYS})",
        read=days,
        default=LATELY_DAYS,
    )


def run(options: Options, session: Session) -> int:
    """Run the command."""
    from lean_tumbler.reports.progress import draw_progress, progress_document
    from lean_tumbler.stores.history import read_history
    from lean_tumbler.stores.sealed_backup import ways_back

    policy = read_policy(options)
    history = read_history(history_path(options))
    taken_at = session.clock().astimezone(UTC)
    entries = [
        entry
        for entry in history.entries
        if options.since is None or entry.taken_at.date() >= options.since
    ]
    migrations = [
        counted(options, session, policy, store, entries=entries, taken_at=taken_at)[1]
        for store in chosen_stores(policy, options.store)
    ]
    backups = partial(ways_back, policy_path(options).parent)
    dated = chain.from_iterable(backups(each.name, each.table) for each in migrations)
    notes = [*history.notes, *dated]
    session.emit(
        options,
        progress_document(taken_at=taken_at, migrations=migrations, notes=notes),
        draw=lambda console, _: draw_progress(console, migrations, notes),
    )
    _write_counts(options, session, migrations, taken_at)
    _write_plot(options, session, migrations)
    return 0


def _write_counts(
    options: Options,
    session: Session,
    migrations: "Sequence[MigrationProgress]",
    taken_at: "datetime",
) -> None:
    """Add the count to a history, and to what a node exporter collects."""
    from lean_tumbler.stores.file_access import write_bytes
    from lean_tumbler.stores.scans.migration_progress import store_count

    stores = {each.name: store_count(each.profile, each.table, each.store) for each in migrations}
    try:
        add_to_history(history_path(options), session, stores)
    except SourceError as error:
        if options.history:
            raise
        session.message(f"{error}; this count is not kept")
    if options.prometheus:
        from lean_tumbler.reports.progress_metrics import prometheus_text

        write_bytes(
            options.prometheus, prometheus_text(migrations, taken_at), mode=_READABLE_BY_ALL
        )


def _write_plot(
    options: Options, session: Session, migrations: "Sequence[MigrationProgress]"
) -> None:
    if options.plot:
        from lean_tumbler.reports.forecast_plot import progress_plot

        write_plot(options.plot, lambda kind: progress_plot(migrations, kind), session)
