"""A digest and nothing else: hexadecimal or base64, told apart by length."""

import base64
import binascii
import re
from dataclasses import dataclass

from lean_tumbler.core.schemes.base import Family, Kind, ParsedValue


@dataclass(frozen=True, slots=True)
class _Size:
    """What a digest of one length is most likely, and what else it may be."""

    scheme: str
    confidence: float
    also_possible: tuple[str, ...]


# By digest length in bytes. The confidences are this project's judgement for a lone value;
# a column, a formula or a tag says more.
SIZES = {
    16: _Size("md5", 0.8, ("nt-hash", "md4")),
    20: _Size("sha1", 0.9, ("ripemd160",)),
    28: _Size("sha224", 0.8, ("sha3-224",)),
    32: _Size("sha256", 0.8, ("sha3-256", "blake2s")),
    48: _Size("sha384", 0.8, ("sha3-384",)),
    64: _Size("sha512", 0.8, ("sha3-512", "blake2b")),
}

_HEX = re.compile(r"(?P<lower>[0-9a-f]+)|(?P<upper>[0-9A-F]+)|[0-9a-fA-F]+", re.ASCII)
_BASE64 = re.compile(r"[A-Za-z0-9+/]+={1,2}", re.ASCII)  # unpadded, it could be a word
_MIXED_CASE_NOTE = "The letters of its hexadecimal digits mix both cases."


def _parsed(raw: bytes, layout: str, notes: tuple[str, ...] = ()) -> ParsedValue | None:
    size = SIZES.get(len(raw))
    if size is None:
        return None
    return ParsedValue(
        scheme=size.scheme,
        layout=layout,
        kind=Kind.FAST,
        digest=raw,
        confidence=size.confidence,
        also_possible=size.also_possible,
        notes=notes,
    )


def read(text: str) -> ParsedValue | None:
    """Read a bare digest of a customary length."""
    match = _HEX.fullmatch(text)
    if match is not None and len(text) % 2 == 0:
        layout = "hex" if match["lower"] else "hex-upper" if match["upper"] else "hex, mixed case"
        mixed = not (match["lower"] or match["upper"])
        return _parsed(bytes.fromhex(text), layout, (_MIXED_CASE_NOTE,) if mixed else ())
    if _BASE64.fullmatch(text) and len(text) % 4 == 0:
        try:
            return _parsed(base64.b64decode(text), "base64")
        except (binascii.Error, ValueError):
            return None
    return None


FAMILY = Family(name="raw digests", read=read)
