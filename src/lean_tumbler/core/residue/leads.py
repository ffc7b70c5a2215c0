"""Where a stored value may begin: all marks, in all encodings, in one pass over the bytes."""

import base64
import re
from collections.abc import Iterator
from enum import IntEnum, auto
from functools import cache
from urllib.parse import quote_from_bytes

import ahocorasick_rs

from lean_tumbler.core.residue.value_texts import MARKED

_MARK_BYTES = 7  # of a mark; more would only make the search's tables larger
_SHORTEST_PACKED = 3  # signs of base64 that a mark leaves no choice
# Words for passwords, in the letter cases that programs use.
_WORDS = ("pass", "pwd", "credential")
_SHORT_WORDS = ('"pw', "'pw", "pw=", "pw:", "pw_")


class Lead(IntEnum):
    """What a place may be the beginning of."""

    MARK = auto()  # a value that says what it is
    WORD = auto()  # the end of a word for passwords
    HEX = auto()  # hexadecimal of either
    BASE64 = auto()  # base64 of either
    WIDE = auto()  # UTF-16 of either


def _marks() -> list[bytes]:
    starts = {start.encode("ascii")[:_MARK_BYTES] for layout in MARKED for start in layout.starts}
    return [mark for mark in sorted(starts) if not any(
        mark != other and mark.startswith(other) for other in starts
    )]  # fmt: skip


def _words() -> list[bytes]:
    cased = (form for word in _WORDS for form in (word, word.upper(), word.capitalize()))
    return [word.encode("ascii") for word in (*cased, *_SHORT_WORDS)]


def _in_base64(text: bytes) -> Iterator[tuple[bytes, int]]:
    """Give the signs of base64 that a text leaves no choice, after 0, 1 and 2 other bytes."""
    for before in range(3):
        packed = base64.b64encode(bytes(before) + text)
        first = (0, 2, 3)[before]
        last = (before + len(text)) * 8 // 6
        signs = packed[first:last]
        if len(signs) >= _SHORTEST_PACKED:
            yield signs, first


def _small(escaped: bytes) -> bytes:
    """Write escapes for URLs with small letters, as some programs do."""
    return re.sub(rb"%[0-9A-F]{2}", lambda match: match[0].lower(), escaped)


def _patterns() -> dict[bytes, tuple[Lead, int]]:
    """Give all texts that are looked for: what each leads to, and how far it starts behind that."""
    found: dict[bytes, tuple[Lead, int]] = {}
    marks, words = _marks(), _words()
    for text in (*marks, *words):
        for signs, first in _in_base64(text):
            found.setdefault(signs, (Lead.BASE64, first))
        for digits in (text.hex(), text.hex().upper()):
            found.setdefault(digits.encode("ascii"), (Lead.HEX, 0))
        found.setdefault(text.decode("ascii").encode("utf-16-le"), (Lead.WIDE, 0))
    for mark in marks:
        found[mark] = (Lead.MARK, 0)
        sign, escaped = mark[:1], quote_from_bytes(mark, safe="").encode("ascii")
        if escaped != mark:
            found[escaped] = found[_small(escaped)] = (Lead.MARK, 0)
        if sign in b"${":
            for letters in (b"\\u%04x" % ord(sign), b"\\u%04X" % ord(sign)):
                found[letters] = (Lead.MARK, 0)
    found |= dict.fromkeys(words, (Lead.WORD, 0))
    return found


_PATTERNS = _patterns()
_LEADS = tuple(_PATTERNS.values())


@cache
def _automaton() -> "ahocorasick_rs.BytesAhoCorasick":
    return ahocorasick_rs.BytesAhoCorasick(
        list(_PATTERNS), implementation=ahocorasick_rs.Implementation.DFA
    )


def leads(data: bytes) -> Iterator[tuple[Lead, int, int]]:
    """Give each place where something may begin: what, where it begins, and where the lead ends."""
    for number, start, end in _automaton().find_matches_as_indexes(data, overlapping=True):
        lead, first = _LEADS[number]
        yield lead, start - first, end
