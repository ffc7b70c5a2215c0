"""A number of accounts, and the interval in which it lies four times out of five."""

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

Numbers = NDArray[np.float64]
# People with rates of their own are the fewer the longer they have been away: the chance of a
# return falls as one over the time (Lomax, “Business failures”, JASA 49, 1954). Some never return,
# so it falls faster; this power came nearest on invented burn-downs (`tests/lives.py`).
TAIL_POWER = 1.5


class Interval(Struct, frozen=True, kw_only=True):
    """A number with its interval."""

    low: float | None  # the lower end; None where nothing has earned an interval
    expected: float  # the number
    high: float | None  # the upper end; None likewise

    @classmethod
    def alone(cls, expected: float) -> "Interval":
        """Make a number without an interval."""
        return cls(low=None, expected=expected, high=None)

    @property
    def is_drawn(self) -> bool:
        """Whether there is an interval."""
        return self.low is not None

    def __add__(self, other: "Interval") -> "Interval":
        return Interval(
            low=None if self.low is None or other.low is None else self.low + other.low,
            expected=self.expected + other.expected,
            high=None if self.high is None or other.high is None else self.high + other.high,
        )

    def scaled(self, factor: float) -> "Interval":
        """Give the same for a part of the accounts."""
        return Interval(
            low=None if self.low is None else self.low * factor,
            expected=self.expected * factor,
            high=None if self.high is None else self.high * factor,
        )

    def at_most(self, accounts: float) -> float:
        """Give the upper end; without an interval all of the accounts may be left."""
        return accounts if self.high is None else min(self.high, accounts)


NOTHING = Interval(low=0.0, expected=0.0, high=0.0)


def on_days(days: tuple[int, ...], low: Numbers, expected: Numbers, high: Numbers,
            *, step_days: int) -> dict[int, Interval]:  # fmt: skip
    """Give intervals on days between steps, on straight lines.

    Args:
        days: from now.
        low: by steps from now on; NaN where there is no interval.
        expected: likewise, without NaN.
        high: as `low`.
        step_days: how long a step is.
    """
    at = np.arange(len(expected)) * step_days
    lows, middles, highs = (np.interp(days, at, part) for part in (low, expected, high))
    return {
        day: Interval(low=None if np.isnan(below) else float(below), expected=float(middle),
                      high=None if np.isnan(above) else float(above))
        for day, below, middle, above in zip(days, lows, middles, highs, strict=True)
    }  # fmt: skip
