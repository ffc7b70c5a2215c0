"""What locking did, administrators apart, and the list for the mail that offers a reset."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated

from rich.text import Text

from lean_tumbler.reports.csv_lines import csv_line
from lean_tumbler.reports.documents import (
    Document,
    DocumentPart,
    Key,
    RowsByReason,
    key_told,
    named,
)
from lean_tumbler.reports.terminal import new_table
from lean_tumbler.reports.wording import count

if TYPE_CHECKING:
    from collections.abc import Iterator

    from rich.console import Console

    from lean_tumbler.jobs.lock_dormant.locking import Dormant, Locked

_SHOWN = 20


class LockedAdministrator(DocumentPart):
    """An administrator's account that was locked."""

    account: Key
    last_seen: Annotated[str, "when it was last seen; empty for never"]


class LockDormantDocument(Document, tag=named("lock-dormant")):
    """What a run did, or a dry run would do."""

    considered: Annotated[int, "rows that were looked at"]
    locked: Annotated[int, "accounts that are, or would be, locked"]
    dry_run: Annotated[bool, "whether nothing was to be written"]
    changed_meanwhile: Annotated[int, "accounts that came back meanwhile"]
    not_selected: Annotated[int, "accounts that options leave out"]
    not_in_table: Annotated[int, "accounts of the list that are not in the table"]
    stopped: Annotated[bool, "whether it was stopped part-way"]
    copy: Annotated[str | None, "the copy that was written, where the store is a file"]
    left: RowsByReason
    administrators: Annotated[list[LockedAdministrator], "administrators among them"]


def locked_document(locked: Locked) -> LockDormantDocument:
    """Give what a run did as a document."""
    return LockDormantDocument.of(
        locked,
        not_in_table=_missing(locked),
        left={str(reason): rows for reason, rows in locked.left.most_common()},
        administrators=[
            LockedAdministrator(account=key_told(account.key), last_seen=account.last_seen)
            for account in locked.administrators
        ],
    )


def _missing(locked: Locked) -> int:
    """Count accounts of a list that no row has; a run that was stopped has not looked at all."""
    if locked.wanted is None or locked.stopped:
        return 0
    return max(0, locked.wanted - locked.listed)


def reset_list(locked: Locked) -> Iterator[str]:
    """Give the accounts as CSV, administrators first: a spreadsheet runs none of its cells."""
    yield csv_line(("account", "login", "last_seen", "grade", "administrator"))
    ordered = sorted(locked.accounts, key=lambda account: not account.administrator)
    for account in ordered:
        yield csv_line(_cells(account))


def _cells(account: Dormant) -> tuple[str, ...]:
    return (
        str(account.key),
        account.login or "",
        account.last_seen,
        str(account.grade),
        "yes" if account.administrator else "no",
    )


def draw_locked(console: Console, locked: LockDormantDocument, *, listed: str) -> None:
    """Print what a run did.

    Args:
        console: to print to.
        locked: what it did.
        listed: the file with the list; empty without one.
    """
    would = "would be locked" if locked.dry_run else "locked"
    style = "bold yellow" if locked.stopped else "bold green"
    done = f"{count(locked.locked, 'account')} {would}; {locked.considered:,} considered."
    console.print(Text(done, style))
    if locked.stopped:
        console.print("Stopped on request. Run the same command again to continue.")
    _draw_others(console, locked)
    _draw_administrators(console, locked)
    if locked.left:
        console.print()
        table = new_table("left as they are", "accounts", right=(1,))
        for reason, rows in locked.left.items():
            table.add_row(reason, f"{rows:,}")
        console.print(table)
    console.print()
    if locked.dry_run:
        console.print("Nothing was written. Try a part first: --share 1%.", style="dim")
    elif locked.locked:
        console.print("Whoever comes back needs a reset: no password opens these accounts now.")
        console.print("`lean-tumbler undo` puts the values back, from the sealed backup.")
    if locked.copy:
        console.print(f"The copy is {locked.copy}; the file itself is as it was.", highlight=False)
    if listed:
        console.print(f"The list for the reset mail is {listed}.", highlight=False)


def _draw_others(console: Console, locked: LockDormantDocument) -> None:
    """Count what was not locked although it was looked at, or asked for."""
    if locked.changed_meanwhile:
        console.print(
            f"{count(locked.changed_meanwhile, 'account')} came back meanwhile; left alone."
        )
    if locked.not_selected:
        console.print(f"{count(locked.not_selected, 'account')} not selected this time.")
    if missing := locked.not_in_table:
        text = f"{count(missing, 'account')} of the list not found in the table."
        console.print(Text(text, "bold yellow"))


def _draw_administrators(console: Console, locked: LockDormantDocument) -> None:
    administrators = locked.administrators
    if not administrators:
        return
    console.print()
    console.print(Text(f"Among them {count(len(administrators), 'administrator')}:", "bold"))
    for account in administrators[:_SHOWN]:
        seen = account.last_seen or "never seen"
        console.print(f"  account {account.account!r}, {seen}", highlight=False)
