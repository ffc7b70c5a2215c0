"""What only the column knows: texts of one length and alphabet, drawn at random as a group.

One by one, a short digest and a password can look alike; a group cannot. For each kind of digest
and each length, two accounts of the column are compared: passwords alone, or passwords and a share
of such digests. Where the second is likelier by more than `EVIDENCE_BITS` and what the kind itself
takes, the class is suspected. Then no text of it counts as a password unless chance would hardly
have made it (`DESTROY_SHARE`).
"""

import re
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property
from math import log2

from lean_tumbler.core.likelihood import drawn_bits, typed_bits

SHORTEST = 8  # a shorter text says too little to be told from a word
LONGEST = 160  # a longer one is not what anybody types
SAMPLE_TEXTS = 2_000  # of each length and alphabet
EVIDENCE_BITS = 12.0  # one false alarm in some four thousand columns a class
DESTROY_SHARE = 1e-9  # a text likelier than this to be a digest is not taken for a password
ALONE_ROWS = 100  # a text without its column is judged as one among so many
DRAWN_SHARE, DRAWN_ROWS = 0.2, 30  # from here on, texts drawn of letters and digits are no accident
_ROUNDS = 15

_DIGITS, _HEX, _HEX_UPPER = "0123456789", "0123456789abcdef", "0123456789ABCDEF"
_UPPER = "ABCDEFGHIJKLMNOPQRSTUVWXYZ"
_LETTERS = _UPPER + _UPPER.lower()
_BASE32 = _UPPER + "234567"
_CRYPT64, _BASE64, _URL64 = (_DIGITS + _LETTERS + more for more in ("./", "+/", "-_"))
_ALL = _DIGITS + _LETTERS + "./+-_="
# The last digit of a text that writes bits which do not fill it has zeros at its end.
_CRYPT_TAIL = ".26AEIMQUYcgkosw"  # 64 bits in eleven digits, the lowest bit first
_FOUR, _SIXTEEN = "AQgw", "AEIMQUYcgkosw048"  # RFC 4648 section 3.5: four, and two bits over


@dataclass(frozen=True, slots=True)
class Kind:
    """What a class of texts may be the digests of.

    Attributes:
        name: for people; the scheme's where there is one.
        alphabet: the digits.
        lengths: of the texts; empty for any from SHORTEST on.
        tails: place from the start (negative: from the end) -> the only digits there.
        padding: how many equals signs stand behind.
        prior_bits: how seldom a column holds such digests that nobody speaks of.
    """

    name: str
    alphabet: str
    lengths: tuple[int, ...] = ()
    tails: Mapping[int, str] = field(default_factory=dict)
    padding: int = 0
    prior_bits: float = 8.0

    def bits(self, text: str) -> float | None:
        """Give a text's bits as such a digest; None where it is none."""
        body = text[: -self.padding] if self.padding else text
        if self.padding and text[-self.padding :] != "=" * self.padding:
            return None
        if (self.lengths and len(body) not in self.lengths) or body.strip(self.alphabet):
            return None
        bits = len(body) * log2(len(self.alphabet))
        for place, digits in self.tails.items():
            if body[place] not in digits:
                return None
            bits -= log2(len(self.alphabet)) - log2(len(digits))
        return bits


def _whole(length: int, tail: str) -> Iterable[Kind]:
    tails = {-1: tail} if tail else {}
    yield Kind("base64 of a digest", _BASE64, (length,), tails, prior_bits=6.0)
    if padding := -length % 4:
        yield Kind("base64 of a digest", _BASE64, (length,), tails, padding, prior_bits=6.0)


KINDS: tuple[Kind, ...] = (
    Kind("des-crypt", _CRYPT64, (13,), {12: _CRYPT_TAIL}, prior_bits=6.0),
    *(
        Kind(
            "bigcrypt",
            _CRYPT64,
            (2 + 11 * blocks,),
            {1 + 11 * block: _CRYPT_TAIL for block in range(1, blocks + 1)},
        )
        for blocks in range(2, 17)
    ),
    *(kind for length, tail in ((22, _FOUR), (27, _SIXTEEN), (38, _FOUR), (43, _SIXTEEN),
                                (64, ""), (86, _FOUR)) for kind in _whole(length, tail)),
    Kind("hexadecimal digits of a digest", _HEX, prior_bits=7.0),
    Kind("hexadecimal digits of a digest", _HEX_UPPER, prior_bits=7.0),
    Kind("base32 of a digest", _BASE32, prior_bits=9.0),
    Kind("base64 of a digest, cut off", _BASE64, prior_bits=9.0),
    Kind("digits of crypt(3), cut off", _CRYPT64, prior_bits=9.0),
    Kind("base64 of a digest, cut off", _URL64, prior_bits=9.0),
)  # fmt: skip
_DRAWN = Kind("letters and digits drawn at random", _DIGITS + _LETTERS)
_DRAWN_DIGITS = Kind("digits drawn at random", _DIGITS)

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


