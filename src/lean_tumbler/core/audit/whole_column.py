"""One value is often ambiguous, a column rarely: what all of it says about each group."""

from collections import Counter
from collections.abc import Iterator, Mapping
from collections.abc import Set as AbstractSet

from msgspec.structs import replace

from lean_tumbler.core.audit.results import Affected, GroupReading, Profile
from lean_tumbler.core.formulas import notation
from lean_tumbler.core.formulas.analysis import digests_used
from lean_tumbler.core.grades import Grade
from lean_tumbler.core.reading.survey import Suspected
from lean_tumbler.core.schemes.catalogue import CRYPT_SCHEMES

_HEXADECIMAL = frozenset({"hex", "hex-upper"})
_BLOCK_LAYOUTS = _HEXADECIMAL | {
    "base64",
    "base64 of whole cipher blocks",
    "hexadecimal of whole cipher blocks",
}
# Of 16, 32, 48 and 64 bytes, they pass for digests one by one.
_BLOCK_SCHEMES = frozenset({"md5", "sha256", "sha384", "sha512", "encrypted"})
_OF_48_BYTES = ("sha384", "base64, no padding")  # which base64 writes without padding anyway
_MOST_DIGESTS = 2  # in hexadecimal in one column, where nothing says more: one, and its successor
_BLOCK_SHARE = 0.9  # of all values; digests would have one length, words have any
_LENGTH_SHARE = 0.02
_BARE_LAYOUTS = frozenset({"hex", "hex-upper", "hex, mixed case", "0x and hex", "base64"})
_CERTAIN = 0.99
_MANY_ROWS = 20
_HOMOGENEOUS_SHARE = 0.95
_STRAY_SHARE = 0.02
# Chi-squared with 255 degrees of freedom lies below 400 but once in ten million columns.
_SPREAD_BYTES = 2560  # ten for each of the 256, below which the test says nothing
_UNEVEN = 400.0
_WORDLIKE = frozenset({"des-crypt", "two-sums-31-bit", "bigcrypt", "bsdi-crypt"})


def unexplained_classes(profile: Profile) -> list[tuple[Suspected, int]]:
    """Give the classes of digests among texts that no scheme names, with about how many rows."""
    column = profile.column
    return [
        (found, max(1, round(found.share * column.rows)))
        for found in column.suspected
        if found.kind.name not in CRYPT_SCHEMES
    ]


def without_digests(profile: Profile) -> None:
    """Take rows of such classes out of the plain texts; what they are is not known."""
    for found, rows_of_class in unexplained_classes(profile):
        rows = rows_of_class
        plain = [r for r in profile.groups if r.scheme in {"plain-text", "unknown"} and not r.twice]
        unknown = replace(
            _UNKNOWN,
            layout=found.kind.name,
            because=f"{rows:,} texts of {found.length} characters are drawn at random, as a group",
        )
        for reading in sorted(plain, key=lambda reading: -profile.groups[reading].rows):
            affected = profile.groups[reading]
            moved = min(rows, affected.rows - affected.privileged_rows)
            if reading.layout == unknown.layout or moved <= 0:
                continue
            affected.rows -= moved
            rows -= moved
            profile.groups.setdefault(unknown, Affected()).add(moved, 0, [], [])
            profile.spans[unknown] = profile.spans[reading].joined(profile.spans.get(unknown))
            if not affected.rows:
                del profile.groups[reading]


def may_be_blocks(reading: GroupReading) -> bool:
    """Tell whether a group's values may be whole cipher blocks."""
    is_whole = reading.layout in _BLOCK_LAYOUTS or (reading.scheme, reading.layout) == _OF_48_BYTES
    return is_whole and reading.scheme in _BLOCK_SCHEMES and not reading.salted


def is_bare(reading: GroupReading) -> bool:
    """Tell whether a group's values are digests with nothing that names them."""
    is_fast = reading.grade in {Grade.FAST_UNSALTED, Grade.FAST_SALTED}
    return is_fast and reading.layout in _BARE_LAYOUTS and not reading.wrappers


def weighed(profile: Profile) -> dict[GroupReading, GroupReading]:
    """Give, for each group that the column says more about, what it is after all."""
    return {reading: better for reading, better in _weighed(profile) if better != reading}


