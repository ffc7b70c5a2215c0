"""What is known of each cohort, and what would make it surer."""

from __future__ import annotations

import shlex
from typing import TYPE_CHECKING

from rich.text import Text

from lean_tumbler.core.reading.evidence import Counts, Proof
from lean_tumbler.reports.wording import count

if TYPE_CHECKING:
    from collections.abc import Mapping

    from rich.console import Console

    from lean_tumbler.jobs.bulk.summary import LayeringSummary


def proof_sentence(counts: Counts) -> str:
    """Say what known and observed logins show of a cohort, and the bound that follows."""
    parts = []
    if counts.accepted or counts.refused:
        known = counts.accepted + counts.refused
        parts.append(f"{counts.accepted:,} of {count(known, 'known account')}")
    if counts.agreed or counts.differed:
        seen = counts.agreed + counts.differed
        parts.append(f"{counts.agreed:,} of {count(seen, 'observed login')}")
    if not parts:
        return "no proof"
    if counts.wrong:
        return f"{', '.join(parts)}: disproved"
    bound = _percent(counts.bound)
    return f"{', '.join(parts)}: at most {bound} of these rows can be made otherwise, at 95 %"


def _percent(share: float) -> str:
    if share >= 0.1:
        return f"{100 * share:.0f} %"
    return f"{100 * share:.1f} %" if share >= 0.01 else f"{100 * share:.2f} %"


def proof_document(counts: Counts, proof: Proof | None) -> dict[str, object]:
    """Give the same for programs."""
    return {
        "known_accepted": counts.accepted,
        "known_refused": counts.refused,
        "observed_agreed": counts.agreed,
        "observed_differed": counts.differed,
        "at_most_made_otherwise": round(counts.bound, 6),
        "missing": None if proof is None else str(proof),
    }


def draw_proofs(console: Console, summary: LayeringSummary) -> None:
    """Print what is known of each cohort, what is missing, and what contradicts a declaration."""
    if summary.proofs:
        console.print()
        console.print(Text("What is known of each cohort", "bold"))
    for cohort, counts in summary.proofs.items():
        console.print(f"  {cohort}: {proof_sentence(counts)}", soft_wrap=True)
    if summary.proofs and not summary.unproven:
        console.print(_SURER, style="dim")
    _draw_suspected(console, summary.suspected)
    _draw_unproven(console, summary.unproven)


_SURER = "  More known accounts (`verify`) or observed logins (`serve`) make the bounds smaller."


def _draw_suspected(console: Console, suspected: Mapping[str, int]) -> None:
    for kind, rows in suspected.items():
        console.print(
            f"{count(rows, 'text')} may be {kind}: as a group they are drawn at random. Declare a "
            "cohort that says how they were made; as passwords they would be lost."
        )


def _draw_unproven(console: Console, unproven: Mapping[str, Proof]) -> None:
    if not unproven:
        return
    console.print()
    for cohort, proof in unproven.items():
        console.print(Text(f"“{cohort}” is not layered: {proof}.", "yellow"))
    if any(proof is Proof.AGAINST for proof in unproven.values()):
        console.print(
            "Look at the refused accounts with `lean-tumbler verify KNOWN`: are they of another "
            "generation, or is a password wrong?"
        )
    first = shlex.quote(next(iter(unproven)))
    console.print(
        "Prove it with known accounts (`lean-tumbler verify KNOWN` or `rehearse`), or with logins "
        f"(`serve` while the application still checks). Without proof: --unproven {first}; whoever "
        "it does not fit is then locked out."
    )
