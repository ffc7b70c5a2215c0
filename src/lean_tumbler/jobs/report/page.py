"""The report for whoever signs off: one HTML file that needs nothing else, and the same as JSON."""

from __future__ import annotations

import shlex
from dataclasses import asdict
from typing import TYPE_CHECKING, Any

from lean_tumbler.core.forecast.waiting import HORIZONS
from lean_tumbler.core.grades import MEANING, Grade
from lean_tumbler.reports import plots
from lean_tumbler.reports.documents import Document, new_document
from lean_tumbler.reports.forecast import span
from lean_tumbler.reports.forecast_plot import progress_plot
from lean_tumbler.reports.pages import ENVIRONMENT, inline
from lean_tumbler.reports.pictures import embedded
from lean_tumbler.reports.progress import changes, store_document

if TYPE_CHECKING:
    from lean_tumbler.jobs.report.reporting import KeptBackup, Report, StoreReport
    from lean_tumbler.stores.history import Entry
    from lean_tumbler.stores.residue.result_file import ResidueResult
    from lean_tumbler.stores.scans.migration_progress import MigrationProgress

# What keeps old values beside the live column, and what to do about it.
_REMAINS = {
    "relatives": "tables that seem to keep its past: audit them, then empty them",
    "copies": "copies get every change, and keep the old values until they are replaced",
    "triggers": "triggers run at every row: see whether they keep the old value",
}
_ALWAYS = (
    "dumps and backups of the database that were made before: they end with their own dates",
    "logs that recorded statements or requests with values in them",
)


def report_document(report: Report) -> Document:
    """Give the report as a document."""
    return new_document(
        "report",
        taken_at=report.taken_at.isoformat(timespec="seconds"),
        policy=str(report.policy),
        target=report.target,
        floor=report.floor,
        notes=list(report.notes),
        stores=[
            {
                **store_document(store.migration),
                "column": store.column.column,
                "guarded": store.guarded,
                "findings": [
                    {"code": finding.code, "severity": finding.severity, "rows": finding.rows}
                    for finding in store.column.findings
                ],
                "standards": [
                    {"standard": point.standard, "section": point.section, "asks": point.asks,
                     "verdict": verdict, "because": because}
                    for point, verdict, because in store.points
                ],
                "remains": [*_remains(store), *_ALWAYS],
                "commands": _commands(report, store),
            }
            for store in report.stores
        ],
        done=[_done(entry) for entry in report.entries],
        backups=[_backup(backup) for backup in report.backups],
        residue=[_residue(result) for result in report.residue],
    )  # fmt: skip


_PLOT_SHOWS = "accounts that wait for a login, counted and forecast, by day"


def report_page(report: Report) -> str:
    """Give the report as a page."""
    waiting = sum(store.migration.waiting for store in report.stores)
    weak = sum(store.migration.profile.below_floor for store in report.stores)
    unknown = sum(store.migration.profile.not_understood for store in report.stores)
    profiles = [store.migration.profile for store in report.stores]
    rows = sum(profile.rows - profile.without_value for profile in profiles)
    page: str = ENVIRONMENT.get_template("report.html").render(
        report=report,
        taken_at=report.taken_at.strftime("%Y-%m-%d %H:%M %Z").strip(),
        headline=_headline(weak, waiting, unknown, rows),
        stores=[_store(report, store) for store in report.stores],
        done=[_done(entry) for entry in report.entries],
        backups=[_backup(backup) for backup in report.backups],
        residue=[_residue(result) for result in report.residue],
        always=_ALWAYS,
        meaning=MEANING,
        colours=plots.GRADE_COLOURS,
    )
    return page


