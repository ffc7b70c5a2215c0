"""How much of a store falls to the likeliest passwords, by how people choose."""

import math
from bisect import bisect_right
from itertools import pairwise
from typing import Annotated

from msgspec import Meta, Struct

LIKELIEST = (10**4, 10**6, 10**9)


class Opened(Struct, frozen=True, kw_only=True):
    """The share of some accounts that falls; a bound where no list of passwords reaches."""

    share: Annotated[float, "part of the accounts that falls, 0 to 1"]
    is_at_most: Annotated[bool, "whether that share is an upper bound"] = False


Covered = tuple[Annotated[float, Meta(ge=1)], Annotated[float, Meta(gt=0, le=1)]]


class Popularity(Struct, frozen=True, kw_only=True):
    """The share of accounts whose password is among the r likeliest, on a list of points.

    Up to 100 guesses: Bonneau, “The Science of Guessing”, IEEE Symposium on Security and Privacy
    2012, table of two populations of 33 and 69 million (0.9 % and 1.1 % for one guess, 2.1 % and
    1.8 % for 10, 4.6 % and 3.7 % for 100); their mean. From 10,000 on: Wang, Cheng, Wang, Huang and
    Jian, “Zipf's Law in Passwords”, IEEE Transactions on Information Forensics and Security 12
    (2017), section IV: 0.037433 · r^0.187227 for the first of these populations, up to its
    14,326,970 distinct passwords. Beyond, nothing is known. Other populations differ, so the points
    can be replaced.
    """

    # guesses, and the share that they open, in rising order; straight lines between, of logarithms
    covered: Annotated[tuple[Covered, ...], Meta(min_length=2)] = (
        (1, 0.010),
        (10, 0.020),
        (100, 0.042),
        (10_000, 0.210),
        (1_000_000, 0.497),
        (14_326_970, 0.819),
    )

    @property
    def is_in_order(self) -> bool:
        """Whether guesses rise, and no share falls."""
        pairs = pairwise(self.covered)
        return all(one[0] < other[0] and one[1] <= other[1] for one, other in pairs)

    def opened(self, guesses: float) -> Opened:
        """Say what so many guesses at each account open, the likeliest first."""
        return Opened(share=self.cracked_share(guesses), is_at_most=not self.is_known(guesses))

    def is_known(self, guesses: float) -> bool:
        """Tell whether the points reach so far; beyond, a share is “at most all”."""
        return guesses <= self.covered[-1][0]

    def cracked_share(self, guesses: float) -> float:
        """Give the share of accounts that fall to so many guesses at each, the likeliest first."""
        first = self.covered[0]
        if guesses < first[0]:
            return 0.0
        if not self.is_known(guesses):
            return 1.0
        place = min(
            bisect_right(self.covered, guesses, key=lambda point: point[0]), len(self.covered) - 1
        )
        (low, below), (high, above) = self.covered[place - 1], self.covered[place]
        along = math.log(guesses / low) / math.log(high / low)
        return below * math.pow(above / below, along)
