"""How far the migration is, whether it is on course, and when it ends."""

from __future__ import annotations

from datetime import timedelta
from typing import TYPE_CHECKING, Annotated, Any

from rich.text import Text

from lean_tumbler.core.forecast.waiting import HORIZONS
from lean_tumbler.core.grades import Grade
from lean_tumbler.reports.documents import Document, DocumentPart, RowsByGrade, StoreName, named
from lean_tumbler.reports.forecast import (
    ForecastPart,
    IntervalPart,
    days_ahead,
    draw_source,
    forecast_part,
    interval_part,
    span,
)
from lean_tumbler.reports.terminal import grades_table, new_table
from lean_tumbler.reports.wording import count

if TYPE_CHECKING:
    from collections.abc import Sequence
    from datetime import datetime

    from rich.console import Console

    from lean_tumbler.core.forecast.waiting import Forecast
    from lean_tumbler.stores.scans.migration_progress import MigrationProgress
    from lean_tumbler.stores.sql.column_move import ColumnMove

_VERDICT_STYLES = {"behind": "bold yellow", "on course": "bold green", "ahead": "bold green"}
_FAR = 365
_NEXT_WHILE_SOME_WAIT = (
    "Next: `lean-tumbler plan` for what can be done now; count again as logins come."
)
_NEXT_AT_THE_END = "Next: `lean-tumbler enforce constraint` keeps it so; `lean-tumbler report`."


class AheadPart(DocumentPart):
    """How many still wait on which day."""

    source: Annotated[str, "what it comes from"]
    no_interval: Annotated[str, "why there is no interval; empty where there is one"]
    withheld: Annotated[str, "why there is no forecast; empty where there is one"]
    days: Annotated[dict[str, IntervalPart], "by days ahead"]
    last_one: Annotated[str | None, "when the last one will have come; null for never"]


class StillNeeded(DocumentPart):
    """Old code that some rows still need."""

    grade: Annotated[Grade, "their grade"]
    needs: Annotated[str, "what checks them"]
    rows: Annotated[int, "number of rows"]
    seen_lately: Annotated[int, "of them rows whose owner came within `lately_days`"]


class FewerPart(DocumentPart):
    """How many rows fewer need old code than at an earlier count."""

    since: Annotated[str | None, "the day of that count; null without one"]
    needs: Annotated[dict[str, int], "change of the rows, by what they need"]


class MovePart(DocumentPart):
    """How far values have moved to another column."""

    left_behind: Annotated[str, "the old column"]
    column: Annotated[str, "the new column"]
    moved: Annotated[int, "values that have moved"]
    waiting: Annotated[int, "values in the old column alone"]
    doubled: Annotated[int, "values in both"]


class StoreProgress(DocumentPart):
    """One store's state."""

    store: StoreName
    table: Annotated[str, "the table"]
    rows: Annotated[int, "number of rows"]
    without_value: Annotated[int, "rows without a stored value"]
    grades: RowsByGrade
    below_floor: Annotated[int, "rows below the floor"]
    not_understood: Annotated[int, "rows that no cohort explains"]
    waiting: Annotated[int, "rows that wait, below the floor or layered"]
    started: Annotated[str | None, "since when there is a history; null without one"]
    waiting_at_start: Annotated[int, "rows that waited then"]
    verdict: Annotated[str, "behind, on course, ahead, or why that is not known"]
    forecast_of_start: Annotated[IntervalPart | None, "what was expected then for today"]
    forecast: Annotated[ForecastPart | None, "of rows below the floor; null where there is none"]
    waiting_forecast: Annotated[AheadPart | None, "of all that wait; null where there is none"]
    lately_days: Annotated[int, "how many days count as lately"]
    still_needed: Annotated[list[StillNeeded], "what still needs old code"]
    fewer: Annotated[FewerPart, "what has become less"]
    keys: Annotated[dict[str, int], "rows by the key that they are under"]
    column_move: Annotated[MovePart | None, "the move to another column; null without one"]
    since_start: Annotated[dict[str, int], "change since the start, by grade"]
    notes: Annotated[list[str], "sentences for a reader"]


