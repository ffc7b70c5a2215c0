"""Texts that no person types: fields, tags and serialised forms with a digest or salt inside."""

import re
from functools import lru_cache

_FIELD = re.compile(r"[0-9A-Za-z+/=._-]+")
_HEX = re.compile(r"(?=[0-9A-Fa-f]*[0-9])(?=[0-9A-Fa-f]*[A-Fa-f])[0-9A-Fa-f]{12,}")
_LONG_NUMBER = re.compile(r"[0-9A-Fa-f]{16,}")
_CODED = re.compile(r"(?=[^0-9]*[0-9])(?=[^a-z]*[a-z])(?=[^A-Z]*[A-Z])[0-9A-Za-z+/._-]{20,}={0,2}")
_SERIALISED = (
    ("a JSON document", re.compile(r'\s*[{\[]\s*(?:".*"|[{\[].*)\s*[}\]]\s*', re.DOTALL)),
    ("a serialised array", re.compile(r"[abdiOs]:\d+[:;].*[;}]", re.DOTALL)),
    ("a marked-up text", re.compile(r"\s*<(?P<tag>[A-Za-z][\w:.-]*)[^>]*>.*", re.DOTALL)),
)
_MOST_FIELDS = 12


@lru_cache(maxsize=4096)
def structure_of(text: str) -> str:
    """Name the structure of a text that no person types; empty for one that somebody may.

    Fields count where one of them is long and drawn: hexadecimal digits, or letters of both cases
    with digits. A passphrase with blanks or hyphens has no such field.
    """
    serialised = next((name for name, form in _SERIALISED if form.fullmatch(text)), "")
    if serialised:
        return serialised
    fields = _FIELD.findall(text)
    kinds = [_kind(field) for field in fields]
    if set(kinds) <= {"field"} or text in fields:
        return ""
    signs = _FIELD.split(text)
    parts = [sign + kind for sign, kind in zip(signs, [*kinds, ""], strict=True)]
    return "".join(parts[:_MOST_FIELDS])


def _kind(field: str) -> str:
    if _HEX.fullmatch(field) or _LONG_NUMBER.fullmatch(field):
        return "hex"
    return "base64" if _CODED.fullmatch(field) else "field"