@dataclass(frozen=True, slots=True)
class Suspected:
    """A class of texts that the column as a whole shows to be digests.

    Attributes:
        kind: of what.
        length: in characters.
        rows: how many texts of that length and alphabet there are.
        share: the estimated part of the column's texts.
        drawn_share: the part of passwords of that length that programs drew.
    """

    kind: Kind
    length: int
    rows: int
    share: float
    drawn_share: float

    def holds(self, text: str) -> bool:
        """Tell whether a text of it may be a digest after all."""
        bits = self.kind.bits(text)
        if bits is None:
            return False
        # The share that programs drew is left out: what looks drawn may be a digest.
        odds = log2(self.share) - bits + typed_bits(text)
        return odds > log2(DESTROY_SHARE)


@dataclass(frozen=True)
class Column:
    """What a survey found out.

    Attributes:
        rows: texts that were seen.
        suspected: classes of digests among them.
    """

    rows: int = 0
    suspected: tuple[Suspected, ...] = ()

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
            alone = Survey()
            alone.add([text])
            return next((s.kind.name for s in alone.column(ALONE_ROWS).suspected), "")
        classes = self._by_length.get(len(text), ())
        return next((each.kind.name for each in classes if each.holds(text)), "")


ALONE = Column()  # for a text whose column nobody has seen


@dataclass(slots=True)
class _Class:
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
                    "hex" if not text.strip(_HEX) else
                    "upper" if text.isupper() else "alnum"
                )  # fmt: skip
            elif text.strip(_ALL):
                continue
            else:
                alphabet = "signs"
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

    def _suspected(self, length: int, total: int) -> Iterable[Suspected]:
        pool = [
            (text, each.rows / len(each.sample))
            for (size, _), each in self._classes.items()
            if size == length
            for text in each.sample
        ]
        for kind in KINDS:
            if kind.lengths and length - kind.padding not in kind.lengths:
                continue
            texts = [(text, weight, bits) for text, weight in pool
                     if (bits := kind.bits(text)) is not None]  # fmt: skip
            if texts and (found := _compared(kind, length, texts, total)):
                yield found
                return
        yield from _drawn(length, pool, total)


_Weighed = Sequence[tuple[str, float, float]]


def _compared(kind: Kind, length: int, texts: _Weighed, total: int) -> Suspected | None:
    """Compare the two accounts of the texts that can be of a kind."""
    weights = [weight for _, weight, _ in texts]
    typed = [2.0 ** (bits - typed_bits(text)) for text, _, bits in texts]
    drawn = [2.0 ** (bits - drawn_bits(text)) for text, _, bits in texts]
    rows = sum(weights)
    others = max(0.0, total - rows)
    without, _, drawn_share = _fitted(weights, typed, drawn, others, total, may_be_digests=False)
    with_digests, share, _ = _fitted(weights, typed, drawn, others, total, may_be_digests=True)
    if with_digests - without < EVIDENCE_BITS + kind.prior_bits:
        return None
    return Suspected(kind, length, round(rows), max(share, 1 / total), drawn_share)


def _fitted(
    weights: Sequence[float],
    typed: Sequence[float],
    drawn: Sequence[float],
    others: float,
    total: int,
    *,
    may_be_digests: bool,
) -> tuple[float, float, float]:
    """Fit the shares by expectation and maximisation.

    The likelihoods are relative to that of a digest, which is 1.

    Returns:
        The logarithm of the likelihood in bits, the share of digests in the column, and the share
        that programs drew of the rest.
    """
    rows = sum(weights)
    share = rows / (2 * total) if may_be_digests else 0.0
    drawn_share = 0.02
    for _ in range(_ROUNDS):
        digests = programs = people = 0.0
        for weight, by_people, by_program in zip(weights, typed, drawn, strict=True):
            a = share
            b = (1 - share) * drawn_share * by_program
            c = (1 - share) * (1 - drawn_share) * by_people
            every = a + b + c or 1e-300
            digests += weight * a / every
            programs += weight * b / every
            people += weight * c / every
        share = digests / total if may_be_digests else 0.0
        # Among all passwords, not those of one length alone, a few are drawn by programs.
        drawn_share = min(0.9, max(1e-6, (programs + 0.02) / (programs + people + others + 1)))
    bits = others * log2(max(1 - share, 1e-300)) if others else 0.0
    bits += others * log2(1 - drawn_share) if others else 0.0
    for weight, by_people, by_program in zip(weights, typed, drawn, strict=True):
        mixed = share + (1 - share) * (drawn_share * by_program + (1 - drawn_share) * by_people)
        bits += weight * log2(max(mixed, 1e-300))
    return bits, share, drawn_share


def _drawn(length: int, pool: Sequence[tuple[str, float]], total: int) -> Iterable[Suspected]:
    """Find what is drawn of letters and digits, or of digits: too many to be chosen one by one."""
    looks: tuple[tuple[Kind, Callable[[str], bool]], ...] = (
        (_DRAWN_DIGITS, str.isdigit),
        (_DRAWN, lambda text: text.isalnum() and not text.isdigit()),
    )
    for kind, is_of in looks:
        rows = sum(
            weight
            for text, weight in pool
            if is_of(text) and (kind.bits(text) or 0.0) < typed_bits(text) - 4.0
        )
        if rows >= DRAWN_ROWS and rows >= DRAWN_SHARE * total:
            yield Suspected(kind, length, round(rows), rows / total, 0.0)
