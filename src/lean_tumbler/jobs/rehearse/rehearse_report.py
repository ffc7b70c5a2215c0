"""The rehearsal: a matrix of what was tried and what happened, and every answer that changed."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated

from rich.text import Text

from lean_tumbler.jobs.rehearse.rehearsal import Moment, TriedText
from lean_tumbler.reports.documents import Document, DocumentPart, RowsByReason, named
from lean_tumbler.reports.terminal import new_table
from lean_tumbler.reports.wording import count

if TYPE_CHECKING:
    from rich.console import Console
    from rich.table import Table

    from lean_tumbler.jobs.rehearse.rehearsal import Rehearsal

_LISTED = 20


class TriedCell(DocumentPart):
    """A text at a moment, and how many accounts it opened."""

    tried: Annotated[TriedText, "what was typed"]
    moment: Annotated[Moment, "when it was typed"]
    admitted: Annotated[int, "accounts that it opened"]
    accounts: Annotated[int, "accounts on which it was tried"]


class ChangedAnswer(DocumentPart):
    """An answer that changed."""

    login: Annotated[str, "the account's login"]
    tried: Annotated[TriedText, "what was typed"]
    moment: Annotated[Moment, "when it was typed"]
    admitted_before: Annotated[bool, "whether it opened before the change"]
    reason: Annotated[str, "why it is refused now; may be empty"]


class RehearseDocument(Document, tag=named("rehearse")):
    """What was tried on a copy, and what happened."""

    passed: Annotated[bool, "whether nobody is locked out, and nobody else let in"]
    copied: Annotated[int, "rows that were copied"]
    known: Annotated[int, "known accounts that are in the store"]
    absent: Annotated[list[str], "known logins that the store has not, or not once"]
    rejected_before: Annotated[list[str], "known logins that do not open before the change"]
    tried: Annotated[list[TriedCell], "what was tried, and when"]
    differences: Annotated[list[ChangedAnswer], "answers that changed"]
    layered: Annotated[int, "rows of the copy that were layered"]
    replaced: Annotated[int, "rows of the copy that got the target, as their password is known"]
    left: RowsByReason
    characters_needed: Annotated[int, "characters that the longest new value needs"]
    column_characters: Annotated[int | None, "characters that the column holds; null for no bound"]
    too_narrow: Annotated[bool, "whether the column has no room for what would be written"]


def rehearse_document(found: Rehearsal) -> RehearseDocument:
    """Give what was tried and what happened."""
    layering = found.layering
    return RehearseDocument.of(
        found,
        rejected_before=found.rejected,
        tried=[
            TriedCell(tried=tried, moment=moment, admitted=cell.admitted, accounts=cell.tried)
            for (tried, moment), cell in found.cells.items()
        ],
        differences=[ChangedAnswer.of(entry) for entry in found.differences],
        layered=layering.layered if layering else 0,
        replaced=layering.replaced if layering else 0,
        left={str(reason): rows for reason, rows in layering.left.items()} if layering else {},
        characters_needed=found.needed,
        column_characters=found.width,
    )


def draw_rehearse(console: Console, found: RehearseDocument) -> None:
    """Print the verdict, the matrix and every answer that changed."""
    console.print(_verdict(found))
    if found.tried:
        layered = count(found.layered + found.replaced, "row")
        console.print(f"Of {found.copied:,} accounts copied, {layered} were layered or replaced.")
    console.print()
    console.print(_matrix(found))
    console.print()
    _draw_problems(console, found)
    console.print("Nothing was written to the store, and the copy is gone.", style="dim")
    next_command = (
        "verify KNOWN" if found.rejected_before or found.differences else "layer --dry-run"
    )
    console.print(f"Next: `lean-tumbler {next_command}`.")


def _verdict(found: RehearseDocument) -> Text:
    lockouts = {entry.login for entry in found.differences if entry.admitted_before}
    others = {entry.login for entry in found.differences if not entry.admitted_before}
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
    if found.rejected_before:
        text = f"{count(len(found.rejected_before), 'known account')} refused already today."
        return Text(text, "bold red")
    return Text("Not every known account is in the store.", "bold red")


def _matrix(found: RehearseDocument) -> Table:
    table = new_table("typed", *(str(moment) for moment in Moment), right=(1, 2, 3, 4))
    changed = {(entry.tried, entry.moment) for entry in found.differences}
    by_place = {(cell.tried, cell.moment): cell for cell in found.tried}
    for tried in TriedText:
        cells = [(moment, by_place.get((tried, moment))) for moment in Moment]
        if any(cell for _, cell in cells):
            table.add_row(
                str(tried),
                *(
                    Text(
                        f"{cell.admitted} of {cell.accounts} in" if cell else "",
                        "bold red" if (tried, moment) in changed else "",
                    )
                    for moment, cell in cells
                ),
            )
    return table


def _draw_problems(console: Console, found: RehearseDocument) -> None:
    for login in found.absent[:_LISTED]:
        console.print(f"{login}: not in the store, or not unique there")
    for login in found.rejected_before[:_LISTED]:
        console.print(f"{login}: refused as things are; see `lean-tumbler verify`")
    for entry in found.differences[:_LISTED]:
        console.print(f"{entry.login}: {_changed(entry)}")
    if len(found.differences) > _LISTED:
        console.print(f"and {len(found.differences) - _LISTED:,} more")
    if found.too_narrow:
        console.print(
            f"The column has room for {found.column_characters:,} characters; up to "
            f"{found.characters_needed:,} would be written. Widen it first."
        )


def _changed(entry: ChangedAnswer) -> str:
    now = "refused" if entry.admitted_before else "let in"
    reason = f" ({entry.reason})" if entry.reason else ""
    return f"{entry.tried}, {entry.moment}: {now}, unlike before{reason}"
