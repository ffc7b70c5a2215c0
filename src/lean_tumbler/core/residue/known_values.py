"""Looking for values that are known: those that were replaced, or that a store still holds."""

import re
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field

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


@dataclass(slots=True)
class KnownValues:
    """Values by what they look like, so that each kind is looked for as quickly as it can be.

    Attributes:
        stores: fingerprint -> the store that the value is, or was, of.
        live: fingerprints of values that a store still holds: they open accounts today.
        privileged: those of them that open an administrator's.
    """

    stores: dict[bytes, str] = field(default_factory=dict)
    live: set[bytes] = field(default_factory=set)
    privileged: set[bytes] = field(default_factory=set)
    _hex_lengths: set[int] = field(default_factory=set)
    _words: dict[bytes, bytes] = field(default_factory=dict)
    _word_lengths: set[int] = field(default_factory=set)
    _texts: set[bytes] = field(default_factory=set)
    _marked_lengths: set[int] = field(default_factory=set)
    left_out: int = 0

    def add(
        self, values: Iterable[bytes], store: str, *, live: bool = False, privileged: bool = False
    ) -> None:
        """Add values of a store; short ones and words are left out, and counted."""
        for value in values:
            if _is_anybodys(value):
                self.left_out += 1
                continue
            mark = fingerprint(value)
            self.stores[mark] = store
            if live:
                self.live.add(mark)
            if privileged:
                self.privileged.add(mark)
            self._place(value, mark)

    def _place(self, value: bytes, mark: bytes) -> None:
        if len(value) >= _SHORTEST_RUN and _HEX.fullmatch(value):
            self._hex_lengths.add(len(value))
        elif value.startswith((b"$", b"{")):
            self._marked_lengths.add(len(value))
        elif _WORD.fullmatch(value):
            bare = value.rstrip(b"=")
            self._words[bare] = mark
            self._word_lengths.add(len(bare))
        elif len(self._texts) < _MOST_TEXTS:
            self._texts.add(value)
        else:
            self.left_out += 1

    def __bool__(self) -> bool:
        """Tell whether any value is known."""
        return bool(self.stores)

    @property
    def has_unmarked(self) -> bool:
        """Whether any of them does not say itself what it is."""
        return bool(self._hex_lengths or self._words or self._texts)

    def at(self, data: bytes, start: int) -> bytes | None:
        """Give the fingerprint of the known value that begins at a place; None where none does."""
        for length in self._marked_lengths:
            mark = fingerprint(data[start : start + length])
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
            mark = fingerprint(data[start:end])
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
                    and (mark := fingerprint(data[place : place + length])) in self.stores
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
        if not self._words:
            return
        escaped = data.replace(b"\\/", b"/") if b"\\/" in data else data
        words = set(escaped.translate(_IN_WORDS).split())
        for bare in self._words.keys() & words:
            yield from _places(escaped, bare, self._words[bare])
        if b"\0" in data:  # what stands beside a value may be the next column's
            for word in words:
                yield from self._within_word(escaped, word)

    def _within_word(self, data: bytes, word: bytes) -> Iterator[tuple[int, int, bytes]]:
        if len(word) > _MOST_SHIFTS:
            return
        for length in self._word_lengths:
            for start in range(len(word) - length + 1 if length < len(word) else 0):
                part = word[start : start + length]
                if part in self._words:
                    yield from _places(data, part, self._words[part])

    def _as_texts(self, data: bytes) -> Iterator[tuple[int, int, bytes]]:
        for text in self._texts:
            yield from _places(data, text, fingerprint(text))


def _is_anybodys(value: bytes) -> bool:
    """Tell a value that stands anywhere: a plain password that is short, or a word or number."""
    is_word = value.isalpha() and (value.islower() or value.isupper() or value.istitle())
    return len(value) < _SHORTEST or is_word or (value.isdigit() and len(value) < _LONG_NUMBER)


def _places(data: bytes, value: bytes, mark: bytes) -> Iterator[tuple[int, int, bytes]]:
    place = data.find(value)
    while place >= 0:
        yield place, len(value), mark
        place = data.find(value, place + len(value))
