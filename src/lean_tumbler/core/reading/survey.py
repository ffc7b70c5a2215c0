"""What only the column knows: texts of one length and alphabet, drawn at random as a group.

One by one, a short digest and a password can look alike; a group cannot. The texts of one length
are taken as a mixture: made up by people, drawn by password managers from several alphabets, plain
numbers; and, where that explains them better by more than `mixture.EVIDENCE_BITS` and what the kind
itself takes, a share of some kind of digest. Then no text of that kind counts as a password unless
chance would hardly have made it (`DESTROY_SHARE`).
"""

import re
from collections.abc import Callable, Iterable, Mapping, Sequence
from functools import cached_property
from math import log2

from msgspec import Struct, field

from lean_tumbler.core.likelihood import typed_bits
from lean_tumbler.core.reading.digest_kinds import (
    ALL_DIGITS,
    DIGITS,
    HEX,
    KINDS,
    LETTERS,
    DigestKind,
)
from lean_tumbler.core.reading.mixture import Mixture

SHORTEST = 8  # a shorter text says too little to be told from a word
LONGEST = 160  # a longer one is not what anybody types
SAMPLE_TEXTS = 300  # of each length and alphabet
DESTROY_SHARE = 1e-9  # a text likelier than this to be a digest is not taken for a password
ALONE_SHARE = 1e-3  # the same where nobody has seen the column
DRAWN_SHARE, DRAWN_ROWS = 0.2, 30  # from here on, texts drawn of letters and digits are no accident

_DRAWN = DigestKind("letters and digits drawn at random", DIGITS + LETTERS)
_DRAWN_DIGITS = DigestKind("digits drawn at random", DIGITS)

_PAIR, _LONG, _MARK = "[0-9a-fA-F]{2}", "[0-9a-fA-F]{32,}", "[:$|;,.@#-]"
# Nobody types these: bytes as lists of numbers or as separated pairs, a digest with its salt.
_PRINTS = (
    ("a list of bytes", re.compile(r"[\[({]?\s*(?:-?\d{1,3}\s*[,; ]\s*){7,}-?\d{1,3}\s*[\])}]?")),
    ("bytes in hexadecimal", re.compile(rf"{_PAIR}([:\- ]){_PAIR}(?:\1{_PAIR}){{2,}}")),
    ("bytes in hexadecimal", re.compile(r"(?:(?:0x|\\x)[0-9a-fA-F]{1,2}[,; ]*){4,}")),
    ("a digest and more", re.compile(rf"{_LONG}{_MARK}.*|.*{_MARK}{_LONG}")),
)  # fmt: skip


def _printed(text: str) -> str:
    return next((name for name, pattern in _PRINTS if pattern.fullmatch(text)), "")


class Suspected(Struct, frozen=True):
    """A class of texts that the column as a whole shows to be digests."""

    kind: DigestKind  # of what
    length: int  # in characters
    share: float  # the estimated part of the column's texts

    def holds(self, text: str) -> bool:
        """Tell whether a text of it may be a digest after all."""
        bits = self.kind.bits(text)
        if bits is None:
            return False
        # The share that programs drew is left out: what looks drawn may be a digest.
        odds = log2(self.share) - bits + typed_bits(text)
        return odds > log2(DESTROY_SHARE)


class Column(Struct, frozen=True, dict=True):
    """What a survey found out."""

    rows: int = 0  # texts that were seen
    suspected: tuple[Suspected, ...] = ()  # classes of digests among them

    @cached_property
    def _by_length(self) -> Mapping[int, Sequence[Suspected]]:
        found: dict[int, list[Suspected]] = {}
        for each in self.suspected:
            found.setdefault(each.length, []).append(each)
        return found

    def suspects(self, text: str) -> str:
        """Name what a text may be the digest of; empty where it is a password."""
        printed = _printed(text)
        if printed or len(text) > LONGEST:
            return printed or "a text too long to be typed"
        if not self.rows:
            return _suspected_alone(text)
        classes = self._by_length.get(len(text), ())
        return next((each.kind.name for each in classes if each.holds(text)), "")


def _suspected_alone(text: str) -> str:
    """Judge a text whose column nobody has seen: as likely a digest as not, before the look."""
    if len(text) < SHORTEST:
        return ""
    for kind in KINDS:
        bits = kind.bits(text)
        if bits is not None and typed_bits(text) - bits - 1 > log2(ALONE_SHARE):
            return kind.name
    return ""


ALONE = Column()  # for a text whose column nobody has seen


class _Class(Struct):
    rows: int = 0
    stride: int = 1
    sample: list[str] = field(default_factory=list)

    def add(self, text: str) -> None:
        """Count a text, and keep every so manyth of them."""
        if self.rows % self.stride == 0:
            self.sample.append(text)
            if len(self.sample) > SAMPLE_TEXTS:
                del self.sample[1::2]
                self.stride *= 2
        self.rows += 1


class Survey:
    """Takes the texts of a column in, and says what they are as a whole; memory is bounded."""

    def __init__(self) -> None:
        self._rows = 0
        self._classes: dict[tuple[int, str], _Class] = {}

    def add(self, texts: Iterable[str]) -> None:
        """Take texts in."""
        classes = self._classes
        number = 0
        for text in texts:
            number += 1
            length = len(text)
            if not SHORTEST <= length <= LONGEST or not text.isascii():
                continue
            if text.isalnum():
                alphabet = (
                    "digits" if text.isdigit() else
                    "hex" if not text.strip(HEX) else
                    "upper" if text.isupper() else "alnum"
                )  # fmt: skip
            else:
                alphabet = "other signs" if text.strip(ALL_DIGITS) else "signs"
            found = classes.get((length, alphabet))
            if found is None:
                found = classes[length, alphabet] = _Class()
            found.add(text)
        self._rows += number

    def column(self, rows: int = 0) -> Column:
        """Say what stands there.

        Args:
            rows: how many texts the column has, where more than were seen.
        """
        total = max(rows, self._rows)
        lengths = sorted({length for length, _ in self._classes})
        found = [each for length in lengths for each in self._suspected(length, total)]
        return Column(total, tuple(found))

    def _suspected(self, length: int, total: int) -> list[Suspected]:
        texts = [
            (text, each.rows / len(each.sample))
            for (size, _), each in self._classes.items()
            if size == length
            for text in each.sample
        ]
        found = Mixture(texts, total).kinds(length)
        if not found:
            return list(_drawn(length, texts, total))
        return [Suspected(kind, length, max(share, 1 / total)) for kind, share in found]


def _drawn(length: int, texts: Sequence[tuple[str, float]], total: int) -> Iterable[Suspected]:
    """Find what is drawn of letters and digits, or of digits: too many to be chosen one by one."""
    looks: tuple[tuple[DigestKind, Callable[[str], bool]], ...] = (
        (_DRAWN_DIGITS, str.isdigit),
        (_DRAWN, lambda text: text.isalnum() and not text.isdigit()),
    )
    for kind, is_of in looks:
        rows = sum(
            weight
            for text, weight in texts
            if is_of(text) and (kind.bits(text) or 0.0) < typed_bits(text) - 4.0
        )
        if rows >= DRAWN_ROWS and rows >= DRAWN_SHARE * total:
            yield Suspected(kind, length, rows / total)
