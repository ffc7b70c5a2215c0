"""How well a stored value protects, and the least that still counts as current."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from enum import StrEnum
from types import MappingProxyType

from lean_tumbler.core.schemes.base import Kind, Parameters, ParsedValue


class Grade(StrEnum):
    """The grades, worst first; the last two stand beside the order."""

    READABLE = "readable"
    FAST_UNSALTED = "fast-unsalted"
    FAST_SALTED = "fast-salted"
    OUTDATED = "outdated"
    LAYERED = "layered"
    CURRENT = "current"
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
        Grade.LOCKED: "no password opens the account",
        Grade.UNKNOWN: "not understood; a person must look",
    }
)

# OWASP Password Storage Cheat Sheet (2023 edition): for each scheme, alternatives of about equal
# strength; a value counts as current when it reaches all numbers of one alternative. Argon2i and
# Argon2d have no alternative there: the guidance names Argon2id.
PUBLISHED_FLOOR: Mapping[str, tuple[Parameters, ...]] = MappingProxyType(
    {
        "argon2id": (
            {"memory_kib": 47104, "passes": 1},
            {"memory_kib": 19456, "passes": 2},
            {"memory_kib": 12288, "passes": 3},
            {"memory_kib": 9216, "passes": 4},
            {"memory_kib": 7168, "passes": 5},
        ),
        "scrypt": (
            {"cost_log2": 17, "block_size": 8, "lanes": 1},
            {"cost_log2": 16, "block_size": 8, "lanes": 2},
            {"cost_log2": 15, "block_size": 8, "lanes": 3},
            {"cost_log2": 14, "block_size": 8, "lanes": 5},
            {"cost_log2": 13, "block_size": 8, "lanes": 10},
        ),
        "bcrypt": ({"cost_log2": 10},),
        "pbkdf2-sha1": ({"rounds": 1_300_000},),
        "pbkdf2-sha256": ({"rounds": 600_000},),
        "pbkdf2-sha512": ({"rounds": 210_000},),
    }
)
PUBLISHED_FLOOR_SOURCE = "OWASP Password Storage Cheat Sheet, 2023"

# RFC 9106 section 4: the first and the second recommended option.
_RFC_9106: Mapping[str, tuple[Parameters, ...]] = MappingProxyType(
    {
        "argon2id": (
            {"memory_kib": 1 << 21, "passes": 1, "lanes": 4},
            {"memory_kib": 1 << 16, "passes": 3, "lanes": 4},
        )
    }
)
# NIST SP 800-63B (revision 3) section 5.1.1.2: “typically at least 10,000 iterations”.
_NIST: Mapping[str, tuple[Parameters, ...]] = MappingProxyType(
    {f"pbkdf2-{digest}": ({"rounds": 10_000},) for digest in ("sha1", "sha256", "sha512")}
)


@dataclass(frozen=True, slots=True)
class Floor:
    """The least that counts as current, scheme by scheme."""

    alternatives: Mapping[str, Sequence[Parameters]] = field(
        default_factory=lambda: PUBLISHED_FLOOR
    )
    source: str = PUBLISHED_FLOOR_SOURCE

    def reached_by(self, scheme: str, parameters: Parameters) -> bool:
        """Tell whether parameters reach every number of one alternative for the scheme."""
        return any(
            all(parameters.get(name, 0) >= least for name, least in alternative.items())
            for alternative in self.alternatives.get(scheme, ())
        )


FLOORS: Mapping[str, Floor] = MappingProxyType(
    {
        "owasp": Floor(),
        "rfc9106": Floor(_RFC_9106, "RFC 9106 section 4"),
        "nist": Floor(_NIST, "NIST SP 800-63B, revision 3, section 5.1.1.2"),
    }
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
        case Kind.LOCKED:
            return Grade.LOCKED
        case Kind.UNKNOWN:
            return Grade.UNKNOWN
        case Kind.DERIVATION | Kind.LAYERED:
            if not floor.reached_by(parsed.scheme, parsed.parameters):
                return Grade.OUTDATED
            return Grade.LAYERED if parsed.kind is Kind.LAYERED else Grade.CURRENT
