"""What a search through bytes finds. A find names where a value stands, and never the value."""

from enum import StrEnum
from hashlib import blake2b

from msgspec import Struct

FINGERPRINT_BYTES = 16


class Recognition(StrEnum):
    """By what a find is known for a stored value, the surest first."""

    EXACT = "exact"  # a value that a bulk step replaced, or that a store holds now
    SAID = "unmistakable"  # the text says itself what it is
    NAMED = "named"  # a bare digest beside a word for passwords, or in such a column


class Encoding(StrEnum):
    """How a value was written where it was found."""

    PLAIN = "as it is"
    HEX = "hexadecimal"
    BASE64 = "base64"
    JSON = "escaped for JSON"
    URL = "escaped for URLs"
    UTF16 = "UTF-16"


class Find(Struct, frozen=True, kw_only=True):
    """One value that was found."""

    offset: int  # of its first byte, from the beginning of what was searched
    certainty: Recognition  # how sure it is
    scheme: str  # as the text reads; empty where nothing reads it
    encoding: Encoding  # how it was written
    fingerprint: bytes  # of the value, for comparison; it is not printed


def fingerprint(value: bytes, key: bytes = b"") -> bytes:
    """Give what stands for a value while it is compared with others (keyed: RFC 7693, 2.9)."""
    return blake2b(value, digest_size=FINGERPRINT_BYTES, key=key).digest()
