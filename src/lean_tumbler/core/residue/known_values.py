"""Looking for values that are known: those that were replaced, or that a store still holds."""

import re
from collections.abc import Iterable, Iterator
from enum import StrEnum

from msgspec import Struct, field

from lean_tumbler.core.records import Hidden, MaskedRecord
from lean_tumbler.core.residue.finds import fingerprint
from lean_tumbler.core.residue.runs import LETTERS_AND_DIGITS, runs, table_of

_SHORTEST = 8  # bytes; shorter texts stand anywhere, and so do words and numbers
_LONG_NUMBER = 20
_MOST_TEXTS = 2_000  # of odd shape, which are looked for one by one
_HEX = re.compile(rb"[0-9a-f]+|[0-9A-F]+")
_WORD = re.compile(rb"[0-9A-Za-z./+]+=*")
_SHORTEST_RUN = 16
_MOST_SHIFTS = 256  # within one run of hexadecimal digits
_IN_HEX = table_of(b"0123456789abcdefABCDEF")
_WORD_SIGNS = frozenset(LETTERS_AND_DIGITS + b"./+")
_IN_WORDS = bytes(code if code in _WORD_SIGNS else 32 for code in range(256))


class Shape(StrEnum):
    """What a value looks like, and so how it is looked for."""

    HEX = "hex"
    MARKED = "marked"
    WORD = "word"
    TEXT = "text"


def shape_of(value: bytes) -> Shape:
    """Say what a value looks like."""
    if len(value) >= _SHORTEST_RUN and _HEX.fullmatch(value):
        return Shape.HEX
    if value.startswith((b"$", b"{")):
        return Shape.MARKED
    return Shape.WORD if _WORD.fullmatch(value) else Shape.TEXT


class Remembered(Struct, frozen=True):
    """What is kept of a value that is to be found again and not to be kept."""

    shape: Shape  # what it looks like
    length: int  # in bytes; of a word, without what ends base64
    mark: bytes  # its keyed fingerprint


def remembered(value: bytes, key: bytes) -> Remembered | None:
    """Take of a value what finds it again; None of one that stands anywhere, or has no shape."""
    shape = shape_of(value)
    if is_anybodys(value) or shape is Shape.TEXT:
        return None
    length = len(value.rstrip(b"=")) if shape is Shape.WORD else len(value)
    return Remembered(shape, length, fingerprint(value, key))


