"""One row understood: its state, its ways, and what is in doubt."""

from dataclasses import dataclass, field
from enum import StrEnum

from lean_tumbler.core.reading.ways import Certainty, PasswordWay, Way
from lean_tumbler.core.schemes.base import ParsedValue
from lean_tumbler.core.schemes.obsolete import readable

PLAIN_TEXT = "plain-text"


_JOIN = "+"


class State(StrEnum):
    """What is to be said of a row before its ways."""

    NO_VALUE = "no value"
    EMPTY = "empty"
    LOCKED = "locked"
    REMNANT = "a remnant of a failed write"
    LAYERED = "layered"
    VALUE = "a value"


class Doubt(StrEnum):
    """Why a row has no way, or none that a bulk step may rest on."""

    NOT_UNDERSTOOD = "not understood"
    REMNANT = "a remnant of a failed write: no password opens it"
    NO_COHORT = "no cohort of the policy says how it was made"
    PLAIN_TEXT_UNDECLARED = "reads as plain text, and no cohort says so"
    MAY_BE_DIGEST = "may be a digest, so it is not taken for plain text"
    ONLY_SHAPE = "a bare shape that neither a cohort nor the column confirms"


@dataclass(frozen=True, slots=True, kw_only=True)
class Reading:
    """One row understood.

    Attributes:
        state: what is to be said before the ways.
        text: the stored text, without wrappers around it; empty where there is none.
        parsed: what the text itself was read as.
        ways: in which it may have been made, the surest first.
        cohorts: names of the cohorts whose condition holds.
        doubt: why there is no way, or none that a bulk step may rest on; None where there is no
            doubt.
        suspected: what the column shows the text to be a digest of; empty where nothing.
        missing: fingerprints below a layer that no formula has.
    """

    state: State
    text: str = field(default="", repr=False)
    parsed: ParsedValue = field(default_factory=readable.unknown)
    ways: tuple[Way, ...] = ()
    cohorts: tuple[str, ...] = ()
    doubt: Doubt | None = None
    suspected: str = ""
    missing: tuple[str, ...] = ()

    @property
    def label(self) -> str:
        """Name what the row is of, for counts and evidence: its ways, joined where several."""
        if len(self.ways) == 1:
            return self.ways[0].name
        return _JOIN.join(sorted({way.name for way in self.ways})) or self.parsed.scheme

    @property
    def identity(self) -> str:
        """Say what its ways rest on: fingerprints or schemes, joined; or plain text."""
        if len(self.ways) == 1:
            (only,) = self.ways
            return PLAIN_TEXT if isinstance(only, PasswordWay) else only.origin
        origins = {PLAIN_TEXT if isinstance(way, PasswordWay) else way.origin for way in self.ways}
        return _JOIN.join(sorted(origins))

    @property
    def certainty(self) -> Certainty:
        """How sure its least sure way is."""
        return max((way.certainty for way in self.ways), default=Certainty.POSSIBLE)
