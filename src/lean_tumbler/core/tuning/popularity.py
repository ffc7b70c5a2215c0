"""How much of a store falls to the likeliest passwords: a power law of how people choose."""

import math
from dataclasses import dataclass
from typing import Annotated

from msgspec import Meta


@dataclass(frozen=True, slots=True, kw_only=True)
class Popularity:
    """The share of accounts whose password is among the r likeliest: min(1, share · r^exponent).

    Wang, Cheng, Wang, Huang, Jian, “Zipf's Law in Passwords”, IEEE Transactions on Information
    Forensics and Security 12 (2017), section IV: the distribution function of a leaked list of
    32 million. Other populations differ; so both numbers can be replaced.
    """

    share: Annotated[float, Meta(gt=0, le=1)] = 0.037433
    exponent: Annotated[float, Meta(gt=0, le=1)] = 0.187227

    def cracked_share(self, guesses: float) -> float:
        """Give the share of accounts that fall to so many guesses at each, the likeliest first."""
        if guesses < 1:
            return 0.0
        return min(1.0, self.share * math.pow(guesses, self.exponent))

    def guesses_for(self, share: float) -> float:
        """Give how many guesses at each account open a share of them."""
        return max(1.0, math.pow(share / self.share, 1 / self.exponent))


LIKELIEST = (10**4, 10**6, 10**9)
