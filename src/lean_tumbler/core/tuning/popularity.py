"""How much of a store falls to the likeliest passwords: a power law of how people choose."""

import math
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from lean_tumbler.core.tuning.numbers import require_numbers


@dataclass(frozen=True, slots=True, kw_only=True)
class Popularity:
    """The share of accounts whose password is among the r likeliest: min(1, share · r^exponent).

    Wang, Cheng, Wang, Huang, Jian, “Zipf's Law in Passwords”, IEEE Transactions on Information
    Forensics and Security 12 (2017), section IV: the distribution function of a leaked list of
    32 million. Other populations differ; so both numbers can be replaced.
    """

    share: float = 0.037433
    exponent: float = 0.187227

    def cracked_share(self, guesses: float) -> float:
        """Give the share of accounts that fall to so many guesses at each, the likeliest first."""
        if guesses < 1:
            return 0.0
        return min(1.0, self.share * math.pow(guesses, self.exponent))

    def guesses_for(self, share: float) -> float:
        """Give how many guesses at each account open a share of them."""
        return max(1.0, math.pow(share / self.share, 1 / self.exponent))


def popularity_from_entries(entries: Mapping[str, Any], *, place: str) -> Popularity:
    """Check a table of the model's two numbers.

    Args:
        entries: `share` and `exponent`.
        place: what messages call the table.

    Raises:
        UsageError: a number is missing, unknown, or not above 0 and at most 1.
    """
    require_numbers(entries, ("share", "exponent"), most=1.0, place=place)
    return Popularity(share=entries["share"], exponent=entries["exponent"])


LIKELIEST = (10**4, 10**6, 10**9)
