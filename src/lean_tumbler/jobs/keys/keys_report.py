"""What each key opens: for people, and for programs."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated

from rich.text import Text

from lean_tumbler.core.keyring import Closed
from lean_tumbler.reports.documents import (
    Document,
    DocumentPart,
    Key,
    Rows,
    StoreName,
    key_told,
    named,
)
from lean_tumbler.reports.wording import count

if TYPE_CHECKING:
    from rich.console import Console

    from lean_tumbler.jobs.keys.checking import KeysTried


class TriedKey(DocumentPart):
    """One key on one store."""

    store: StoreName
    key: Annotated[str, "its name"]
    rows: Rows
    opened: Annotated[int, "rows that it opens"]
    missing: Annotated[int, "rows that do not open because it is not there"]
    another: Annotated[int, "rows that were made with another key of that name, or another realm"]
    moved: Annotated[int, "rows that were moved from another row, or damaged"]
    accounts: Annotated[list[Key], "the first of these"]


class KeysDocument(Document, tag=named("keys-check")):
    """What each key opens."""

    keyed_by: Annotated[str, "the key of new values; empty for none"]
    all_open: Annotated[bool, "whether every keyed value opens, and new ones can be written"]
    usable: Annotated[list[str], "keys that can go over stored values"]
    problems: Annotated[dict[str, str], "keys that cannot, with the reason"]
    stores: Annotated[list[TriedKey], "one entry for each key and store"]
    without_key: Annotated[
        dict[str, int], "values under no key by store, but for markers of locked accounts"
    ]


def keys_document(found: KeysTried) -> KeysDocument:
    """Give it as a document."""
    tried = [
        TriedKey(
            store=each.store,
            key=each.key,
            rows=each.rows,
            opened=each.opened,
            missing=each.closed[Closed.KEY_MISSING],
            another=each.closed[Closed.KEY_WRONG],
            moved=each.closed[Closed.MOVED],
            accounts=[key_told(key) for key in each.moved],
        )
        for each in found.tried
    ]
    is_ready = not found.sealed_by or found.sealed_by in found.usable
    return KeysDocument(
        keyed_by=found.sealed_by,
        all_open=is_ready and all(each.opened == each.rows for each in tried),
        usable=found.usable,
        problems=found.problems,
        stores=tried,
        without_key=found.without_key,
    )


def draw_keys(console: Console, found: KeysDocument) -> None:
    """Print what each key opens, and what to do."""
    closed = sum(each.rows - each.opened for each in found.stores)
    if closed:
        console.print(Text(f"{count(closed, 'keyed value')} cannot be opened.", "bold red"))
    elif found.keyed_by and found.keyed_by not in found.usable:
        console.print(Text("New values cannot be written: their key is not there.", "bold red"))
    elif found.stores:
        console.print(Text("Every keyed value opens.", "bold green"))
    else:
        console.print(Text("No value is under a key.", "bold"))
    for name in found.usable:
        console.print(f"“{name}” is there, and random as it must be.", highlight=False)
    for name, problem in found.problems.items():
        said = problem if problem.startswith("[keys]") else f"“{name}” {problem}."
        console.print(Text(said, "yellow"))
    for each in found.stores:
        _draw_tried(console, each)
    for store, rows in found.without_key.items():
        if rows and found.keyed_by:
            console.print(f"{store}: {count(rows, 'value')} under no key.", highlight=False)
    console.print(_next_step(found, closed), highlight=False)


def _draw_tried(console: Console, tried: TriedKey) -> None:
    console.print(
        f"{tried.store}: “{tried.key}” opens {tried.opened:,} of {count(tried.rows, 'value')}.",
        highlight=False,
    )
    if tried.missing:
        console.print("  It is not there; see [keys], and the realm in [target].")
    if tried.another:
        console.print(f"  {count(tried.another, 'value')} made with another key, or realm.")
    if tried.moved:
        named_ = ", ".join(map(repr, tried.accounts))
        console.print(
            f"  {count(tried.moved, 'value')} moved from another row, or damaged: account {named_}",
            highlight=False,
        )


def _next_step(found: KeysDocument, closed: int) -> str:
    if closed and closed == sum(each.moved for each in found.stores):
        return (
            "Next: find who wrote these values; then put the accounts' own back from a backup, or "
            "give new ones with `set-password`."
        )
    if closed or (found.keyed_by and found.keyed_by not in found.usable):
        return "Next: put the right keys into [keys] and try again. Nothing was written."
    if found.keyed_by and any(found.without_key.values()):
        return "Next: `lean-tumbler rekey --dry-run`."
    if not found.keyed_by:
        return "Next: `lean-tumbler keys new NAME --over-values`, and keyed_by in [target]."
    return "Nothing to do."
