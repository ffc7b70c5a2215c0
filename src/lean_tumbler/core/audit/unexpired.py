"""Tokens that still open something: until when they do, and whether one was used."""

import re
from collections.abc import Sequence
from datetime import date

import polars as pl
from msgspec import Struct

from lean_tumbler.core.forecast.times import Times, days_of, number_of

_WHEN = r"(_?(at|on|date|time))?$"
_UNTIL = re.compile(
    rf"(^|_)(expires?|expired?|expiry|expiration|valid_?(until|to|till)){_WHEN}", re.IGNORECASE
)
_USED = re.compile(rf"(^|_)(used|consumed|redeemed|revoked|accepted){_WHEN}", re.IGNORECASE)
_NOT_USED = ("", "0", "f", "n", "false", "no")
_NO_END = date(9998, 12, 31)  # later days count as days too


class Lifetime(Struct, frozen=True):
    """The columns of a table that say how long a token opens something."""

    until: str  # a day or a time
    used: str = ""  # when or whether one was used; empty where there is none

    @property
    def columns(self) -> list[str]:
        """Their names."""
        return [self.until, *filter(None, [self.used])]

    def still_open(self, frame: pl.DataFrame, *, today: date) -> pl.Series:
        """Tell the rows of a frame whose token has not expired, and was not used."""
        days = days_of(frame[self.until], today=_NO_END, times=Times())
        is_open = (days >= number_of(today)).fill_null(value=False)
        if not self.used:
            return is_open
        used = frame[self.used].cast(pl.String).str.strip_chars().str.to_lowercase()
        return is_open & (used.is_null() | used.is_in(_NOT_USED))


def lifetime(columns: Sequence[str]) -> Lifetime | None:
    """Find these columns by their names; None where no end is told."""
    until = next((name for name in columns if _UNTIL.search(name)), None)
    used = next((name for name in columns if _USED.search(name)), "")
    return None if until is None else Lifetime(until, used)
