"""What a bulk run did, and which rows a person must look at."""

from __future__ import annotations

from typing import TYPE_CHECKING

from rich.text import Text

from lean_tumbler.reports.documents import Document, new_document
from lean_tumbler.reports.terminal import new_table
from lean_tumbler.reports.wording import count

if TYPE_CHECKING:
    from rich.console import Console

    from lean_tumbler.operations.layering import LayeringSummary


def layer_document(summary: LayeringSummary) -> Document:
    """Give what a bulk run did as a document."""
    return new_document(
        "layer",
        considered=summary.considered,
        layered=summary.layered,
        replaced=summary.replaced,
        skipped=summary.skipped,
        changed_meanwhile=summary.changed_meanwhile,
        failed=summary.failed,
        seconds=round(summary.seconds, 3),
        per_second=round(summary.per_second, 2),
        hashing_time_share=round(summary.hashing_time_share, 4),
        stopped=summary.stopped,
        left={str(reason): rows for reason, rows in summary.left.items()},
        listed=[{"account": key, "reason": reason} for key, reason in summary.listed],
    )


def draw_layer(console: Console, summary: LayeringSummary) -> None:
    """Print what a bulk run did, and which rows a person must look at."""
    done = f"{count(summary.layered, 'row')} layered, {summary.replaced:,} replaced"
    style = "bold yellow" if summary.stopped or summary.failed else "bold green"
    console.print(Text(f"{done}; {summary.considered:,} considered.", style))
    if summary.stopped:
        console.print("Stopped on request. Run the same command again to continue.")
    if summary.changed_meanwhile:
        console.print(f"{count(summary.changed_meanwhile, 'row')} changed meanwhile; left alone.")
    if summary.failed:
        console.print(f"{count(summary.failed, 'row')} failed.")
    table = new_table("left as they are", "rows", right=(1,))
    for left, rows in summary.left.most_common():
        table.add_row(left.value, f"{rows:,}")
    if summary.left:
        console.print()
        console.print(table)
        console.print()
    for key, reason in summary.listed:
        console.print(f"  account {key!r}: {reason}", highlight=False)
    if summary.written:
        console.print(
            f"{summary.seconds:.1f} s, {summary.per_second:.1f} rows/s; "
            f"{count(summary.workers, 'worker')} derived for "
            f"{100 * summary.hashing_time_share:.0f} % of that time."
        )
        console.print(
            "The live column is layered; backups, logs, replicas and old dumps are not.",
            style="dim",
        )
