"""What is left when nothing else fits: the password itself, cipher text, or the unknown.

The line between them matters: text that is taken for a password is compared with what people
type, and bulk layering hashes it. Whatever might be a digest is therefore called unknown.
"""

import re
from functools import lru_cache

from lean_tumbler.core.schemes import phc
from lean_tumbler.core.schemes.base import Contents, Kind, Layout, ParsedValue
from lean_tumbler.core.schemes.derivation import Family
from lean_tumbler.core.schemes.randomness import looks_random

PLAIN_CHARACTERS = 128

# Text that names a scheme in some customary way: it begins with a tag between dollars or in braces.
_TAGGED = re.compile(
    r"\$[A-Za-z0-9_-]{0,32}\$|\{[A-Za-z0-9_./-]{1,32}\}"
    r"|\$(?:argon2|pbkdf2|scrypt|bcrypt|yescrypt)[a-z0-9-]*$",  # cut off behind its name
    re.ASCII,
)
# A run of hexadecimal digits that a word does not have, somewhere in the text.
HEX_RUN = "[0-9a-fA-F]{16,}"
_HEX_RUN = re.compile(rf"(?=[a-fA-F]*[0-9]){HEX_RUN}", re.ASCII)
# A run in the alphabets of base64 and crypt(3) of the length of its shortest digests or more.
CODED = r"[A-Za-z0-9+/._=-]"
_CODED_RUN = re.compile(rf"{CODED}{{13,}}", re.ASCII)
_CONTROL = re.compile(r"[\x00-\x08\x0e-\x1f\x7f]")
_PLAIN_CONFIDENCE = 0.7
_DIFFERENT_DIGITS = 10  # of 160 drawn at random, fewer than once in 10^30 values
_BLOCK_BYTES = 16


def names_a_scheme(text: str) -> bool:
    """Tell a text that nobody types: one with a tag, with control characters, or very long."""
    return bool(len(text) > PLAIN_CHARACTERS or _CONTROL.search(text) or _TAGGED.match(text))


def _may_be_a_digest(text: str) -> bool:
    if names_a_scheme(text) or _HEX_RUN.search(text):
        return True
    return any(looks_random(match.group()) for match in _CODED_RUN.finditer(text))


def _build_blocks(match: re.Match[str]) -> Contents | None:
    raw = phc.decode(match.string.rstrip("="))
    if raw is None or len(raw) % _BLOCK_BYTES or not looks_random(match.string):
        return None
    return Contents(confidence=0.5, also_possible=("sha512 and salt",))


def _build_hexadecimal_blocks(match: re.Match[str]) -> Contents | None:
    if len(set(match.string)) < _DIFFERENT_DIGITS:
        return None
    return Contents(confidence=0.5, also_possible=("digest and salt",))


def _build_plain(match: re.Match[str]) -> Contents | None:
    return None if _may_be_a_digest(match.string) else Contents(confidence=_PLAIN_CONFIDENCE)


LAYOUTS = (
    Layout(
        scheme="empty",
        name="empty",
        structure="no characters at all",
        source="",
        kind=Kind.READABLE,
        pattern=r"",
        build=lambda _: Contents(),
        longest=0,
    ),
    Layout(
        scheme="encrypted",
        name="base64 of whole cipher blocks",
        structure="base64 of 80, 96, 112 or 128 bytes that do not read as words",
        source="block sizes of AES and its predecessors, FIPS 197",
        kind=Kind.READABLE,
        pattern=r"[A-Za-z0-9+/]+={0,2}",
        build=_build_blocks,
        by_value=True,
        lengths=(108, 128, 152, 172),
    ),
    Layout(
        scheme="encrypted",
        name="hexadecimal of whole cipher blocks",
        structure="hexadecimal of 80, 96, 112 or 128 bytes: no digest has so many",
        source="block sizes of AES and its predecessors, FIPS 197",
        kind=Kind.READABLE,
        pattern=r"[0-9a-f]+|[0-9A-F]+",
        build=_build_hexadecimal_blocks,
        by_value=True,
        lengths=(160, 192, 224, 256),
    ),
    Layout(
        scheme="plain-text",
        name="plain text",
        structure="short text, or words with gaps between them",
        source="",
        kind=Kind.READABLE,
        # Nothing in it is long enough to be a digest, tagged, or a control character.
        pattern=rf"(?:{CODED}{{0,12}}[^A-Za-z0-9+/._=${{\x00-\x1f\x7f-])*{CODED}{{0,12}}",
        build=lambda _: Contents(confidence=_PLAIN_CONFIDENCE),
        lengths_count=False,
        longest=PLAIN_CHARACTERS,
    ),
    Layout(
        scheme="plain-text",
        name="plain text",
        structure="longer text that does not look drawn at random",
        source="",
        kind=Kind.READABLE,
        pattern=r"(?s:.+)",
        build=_build_plain,
        by_value=True,
    ),
)


@lru_cache(maxsize=64)
def unknown(like: str = "") -> ParsedValue:
    """Say what a value is called that no layout reads.

    Args:
        like: the scheme whose values begin in the same way; empty where there is none.
    """
    note = "It looks like a stored value of a scheme that this version does not read."
    if like:
        note = (
            f"It begins like {like} but is not whole, or was changed; its column may have cut it "
            "off."
        )
    return ParsedValue(
        scheme="unknown",
        layout=f"like {like}, broken" if like else "unknown",
        kind=Kind.UNKNOWN,
        contents=Contents(confidence=0.0, also_possible=(like,) if like else (), notes=(note,)),
    )


FAMILY = Family(name="readable", layouts=LAYOUTS)
