"""Who must do what after a leak: as text, as a document, and as a list for the mails."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING, Annotated

from rich.text import Text

from lean_tumbler.core.grades import BELOW_FLOOR, Grade
from lean_tumbler.core.tuning.leak import PERIODS, SinceThen, Urgency
from lean_tumbler.core.tuning.popularity import Opened
from lean_tumbler.reports.csv_lines import csv_line
from lean_tumbler.reports.documents import Document, DocumentPart, StoreName, named
from lean_tumbler.reports.terminal import new_table
from lean_tumbler.reports.wording import count, share_cracked

if TYPE_CHECKING:
    from collections.abc import Iterator

    from rich.console import Console

    from lean_tumbler.jobs.exposed.exposing import Exposed, ExposedGroup

_STYLES = {Urgency.TODAY: "bold red", Urgency.NEXT_LOGIN: "yellow", Urgency.LOOK: "yellow"}


class ExposedKind(DocumentPart):
    """Accounts that the copy holds alike, and that must do the same."""

    scheme: Annotated[str, "what the copy holds"]
    grade: Annotated[Grade, "its grade"]
    salted: Annotated[bool, "whether a salt goes in"]
    since: Annotated[SinceThen, "what has happened to them since the leak, as far as is known"]
    administrators: Annotated[bool, "whether they are administrators"]
    accounts: Annotated[int, "accounts"]
    guesses_per_second: Annotated[float | None, "guesses a second on that hardware"]
    opened: Annotated[dict[str, Opened], "by time, what falls of them"]
    urgency: Annotated[Urgency, "what has to be done"]


class ExposedDocument(Document, tag=named("exposed")):
    """Who must do what after a leak."""

    store: StoreName
    since: Annotated[str, "the day of the leak"]
    by_copy: Annotated[bool, "whether the copy that leaked was read"]
    hardware: Annotated[str, "the attacker's hardware"]
    accounts: Annotated[int, "accounts that the copy holds"]
    unreadable_rows: Annotated[int, "rows that could not be read"]
    urgencies: Annotated[dict[str, int], "accounts by what they have to do"]
    statement: Annotated[list[str], "sentences for the authority's form"]
    groups: Annotated[list[ExposedKind], "accounts that are alike, the most urgent first"]

    def with_urgency(self, urgent: Urgency) -> int:
        """Count the accounts that must do this."""
        return self.urgencies[str(urgent)]


def exposed_document(found: Exposed) -> ExposedDocument:
    """Give what was found as a document."""
    return ExposedDocument.of(
        found,
        store=found.name,
        since=found.since.isoformat(),
        accounts=found.in_copy,
        unreadable_rows=found.unreadable,
        urgencies={
            str(urgent): sum(g.accounts for g in found.groups if g.urgency is urgent)
            for urgent in Urgency
        },
        statement=list(statement(found)),
        groups=[_group(group) for group in found.groups],
    )


def _group(group: ExposedGroup) -> ExposedKind:
    rate = group.kind.guesses_per_second
    return ExposedKind.of(
        group,
        scheme=group.kind.words,
        grade=group.kind.grade,
        salted=group.kind.salted,
        guesses_per_second=rate if rate is not None and math.isfinite(rate) else None,
        opened=dict(group.falls),
    )


def reset_list(found: Exposed) -> Iterator[str]:
    """Give the accounts that must be reset today as CSV, administrators first."""
    yield csv_line(("account", "login", "administrator", "urgency", "because"))
    for row in found.rows.iter_rows(named=True):
        if row["urgency"] == Urgency.TODAY:
            yield csv_line((
                str(row["account"]), row["login"] or "", "yes" if row["privileged"] else "no",
                row["urgency"], row["since"],
            ))  # fmt: skip


def statement(found: Exposed) -> Iterator[str]:
    """Say in two sentences how many accounts the copy holds, how protected, and whence known."""
    grades = found.grades
    readable = grades.get(Grade.READABLE, 0)
    weak = sum(grades.get(grade, 0) for grade in BELOW_FLOOR) - readable
    at_floor = grades.get(Grade.CURRENT, 0) + grades.get(Grade.LAYERED, 0)
    not_known = found.in_copy - sum(grades.values())
    parts = [
        f"{readable:,} readable" if readable else "",
        f"{weak:,} under a protection below today's recommendations" if weak else "",
        f"{at_floor:,} under a slow, salted hash at or above them" if at_floor else "",
        f"{grades.get(Grade.LOCKED, 0):,} locked" if grades.get(Grade.LOCKED) else "",
        f"{grades.get(Grade.UNKNOWN, 0):,} not understood" if grades.get(Grade.UNKNOWN) else "",
        f"{not_known:,} in a state that is not known" if not_known else "",
    ]
    held = ", ".join(part for part in parts if part)
    accounts = count(found.in_copy, "account")
    yield f"The copy of {found.since} holds the passwords of {accounts}: {held}."
    source = (
        "This was counted in the copy itself."
        if found.by_copy
        else "This was counted in today's table, with what has been written since taken for the "
        "worst that it can have been; the copy itself was not read."
    )
    yield source


def draw_exposed(console: Console, found: ExposedDocument, *, listed: str) -> None:
    """Print what must be done, then why.

    Args:
        console: to print to.
        found: what was found.
        listed: the file with the list; empty without one.
    """
    today, later = found.with_urgency(Urgency.TODAY), found.with_urgency(Urgency.NEXT_LOGIN)
    style = "bold red" if today else "bold green"
    console.print(
        Text(
            f"{count(today, 'account')} must be reset today, {later:,} at their next login; "
            f"{found.with_urgency(Urgency.NOTHING):,} need do nothing.",
            style,
        )
    )
    if look := found.with_urgency(Urgency.LOOK):
        console.print(f"{count(look, 'value')} not understood: `lean-tumbler audit` shows them.")
    console.print()
    _draw_groups(console, found)
    console.print(
        f"The share that opens within a time, if an attacker with {found.hardware} spends it on "
        "these accounts alone; ≤ where no list of passwords reaches. docs/ATTACKER.md says how far "
        "off that may be. Of values at the floor only likely passwords fall. A key over values "
        "does not count: it may be younger than the copy, or have leaked too.",
        style="dim",
        highlight=False,
    )
    console.print()
    console.print("For the authority's form:")
    for sentence in found.statement:
        console.print(f"  {sentence}", highlight=False)
    console.print()
    if found.with_urgency(Urgency.TODAY) and any(
        group.since is SinceThen.UPGRADED for group in found.groups
    ):
        console.print(
            "Give the copy itself with --copy: it shows what it holds of the values written since."
        )
    if listed:
        console.print(f"The list for the mails is {listed}.", highlight=False)
        console.print(
            f"Next: `lean-tumbler lock-dormant --accounts {listed} --backup FILE --to PUBLICKEY` "
            "closes exactly the accounts on that list."
        )
    elif today or later:
        console.print("Next: `--list FILE` writes the accounts for the mails.")


def _draw_groups(console: Console, found: ExposedDocument) -> None:
    table = new_table(
        "what to do", "who", "in the copy", "grade", "accounts", *(name for name, _ in PERIODS),
        "since", right=(4, 5, 6, 7, 8),
    )  # fmt: skip
    for group in found.groups:
        is_out = group.urgency is Urgency.NOTHING and group.since is not SinceThen.NOTHING
        falls = [
            "" if is_out or group.grade is Grade.LOCKED
            else share_cracked(part, at_most="≤")
            for part in group.opened.values()
        ]  # fmt: skip
        since = "" if group.since is SinceThen.NOTHING else group.since.partition(":")[0]
        table.add_row(
            Text(group.urgency, _STYLES.get(group.urgency, "")),
            "admins" if group.administrators else "",
            group.scheme, group.grade, f"{group.accounts:,}", *falls, since,
        )  # fmt: skip
    console.print(table)
    console.print()