def _weighed(profile: Profile) -> Iterator[tuple[GroupReading, GroupReading]]:
    values = max(1, profile.rows - profile.without_value)
    usual = _usual_blocks(profile)
    encrypted, may_be_encrypted = _is_encrypted(usual), _may_be_encrypted(usual, profile)
    for reading, affected in profile.groups.items():
        if encrypted and may_be_blocks(reading):
            yield reading, _ENCRYPTED
        elif reading.because:  # a formula of the policy has said it
            continue
        elif matches := {f: n for f, n in profile.matches.get(reading, {}).items() if f}:
            yield reading, _named_by(matches, reading, "of likely passwords")
        elif own := profile.own.get(reading):
            yield reading, _named_by(own, reading, "of their own login, or of nothing")
        elif is_bare(reading) and _is_uneven(profile.spread.get(reading, Counter())):
            yield (
                reading,
                replace(
                    reading,
                    confidence=0.3,
                    also_possible=("encoded", *reading.also_possible),
                    because="its bytes are not spread evenly, as a digest's are",
                ),
            )
        elif may_be_encrypted and reading.layout in _HEXADECIMAL and may_be_blocks(reading):
            yield (
                reading,
                replace(
                    reading,
                    confidence=0.5,
                    also_possible=("encrypted", *reading.also_possible),
                    because="values of 16 and of 32 bytes may be cipher text in blocks as well, "
                    "and none is the digest of a likely password",
                ),
            )
        elif is_bare(reading):
            yield reading, _by_its_neighbours(reading, affected, values)
        elif reading.scheme in _WORDLIKE:
            yield reading, _stray(reading, affected, profile, values)


def _named_by(matches: Mapping[str, int], reading: GroupReading, what: str) -> GroupReading:
    """A digest of something known says which digest it is."""
    formula, rows = max(matches.items(), key=lambda item: item[1])
    scheme = "nt-hash" if formula == "utf-16le, md4, hex" else _outermost(formula)
    others = [name for text in matches if (name := _outermost(text)) != _outermost(formula)]
    return replace(
        reading,
        scheme=scheme,
        confidence=0.6 if others else _CERTAIN,
        also_possible=tuple(dict.fromkeys(others)),
        because=f"{rows:,} row{'' if rows == 1 else 's'} equal “{formula}” {what}",
        twice=len(digests_used(notation.parse(formula))) > 1,
    )


def _outermost(formula: str) -> str:
    return digests_used(notation.parse(formula))[-1]


def _by_its_neighbours(reading: GroupReading, affected: Affected, values: int) -> GroupReading:
    """Many of one length and alphabet are one digest; a few among others may be anything."""
    share = affected.rows / values
    if affected.rows >= _MANY_ROWS and share >= _HOMOGENEOUS_SHARE:
        salt = ", with a salt column beside" if reading.salted else ""
        return replace(
            reading,
            confidence=max(reading.confidence, 0.9),
            because=f"{share:.0%} of the column are of this length and alphabet{salt}",
        )
    return reading


def _stray(
    reading: GroupReading, affected: Affected, profile: Profile, values: int
) -> GroupReading:
    """A short value that is alone among plain text is rather a word."""
    words = sum(
        other.rows for found, other in profile.groups.items() if found.scheme == "plain-text"
    )
    if affected.rows <= _STRAY_SHARE * values and words > values / 2:
        return replace(
            reading,
            confidence=0.2,
            also_possible=("plain-text", *reading.also_possible),
            because=f"alone among {words:,} plain texts",
        )
    return reading


def _is_uneven(spread: Counter[int]) -> bool:
    total = sum(spread.values())
    if total < _SPREAD_BYTES:
        return False
    expected = total / 256
    return sum((spread[n] - expected) ** 2 / expected for n in range(256)) > _UNEVEN


_UNKNOWN = GroupReading(
    scheme="unknown",
    layout="",
    salted=False,
    grade=Grade.UNKNOWN,
    parameters=(),
    confidence=0.9,
    also_possible=(),
)
_ENCRYPTED = GroupReading(
    scheme="encrypted",
    layout="whole cipher blocks",
    salted=False,
    grade=Grade.READABLE,
    parameters=(),
    confidence=0.9,
    also_possible=(),
    because="all lengths are whole cipher blocks, and they differ",
)


def _is_encrypted(usual: AbstractSet[tuple[str, str]]) -> bool:
    """Tell whether a column holds cipher text: whole blocks throughout, of more than one length.

    A column of digests has one length; where lengths vary and all are whole blocks, something
    of varying length was encrypted, and can be decrypted.
    """
    if any(layout in _HEXADECIMAL for _, layout in usual):
        schemes = {scheme for scheme, _ in usual}
        return len(schemes) > _MOST_DIGESTS or (len(schemes) > 1 and "encrypted" in schemes)
    return len(usual) > 1


def _may_be_encrypted(usual: AbstractSet[tuple[str, str]], profile: Profile) -> bool:
    """Tell two lengths in hexadecimal, which digests and their successors have too, if unknown."""
    schemes = {scheme for scheme, layout in usual if layout in _HEXADECIMAL}
    return schemes == {"md5", "sha256"} and not any(profile.matches.values())


def _usual_blocks(profile: Profile) -> set[tuple[str, str]]:
    """Give scheme and layout of whole blocks that are not few; none in a column of more."""
    blocks: Counter[tuple[str, str]] = Counter()
    for reading, affected in profile.groups.items():
        if may_be_blocks(reading):
            blocks[reading.scheme, reading.layout] += affected.rows
    values = profile.rows - profile.without_value
    if blocks.total() < _BLOCK_SHARE * values:
        return set()
    return {each for each, rows in blocks.items() if rows >= _LENGTH_SHARE * values}
