"""Encodings that hide nothing: words in base64 or hexadecimal.

They are asked before digests: a digest decodes to words once in many millions. Only what is
hexadecimal of a digest's length throughout is not taken for base64.
"""

import re

from lean_tumbler.core.schemes import phc
from lean_tumbler.core.schemes.base import Contents, Kind, Layout
from lean_tumbler.core.schemes.derivation import Family
from lean_tumbler.core.schemes.randomness import looks_random

_LONGEST = 128


def _is_words(raw: bytes | None) -> bool:
    """Tell whether decoded bytes are text that somebody could have typed."""
    if not raw:
        return False
    try:
        text = raw.decode("utf-8")
    except UnicodeDecodeError:
        return False
    return text.isprintable() and sum(character.isalnum() for character in text) * 2 > len(text)


def _build_base64_words(match: re.Match[str]) -> Contents | None:
    raw = phc.decode(match.string.rstrip("=")) if len(match.string) % 4 == 0 else None
    return Contents(confidence=0.8) if looks_random(match["text"]) and _is_words(raw) else None


def _build_hex_words(match: re.Match[str]) -> Contents | None:
    return Contents(confidence=0.8) if _is_words(bytes.fromhex(match.string)) else None


HEX_LAYOUTS = (
    Layout(
        scheme="encoded",
        name="hex of words",
        structure="hexadecimal that decodes to words",
        source="RFC 4648 section 8",
        kind=Kind.READABLE,
        pattern=r"(?:[2-7][0-9a-fA-F]){5,}",
        build=_build_hex_words,
        by_value=True,
        longest=_LONGEST,
    ),
)
BASE64_LAYOUTS = (
    Layout(
        scheme="encoded",
        name="base64 of words",
        structure="base64 that decodes to words",
        source="RFC 4648 section 4",
        kind=Kind.READABLE,
        # Of three ASCII characters in four of base64, the first lies between these.
        pattern=r"(?P<text>(?:[I-Za-f][A-Za-z0-9+/]{3}){1,}[I-Za-f][A-Za-z0-9+/]{1,3})={0,2}",
        build=_build_base64_words,
        by_value=True,
        longest=_LONGEST,
    ),
)

FAMILY = Family(name="encodings", layouts=(*HEX_LAYOUTS, *BASE64_LAYOUTS))
