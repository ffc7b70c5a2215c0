"""Texts that may be stored values, read from the place where one may begin."""

import re
from collections.abc import Iterator, Sequence
from functools import lru_cache
from urllib.parse import unquote_to_bytes

from msgspec import Struct

from lean_tumbler.core.records import Hidden, MaskedRecord
from lean_tumbler.core.residue.finds import Encoding
from lean_tumbler.core.schemes.base import STORED_ALONE, Layout, Says
from lean_tumbler.core.schemes.catalogue import LAYOUTS, layouts_beginning, read_value

LONGEST = 1200  # bytes of a value; the longest layered ones have some hundred
_SHORTEST = 12
_SIGNS_TRIED = 8
_SEPARATOR = re.compile(r"[:,.={}|@*_$-]")
_MOST_SHAPES = 4096  # that are kept
_MARK_CHARACTERS = 5  # enough to tell of which few layouts a text can be
_CUT_OFF = 12  # signs of base64 that may be the next column's
_SIGNS = rb"0-9A-Za-z./+=$,:_{}*@|-"
_PLAIN = re.compile(rb"[%s]+" % _SIGNS)
_URL = re.compile(rb"[%%~%s]+" % _SIGNS)
_JSON = re.compile(rb"[\\%s]+" % _SIGNS)
_ESCAPED = re.compile(rb"\\(?:u00([0-9a-fA-F]{2})|(/))")
MARKED = tuple(
    layout
    for layout in LAYOUTS
    if layout.says is Says.ALL and layout.kind in STORED_ALONE and layout.starts
)
_BARE = frozenset({"hex", "hex-upper", "base64", "base64, no padding"})
# What stands between a word for passwords and the value: the rest of the name, and a separator.
_NAMED = re.compile(
    rb"(?:(?i:w(?:or)?d|w|phrase|code))?s?(?i:hash(?:ed)?|digest|md5|sha\d*|enc\w*)?\d{0,2}"
    rb"(?:[_.-][\w.-]{0,20})?[\"'\\]{0,3}\s{0,4}(?:::?|[=>]|=>|,|\))\s{0,4}[\"'\\]{0,3}(?P<value>[\\%s]{16,%d})"
    % (_SIGNS, LONGEST),
    re.ASCII,
)


_ANY_SIGNS = re.compile(rb"[\\%%~%s]*" % _SIGNS)


def end_of_signs(data: bytes, start: int) -> int:
    """Give where the signs end that values are written with, in any encoding."""
    match = _ANY_SIGNS.match(data, start)
    return start if match is None else match.end()


class PossibleValue(MaskedRecord, Struct, frozen=True):
    """A text that reads as a stored value: where it begins, how it was written, and its scheme."""

    start: int
    text: Hidden[str]
    scheme: str
    encoding: Encoding = Encoding.PLAIN


def marked_at(data: bytes, start: int) -> PossibleValue | None:
    """Read the value that begins at a place and says itself what it is; None where none does."""
    limit = min(len(data), start + LONGEST)
    plain = _PLAIN.match(data, start, limit)
    end = start if plain is None else plain.end()
    encoding = Encoding.PLAIN
    raw = data[start:end]
    if data[end : end + 1] == b"%" and (run := _URL.match(data, start, limit)):
        encoding, raw = Encoding.URL, unquote_to_bytes(run[0])
    elif _ESCAPED.match(data, end) and (run := _JSON.match(data, start, limit)):
        encoding, raw = Encoding.JSON, unescaped(run[0])
    found = _longest(raw.decode("ascii", "replace").rstrip("\\"))
    return None if found is None else PossibleValue(start, *found, encoding)


def unescaped(run: bytes) -> bytes:
    """Take JSON's escapes of single signs off (RFC 8259, section 7)."""
    return _ESCAPED.sub(lambda m: bytes([int(m[1], 16)]) if m[1] else b"/", run)


def _longest(text: str) -> tuple[str, str] | None:
    """Give the longest beginning of a text that says itself what it is, and its scheme."""
    begun = [
        (layout, match.end())
        for layout in _marked_by(text[:_MARK_CHARACTERS])
        if text.startswith(layout.starts) and (match := layout.beginning(text))
    ]
    for end in _ends(text, [last for _, last in begun]) if begun else ():
        for layout, _ in begun:
            if layout.lengths and end not in layout.lengths:
                continue
            match = layout.match(text, end)
            if match and (scheme := _SCHEMES.of(layout, match)):
                return text[:end], scheme
    return None


@lru_cache(maxsize=1024)
def _marked_by(beginning: str) -> tuple[Layout, ...]:
    """Give the layouts whose values can begin so, and say themselves what they are."""
    return tuple(layout for layout in layouts_beginning(beginning) if layout in MARKED)


class _Schemes:
    """The schemes of values by their shapes: those of one shape are read alike."""

    def __init__(self) -> None:
        self._known: dict[tuple[str, str, int, object], str] = {}

    def of(self, layout: Layout, match: re.Match[str]) -> str:
        """Name the scheme of what a layout's pattern fits; empty where its numbers cannot be."""
        key = layout.scheme, layout.name, match.end(), layout.shape(match)
        found = self._known.get(key)
        if found is None:
            parsed = layout.read(match[0])
            found = parsed.scheme if parsed else ""
            if not layout.by_value and len(self._known) < _MOST_SHAPES:
                self._known[key] = found
        return found


_SCHEMES = _Schemes()


def _ends(text: str, begun: Sequence[int]) -> Iterator[int]:
    """Say where a value may end: with the text, at a sign, or where its layout does.

    Args:
        text: that begins with it.
        begun: where the layouts end that the text begins with.
    """
    yield len(text)
    signs = [match.start() for match in _SEPARATOR.finditer(text, _SHORTEST)]
    yield from reversed(signs[-_SIGNS_TRIED:])
    for last in begun:
        yield from range(last, last - _CUT_OFF, -1)


def named_after(data: bytes, start: int, end: int) -> PossibleValue | None:
    """Read a bare digest that a word for passwords names, which begins and ends at these places."""
    before, first = data[start - 1 : start], data[start : start + 1]
    if before.isalpha() and not (before.islower() and first.isupper()):
        return None  # compass, bypass
    match = _NAMED.match(data, end)
    if match is None:
        return None
    text = unescaped(match["value"]).decode("ascii", "replace").rstrip("\\.,:|@")
    parsed = read_value(text)
    is_digest = parsed.layout in _BARE or parsed.says in {Says.TAG, Says.PLACES}
    if parsed.kind not in STORED_ALONE or not is_digest:
        return None  # what says so itself is found by its mark
    return PossibleValue(match.start("value"), text, parsed.scheme)
