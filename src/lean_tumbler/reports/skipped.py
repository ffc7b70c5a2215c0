"""Rows that a bulk run leaves: why, and what settles it."""

from __future__ import annotations

from typing import TYPE_CHECKING

from lean_tumbler.core.reasons import Reason
from lean_tumbler.reports.csv_lines import csv_line
from lean_tumbler.reports.terminal import new_table

if TYPE_CHECKING:
    from collections.abc import Iterator

    from rich.console import Console

    from lean_tumbler.migration.bulk.summary import LayeringSummary

# Reasons that are of cohorts, which are named beside.
_OF_COHORTS = frozenset(
    {
        *(Reason.UNPROVEN, Reason.TOO_FEW, Reason.CONTRADICTED, Reason.STRUCTURED_TEXT),
        *(Reason.CAME_LATER, Reason.STRATUM_UNKNOWN, Reason.WAYS_DIFFER, Reason.TWO_CLAIM_IT),
        *(Reason.HEAD_TOO_LONG, Reason.ONLY_SHAPE),
    }
)
# What settles them is said of each cohort, beside its proof.
_TOLD_BY_PROOF = frozenset({Reason.UNPROVEN, Reason.TOO_FEW, Reason.CONTRADICTED})
_NAMED = 5


def _sentence(left: Reason, summary: LayeringSummary) -> str:
    if left not in _OF_COHORTS:
        return left.value
    named = ", ".join(name for name, _ in summary.left_of[left].most_common(_NAMED))
    return f"{left.value}: {named}"


def draw_left(console: Console, summary: LayeringSummary, *, table: bool) -> None:
    """Print why rows are left, some of their accounts, and what settles it.

    Args:
        console: where.
        summary: of the run.
        table: whether the counts are to be printed; a plan has them in its own table.
    """
    if table and summary.left:
        counts = new_table("left as they are", "rows", right=(1,))
        for left, rows in summary.left.most_common():
            counts.add_row(_sentence(left, summary), f"{rows:,}")
        console.print()
        console.print(counts)
    open_reasons = [left for left in summary.left if left.remedy and left not in _TOLD_BY_PROOF]
    if open_reasons:
        console.print()
    for left in open_reasons:
        keys = summary.accounts_left[left]
        more = " …" if summary.left[left] > len(keys) else ""
        named = ", ".join(repr(key) for key in keys)
        console.print(
            f"  {left.value} ({summary.key_label} {named}{more}): {left.remedy}.", soft_wrap=True
        )


def left_lines(summary: LayeringSummary) -> Iterator[str]:
    """Give all rows that are left, for a file: key, reason, cohorts and what settles it."""
    yield csv_line(("account", "reason", "cohorts", "settled_by"))
    for key, reason, cohort in summary.all_left:
        yield csv_line((str(key), str(reason), cohort, reason.remedy))
