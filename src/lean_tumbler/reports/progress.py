"""How far the migration is, whether it is on course, and when it ends."""

from __future__ import annotations

from datetime import timedelta
from typing import TYPE_CHECKING, Any

from rich.text import Text

from lean_tumbler.core.forecast.forecasting import HORIZONS
from lean_tumbler.core.grades import Grade
from lean_tumbler.reports.documents import Document, new_document
from lean_tumbler.reports.forecast import band_document, forecast_document, span
from lean_tumbler.reports.terminal import grades_table, new_table
from lean_tumbler.reports.wording import count

if TYPE_CHECKING:
    from collections.abc import Sequence
    from datetime import datetime

    from rich.console import Console

    from lean_tumbler.core.forecast.forecasting import Forecast
    from lean_tumbler.stores.scans.migration_progress import Course

_VERDICT_STYLES = {"behind": "bold yellow", "on course": "bold green", "ahead": "bold green"}
_FAR = 365


def progress_document(
    *, taken_at: datetime, courses: Sequence[Course], notes: Sequence[str]
) -> Document:
    """Give the state of the migration as a document."""
    return new_document(
        "progress",
        taken_at=taken_at.isoformat(timespec="seconds"),
        notes=list(notes),
        stores=[store_document(course) for course in courses],
    )


def store_document(course: Course) -> dict[str, Any]:
    """Give one store's state."""
    profile, expected = course.profile, course.expected_now
    seen = f"seen_in_{course.lately_days}_days"
    return {
        "store": course.name,
        "table": course.table,
        "rows": profile.rows,
        "without_value": profile.without_value,
        "grades": dict(profile.grades),
        "below_floor": profile.below_floor,
        "not_understood": profile.not_understood,
        "waiting": course.waiting,
        "started": None if course.started is None else course.started.isoformat(),
        "waiting_at_start": course.counted[0][1],
        "verdict": course.verdict,
        "forecast_of_start": None if expected is None else band_document(expected),
        "forecast": None if course.store is None else forecast_document(course.store.weak),
        "waiting_forecast": None if course.ahead is None else _ahead(course, course.ahead),
        "still_needed": [
            {"grade": grade, "needs": needs, "rows": rows, seen: lately}
            for (grade, needs), (rows, lately) in _still_needed(course)
        ],
        "fewer": {
            "since": None if course.fewer_since is None else course.fewer_since.isoformat(),
            "needs": dict(course.fewer),
        },
        "since_start": changes(course),
        "notes": list(course.store.notes) if course.store else [],
    }


def _ahead(course: Course, ahead: Forecast) -> dict[str, Any]:
    last = course.last_expected
    return {
        "from": "what has happened" if course.from_history else "last logins or a log",
        "fitted": ahead.fitted,
        "because": ahead.because,
        "days": {str(day): band_document(ahead.days[day]) for day in HORIZONS},
        "last_one": None if last is None else _day(course, last),
    }


def _day(course: Course, days: int) -> str:
    return (course.ahead_from + timedelta(days=days)).isoformat()


def _still_needed(course: Course) -> list[tuple[tuple[Grade, str], tuple[int, int]]]:
    return list(course.store.seen_lately.items()) if course.store else []


def changes(course: Course) -> dict[str, int]:
    """Say how many rows each grade has gained or lost since the first count."""
    if course.started is None:
        return {}
    now = {str(grade): rows for grade, rows in course.profile.grades.items()}
    return {
        grade: now.get(grade, 0) - course.before.get(grade, 0)
        for grade in map(str, Grade)
        if now.get(grade, 0) != course.before.get(grade, 0)
    }


def draw_progress(console: Console, courses: Sequence[Course], notes: Sequence[str]) -> None:
    """Print the grades now, what is left, and how it goes."""
    for course in courses:
        profile = course.profile
        weak = profile.below_floor
        is_clean = weak == 0 and profile.not_understood == 0
        style = "bold green" if is_clean else "bold yellow"
        unknown = f", {profile.not_understood:,} not understood" if profile.not_understood else ""
        left = f"{weak:,} of {profile.rows:,} accounts still below the floor{unknown}"
        console.print(Text(f"{course.table}: {left}.", style))
        layered = profile.grades.get(Grade.LAYERED, 0)
        if layered:
            console.print(f"{count(layered, 'layered account')} will be upgraded at next login.")
        _draw_verdict(console, course)
        console.print()
        console.print(grades_table(profile))
        console.print()
        _draw_course(console, course)
        _draw_ahead(console, course)
        _draw_needed(console, course)
    for note in notes:
        console.print(f"note: {note}.", highlight=False)