class ProgressDocument(Document, tag=named("progress")):
    """The state of the migration."""

    taken_at: Annotated[str, "when it was counted"]
    notes: Annotated[list[str], "sentences for a reader"]
    stores: Annotated[list[StoreProgress], "one entry for each store"]


def progress_document(
    *, taken_at: datetime, migrations: Sequence[MigrationProgress], notes: Sequence[str]
) -> ProgressDocument:
    """Give the state of the migration as a document."""
    return ProgressDocument(
        taken_at=taken_at.isoformat(timespec="seconds"),
        notes=list(notes),
        stores=[StoreProgress(**store_fields(migration)) for migration in migrations],
    )


def store_fields(migration: MigrationProgress) -> dict[str, Any]:
    """Give one store's state, by the names of the document's fields."""
    profile, expected, store = migration.profile, migration.expected_now, migration.store
    fewer_since = migration.fewer_since
    return {
        "store": migration.name,
        "table": migration.table,
        "rows": profile.rows,
        "without_value": profile.without_value,
        "grades": profile.grades,
        "below_floor": profile.below_floor,
        "not_understood": profile.not_understood,
        "waiting": migration.waiting,
        "started": None if migration.started is None else migration.started.isoformat(),
        "waiting_at_start": migration.counted[0][1],
        "verdict": migration.verdict,
        "forecast_of_start": None if expected is None else interval_part(expected),
        "forecast": None if store is None else forecast_part(store.weak),
        "waiting_forecast": None if migration.ahead is None else _ahead(migration, migration.ahead),
        "lately_days": migration.lately_days,
        "still_needed": [
            StillNeeded(grade=grade, needs=needs, rows=rows, seen_lately=lately)
            for (grade, needs), (rows, lately) in _still_needed(migration)
        ],
        "fewer": FewerPart(
            since=None if fewer_since is None else fewer_since.isoformat(),
            needs=dict(migration.fewer),
        ),
        "keys": profile.keys,
        "column_move": None if migration.move is None else MovePart.of(migration.move),
        "since_start": changes(migration),
        "notes": store.notes if store else [],
    }


def _ahead(migration: MigrationProgress, ahead: Forecast) -> AheadPart:
    last = migration.last_expected
    return AheadPart.of(
        ahead,
        source="what has happened" if migration.from_history else "last logins or a log",
        days=days_ahead(ahead.days),
        last_one=None if last is None else _day(migration, last),
    )


def _day(migration: MigrationProgress, days: int) -> str:
    return (migration.ahead_from + timedelta(days=days)).isoformat()


def _still_needed(migration: MigrationProgress) -> list[tuple[tuple[Grade, str], tuple[int, int]]]:
    return list(migration.store.seen_lately.items()) if migration.store else []


def changes(migration: MigrationProgress) -> dict[str, int]:
    """Say how many rows each grade has gained or lost since the first count."""
    if migration.started is None:
        return {}
    now = {str(grade): rows for grade, rows in migration.profile.grades.items()}
    return {
        grade: now.get(grade, 0) - migration.before.get(grade, 0)
        for grade in map(str, Grade)
        if now.get(grade, 0) != migration.before.get(grade, 0)
    }


def draw_progress(
    console: Console, migrations: Sequence[MigrationProgress], notes: Sequence[str]
) -> None:
    """Print the grades now, what is left, and how it goes."""
    for migration in migrations:
        profile = migration.profile
        weak = profile.below_floor
        is_clean = weak == 0 and profile.not_understood == 0
        style = "bold green" if is_clean else "bold yellow"
        unknown = f", {profile.not_understood:,} not understood" if profile.not_understood else ""
        left = f"{weak:,} of {profile.rows:,} accounts still below the floor{unknown}"
        console.print(Text(f"{migration.table}: {left}.", style))
        layered = profile.grades.get(Grade.LAYERED, 0)
        if layered:
            console.print(f"{count(layered, 'layered account')} will be upgraded at next login.")
        _draw_keys(console, migration)
        if migration.move is not None:
            console.print(moved_so_far(migration.move))
        _draw_verdict(console, migration)
        console.print()
        console.print(grades_table(profile))
        console.print()
        _draw_course(console, migration)
        _draw_ahead(console, migration)
        _draw_needed(console, migration)
    for note in notes:
        console.print(f"note: {note}.", highlight=False)
    waits = any(m.waiting or m.profile.not_understood for m in migrations)
    console.print(_NEXT_WHILE_SOME_WAIT if waits else _NEXT_AT_THE_END, soft_wrap=True)


