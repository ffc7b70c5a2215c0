"""Known accounts: which are accepted, and what is near where one is not."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated

from rich.text import Text

from lean_tumbler.core.login.passwords import AS_TYPED
from lean_tumbler.reports.documents import Document, DocumentPart, named
from lean_tumbler.reports.terminal import new_table
from lean_tumbler.reports.wording import count

if TYPE_CHECKING:
    from collections.abc import Sequence

    from rich.console import Console

    from lean_tumbler.stores.scans.verification import CheckedAccount


class VerifiedAccount(DocumentPart):
    """A known account's result."""

    login: Annotated[str, "its login"]
    accepted: Annotated[bool, "whether its password opens it"]
    scheme: Annotated[str | None, "the scheme of its value; null where no row was read"]
    layered_over: Annotated[str | None, "what lies below the layer; null without one"]
    formula: Annotated[str | None, "the formula; null where the value describes itself"]
    near_miss: Annotated[str, "the change that would make it fit; may be empty"]
    form: Annotated[str, "which form of the password opened it; empty where none did"]


class VerifyDocument(Document, tag=named("verify")):
    """Known accounts, and which are accepted."""

    known: Annotated[int, "known accounts"]
    accepted: Annotated[int, "known accounts that open"]
    rejected: Annotated[int, "known accounts that do not"]
    guessed: Annotated[int, "rows that likely passwords opened, where no accounts were given"]
    accounts: Annotated[list[VerifiedAccount], "the accounts, in the order of the file"]


def verify_document(accounts: Sequence[CheckedAccount], *, guessed: int = 0) -> VerifyDocument:
    """Give each known account's result, or how many rows likely passwords opened."""
    accepted = sum(account.accepted for account in accounts)
    return VerifyDocument(
        known=len(accounts),
        accepted=accepted,
        rejected=len(accounts) - accepted,
        guessed=guessed,
        accounts=[VerifiedAccount.of(account) for account in accounts],
    )


def draw_guessed(console: Console, document: VerifyDocument, *, store: str) -> None:
    """Print how many rows likely passwords opened, and what that is worth."""
    rows = document.guessed
    if not rows:
        text = "No row opens by a likely password: nothing was proven."
        console.print(Text(text, "bold yellow"))
        console.print("Next: known accounts, as CSV login,password: `lean-tumbler verify KNOWN`.")
        return
    opened = count(rows, "row")
    console.print(Text(f"{opened} opened by a likely password; none is printed or kept.", "bold"))
    console.print(
        "They prove how the rows of their cohorts were made; they lean to weak passwords."
    )
    console.print(f"Next: `lean-tumbler plan --store {store}` says what that proves.")


def draw_verify(console: Console, document: VerifyDocument, *, store: str) -> None:
    """Print which known accounts are accepted, the rejected ones with what is near.

    Args:
        console: where.
        document: the results.
        store: that holds them; empty where the file did.
    """
    accounts = document.accounts
    rejected = [account for account in accounts if not account.accepted]
    if not rejected:
        console.print(Text(f"All {count(len(accounts), 'known account')} accepted.", "bold green"))
    else:
        text = f"{len(rejected):,} of {count(len(accounts), 'known account')} rejected."
        console.print(Text(text, "bold red"))
        table = new_table("login", "read as", "near miss")
        for account in rejected:
            table.add_row(account.login, account.scheme or "", account.near_miss)
        console.print()
        console.print(table)
        console.print()
    tally: dict[tuple[str, str], int] = {}
    for account in accounts:
        if account.accepted:
            over = account.layered_over
            scheme = f"{account.scheme} over {over}" if over else account.scheme or ""
            as_typed = account.form == AS_TYPED
            formula = account.formula or "none: describes itself"
            key = (scheme, formula if as_typed else f"{formula} ({account.form} of what was typed)")
            tally[key] = tally.get(key, 0) + 1
    if tally:
        table = new_table("accepted as", "by formula", "accounts", right=(2,))
        for (scheme, formula), number in sorted(tally.items(), key=lambda item: -item[1]):
            table.add_row(scheme, formula, f"{number:,}")
        console.print()
        console.print(table)
        console.print()
    if store and not rejected:
        console.print(f"Next: `lean-tumbler plan --store {store}` says what that proves.")
