"""How well a stored value protects, and the least that still counts as current."""

from collections.abc import Mapping, Sequence
from enum import StrEnum
from types import MappingProxyType

from msgspec import Struct, field

from lean_tumbler.core.schemes.base import Kind, Parameters, ParsedValue
from lean_tumbler.core.schemes.catalogue import DERIVATIONS


class Grade(StrEnum):
    """The grades, worst first; the last three stand beside the order."""

    READABLE = "readable"
    FAST_UNSALTED = "fast-unsalted"
    FAST_SALTED = "fast-salted"
    OUTDATED = "outdated"
    LAYERED = "layered"
    CURRENT = "current"
    KEYED = "keyed"
    LOCKED = "locked"
    UNKNOWN = "unknown"


BELOW_FLOOR = (Grade.READABLE, Grade.FAST_UNSALTED, Grade.FAST_SALTED, Grade.OUTDATED)

MEANING: MappingProxyType[Grade, str] = MappingProxyType(
    {
        Grade.READABLE: "the password can be read, or computed without guessing",
        Grade.FAST_UNSALTED: "one fast digest; one guess tries every account at once",
        Grade.FAST_SALTED: "one fast digest with salt; billions of guesses a second",
        Grade.OUTDATED: "a slow scheme, at a cost that is too low today",
        Grade.LAYERED: "the legacy digest lies under a slow hash",
        Grade.CURRENT: "a slow scheme at or above the floor",
        Grade.KEYED: "under a key that stands apart, and was not opened here",
        Grade.LOCKED: "no password opens the account",
        Grade.UNKNOWN: "not understood; a person must look",
    }
)

# The published floors: their names in commands, and where they stand. Each scheme states what they
# ask of it: alternatives of about equal strength, of which one has to be reached in all numbers.
_SOURCES = MappingProxyType(
    {
        "owasp": "OWASP Password Storage Cheat Sheet, 2023",
        "rfc9106": "RFC 9106 section 4",
        "nist": "NIST SP 800-63B, revision 3, section 5.1.1.2",
    }
)


def _alternatives(name: str) -> Mapping[str, Sequence[Parameters]]:
    return MappingProxyType(
        {
            scheme: found.floors[name]
            for scheme, found in DERIVATIONS.items()
            if name in found.floors
        }
    )


class Floor(Struct, frozen=True):
    """The least that counts as current, scheme by scheme."""

    alternatives: Mapping[str, Sequence[Parameters]] = field(
        default_factory=lambda: _alternatives("owasp")
    )
    source: str = _SOURCES["owasp"]

    def reached_by(self, scheme: str, parameters: Parameters) -> bool:
        """Tell whether parameters reach every number of one alternative for the scheme."""
        return any(
            all(parameters.get(name, 0) >= least for name, least in alternative.items())
            for alternative in self.alternatives.get(scheme, ())
        )


FLOORS: Mapping[str, Floor] = MappingProxyType(
    {name: Floor(_alternatives(name), source) for name, source in _SOURCES.items()}
)


def grade(parsed: ParsedValue, floor: Floor, *, salted: bool) -> Grade:
    """Grade one parsed value.

    Args:
        parsed: the value.
        floor: the least that counts as current.
        salted: whether a salt goes in, from the value itself or from a column beside it.
    """
    match parsed.kind:
        case Kind.READABLE:
            return Grade.READABLE
        case Kind.FAST:
            return Grade.FAST_SALTED if salted else Grade.FAST_UNSALTED
        case Kind.ITERATED:
            return Grade.OUTDATED
        case Kind.KEYED:
            return Grade.KEYED
        case Kind.LOCKED:
            return Grade.LOCKED
        case Kind.UNKNOWN:
            return Grade.UNKNOWN
        case Kind.DERIVATION | Kind.LAYERED:
            if not floor.reached_by(parsed.scheme, parsed.parameters):
                return Grade.OUTDATED
            return Grade.LAYERED if parsed.kind is Kind.LAYERED else Grade.CURRENT
