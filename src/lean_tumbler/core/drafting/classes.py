"""Classes of stored values: what can have come about in one way, and what can not."""

import re
from enum import StrEnum

from msgspec import Struct

from lean_tumbler.core.formulas.steps import DIGESTS
from lean_tumbler.core.formulas.stored_digests import read_digest
from lean_tumbler.core.schemes.base import BARE_LAYOUTS, PRINTED_BYTES, Kind, ParsedValue, Says
from lean_tumbler.core.schemes.catalogue import BARE_CRYPT_SCHEMES

_DIGEST_BYTES = frozenset(digest.size_bytes for digest in DIGESTS.values())
_LEAST_BYTES = 12  # of a digest among other fields
_CUT_CHARACTERS = 8  # of a digest that was cut off; a shorter one is a word
_CUT = re.compile(r"(?=[0-9a-fA-F]*[a-fA-F])(?=[0-9a-fA-F]*[0-9])(?:[0-9a-f]+|[0-9A-F]+)")
FIELD = re.compile(r"[0-9A-Za-z+/=]+")  # of a composite value; other signs stand between
_BLOB_CHARACTERS = 24  # from here on, a text of letters and digits alone is not typed
LOCKED = "locked or empty"  # the label of values that no password opens


class ClassKind(StrEnum):
    """What a class asks of a policy."""

    WRITTEN = "written"  # markers of locked accounts, and layered values: a policy made them
    SAID = "said"  # its values say how they were made: no cohort is needed
    BARE = "bare"  # a scheme that is a bare shape: a cohort names it
    DIGEST = "digest"  # a digest alone, or digest and salt at their places
    COMPOSITE = "composite"  # a digest among other fields
    BLOB = "blob"  # letters and digits that no person types
    CUT = "cut"  # hexadecimal digits, of which a digest was cut or a person made a password
    TEXT = "text"  # what a person may have typed


class ValueClass(Struct, frozen=True):
    """Stored values of one make, as far as each says it by itself."""

    kind: ClassKind  # what the policy must say of them
    label: str  # for people
    scheme: str = ""  # of values that say it, or of a bare shape; else empty


def class_of(parsed: ParsedValue, stored: str) -> ValueClass:
    """Say to which class a value belongs.

    Args:
        parsed: the value understood.
        stored: its text.
    """
    if not stored:
        return ValueClass(ClassKind.WRITTEN, LOCKED)
    if parsed.kind in {Kind.LOCKED, Kind.LAYERED, Kind.KEYED}:
        return ValueClass(
            ClassKind.WRITTEN, LOCKED if parsed.kind is Kind.LOCKED else str(parsed.kind)
        )
    text = parsed.inner_text or stored
    if parsed.scheme in BARE_CRYPT_SCHEMES and parsed.says is not Says.ALL:
        return ValueClass(ClassKind.BARE, parsed.scheme, parsed.scheme)
    if parsed.says in {Says.ALL, Says.TAG}:
        return ValueClass(ClassKind.SAID, parsed.scheme, parsed.scheme)
    is_bare = parsed.layout in BARE_LAYOUTS or parsed.layout == PRINTED_BYTES
    if parsed.kind is Kind.FAST and not is_bare:
        return ValueClass(ClassKind.DIGEST, f"{parsed.layout}, {parsed.digest_bits} bits")
    if parsed.kind is Kind.FAST:
        written = "base64" if parsed.layout.startswith("base64") else "hexadecimal"
        return ValueClass(ClassKind.DIGEST, f"{parsed.digest_bits} bits in {written}")
    return _of_text(text)


def _of_text(text: str) -> ValueClass:
    """Classify a text that no layout explains."""
    found = digest_fields(text)
    if found:
        signs = "".join(FIELD.sub("", text))
        return ValueClass(ClassKind.COMPOSITE, f"{found[0][1]} among fields between “{signs}”")
    if len(text) >= _BLOB_CHARACTERS and FIELD.fullmatch(text):
        read = read_digest(text)
        written = read[1] if read else "letters and digits"
        return ValueClass(ClassKind.BLOB, f"{len(text)} characters of {written}")
    if len(text) >= _CUT_CHARACTERS and _CUT.fullmatch(text):
        return ValueClass(ClassKind.CUT, f"{len(text)} hexadecimal digits")
    return ValueClass(ClassKind.TEXT, "text")


def digest_fields(text: str) -> list[tuple[int, str]]:
    """Give the fields of a composite text that may be its digest: place among the fields, label."""
    fields = FIELD.findall(text)
    if len(fields) < 2:
        return []
    found = []
    for place, field in enumerate(fields):
        read = read_digest(field)
        if read is None:
            continue
        raw, written, is_whole = read
        is_hex = written.startswith("hex")
        is_long = len(raw) >= _LEAST_BYTES if is_hex else len(raw) in _DIGEST_BYTES
        if is_whole and is_long and len(field) >= _BLOB_CHARACTERS - 2:
            found.append((len(raw), place, f"{8 * len(raw)} bits in {written.split('-')[0]}"))
    return [(place, label) for _, place, label in sorted(found, key=lambda each: -each[0])]
