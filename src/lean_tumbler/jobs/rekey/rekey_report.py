"""What `rekey` did, which rows it left, and when an old key can go."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated

from rich.text import Text

from lean_tumbler.reports.documents import (
    Document,
    ListedRow,
    RowsByReason,
    StoreName,
    key_told,
    named,
)
from lean_tumbler.reports.terminal import new_table
from lean_tumbler.reports.wording import count

if TYPE_CHECKING:
    from rich.console import Console

    from lean_tumbler.jobs.rekey.rekeying import Rekeyed


class RekeyDocument(Document, tag=named("rekey")):
    """What a run did, or a dry run would do."""

    store: StoreName
    key: Annotated[str | None, "the key that values go under; null where keys are taken off"]
    considered: Annotated[int, "rows that were looked at"]
    rekeyed: Annotated[int, "rows that are, or would be, written"]
    from_no_key: Annotated[int, "rows of these that were under no key"]
    from_keys: Annotated[dict[str, int], "rows of these by the key that they were under"]
    dry_run: Annotated[bool, "whether nothing was to be written"]
    changed_meanwhile: Annotated[int, "rows that others changed meanwhile; left alone"]
    not_selected: Annotated[int, "rows that options leave out"]
    left: RowsByReason
    still_under: Annotated[dict[str, int], "rows that were left, by the key that they are under"]
    listed: Annotated[list[ListedRow], "the first rows that a person must look at"]
    hindrances: Annotated[list[str], "in a dry run, why nothing may be written now"]
    seconds: Annotated[float, "how long it took"]
    per_second: Annotated[float, "rows written a second"]
    stopped: Annotated[bool, "whether it was stopped part-way"]
    copy: Annotated[str | None, "the copy that was written, where the store is a file"]


def rekey_document(store: str, found: Rekeyed) -> RekeyDocument:
    """Give what a run did as a document."""
    old = {name: rows for name, rows in found.still_under.most_common() if name != found.key}
    return RekeyDocument.of(
        found,
        store=store,
        from_no_key=found.moved[""],
        from_keys={name: rows for name, rows in found.moved.most_common() if name},
        left={str(reason): rows for reason, rows in found.left.most_common()},
        still_under=old,
        listed=[
            ListedRow(account=key_told(key), reason=str(reason)) for key, reason in found.listed
        ],
        hindrances=[str(reason) for reason in found.hindrances] if found.dry_run else [],
    )


def draw_rekey(console: Console, found: RekeyDocument) -> None:
    """Print what a run did, and the next step."""
    would = "would go" if found.dry_run else "went"
    place = f"under the key “{found.key}”" if found.key else "out of their key"
    style = "bold yellow" if found.stopped else "bold green"
    console.print(Text(f"{found.store}: {count(found.rekeyed, 'value')} {would} {place}.", style))
    console.print(
        f"{found.considered:,} considered; {found.from_no_key:,} were under no key"
        + "".join(f", {rows:,} under “{name}”" for name, rows in found.from_keys.items())
        + (f"; {found.per_second:,.0f} a second." if found.rekeyed and not found.dry_run else "."),
        highlight=False,
    )
    if found.stopped:
        console.print("Stopped on request. Run the same command again to continue.")
    for reason in found.hindrances:
        console.print(f"Nothing may be written now: {reason}.", style="yellow")
    if found.changed_meanwhile:
        console.print(f"{count(found.changed_meanwhile, 'row')} changed meanwhile; left alone.")
    if found.not_selected:
        console.print(f"{count(found.not_selected, 'row')} not selected this time.")
    _draw_left(console, found)
    console.print()
    if found.copy:
        console.print(f"The copy is {found.copy}; the file itself is as it was.", highlight=False)
    console.print(_next_step(found), highlight=False)


def _draw_left(console: Console, found: RekeyDocument) -> None:
    if not found.left:
        return
    console.print()
    table = new_table("left as they are", "rows", right=(1,))
    for reason, rows in found.left.items():
        table.add_row(reason, f"{rows:,}")
    console.print(table)
    for row in found.listed:
        console.print(f"  account {row.account!r}: {row.reason}", highlight=False)


def _next_step(found: RekeyDocument) -> str:
    """Say what comes next, and what must not be done yet."""
    if found.dry_run:
        return "Nothing was written. Next: `keys check`; then the same without --dry-run."
    if found.still_under:
        names = ", ".join(f"“{name}” ({rows:,} rows)" for name, rows in found.still_under.items())
        return f"Keep in [keys] what rows are still under: {names}."
    if found.key is None:
        return "No value needs a key here. Keep the keys as long as backups of these rows are kept."
    return (
        "No row is under another key here. Keep old keys as long as backups of these rows are "
        "kept. Next: `enforce constraint`, so that nothing else gets into the column."
    )
