"""What `evidence add` took up, and what it left."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated

from rich.text import Text

from lean_tumbler.reports.documents import Document, StoreName, named
from lean_tumbler.reports.terminal import new_table
from lean_tumbler.reports.wording import count

if TYPE_CHECKING:
    from rich.console import Console


class EvidenceDocument(Document, tag=named("evidence-add")):
    """What was taken up of a file of verdicts."""

    store: StoreName
    lines: Annotated[int, "lines that were read"]
    used: Annotated[int, "lines that were taken up"]
    against: Annotated[int, "lines of these that speak against their cohort"]
    not_used: Annotated[dict[str, int], "lines that were not used, by the reason"]


def draw_evidence(console: Console, found: EvidenceDocument) -> None:
    """Print what was taken up, and the next step."""
    style = "bold green" if found.used and not found.against else "bold yellow"
    told = f"{count(found.used, 'verdict')} of {count(found.lines, 'line')} taken up"
    console.print(Text(f"{found.store}: {told}.", style))
    if found.against:
        console.print(f"{count(found.against, 'verdict')} against: the old code said otherwise.")
    if found.not_used:
        table = new_table("lines that were not used", "lines", right=(1,))
        for reason, lines in found.not_used.items():
            table.add_row(reason, f"{lines:,}")
        console.print(table)
    console.print()
    console.print(
        f"Next: `lean-tumbler plan --store {found.store}` says what is proven now.", highlight=False
    )
