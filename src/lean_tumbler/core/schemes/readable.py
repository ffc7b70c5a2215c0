"""What is left when nothing else fits: the password itself, or something not yet known.

The line between the two matters: text that is taken for a password is compared with what people
type, and bulk layering hashes it. Whatever might be a digest is therefore called unknown.
"""

import re
from itertools import pairwise

from lean_tumbler.core.schemes.base import Family, Kind, ParsedValue

PLAIN_CHARACTERS = 128

# Text that names a scheme in some customary way: a tag between dollars or in braces.
_TAGGED = re.compile(r"\$[A-Za-z0-9_-]{0,32}\$|\{[A-Za-z0-9_./-]{1,32}\}", re.ASCII)
# A run of hexadecimal digits that a word does not have, somewhere in the text.
_HEX_RUN = re.compile(r"(?=[a-fA-F]*[0-9])[0-9a-fA-F]{16,}", re.ASCII)
# A run in the alphabets of base64 and crypt(3) of the length of its shortest digests or more.
_CODED_RUN = re.compile(r"[A-Za-z0-9+/._=-]{13,}", re.ASCII)
_CONTROL = re.compile(r"[\x00-\x08\x0e-\x1f\x7f]")
# Letters and digits drawn at random change their class in two of three places; words hardly do.
_RANDOM_CHANGES = 0.4


def _character_class(character: str) -> str:
    if character.isdigit():
        return "digit"
    if character.isalpha():
        return "upper" if character.isupper() else "lower"
    return "other"


def looks_random(text: str) -> bool:
    """Tell whether neighbouring characters change between cases and digits as chance would."""
    classes = [_character_class(character) for character in text]
    changes = sum(first != second for first, second in pairwise(classes))
    return changes >= _RANDOM_CHANGES * (len(text) - 1)


def _may_be_a_digest(text: str) -> bool:
    if len(text) > PLAIN_CHARACTERS or _CONTROL.search(text):
        return True
    if _TAGGED.search(text) or _HEX_RUN.search(text):
        return True
    return any(looks_random(match.group()) for match in _CODED_RUN.finditer(text))


def read(text: str) -> ParsedValue:
    """Read any text at all: empty, plain, or unknown."""
    if text == "":
        return ParsedValue(scheme="empty", layout="empty", kind=Kind.READABLE)
    if _may_be_a_digest(text):
        note = "It looks like a stored value of a scheme that this version does not read."
        return ParsedValue(
            scheme="unknown", layout="unknown", kind=Kind.UNKNOWN, confidence=0.0, notes=(note,)
        )
    return ParsedValue(scheme="plain-text", layout="plain text", kind=Kind.READABLE, confidence=0.7)


FAMILY = Family(name="readable", read=read)
