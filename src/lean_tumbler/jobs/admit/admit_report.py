"""One login's answer; a refusal says nothing of what is stored."""

from __future__ import annotations

from lean_tumbler.core.login.outcome import Action, Outcome
from lean_tumbler.reports.documents import Document, new_document


def admit_document(outcome: Outcome) -> Document:
    """Give one login's answer as a document; a refusal says nothing of what is stored."""
    return new_document(
        "admit",
        admitted=outcome.admitted,
        action=outcome.action,
        **{"from": outcome.from_scheme, "to": outcome.to_scheme},
    )


def admit_text(outcome: Outcome) -> str:
    """Give one login's answer as a line."""
    if not outcome.admitted:
        return "not admitted\n"
    same = outcome.from_scheme == outcome.to_scheme
    after = {
        Action.NONE: f"{outcome.from_scheme}, left as it is",
        Action.UPGRADED: f"{outcome.from_scheme} raised to the target's cost"
        if same
        else f"{outcome.from_scheme} upgraded to {outcome.to_scheme}",
        Action.LAYER_REMOVED: f"layer removed, now {outcome.to_scheme} alone",
        Action.DEFERRED: f"{outcome.from_scheme}, upgrade deferred to the next login",
    }
    return f"admitted: {after[outcome.action]}\n"
