"""How far the migration is."""

from __future__ import annotations

from typing import TYPE_CHECKING

from rich.text import Text

from lean_tumbler.core.grades import Grade
from lean_tumbler.reports.documents import Document, new_document
from lean_tumbler.reports.terminal import grades_table
from lean_tumbler.reports.wording import count

if TYPE_CHECKING:
    from rich.console import Console

    from lean_tumbler.operations.auditing import AuditedColumn


def progress_document(*, taken_at: str, columns: list[AuditedColumn]) -> Document:
    """Give the state of the migration as a document."""
    return new_document(
        "progress",
        taken_at=taken_at,
        stores=[
            {
                "table": column.table,
                "rows": column.profile.rows,
                "without_value": column.profile.without_value,
                "grades": dict(column.profile.grades),
                "below_floor": column.profile.below_floor,
            }
            for column in columns
        ],
    )


def draw_progress(console: Console, columns: list[AuditedColumn]) -> None:
    """Print the grades now, and what is left."""
    for column in columns:
        profile = column.profile
        weak = profile.below_floor
        style = "bold green" if weak == 0 else "bold yellow"
        left = f"{weak:,} of {profile.rows:,} accounts still below the floor"
        console.print(Text(f"{column.table}: {left}.", style))
        layered = profile.grades.get(Grade.LAYERED, 0)
        if layered:
            console.print(f"{count(layered, 'layered account')} will be upgraded at next login.")
        console.print()
        console.print(grades_table(profile))
        console.print()
