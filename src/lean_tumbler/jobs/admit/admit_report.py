"""One login's answer; a refusal says nothing of what is stored."""

from __future__ import annotations

from typing import Annotated

from lean_tumbler.core.login.outcome import Action
from lean_tumbler.reports.documents import Document, named


class AdmitDocument(
    Document, tag=named("admit"), rename={"from_scheme": "from", "to_scheme": "to"}
):
    """One login's answer."""

    admitted: Annotated[bool, "whether the password is right"]
    action: Annotated[Action, "what was done to the stored value"]
    from_scheme: Annotated[str | None, "the scheme of the stored value before; null at a refusal"]
    to_scheme: Annotated[str | None, "the scheme of the stored value now; null at a refusal"]


def admit_text(outcome: AdmitDocument) -> str:
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
        Action.REKEYED: f"{outcome.from_scheme}, now under the key of new values",
        Action.DEFERRED: f"{outcome.from_scheme}, upgrade deferred to the next login",
    }
    return f"admitted: {after[outcome.action]}\n"
