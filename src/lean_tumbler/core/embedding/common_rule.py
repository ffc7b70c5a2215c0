"""The likely passwords that no new password may be, as few lines that give the same answers."""

import re
from functools import cache

from msgspec import Struct

from lean_tumbler.core.audit import likely
from lean_tumbler.core.login.new_passwords import common_passwords

# What stands behind a word, and behind one with digits for letters.
ENDINGS = r"(?:1|2|7|12|123|1234|12345|!|1!|123!|01|00|99)?"
YEARS = r"(?:(?:20[0-2][0-9]|2030)!?|[0-9]{2})"
DATES = (
    r"(?:0[1-9]|[12][0-9]|3[01])(?:0[1-9]|1[0-2])"
    r"(?:19(?:6[5-9]|[7-9][0-9])|20(?:0[0-9]|1[0-2]))"
)


class CommonRule(Struct, frozen=True):
    """Three patterns' parts, and what none of them finds."""

    words: tuple[str, ...]  # with ENDINGS or YEARS behind them
    altered: tuple[str, ...]  # with ENDINGS behind them
    rest: tuple[str, ...]  # the whole texts


@cache
def common_rule(least: int) -> CommonRule:
    """Give the rule for passwords of at least so many characters, in small letters."""
    words, altered = likely.words_and_altered()
    known = re.compile(
        f"(?:{_either(words)})(?:{ENDINGS}|{YEARS})|(?:{_either(altered)}){ENDINGS}|{DATES}",
        re.ASCII,
    )
    rest = sorted(
        text for text in common_passwords() if len(text) >= least and not known.fullmatch(text)
    )
    return CommonRule(words, altered, tuple(rest))


def _either(texts: tuple[str, ...]) -> str:
    return "|".join(map(re.escape, texts))