def _headline(weak: int, waiting: int, unknown: int, rows: int) -> str:
    beside = f"; {unknown:,} are not understood" if unknown else ""
    if weak:
        return f"{weak:,} of {rows:,} stored values are still below the floor{beside}"
    if waiting:
        layered = f"{waiting:,} are layered and wait for a login"
        return f"No stored value is below the floor; {layered}{beside}"
    if unknown:
        return f"{unknown:,} of {rows:,} stored values are not understood; the others are done"
    return f"Finished: every one of {rows:,} stored values is current or locked"


def _store(report: Report, store: StoreReport) -> dict[str, Any]:
    migration = store.migration
    before, now = _grades(migration)
    bars = [("now", now)]
    if before is not None:
        bars.insert(0, (f"{migration.started:%Y-%m-%d}", before))
    return {
        "name": migration.name,
        "table": migration.table,
        "column": store.column.column,
        "course": migration,
        "bars": inline(plots.grades_plot(bars)),
        "grades": [
            {"grade": grade, "before": (before or {}).get(grade), "now": now.get(grade, 0)}
            for grade in Grade
            if now.get(grade) or (before or {}).get(grade)
        ],
        "plot": inline(embedded(progress_plot([migration], "svg"), _PLOT_SHOWS))
        if migration.ahead or migration.promised
        else None,
        "locked": changes(migration).get(str(Grade.LOCKED), 0),
        "ahead": _ahead(migration),
        "verdict": migration.verdict,
        "expected": None if migration.expected_now is None else span(migration.expected_now),
        "findings": store.column.findings,
        "points": store.points,
        "remains": _remains(store),
        "commands": _commands(report, store),
    }


def _grades(migration: MigrationProgress) -> tuple[dict[Grade, int] | None, dict[Grade, int]]:
    if migration.started is None:
        return None, migration.profile.grades
    return {Grade(name): rows for name, rows in migration.before.items()}, migration.profile.grades


def _ahead(migration: MigrationProgress) -> list[tuple[str, str]]:
    if migration.ahead is None or migration.ahead.withheld:
        return []
    told = [(f"day {day}", span(migration.ahead.days[day])) for day in HORIZONS]
    last = migration.last_expected
    return [*told, ("the last one", "never by itself" if last is None else f"day {last}")]


def _remains(store: StoreReport) -> list[str]:
    return [
        f"{means}: {', '.join(names)}"
        for part, means in _REMAINS.items()
        if (names := getattr(store.around, part))
    ]


def _done(entry: Entry) -> dict[str, Any]:
    return {
        "taken_at": entry.taken_at.isoformat(timespec="minutes"),
        "stores": {
            name: {
                "below_floor": store.below_floor,
                "layered": store.layered,
                "current": store.grades.get(str(Grade.CURRENT), 0),
                "locked": store.grades.get(str(Grade.LOCKED), 0),
            }
            for name, store in entry.stores.items()
        },
    }


def _backup(backup: KeptBackup) -> dict[str, Any]:
    head = backup.head
    return {
        "file": str(backup.path),
        "store": head.store,
        "table": head.table,
        "step": head.step,
        "made_at": head.made_at,
        "expires_at": head.expires_at,
        "expired": backup.expired,
    }


def _residue(result: ResidueResult) -> dict[str, Any]:
    return {
        "file": str(result.path),
        "searched_at": result.searched_at.isoformat(timespec="minutes"),
        "places": result.places,
        "values": result.values,
        "unread": result.unread,
        "finds": [asdict(find) for find in result.finds],
    }


def _commands(report: Report, store: StoreReport) -> list[tuple[str, str]]:
    """Say how each number is found again."""
    policy = ["--policy", str(report.policy)] if str(report.policy) != "tumbler.toml" else []
    name = store.migration.name
    commands = [
        ("the grades, and the findings", ["audit", name]),
        ("the course and the forecast", ["progress", "--store", name]),
        ("the surroundings", ["plan", "--store", name]),
    ]
    if store.guarded is not None:
        commands.append(("the guard", ["enforce", "constraint", "--store", name]))
    return [(what, shlex.join(["lean-tumbler", *words, *policy])) for what, words in commands]
