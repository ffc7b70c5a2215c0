"""What was put back, and what that means."""

from __future__ import annotations

from typing import TYPE_CHECKING

from rich.text import Text

from lean_tumbler.reports.documents import Document, new_document
from lean_tumbler.reports.wording import count

if TYPE_CHECKING:
    from rich.console import Console

    from lean_tumbler.jobs.undo.undoing import Undone


# What it means that the values of a step are back.
_AFTER = {
    "layer": "The live column holds weak values again.",
    "lock-dormant": "These accounts open again, with the values that they had.",
}


_NAMED = 20


def _draw_damaged(console: Console, undone: Undone, done: str) -> None:
    """Name rows whose value somebody else has damaged since."""
    if undone.damaged:
        named = ", ".join(map(repr, undone.damaged[:_NAMED]))
        more = " …" if len(undone.damaged) > _NAMED else ""
        console.print(
            f"{count(len(undone.damaged), 'row')} with a value that no password opens {done}: "
            f"{named}{more}",
            soft_wrap=True,
        )


def undo_document(undone: Undone) -> Document:
    """Give what was put back as a document."""
    return new_document(
        "undo",
        considered=undone.considered,
        restored=undone.restored,
        changed_meanwhile=undone.changed,
        gone=undone.gone,
        held_already=undone.held,
        not_selected=undone.not_selected,
        stopped=undone.stopped,
        dry_run=undone.dry_run,
        damaged=undone.damaged[:_NAMED],
        copy=undone.copy or None,
    )


def draw_undo(console: Console, undone: Undone) -> None:
    """Print what was put back."""
    rows = count(undone.considered, "row")
    if undone.dry_run:
        console.print(Text(f"The backup holds {rows}; it opens, and is whole.", "bold green"))
        _draw_damaged(console, undone, "would be put back")
        console.print("Nothing was written. Without --dry-run they are put back.", style="dim")
        return
    if undone.is_overtaken:
        text = f"None of {rows} put back: later steps or logins have written other values."
        console.print(Text(text, "bold red"))
    else:
        console.print(Text(f"{undone.restored:,} of {rows} put back.", "bold green"))
    _draw_damaged(console, undone, "put back")
    if undone.stopped:
        console.print("Stopped on request. Run the same command again to continue.")
    if undone.not_selected:
        console.print(f"{count(undone.not_selected, 'row')} not selected this time.")
    if undone.changed:
        console.print(
            f"{count(undone.changed, 'row')} changed since, at a login for one; left alone."
        )
    if undone.held:
        console.print(
            f"{count(undone.held, 'row')} held the old value: put back before, or never written."
        )
    if undone.gone:
        console.print(f"{count(undone.gone, 'row')} gone since.")
    if undone.copy:
        console.print(f"The copy is {undone.copy}; the file itself is as it was.")
    elif undone.restored:
        console.print(_AFTER[undone.step])
    console.print("Next: `lean-tumbler progress` counts what stands there now.")
