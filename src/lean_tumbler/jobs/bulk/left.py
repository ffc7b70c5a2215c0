"""Rows that a bulk run leaves: why, and what would decide it."""

from __future__ import annotations

from typing import TYPE_CHECKING

from lean_tumbler.core.layering import SkipReason
from lean_tumbler.core.schemes.catalogue import DERIVATIONS, TUNED
from lean_tumbler.reports.csv_lines import csv_line
from lean_tumbler.reports.terminal import new_table

if TYPE_CHECKING:
    from collections.abc import Iterator, Mapping

    from rich.console import Console

    from lean_tumbler.jobs.bulk.summary import LayeringSummary

_ON_TOP = [name for name in TUNED if DERIVATIONS[name].on_top is not None]
# What would decide about rows that are left for a reason.
DECIDES: Mapping[SkipReason, str] = {
    SkipReason.UNKNOWN: "look at one with `explain --store NAME --account KEY`",
    SkipReason.REMNANT: (
        "these accounts need a reset; look for code that ignored an error, or stored a "
        "promise before it was kept"
    ),
    SkipReason.NO_COHORT: (
        "declare a cohort that says how they were made; `formula solve` finds it from "
        "known accounts"
    ),
    SkipReason.PLAIN_TEXT_UNDECLARED: (
        "if they are passwords, declare a cohort with plain_text = true"
    ),
    SkipReason.MAY_BE_DIGEST: (
        "declare a cohort that says how they were made; if every one is a "
        'password, one with plain_text = "all"'
    ),
    SkipReason.ONLY_SHAPE: (
        "declare a cohort for them: by its scheme, by a formula, or as plain text"
    ),
    SkipReason.WAYS_DIFFER: "a condition (`when`) that tells these cohorts apart decides it",
    SkipReason.AT_NEXT_LOGIN: (
        f"with [target] {', '.join(_ON_TOP[:-1])} or {_ON_TOP[-1]} they would be layered "
        "now; check first that every program can verify one of these"
    ),
    SkipReason.READ_BY: (
        "without read_by they would be layered now, for programs that use the check of "
        "docs/FORMATS.md"
    ),
    SkipReason.HEAD_TOO_LONG: "the next login replaces them",
    SkipReason.NOT_STORABLE: "these accounts need a reset",
}
_OF_COHORTS = frozenset(
    {SkipReason.UNPROVEN, SkipReason.WAYS_DIFFER, SkipReason.HEAD_TOO_LONG, SkipReason.ONLY_SHAPE}
)
_NAMED = 5


def _sentence(left: SkipReason, summary: LayeringSummary) -> str:
    if left not in _OF_COHORTS:
        return left.value
    named = ", ".join(name for name, _ in summary.left_of[left].most_common(_NAMED))
    return f"{left.value}: {named}"


def draw_left(console: Console, summary: LayeringSummary, *, table: bool) -> None:
    """Print why rows are left, some of their accounts, and what would decide it.

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
    open_reasons = [left for left in summary.left if left in DECIDES]
    if open_reasons:
        console.print()
    for left in open_reasons:
        keys = summary.accounts_left[left]
        more = " …" if summary.left[left] > len(keys) else ""
        named = ", ".join(repr(key) for key in keys)
        console.print(
            f"  {left.value} ({summary.key_label} {named}{more}): {DECIDES[left]}.", soft_wrap=True
        )


def left_lines(summary: LayeringSummary) -> Iterator[str]:
    """Give all rows that are left, for a file: key, reason, cohorts and what would decide it."""
    yield csv_line(("account", "reason", "cohorts", "decides"))
    for key, reason, cohort in summary.all_left:
        yield csv_line((str(key), str(reason), cohort, DECIDES.get(reason, "")))