def _draw_keys(console: Console, migration: MigrationProgress) -> None:
    """Count rows by the key that they are under, and say when an old one can go."""
    profile = migration.profile
    keys, locked = profile.keys, profile.grades.get(Grade.LOCKED, 0)  # a marker is under no key
    if not keys:
        return
    told = ", ".join(f"{rows:,} under “{name}”" for name, rows in keys.items())
    bare = profile.rows - profile.without_value - locked - sum(keys.values())
    console.print(f"Keys: {told}" + (f", {bare:,} under none." if bare else "."), highlight=False)
    if len(keys) > 1:
        console.print(
            "An old key can leave [keys] once no row is under it, and no backup that you keep."
        )


def moved_so_far(move: ColumnMove) -> str:
    """Say in a sentence how far values have moved to another column."""
    old, new = f"“{move.left_behind}”", f"“{move.column}”"
    return (
        f"From {old} to {new}: {count(move.moved, 'value')} moved, {move.waiting:,} in {old} "
        f"alone, {move.doubled:,} in both."
    )


def _draw_verdict(console: Console, migration: MigrationProgress) -> None:
    expected, verdict = migration.expected_now, migration.verdict
    if expected is None:
        return
    waiting = f", and {migration.waiting:,} wait" if migration.waiting else ""
    text = f"{verdict.capitalize()}. Forecast for today: {span(expected)} waiting{waiting}."
    locked = changes(migration).get(str(Grade.LOCKED), 0)
    if locked > 0:
        text += f" Of those left, {locked:,} were locked."
    console.print(Text(text, _VERDICT_STYLES.get(verdict, "bold")))


def _draw_course(console: Console, migration: MigrationProgress) -> None:
    if migration.started is None:
        return
    begun = migration.counted[0][1]
    console.print(
        f"Since {migration.started:%Y-%m-%d}: {begun:,} waited then, {migration.waiting:,} do now.",
        highlight=False,
    )
    moved = ", ".join(f"{grade} {rows:+,}" for grade, rows in changes(migration).items())
    if moved:
        console.print(f"  {moved}", highlight=False)
    if migration.waiting:
        console.print()


def _draw_ahead(console: Console, migration: MigrationProgress) -> None:
    if migration.ahead is None:
        if migration.waiting:
            console.print(
                "No forecast: name “last_login” in [columns], give --logins, or count again for "
                "some weeks."
            )
        return
    told = ", ".join(
        f"{span(migration.ahead.days[day])} on {_day(migration, day)}" for day in HORIZONS
    )
    if migration.ahead.withheld:
        console.print(Text(f"No forecast: {migration.ahead.withheld}.", "yellow"))
        console.print()
        return
    console.print(f"Still waiting: {told}.", highlight=False)
    tests = migration.store.tests if migration.store and not migration.from_history else None
    draw_source(console, migration.ahead, tests)
    last = migration.last_expected
    if last is not None:
        console.print(f"The last one is expected by {_day(migration, last)}.", highlight=False)
    else:
        stay = migration.ahead.at(_FAR)
        console.print(
            f"About {stay.expected:,.0f} accounts will still wait in a year. Close them then with "
            "`lean-tumbler lock-dormant`.",
            highlight=False,
        )
    console.print()


def _draw_needed(console: Console, migration: MigrationProgress) -> None:
    needed = _still_needed(migration)
    if not needed:
        return
    used = [f"fewer since {migration.fewer_since}"] if migration.fewer_since else []
    seen = f"seen in {migration.lately_days} days"
    table = new_table("still needed to check", "", "rows", seen, *used, right=(2, 3, 4))
    for (grade, needs), (rows, lately) in needed:
        fewer = [f"{migration.fewer.get(needs, 0):,}"] if migration.fewer_since else []
        table.add_row(needs, grade, f"{rows:,}", f"{lately:,}", *fewer)
    console.print(table)
    console.print()
