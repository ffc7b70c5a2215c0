"""What a bulk run did, and which rows a person must look at."""

from __future__ import annotations

from typing import TYPE_CHECKING

from rich.text import Text

from lean_tumbler.reports.documents import Document, new_document
from lean_tumbler.reports.proofs import draw_proofs, proof_document
from lean_tumbler.reports.skipped import draw_left
from lean_tumbler.reports.terminal import new_table
from lean_tumbler.reports.wording import count, duration, estimate

if TYPE_CHECKING:
    from rich.console import Console
    from rich.table import Table

    from lean_tumbler.migration.bulk.summary import LayeringSummary


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
        dry_run=summary.dry_run,
        expected_seconds=round(summary.expected_seconds, 1) if summary.dry_run else None,
        cohorts=dict(summary.cohorts),
        hindrances=[str(reason) for reason in summary.hindrances],
        proofs={key.label: proof_document(proof) for key, proof in summary.proofs.items()},
        proof_lapsed=summary.lapsed or None,
        suspected=dict(summary.suspected),
        not_selected=summary.not_selected,
        left={str(reason): rows for reason, rows in summary.left.items()},
        copy=summary.copy or None,
        waited_seconds=round(summary.waited_seconds, 1),
        listed=[{"account": key, "reason": reason} for key, reason in summary.listed],
    )


def draw_layer(console: Console, summary: LayeringSummary, *, store: str) -> None:
    """Print what a bulk run did, and which rows a person must look at."""
    would = " would be" if summary.dry_run else ""
    done = f"{count(summary.layered, 'row')}{would} layered, {summary.replaced:,} replaced"
    incomplete = summary.stopped or summary.failed or summary.unproven
    style = "bold yellow" if incomplete else "bold green"
    console.print(Text(f"{done}; {summary.considered:,} considered.", style))
    if summary.stopped:
        console.print("Stopped on request. Run the same command again to continue.")
    if summary.changed_meanwhile:
        console.print(f"{count(summary.changed_meanwhile, 'row')} changed meanwhile; left alone.")
    if summary.failed:
        console.print(f"{count(summary.failed, 'row')} failed.")
    if summary.waited_seconds:
        console.print(f"Waited {duration(summary.waited_seconds)} for replicas.")
    if summary.not_selected:
        console.print(f"{count(summary.not_selected, 'row')} not selected this time.")
    if summary.cohorts:
        console.print()
        console.print(_cohorts(summary))
    draw_left(console, summary, table=True)
    draw_proofs(console, summary, store=store)
    if summary.dry_run or summary.written:
        console.print()
    _draw_end(console, summary)


def _draw_end(console: Console, summary: LayeringSummary) -> None:
    if summary.dry_run:
        took = estimate(summary.expected_seconds)
        console.print(f"It would take {took} here with {count(summary.workers, 'worker')}.")
        for reason in summary.hindrances:
            console.print(Text(f"Nothing can be written yet: {reason}.", "yellow"))
            console.print(f"  Next: {reason.remedy}.", soft_wrap=True)
        console.print("Nothing was written. Try a part first: --share 1%.", style="dim")
    elif summary.written:
        console.print(
            f"{summary.seconds:.1f} s, {summary.per_second:.1f} rows/s; "
            f"{count(summary.workers, 'worker')} derived for "
            f"{100 * summary.hashing_time_share:.0f} % of that time."
        )
        if summary.copy:
            console.print(f"The copy is {summary.copy}; the file itself is as it was.")
        console.print(
            "Next: `lean-tumbler progress` as people log in. Dumps, logs and histories may still "
            "hold the old values: `lean-tumbler residue PLACE…` finds them.",
            style="dim",
        )


def _cohorts(summary: LayeringSummary) -> Table:
    table = new_table("cohort", "rows", right=(1,))
    for cohort, rows in summary.cohorts.most_common():
        table.add_row(cohort, f"{rows:,}")
    return table