class KnownValues(MaskedRecord, Struct):
    """Values by what they look like, so that each kind is looked for as quickly as it can be."""

    key: Hidden[bytes] = b""  # of the fingerprints
    # fingerprint -> the store that the value is, or was, of
    stores: dict[bytes, str] = field(default_factory=dict)
    # fingerprints of values that a store still holds: they open accounts today
    live: set[bytes] = field(default_factory=set)
    # those of them that open an administrator's
    privileged: set[bytes] = field(default_factory=set)
    _hex_lengths: set[int] = field(default_factory=set)
    _words: dict[bytes, bytes] = field(default_factory=dict)
    _word_lengths: set[int] = field(default_factory=set)
    _remembered_lengths: set[int] = field(default_factory=set)
    _texts: set[bytes] = field(default_factory=set)
    _marked_lengths: set[int] = field(default_factory=set)
    left_out: int = 0

    def add(
        self, values: Iterable[bytes], store: str, *, live: bool = False, privileged: bool = False
    ) -> None:
        """Add values of a store; short ones and words are left out, and counted."""
        for value in values:
            if is_anybodys(value):
                self.left_out += 1
                continue
            mark = self.mark(value)
            self.stores[mark] = store
            if live:
                self.live.add(mark)
            if privileged:
                self.privileged.add(mark)
            self._place(value, mark)

    def add_remembered(self, values: Iterable[Remembered], store: str) -> None:
        """Add values of which no more is known than their fingerprints, by the same key."""
        lengths = {
            Shape.HEX: self._hex_lengths,
            Shape.MARKED: self._marked_lengths,
            Shape.WORD: self._remembered_lengths,
        }
        for value in values:
            self.stores[value.mark] = store
            lengths[value.shape].add(value.length)

    def mark(self, value: bytes) -> bytes:
        """Give the fingerprint of a value."""
        return fingerprint(value, self.key)

    def _place(self, value: bytes, mark: bytes) -> None:
        match shape_of(value):
            case Shape.HEX:
                self._hex_lengths.add(len(value))
            case Shape.MARKED:
                self._marked_lengths.add(len(value))
            case Shape.WORD:
                bare = value.rstrip(b"=")
                self._words[bare] = mark
                self._word_lengths.add(len(bare))
            case Shape.TEXT if len(self._texts) < _MOST_TEXTS:
                self._texts.add(value)
            case Shape.TEXT:
                self.left_out += 1

    def __bool__(self) -> bool:
        """Tell whether any value is known."""
        return bool(self.stores)

    @property
    def has_unmarked(self) -> bool:
        """Whether any of them does not say itself what it is."""
        return bool(self._hex_lengths or self._words or self._remembered_lengths or self._texts)

    def at(self, data: bytes, start: int) -> bytes | None:
        """Give the fingerprint of the known value that begins at a place; None where none does."""
        for length in self._marked_lengths:
            mark = self.mark(data[start : start + length])
            if mark in self.stores:
                return mark
        return None

    def within(self, data: bytes) -> Iterator[tuple[int, int, bytes]]:
        """Find known values; give where each begins, how long it is, and its fingerprint."""
        yield from self._in_hex(data)
        yield from self._among_words(data)
        yield from self._as_texts(data)

    def _in_hex(self, data: bytes) -> Iterator[tuple[int, int, bytes]]:
        """Look at each run of hexadecimal digits; a neighbour's digits may stand around a value."""
        if not self._hex_lengths:
            return
        for start, end in runs(data, _IN_HEX, min(self._hex_lengths)):
            yield from self._in_run(data, start, end)

    def _in_run(self, data: bytes, start: int, end: int) -> Iterator[tuple[int, int, bytes]]:
        if end - start in self._hex_lengths:
            mark = self.mark(data[start:end])
            if mark in self.stores:
                yield start, end - start, mark
            return
        lengths = [length for length in self._hex_lengths if length <= end - start]
        place = start
        while place < end:
            found = next(
                (
                    (length, mark)
                    for length in lengths
                    if place + length <= end
                    and (mark := self.mark(data[place : place + length])) in self.stores
                ),
                None,
            )
            if found is None:
                place += 1
                if place - start > _MOST_SHIFTS:
                    return
                continue
            yield place, *found
            place += found[0]

    def _among_words(self, data: bytes) -> Iterator[tuple[int, int, bytes]]:
        """Look at each word of the signs of base64, with and without what ends such a word."""
        if not self._words and not self._remembered_lengths:
            return
        escaped = data.replace(b"\\/", b"/") if b"\\/" in data else data
        words = set(escaped.translate(_IN_WORDS).split())
        for bare in self._words.keys() & words:
            yield from _places(escaped, bare, self._words[bare])
        for word in words if self._remembered_lengths else ():
            yield from self._if_remembered(escaped, word)
        if b"\0" in data:  # what stands beside a value may be the next column's
            for word in words:
                yield from self._within_word(escaped, word)

    def _if_remembered(self, data: bytes, word: bytes) -> Iterator[tuple[int, int, bytes]]:
        """Look at a word, and at it with what ends base64, by its fingerprint alone."""
        if len(word) in self._remembered_lengths:
            for ending in (b"", b"=", b"=="):
                mark = self.mark(word + ending)
                if mark in self.stores:
                    yield from _places(data, word, mark)

    def _within_word(self, data: bytes, word: bytes) -> Iterator[tuple[int, int, bytes]]:
        if len(word) > _MOST_SHIFTS:
            return
        for length in self._word_lengths:
            for start in range(len(word) - length + 1 if length < len(word) else 0):
                part = word[start : start + length]
                if part in self._words:
                    yield from _places(data, part, self._words[part])
        for length in self._remembered_lengths:
            for start in range(len(word) - length + 1 if length < len(word) else 0):
                yield from self._if_remembered(data, word[start : start + length])

    def _as_texts(self, data: bytes) -> Iterator[tuple[int, int, bytes]]:
        for text in self._texts:
            yield from _places(data, text, self.mark(text))


def is_anybodys(value: bytes) -> bool:
    """Tell a value that stands anywhere: a plain password that is short, or a word or number."""
    is_word = value.isalpha() and (value.islower() or value.isupper() or value.istitle())
    return len(value) < _SHORTEST or is_word or (value.isdigit() and len(value) < _LONG_NUMBER)


def _places(data: bytes, value: bytes, mark: bytes) -> Iterator[tuple[int, int, bytes]]:
    place = data.find(value)
    while place >= 0:
        yield place, len(value), mark
        place = data.find(value, place + len(value))
