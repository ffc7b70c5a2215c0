"""The answer to one login."""

from enum import StrEnum

from msgspec import Struct

from lean_tumbler.core.reasons import Reason
from lean_tumbler.core.records import Hidden, MaskedRecord


class Action(StrEnum):
    """What happens to the stored value beside the answer."""

    NONE = "none"
    UPGRADED = "upgraded"
    LAYER_REMOVED = "layer-removed"
    REKEYED = "rekeyed"  # the same value goes under another key
    DEFERRED = "deferred"  # an upgrade was due and could not be written; the next login tries again


class Outcome(MaskedRecord, Struct, frozen=True, kw_only=True):
    """The answer to one login.

    Attributes:
        admitted: whether the password is right.
        action: what the caller has to write.
        new_value: the value to write where exactly the old one still stands, or None.
        from_scheme: what was stored; only where admitted.
        to_scheme: what `new_value` is; only where there is one.
        refusal: why not, for the operator's counters: never for the person at the login.
        cohort: what is stored, also where it is refused: for counters alone.
        label: the cohorts that the row may be of, joined; empty where the value itself says how
            it was made: for evidence.
        identity: what they rest on.
        opened_as_text: whether what was typed is the stored text, of a structure that nothing has
            proven to be a password; for evidence.
        ruled_out: alternatives of its formula that would not have opened it, by fingerprint.
        unusual_work: whether the row asks for more work than a refusal may take.
        kept: why the value stays as it is; None where it is replaced or the login is refused.
    """

    admitted: bool
    action: Action = Action.NONE
    new_value: Hidden[str | None] = None
    from_scheme: str | None = None
    to_scheme: str | None = None
    refusal: str = ""
    cohort: str = ""
    label: str = ""
    identity: str = ""
    opened_as_text: bool = False
    ruled_out: frozenset[str] = frozenset()
    unusual_work: bool = False
    kept: Reason | None = None
