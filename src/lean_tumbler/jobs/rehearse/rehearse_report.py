"""The rehearsal: a matrix of what was tried and what happened, and every answer that changed."""

from __future__ import annotations

from typing import TYPE_CHECKING

from rich.text import Text

from lean_tumbler.jobs.rehearse.rehearsal import Moment, TriedText
from lean_tumbler.reports.documents import Document, new_document
from lean_tumbler.reports.terminal import new_table
from lean_tumbler.reports.wording import count

if TYPE_CHECKING:
    from rich.console import Console
    from rich.table import Table

    from lean_tumbler.jobs.rehearse.rehearsal import Difference, Rehearsal

_LISTED = 20


def rehearse_document(found: Rehearsal) -> Document:
    """Give what was tried and what happened as a document."""
    layering = found.layering
    return new_document(
        "rehearse",
        passed=found.passed,
        copied=found.copied,
        known=found.known,
        absent=found.absent,
        rejected_before=found.rejected,
        tried=[
            {"tried": tried, "moment": moment, "admitted": cell.admitted, "accounts": cell.tried}
            for (tried, moment), cell in found.cells.items()
        ],
        differences=[
            {
                "login": entry.login,
                "tried": entry.tried,
                "moment": entry.moment,
                "admitted_before": entry.admitted_before,
                "reason": entry.reason or None,
            }
            for entry in found.differences
        ],
        layered=layering.layered if layering else 0,
        replaced=layering.replaced if layering else 0,
        left={str(reason): rows for reason, rows in layering.left.items()} if layering else {},
        characters_needed=found.needed,
        column_characters=found.width,
    )


def draw_rehearse(console: Console, found: Rehearsal) -> None:
    """Print the verdict, the matrix and every answer that changed."""
    console.print(_verdict(found))
    if found.layering:
        layered = count(found.layering.written, "row")
        console.print(f"Of {found.copied:,} accounts copied, {layered} were layered or replaced.")
    console.print()
    console.print(_matrix(found))
    console.print()
    _draw_problems(console, found)
    console.print("Nothing was written to the store, and the copy is gone.", style="dim")
    next_command = "verify KNOWN" if found.rejected or found.differences else "layer --dry-run"
    console.print(f"Next: `lean-tumbler {next_command}`.")


def _verdict(found: Rehearsal) -> Text:
    lockouts = {entry.login for entry in found.differences if entry.is_lockout}
    others = {entry.login for entry in found.differences if not entry.is_lockout}
    if found.passed:
        known = count(found.known, "known account")
        return Text(f"Nobody is locked out: {known}, at every step.", "bold green")
    if lockouts:
        return Text(f"{count(len(lockouts), 'account')} would be locked out.", "bold red")
    if others:
        text = f"{count(len(others), 'account')} would open to what is refused today."
        return Text(text, "bold red")
    if found.too_narrow:
        return Text("The column is too narrow for what would be written.", "bold red")
    if found.rejected:
        text = f"{count(len(found.rejected), 'known account')} refused already today."
        return Text(text, "bold red")
    return Text("Not every known account is in the store.", "bold red")


def _matrix(found: Rehearsal) -> Table:
    table = new_table("typed", *(str(moment) for moment in Moment), right=(1, 2, 3, 4))
    changed = {(entry.tried, entry.moment) for entry in found.differences}
    for tried in TriedText:
        cells = [(moment, found.cells.get((tried, moment))) for moment in Moment]
        if any(cell for _, cell in cells):
            table.add_row(
                str(tried),
                *(
                    Text(
                        f"{cell.admitted} of {cell.tried} in" if cell else "",
                        "bold red" if (tried, moment) in changed else "",
                    )
                    for moment, cell in cells
                ),
            )
    return table


def _draw_problems(console: Console, found: Rehearsal) -> None:
    for login in found.absent[:_LISTED]:
        console.print(f"{login}: not in the store, or not unique there")
    for login in found.rejected[:_LISTED]:
        console.print(f"{login}: refused as things are; see `lean-tumbler verify`")
    for entry in found.differences[:_LISTED]:
        console.print(f"{entry.login}: {_changed(entry)}")
    if len(found.differences) > _LISTED:
        console.print(f"and {len(found.differences) - _LISTED:,} more")
    if found.too_narrow:
        console.print(
            f"The column has room for {found.width:,} characters; up to {found.needed:,} would be "
            "written. Widen it first."
        )


def _changed(entry: Difference) -> str:
    now = "refused" if entry.is_lockout else "let in"
    reason = f" ({entry.reason})" if entry.reason else ""
    return f"{entry.tried}, {entry.moment}: {now}, unlike before{reason}"
