"""Taking encodings off what stands at a place: hexadecimal, base64, UTF-16."""

import base64
import re
from collections.abc import Callable, Iterator
from urllib.parse import unquote_to_bytes

from lean_tumbler.core.residue.finds import Encoding
from lean_tumbler.core.residue.runs import LETTERS_AND_DIGITS, runs, table_of
from lean_tumbler.core.residue.value_texts import LONGEST, unescaped

_RUN_BYTES = 3 * LONGEST
_HEX = re.compile(rb"(?:[0-9a-fA-F]{2})+")
_BASE64 = re.compile(rb"[0-9A-Za-z+/_-]+")
_WIDE = re.compile(rb"(?:[ -~]\x00)+")
_TO_STANDARD = bytes.maketrans(b"-_", b"+/")
_SHORTEST = 16  # signs of a run that may stand for a value
_IN_RUNS = table_of(LETTERS_AND_DIGITS + b"+/-_")
_BEGIN_TEXT = frozenset(b"IJKLMNOPQRSTUVWXYZabcdef")
_OF_LETTERS = frozenset(b"234567")  # how hexadecimal of printable ASCII begins
_ESCAPES: tuple[tuple[Encoding, re.Pattern[bytes], Callable[[bytes], bytes]], ...] = (
    (Encoding.URL, re.compile(rb"%[0-9A-Fa-f]{2}"), unquote_to_bytes),
    (Encoding.JSON, re.compile(rb"\\u00[0-9A-Fa-f]{2}"), unescaped),
)
_IN_WORDS = table_of(LETTERS_AND_DIGITS + b"%._~*+$/=\\-")
_PRINTABLE = bytes(range(32, 127)) + b"\t\r\n"
_LOOKED_AT = 24  # bytes of what was decoded, to tell text


def from_hex(data: bytes, start: int, most: int = 2 * _RUN_BYTES) -> bytes:
    """Give what hexadecimal digits at a place stand for; at most so many."""
    match = _HEX.match(data, start, start + most)
    return bytes.fromhex(match[0].decode("ascii")) if match else b""


def from_base64(data: bytes, start: int, most: int = 2 * _RUN_BYTES) -> bytes:
    """Give what base64 at a place stands for, at most so many signs.

    A part of three bytes that is not whole is left.
    """
    match = _BASE64.match(data, max(0, start), start + most)
    run = match[0].translate(_TO_STANDARD) if match else b""
    if len(run) % 4 == 1:
        run = run[:-1]
    return base64.b64decode(run + b"=" * (-len(run) % 4))


def from_wide(data: bytes, start: int) -> bytes:
    """Give what UTF-16 (little-endian, of ASCII alone) at a place stands for."""
    match = _WIDE.match(data, start, start + 2 * _RUN_BYTES)
    return match[0][::2] if match else b""


def all_packed(data: bytes) -> Iterator[tuple[Encoding, int, bytes]]:
    """Give everything in some bytes that stands for text, in whichever encoding."""
    for start, end in runs(data, _IN_RUNS, _SHORTEST):
        first = start + 2 * (data[start : start + 2] == b"0x")
        if _OF_LETTERS.issuperset(data[first : first + 6 : 2]):
            yield Encoding.HEX, first, from_hex(data[first:end], 0, end - first)
        # Of printable ASCII, base64 begins with few of its signs.
        if data[start] in _BEGIN_TEXT and is_text(from_base64(data[start : start + _SHORTEST], 0)):
            yield Encoding.BASE64, start, from_base64(data[start:end], 0, end - start)
    if b"\0" in data:
        for match in _WIDE.finditer(data):
            yield Encoding.UTF16, match.start(), match[0][::2]
    for encoding, mark, decoded in _ESCAPES:
        for start, word in _words(data, mark):
            yield encoding, start, decoded(word)


def _words(data: bytes, mark: re.Pattern[bytes]) -> Iterator[tuple[int, bytes]]:
    """Give the words that a mark stands in, each once, as far as a value is long."""
    end = 0
    for match in mark.finditer(data):
        if match.start() < end:
            continue
        first = max(end, match.start() - LONGEST)
        signs = data[first : match.start() + _RUN_BYTES].translate(_IN_WORDS)
        here = match.start() - first
        start = signs.rfind(b"\0", 0, here) + 1
        after = signs.find(b"\0", here)
        end = first + (len(signs) if after < 0 else after)
        yield first + start, data[first + start : end]


def is_text(decoded: bytes) -> bool:
    """Tell whether what was decoded begins as text does."""
    head = decoded[:_LOOKED_AT]
    return len(head) >= 6 and not head.translate(None, _PRINTABLE)
