"""The report for whoever signs off: one HTML file that needs nothing else, and the same as JSON."""

from __future__ import annotations

import shlex
from typing import TYPE_CHECKING, Annotated, Any

from lean_tumbler.core.forecast.waiting import HORIZONS
from lean_tumbler.core.grades import MEANING, Grade
from lean_tumbler.jobs.report.residue_result import ResidueResult
from lean_tumbler.reports import plots
from lean_tumbler.reports.documents import Because, Document, DocumentPart, named
from lean_tumbler.reports.forecast import span
from lean_tumbler.reports.forecast_plot import progress_plot
from lean_tumbler.reports.pages import ENVIRONMENT, inline
from lean_tumbler.reports.pictures import embedded
from lean_tumbler.reports.progress import StoreProgress, changes, store_fields

if TYPE_CHECKING:
    from lean_tumbler.jobs.report.reporting import KeptBackup, Report, StoreReport
    from lean_tumbler.stores.history import Entry
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


class FoundWrong(DocumentPart):
    """A finding of the audit."""

    code: Annotated[str, "the finding's code"]
    severity: Annotated[str, "low, medium, high or critical"]
    rows: Annotated[int, "number of rows"]


class StandardPart(DocumentPart):
    """A section of a published standard, and whether it is met."""

    standard: Annotated[str, "the standard"]
    section: Annotated[str, "the section"]
    asks: Annotated[str, "what it asks"]
    verdict: Annotated[str, "whether that is met"]
    because: Because


class CommandLine(DocumentPart):
    """A command that shows a number of the report again."""

    shows: Annotated[str, "what it shows"]
    command: Annotated[str, "the command line"]


class ReportedStore(StoreProgress):
    """One store: its state, and what stands around it."""

    column: Annotated[str, "the column"]
    guarded: Annotated[bool | None, "whether the column is guarded; null where it cannot be"]
    findings: Annotated[list[FoundWrong], "what is wrong: see docs/FINDINGS.md"]
    standards: Annotated[list[StandardPart], "sections of published standards"]
    remains: Annotated[list[str], "what may still hold old values"]
    commands: Annotated[list[CommandLine], "commands that show the same"]


class CountedStore(DocumentPart):
    """Counts of one store at one time."""

    below_floor: Annotated[int, "accounts below the floor"]
    layered: Annotated[int, "layered accounts"]
    current: Annotated[int, "accounts at or above the floor"]
    locked: Annotated[int, "locked accounts"]


class CountedThen(DocumentPart):
    """A line of the history."""

    taken_at: Annotated[str, "when it was counted"]
    stores: Annotated[dict[str, CountedStore], "counts by store"]


class BackupPart(DocumentPart):
    """A sealed backup."""

    file: Annotated[str, "the file"]
    store: Annotated[str, "the store of the policy"]
    table: Annotated[str, "the table"]
    step: Annotated[str, "the step whose writes it takes back"]
    made_at: Annotated[str, "when it was made"]
    expires_at: Annotated[str | None, "by when it is to be deleted; null where nobody said so"]
    expired: Annotated[bool, "whether that day has passed"]


class ReportDocument(Document, tag=named("report")):
    """The report for whoever signs off."""

    taken_at: Annotated[str, "when it was counted"]
    policy: Annotated[str, "the policy file"]
    target: Annotated[str, "what new values are written with"]
    floor: Annotated[str, "the floor, with the date of the guidance that it follows"]
    notes: Annotated[list[str], "sentences for a reader"]
    stores: Annotated[list[ReportedStore], "one entry for each store"]
    done: Annotated[list[CountedThen], "counts of the history"]
    backups: Annotated[list[BackupPart], "sealed backups"]
    residue: Annotated[list[ResidueResult], "results of searches for old values"]


def report_document(report: Report) -> ReportDocument:
    """Give the report as a document."""
    return ReportDocument.of(
        report,
        taken_at=report.taken_at.isoformat(timespec="seconds"),
        stores=[_reported(report, store) for store in report.stores],
        done=[_done(entry) for entry in report.entries],
        backups=[_backup(backup) for backup in report.backups],
    )


def _reported(report: Report, store: StoreReport) -> ReportedStore:
    return ReportedStore(
        **store_fields(store.migration),
        column=store.column.column,
        guarded=store.guarded,
        findings=[FoundWrong.of(finding) for finding in store.column.findings],
        standards=[
            StandardPart.of(point, verdict=verdict, because=because)
            for point, verdict, because in store.points
        ],
        remains=[*_remains(store), *_ALWAYS],
        commands=_commands(report, store),
    )


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
        residue=report.residue,
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


def _done(entry: Entry) -> CountedThen:
    return CountedThen(
        taken_at=entry.taken_at.isoformat(timespec="minutes"),
        stores={
            name: CountedStore.of(
                store,
                current=store.grades.get(str(Grade.CURRENT), 0),
                locked=store.grades.get(str(Grade.LOCKED), 0),
            )
            for name, store in entry.stores.items()
        },
    )


def _backup(backup: KeptBackup) -> BackupPart:
    return BackupPart.of(
        backup.head, file=str(backup.path), expired=backup.expired, made_at=backup.head.made_at
    )


def _commands(report: Report, store: StoreReport) -> list[CommandLine]:
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
    return [
        CommandLine(shows=what, command=shlex.join(["lean-tumbler", *words, *policy]))
        for what, words in commands
    ]
