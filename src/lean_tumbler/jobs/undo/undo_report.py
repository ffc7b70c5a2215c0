"""What was put back, and what that means."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated

from rich.text import Text

from lean_tumbler.reports.documents import Document, Key, named
from lean_tumbler.reports.wording import count

if TYPE_CHECKING:
    from rich.console import Console


# What it means that the values of a step are back.
_AFTER = {
    "layer": "The live column holds weak values again.",
    "rekey": "These values are under the key that they were under before, or under none.",
    "lock-dormant": "These accounts open again, with the values that they had.",
}


_NAMED = 20


class UndoDocument(Document, tag=named("undo")):
    """What was put back."""

    step: Annotated[str, "the command whose writes are undone"]
    considered: Annotated[int, "rows of the backup"]
    restored: Annotated[int, "rows that have their old value back"]
    changed_meanwhile: Annotated[int, "rows that hold something else now; left alone"]
    gone: Annotated[int, "rows that are not there any more"]
    held_already: Annotated[
        int, "rows that held their old value: put back before, or never written"
    ]
    not_selected: Annotated[int, "rows that options leave out"]
    overtaken: Annotated[bool, "whether later writes stand in the place of all that was written"]
    stopped: Annotated[bool, "whether it was stopped part-way"]
    dry_run: Annotated[bool, "whether nothing was to be written"]
    copy: Annotated[str | None, "the copy that was written, where the store is a file"]
    damaged: Annotated[
        list[Key], "rows that are put back although a value that no password opens stands there"
    ]


def _draw_damaged(console: Console, undone: UndoDocument, done: str) -> None:
    """Name rows whose value somebody else has damaged since."""
    if undone.damaged:
        named = ", ".join(map(repr, undone.damaged[:_NAMED]))
        more = " …" if len(undone.damaged) > _NAMED else ""
        console.print(
            f"{count(len(undone.damaged), 'row')} with a value that no password opens {done}: "
            f"{named}{more}",
            soft_wrap=True,
        )


def draw_undo(console: Console, undone: UndoDocument) -> None:
    """Print what was put back."""
    rows = count(undone.considered, "row")
    if undone.dry_run:
        console.print(Text(f"The backup holds {rows}; it opens, and is whole.", "bold green"))
        _draw_damaged(console, undone, "would be put back")
        console.print("Nothing was written. Without --dry-run they are put back.", style="dim")
        return
    if undone.overtaken:
        text = f"None of {rows} put back: later steps or logins have written other values."
        console.print(Text(text, "bold red"))
    else:
        console.print(Text(f"{undone.restored:,} of {rows} put back.", "bold green"))
    _draw_damaged(console, undone, "put back")
    if undone.stopped:
        console.print("Stopped on request. Run the same command again to continue.")
    if undone.not_selected:
        console.print(f"{count(undone.not_selected, 'row')} not selected this time.")
    if changed := undone.changed_meanwhile:
        console.print(f"{count(changed, 'row')} changed since, at a login for one; left alone.")
    if held := undone.held_already:
        console.print(
            f"{count(held, 'row')} held the old value: put back before, or never written."
        )
    if undone.gone:
        console.print(f"{count(undone.gone, 'row')} gone since.")
    if undone.copy:
        console.print(f"The copy is {undone.copy}; the file itself is as it was.")
    elif undone.restored:
        console.print(_AFTER[undone.step])
    console.print("Next: `lean-tumbler progress` counts what stands there now.")
