"""What a bulk run did, and which rows a person must look at."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated

from rich.text import Text

from lean_tumbler.reports.documents import (
    Document,
    ListedRow,
    RowsByReason,
    SpreadPart,
    key_told,
    named,
)
from lean_tumbler.reports.proofs import ProofPart, draw_proofs, proof_part
from lean_tumbler.reports.skipped import draw_left
from lean_tumbler.reports.terminal import new_table
from lean_tumbler.reports.wording import count, duration, spread

if TYPE_CHECKING:
    from rich.console import Console
    from rich.table import Table

    from lean_tumbler.migration.bulk.summary import LayeringSummary


class LayerDocument(Document, tag=named("layer")):
    """What a bulk run did, or a dry run would do."""

    considered: Annotated[int, "rows that were looked at"]
    layered: Annotated[int, "rows that are, or would be, layered"]
    replaced: Annotated[int, "rows whose password was known, and that got the target"]
    skipped: Annotated[int, "rows that were left"]
    changed_meanwhile: Annotated[int, "rows that somebody else wrote meanwhile"]
    failed: Annotated[int, "rows that could not be written"]
    seconds: Annotated[float, "how long it took"]
    per_second: Annotated[float, "rows written a second"]
    hashing_time_share: Annotated[float, "part of the workers' time that hashing took, 0 to 1"]
    stopped: Annotated[bool, "whether it was stopped part-way"]
    dry_run: Annotated[bool, "whether nothing was to be written"]
    expected: Annotated[
        SpreadPart | None, "of a dry run, the seconds that the whole step will take"
    ]
    cohorts: Annotated[dict[str, int], "rows that were written, by cohort"]
    hindrances: Annotated[list[str], "why nothing may be written yet, whatever stands in the rows"]
    proofs: Annotated[dict[str, ProofPart], "evidence by cohort"]
    proof_lapsed: Annotated[str | None, "why earlier proof does not count; null where it does"]
    suspected: Annotated[dict[str, int], "texts that as a group may be something else, by what"]
    not_selected: Annotated[int, "rows that options leave out"]
    left: RowsByReason
    copy: Annotated[str | None, "the copy that was written, where the store is a file"]
    waited_seconds: Annotated[float, "time that was waited for replicas and pace"]
    listed: Annotated[list[ListedRow], "the first rows that a person must look at"]


def layer_document(summary: LayeringSummary) -> LayerDocument:
    """Give what a bulk run did as a document."""
    return LayerDocument.of(
        summary,
        expected=summary.expected and SpreadPart.of(summary.expected),
        proofs={key.label: proof_part(proof) for key, proof in summary.proofs.items()},
        proof_lapsed=summary.lapsed or None,
        copy=summary.copy or None,
        listed=[ListedRow(account=key_told(key), reason=reason) for key, reason in summary.listed],
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
    if summary.expected is not None:
        took = spread(summary.expected.low, summary.expected.high)
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
