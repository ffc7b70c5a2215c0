"""One row understood: its state, its ways, and what is in doubt."""

from enum import StrEnum

from msgspec import Struct, field

from lean_tumbler.core.keyring import Closed
from lean_tumbler.core.reading.ways import Certainty, PasswordWay, Way
from lean_tumbler.core.reasons import Reason
from lean_tumbler.core.records import Hidden, MaskedRecord
from lean_tumbler.core.schemes.base import ParsedValue
from lean_tumbler.core.schemes.keyed import KeyedHead
from lean_tumbler.core.schemes.obsolete import readable

_JOIN = "+"


class State(StrEnum):
    """What is to be said of a row before its ways."""

    NO_VALUE = "no value"
    EMPTY = "empty"
    LOCKED = "locked"
    REMNANT = "a remnant of a failed write"
    CLOSED = "keyed, and not opened"
    LAYERED = "layered"
    VALUE = "a value"


class Reading(MaskedRecord, Struct, frozen=True, kw_only=True):
    """One row understood."""

    state: State  # what is to be said before the ways
    # the stored text, without wrappers around it; empty where there is none
    text: Hidden[str] = ""
    # what the text itself was read as
    parsed: ParsedValue = field(default_factory=readable.unknown)
    ways: tuple[Way, ...] = ()  # in which it may have been made, the surest first
    cohorts: tuple[str, ...] = ()  # names of the cohorts whose condition holds
    # why there is no way, or none that a bulk step may rest on; None where there is no doubt
    doubt: Reason | None = None
    suspected: str = ""  # what the column shows the text to be a digest of; empty where nothing
    missing: tuple[str, ...] = ()  # fingerprints below a layer that no formula has
    # the head of the keyed value that the text was in; None where it stood by itself
    keyed: KeyedHead | None = None
    closed: Closed | None = None  # why a keyed value was not opened; None for any other

    @property
    def label(self) -> str:
        """Name what the row is of, for counts and evidence: its ways, joined where several."""
        if len(self.ways) == 1:
            return self.ways[0].name
        return _JOIN.join(sorted({way.name for way in self.ways})) or self.parsed.scheme

    @property
    def identity(self) -> str:
        """Say what its ways rest on, for evidence: cohorts, formulas or schemes, joined."""
        return _JOIN.join(sorted({way.rests_on for way in self.ways}))

    @property
    def text_class(self) -> str:
        """The structure of a text that only proof makes a password; empty for any other."""
        return next((way.text_class for way in self.ways if isinstance(way, PasswordWay)), "")

    @property
    def certainty(self) -> Certainty:
        """How sure its least sure way is."""
        return max((way.certainty for way in self.ways), default=Certainty.POSSIBLE)
