"""What `embed` wrote, or what keeps it from writing."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated

from rich.text import Text

from lean_tumbler.core.embedding.heads import Standing
from lean_tumbler.reports.documents import Document, DocumentPart, StoreName, named
from lean_tumbler.reports.terminal import new_table
from lean_tumbler.reports.wording import count

if TYPE_CHECKING:
    from rich.console import Console


class EmbedDocument(Document, tag=named("embed")):
    """A file that was written, or what keeps it from being written."""

    store: StoreName
    language: Annotated[str, "the language"]
    file: Annotated[str | None, "the file; null where none was written"]
    test: Annotated[str | None, "its test; null where none was written"]
    rows: Annotated[int, "rows that were gone through"]
    lacks: Annotated[list[str], "what the language lacks for this store"]
    not_checked: Annotated[dict[str, int], "rows that the file cannot check, by what they are of"]
    needs: Annotated[list[str], "what the file needs beside the language"]
    is_finished: Annotated[bool, "whether no legacy value was left, so that a few lines are enough"]


class StandingPart(DocumentPart):
    """One file, and how it stands to the policy."""

    file: Annotated[str, "the file"]
    is_current: Annotated[bool, "whether it is what would be written now"]
    standing: Annotated[str, "how it stands to the policy"]


class EmbedCheckDocument(Document, tag=named("embed-check")):
    """How files stand to the policy."""

    files: Annotated[list[StandingPart], "the files that were named"]


class LanguagePart(DocumentPart):
    """What one language can do."""

    name: Annotated[str, "as `embed` takes it"]
    title: Annotated[str, "the language with the version that is meant"]
    writes: Annotated[list[str], "schemes that new values can be of"]
    verifies: Annotated[list[str], "schemes whose values are checked where they stand alone"]
    layers: Annotated[list[str], "schemes that may lie over a digest"]
    needs: Annotated[list[str], "what it needs for them beside the language"]


class LanguagesDocument(Document, tag=named("embed-languages")):
    """The languages that a check can be written in."""

    languages: Annotated[list[LanguagePart], "each language"]


def draw_embed(console: Console, found: EmbedDocument) -> None:
    """Print what was written, and the next step."""
    if found.file is None:
        _draw_hindrance(console, found)
        return
    console.print(Text(f"{found.file}: checks the logins of “{found.store}”.", "bold green"))
    if found.is_finished:
        console.print(
            "No legacy value is left. Take its two functions into the application's own code; the "
            "file can go, and its name in [store] embedded too."
        )
        return
    if found.rows:
        read = found.rows - sum(found.not_checked.values())
        console.print(
            f"Each of {count(found.rows, 'row')} was read as the file reads it and as `admit` "
            f"does: {read:,} alike."
        )
    _draw_rows(console, found)
    for need in found.needs:
        console.print(f"It needs {need}.", highlight=False)
    if found.test:
        console.print(f"Its test is {found.test}; run it where the application is tested.")
    console.print()
    console.print(
        f"Next: read it, call it where the old code checks passwords, and name it in the policy: "
        f'[store.{found.store}] embedded = ["{found.file}"]. Then `layer` waits for it.',
        highlight=False,
        markup=False,
    )


def _draw_hindrance(console: Console, found: EmbedDocument) -> None:
    console.print(Text("No file was written.", "bold yellow"))
    for lack in found.lacks:
        console.print(f"{found.language} lacks {lack}.", highlight=False)
    if found.lacks:
        console.print("Next: `embed --list` shows which targets each language has.")
        return
    _draw_rows(console, found)
    console.print(
        "Next: `layer`, which replaces what can be replaced, and the same again; or --leave-out, "
        "and these accounts get no answer from the file."
    )


def _draw_rows(console: Console, found: EmbedDocument) -> None:
    if not found.not_checked:
        return
    table = new_table("rows that the file cannot check", "rows", right=(1,))
    for label, rows in found.not_checked.items():
        table.add_row(label, f"{rows:,}")
    console.print(table)


def draw_standing(console: Console, found: EmbedCheckDocument) -> None:
    """Print how files stand to the policy."""
    for each in found.files:
        style = "green" if each.is_current else "bold yellow"
        console.print(Text(f"{each.file}: {each.standing}.", style))
        if each.standing == Standing.BEHIND:
            console.print("Next: write it again with `embed`, and deploy it before `layer` runs.")
        if each.standing == Standing.EDITED:
            console.print("Next: write it again with `embed`; what was changed belongs beside it.")


def draw_languages(console: Console, found: LanguagesDocument) -> None:
    """Print what each language can do."""
    table = new_table("language", "new values", "also checks", "over digests")
    for each in found.languages:
        table.add_row(
            f"{each.name} ({each.title})", "\n".join(each.writes),
            "\n".join(name for name in each.verifies if name not in each.writes) or "–",
            "\n".join(each.layers),
        )  # fmt: skip
    console.print(table)
    for each in found.languages:
        for need in each.needs:
            console.print(f"{each.name} needs {need}", highlight=False)
