"""The words of the notation, and a text cut into them."""

import re
from collections.abc import Iterator

from msgspec import Struct

from lean_tumbler.core.formulas.steps import (
    DIGESTS,
    ENCODINGS,
    FILTERS,
    TEXT_ENCODINGS,
    TEXT_STEPS,
    Input,
    Side,
)
from lean_tumbler.errors import FormulaError

TEXT_CHARACTERS = 10_000


_TOKEN = re.compile(
    r"""
      (?P<blank>\s+)
    | (?P<string>"(?:[^"\\]|\\.)*")
    | (?P<bytes>0x[0-9a-fA-F]*)
    | (?P<word>[A-Za-z_][A-Za-z0-9_-]*)
    | (?P<number>[0-9]+)
    | (?P<mark>[(),:])
    """,
    re.VERBOSE | re.ASCII,
)


WORDS = (
    *TEXT_STEPS,
    "first N",
    "slice A B",
    *ENCODINGS,
    "take",
    *Side,
    *DIGESTS,
    "hmac-DIGEST",
    "pbkdf2-DIGEST",
    *TEXT_ENCODINGS,
    "N times",
)


# What no part may be called: it would be read as a step, a source or a filter.
RESERVED = frozenset(
    {*TEXT_STEPS, *ENCODINGS, *Side, *DIGESTS, *TEXT_ENCODINGS, *FILTERS, *Input}
    | {"first", "slice", "take", "key", "times", "from"}
)


PART_NAME = re.compile(r"[A-Za-z_][A-Za-z0-9_-]{0,31}", re.ASCII)


def is_part_name(word: str) -> bool:
    """Tell whether a part may be called that."""
    is_digest = word.startswith(("hmac-", "pbkdf2-"))
    return word not in RESERVED and not is_digest and PART_NAME.fullmatch(word) is not None


class Token(Struct, frozen=True):
    """One word or sign of a formula's text, and where it begins."""

    kind: str
    text: str
    offset: int


def tokens(text: str) -> Iterator[Token]:
    """Cut a text into words and signs; the last marks its end.

    Raises:
        FormulaError: a character that begins none.
    """
    offset = 0
    while offset < len(text):
        match = _TOKEN.match(text, offset)
        if match is None:
            raise FormulaError(
                f"position {offset + 1}: a character that no step begins with", offset=offset
            )
        if match.lastgroup != "blank":
            yield Token(match.lastgroup or "", match.group(), offset)
        offset = match.end()
    yield Token("end", "", len(text))