def _draw_verdict(console: Console, course: Course) -> None:
    expected, verdict = course.expected_now, course.verdict
    if expected is None:
        return
    text = f"{verdict.capitalize()}: {span(expected)} were forecast to wait today"
    if course.waiting:
        text += f", and {course.waiting:,} do"
    locked = changes(course).get(str(Grade.LOCKED), 0)
    if locked > 0:
        text += f"; {locked:,} were locked"
    console.print(Text(f"{text}.", _VERDICT_STYLES.get(verdict, "bold")))


def _draw_course(console: Console, course: Course) -> None:
    if course.started is None:
        return
    begun = course.counted[0][1]
    console.print(
        f"Since {course.started:%Y-%m-%d}: {begun:,} waited then, {course.waiting:,} do now.",
        highlight=False,
    )
    moved = ", ".join(f"{grade} {rows:+,}" for grade, rows in changes(course).items())
    if moved:
        console.print(f"  {moved}", highlight=False)
    if course.waiting:
        console.print()


def _draw_ahead(console: Console, course: Course) -> None:
    if course.ahead is None:
        if course.waiting:
            console.print(
                "No forecast: name “last_login” in [columns], give --logins, or keep a --history."
            )
        return
    told = ", ".join(f"{span(course.ahead.days[day])} on {_day(course, day)}" for day in HORIZONS)
    source = "from what has happened" if course.from_history else "from last logins"
    if not course.ahead.fitted:
        source = f"the plain mirror alone, because {course.ahead.because}"
    console.print(f"Still waiting, {source}: {told}.", highlight=False)
    last = course.last_expected
    if last is not None:
        console.print(f"The last one is expected by {_day(course, last)}.", highlight=False)
    else:
        stay = course.ahead.at(_FAR)
        console.print(
            f"No end by itself: about {stay.expected:,.0f} will not have come in a year; "
            "`lean-tumbler lock-dormant` closes them.",
            highlight=False,
        )
    console.print()


def _draw_needed(console: Console, course: Course) -> None:
    needed = _still_needed(course)
    if not needed:
        return
    used = [f"fewer since {course.fewer_since}"] if course.fewer_since else []
    seen = f"seen in {course.lately_days} days"
    table = new_table("still needed to check", "", "rows", seen, *used, right=(2, 3, 4))
    for (grade, needs), (rows, lately) in needed:
        fewer = [f"{course.fewer.get(needs, 0):,}"] if course.fewer_since else []
        table.add_row(needs, grade, f"{rows:,}", f"{lately:,}", *fewer)
    console.print(table)
    console.print()


def prometheus_text(courses: Sequence[Course], taken_at: datetime) -> str:
    """Give the counts for a node exporter's text-file collector (its exposition format 0.0.4)."""
    lines = [
        "# HELP tumbler_progress_rows Stored values by grade.",
        "# TYPE tumbler_progress_rows gauge",
        *(
            f'tumbler_progress_rows{{store="{course.name}",grade="{grade}"}} '
            f"{course.profile.grades.get(grade, 0)}"
            for course in courses
            for grade in Grade
        ),
        "# HELP tumbler_progress_waiting Accounts below the floor or layered.",
        "# TYPE tumbler_progress_waiting gauge",
        *(
            f'tumbler_progress_waiting{{store="{course.name}"}} {course.waiting}'
            for course in courses
        ),
        "# HELP tumbler_progress_forecast Accounts still waiting so many days after the count.",
        "# TYPE tumbler_progress_forecast gauge",
        *(
            f'tumbler_progress_forecast{{store="{course.name}",days="{day}",part="{part}"}} {rows}'
            for course in courses
            if course.ahead is not None
            for day in HORIZONS
            for part, rows in band_document(course.ahead.days[day]).items()
        ),
        "# HELP tumbler_progress_taken_at_seconds When it was counted, since 1970.",
        "# TYPE tumbler_progress_taken_at_seconds gauge",
        f"tumbler_progress_taken_at_seconds {int(taken_at.timestamp())}",
    ]
    return "\n".join(lines) + "\n"
