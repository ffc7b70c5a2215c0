"""Kinds of digests that a short text may be: alphabet, length, and the digits that bits leave."""

from collections.abc import Iterable, Mapping
from math import log2

from msgspec import Struct, field

DIGITS, HEX, HEX_UPPER = "0123456789", "0123456789abcdef", "0123456789ABCDEF"
_UPPER = "ABCDEFGHIJKLMNOPQRSTUVWXYZ"
LETTERS = _UPPER + _UPPER.lower()
_BASE32 = _UPPER + "234567"
_CRYPT64, _BASE64, _URL64 = (DIGITS + LETTERS + more for more in ("./", "+/", "-_"))
ALL_DIGITS = DIGITS + LETTERS + "./+-_="
# The last digit of a text that writes bits which do not fill it has zeros at its end.
_CRYPT_TAIL = ".26AEIMQUYcgkosw"  # 64 bits in eleven digits, the lowest bit first
_FOUR, _SIXTEEN = "AQgw", "AEIMQUYcgkosw048"  # RFC 4648 section 3.5: four, and two bits over


class DigestKind(Struct, frozen=True):
    """What a class of texts may be the digests of."""

    name: str  # for people; the scheme's where there is one
    alphabet: str  # the digits
    lengths: tuple[int, ...] = ()  # of the texts; empty for any from SHORTEST on
    # place from the start (negative: from the end) -> the only digits there
    tails: Mapping[int, str] = field(default_factory=dict)
    padding: int = 0  # how many equals signs stand behind
    prior_bits: float = 8.0  # how seldom a column holds such digests that nobody speaks of
    # by how much, for each character, such a digest is better explained as one than as a text that
    # a program drew of letters and digits
    gain_bits: float = 0.0
    tail_bits: float = 0.5  # the same for what the ends of its blocks leave, in all

    def least_bits_each(self, length: int) -> float:
        """Give a sixth of what each such digest should gain: with less, it is something else."""
        return (length * self.gain_bits + self.tail_bits) / 6

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


_HEX_GAIN = log2(36 / 16)


def _whole(length: int, tail: str) -> Iterable[DigestKind]:
    tails = {-1: tail} if tail else {}
    yield DigestKind("base64 of a digest", _BASE64, (length,), tails, prior_bits=6.0)
    if padding := -length % 4:
        yield DigestKind("base64 of a digest", _BASE64, (length,), tails, padding, prior_bits=6.0)


KINDS: tuple[DigestKind, ...] = (
    DigestKind("des-crypt", _CRYPT64, (13,), {12: _CRYPT_TAIL}, prior_bits=6.0, tail_bits=2.0),
    *(
        DigestKind(
            "bigcrypt",
            _CRYPT64,
            (2 + 11 * blocks,),
            {1 + 11 * block: _CRYPT_TAIL for block in range(1, blocks + 1)},
        )
        for blocks in range(2, 17)
    ),
    *(kind for length, tail in ((22, _FOUR), (27, _SIXTEEN), (38, _FOUR), (43, _SIXTEEN),
                                (64, ""), (86, _FOUR)) for kind in _whole(length, tail)),
    DigestKind("hexadecimal digits of a digest", HEX, prior_bits=7.0, gain_bits=_HEX_GAIN),
    DigestKind("hexadecimal digits of a digest", HEX_UPPER, prior_bits=7.0, gain_bits=_HEX_GAIN),
    DigestKind("base32 of a digest", _BASE32, prior_bits=9.0),
    DigestKind("base64 of a digest, cut off", _BASE64, prior_bits=9.0),
    DigestKind("digits of crypt(3), cut off", _CRYPT64, prior_bits=9.0),
    DigestKind("base64 of a digest, cut off", _URL64, prior_bits=9.0),
)  # fmt: skip
