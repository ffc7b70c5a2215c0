"""What is known of each cohort, what it does not speak for, and what would prove more."""

from __future__ import annotations

import shlex
from typing import TYPE_CHECKING, Annotated

from rich.text import Text

from lean_tumbler.core.reasons import Reason
from lean_tumbler.reports.documents import DocumentPart
from lean_tumbler.reports.wording import count

if TYPE_CHECKING:
    from collections.abc import Iterator, Mapping

    from rich.console import Console

    from lean_tumbler.core.reading.evidence import CohortKey, Counts
    from lean_tumbler.migration.bulk.strata import CohortProof
    from lean_tumbler.migration.bulk.summary import LayeringSummary


def proof_sentence(proof: CohortProof) -> str:
    """Say what people show of a cohort, and the bound that follows."""
    shown = ", ".join(_shown(proof.counts))
    counts = proof.counts
    if not counts.right and counts.joined is None:
        return f"{shown}: disproved" if shown else "no proof"
    if counts.right + counts.wrong >= proof.rows:
        return f"{shown}: all of its rows"
    bound = _percent(proof.bound)
    if counts.joined is not None:
        equal = f"{count(counts.joined.right - counts.right, 'account')} of equal tables"
        shown = f"{shown} and {equal}" if shown else equal
    together = "" if counts.right == _sum(counts) else f" ({counts.right:,} people in all)"
    return (
        f"{shown}{together}. If these are like the rest, with 95 % confidence at most {bound} of "
        "its rows use another formula"
    )


def _sum(counts: Counts) -> int:
    return counts.accepted + counts.agreed + counts.guessed


def _shown(counts: Counts) -> Iterator[str]:
    if counts.accepted or counts.refused:
        known = counts.accepted + counts.refused
        yield f"{counts.accepted:,} of {count(known, 'known account')}"
    if counts.agreed or counts.differed:
        seen = counts.agreed + counts.differed
        yield f"{counts.agreed:,} of {count(seen, 'observed login')}"
    if counts.guessed:
        yield f"{count(counts.guessed, 'account')} with a likely password"


def _percent(share: float) -> str:
    if share >= 0.1:
        return f"{100 * share:.0f} %"
    return f"{100 * share:.1f} %" if share >= 0.01 else f"{100 * share:.2f} %"


class ProofPart(DocumentPart):
    """What is known of a cohort, held against its rows."""

    rows: Annotated[int, "rows of the cohort that need proof"]
    known_accepted: Annotated[int, "known accounts that open"]
    known_refused: Annotated[int, "known accounts that do not"]
    observed_agreed: Annotated[int, "people whose observed login agrees"]
    observed_differed: Annotated[int, "people whose observed login was judged otherwise before"]
    guessed: Annotated[int, "accounts that a likely password opens"]
    people: Annotated[int, "people who speak for it, each counted once"]
    at_most_made_otherwise: Annotated[
        float, "upper bound of the share of its rows that were made in another way (95 %)"
    ]
    accepted_up_to: Annotated[float, "the largest bound that bulk steps accept"]
    missing: Annotated[str | None, "what is missing for a proof; null where nothing is"]
    more_people_needed: Annotated[int, "how many more people would prove it"]
    days_of_logins: Annotated[
        int | None, "in how many days so many people logged in lately; null if unknown"
    ]
    most_days_of_logins: Annotated[
        int | None, "in how many days they come, but for one time in ten; null if unknown"
    ]
    not_spoken_for: Annotated[list[str], "rows that none of these people speaks for"]


def proof_part(proof: CohortProof) -> ProofPart:
    """Give the same for programs."""
    counts, is_missing = proof.counts, proof.missing is not None
    return ProofPart.of(
        proof,
        known_accepted=counts.accepted,
        known_refused=counts.refused,
        observed_agreed=counts.agreed,
        observed_differed=counts.differed,
        guessed=counts.guessed,
        people=counts.right,
        at_most_made_otherwise=proof.bound,
        accepted_up_to=proof.most,
        more_people_needed=proof.more_needed if is_missing else 0,
        days_of_logins=proof.days_of_logins if is_missing else 0,
        most_days_of_logins=proof.most_days_of_logins if is_missing else 0,
        not_spoken_for=proof.untouched,
    )


def draw_proofs(console: Console, summary: LayeringSummary, *, store: str = "") -> None:
    """Print what is known of each cohort, what is missing, and what contradicts a declaration."""
    if summary.lapsed:
        console.print()
        console.print(Text(f"Earlier proof does not count: {summary.lapsed}.", "yellow"))
    if summary.proofs:
        console.print()
        console.print(Text("What is known of each cohort", "bold"))
    for key, proof in summary.proofs.items():
        console.print(f"  {key.label}: {proof_sentence(proof)}.", soft_wrap=True)
        for rows in proof.untouched:
            console.print(f"    None of them speaks for {rows}.", soft_wrap=True, style="dim")
    if any(proof.counts.guessed for proof in summary.proofs.values()):
        console.print(_LEANS, style="dim")
    _draw_suspected(console, summary.suspected)
    _draw_unproven(console, summary.unproven, store)


_LEANS = (
    "  Accounts with a likely password lean to weak passwords; their rows are made as the others."
)


def _draw_suspected(console: Console, suspected: Mapping[str, int]) -> None:
    for kind, rows in suspected.items():
        console.print(
            f"{count(rows, 'text')} may be {kind}: as a group they are drawn at random. Declare a "
            "cohort that says how they were made; as passwords they would be lost."
        )


def _draw_unproven(console: Console, unproven: Mapping[CohortKey, CohortProof], store: str) -> None:
    if not unproven:
        return
    console.print()
    for key, proof in unproven.items():
        console.print(Text(f"“{key.label}” is not layered: {proof.missing}.", "yellow"))
        for line in _ways_on(key, proof, store):
            console.print(f"  {line}", soft_wrap=True)


def _lately(proof: CohortProof) -> str:
    """Say how long that takes, where the last logins are known."""
    days, most = proof.days_of_logins, proof.most_days_of_logins
    if days is None:
        return ""
    return f", about {count(days, 'day')} at the recent rate, rarely more than {most}"


def _ways_on(key: CohortKey, proof: CohortProof, store: str) -> Iterator[str]:
    """Say the ways on: more accounts, observing, or the figure accepted by its number."""
    name = f" --store {shlex.quote(store)}" if store else ""
    if proof.missing is Reason.CONTRADICTED:
        yield f"Look at the refused accounts: `lean-tumbler verify KNOWN{name}`. {_REFUSED}"
        return
    more = count(proof.more_needed, "more account")
    yield f"Add {more} to KNOWN, and run `lean-tumbler verify KNOWN{name}`;"
    yield f"or observe logins (`serve` in mode observe) until {more} came{_lately(proof)};"
    if proof.counts.right:
        percent = max(1, -(-100 * proof.bound // 1))
        yield f"or accept the figure: --error-bound {min(100, percent):.0f}%."
    else:
        yield (
            f"or take it without proof: --unproven {shlex.quote(key.cohort)}; whoever it does not "
            "fit is then locked out."
        )


_REFUSED = "Are they of another generation, or is a password wrong?"
