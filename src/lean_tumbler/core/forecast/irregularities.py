"""What breaks a forecast, looked for before it is told: each with its effect and its remedy."""

from collections.abc import Iterator
from enum import Enum

import numpy as np
from msgspec import Struct

from lean_tumbler.core.forecast.back_test import BackTest
from lean_tumbler.core.forecast.estimators import SHORT_WEEKS
from lean_tumbler.core.forecast.intervals import Numbers
from lean_tumbler.core.forecast.last_logins import NEVER_SEEN, Population, spike

_LATEST_DAYS = 2  # who comes every day was seen then
_BATCH_SHARE = 0.25  # of the accounts that were last seen on one day before that
_NULL_SHARE = 0.05
_LACKED_SHARE = 0.05
_LATE_SHARE = 0.02  # of dates in the first tenth of a column's time, where it began all at once
_YEAR_WEEKS, _AHEAD_WEEKS = 52, 26
_SEASON_WEEKS, _LATELY_WEEKS = (4, 6, 8), (3, 4)
# How far a stretch of weeks must be off, as a logarithm, and in standard errors of its mean. The
# busiest of many stretches is looked for a year ago, so that it must be farther off than the
# latest. On invented lives all seasons and changes are beyond, and hardly anything else
# (`benchmarks/forecasting`).
_LEAST = 0.25
_SEASON_ERRORS, _LATELY_ERRORS = 4.2, 2.9
# The standard deviation over the median deviation of a normal distribution (Hampel, “The Influence
# Curve and Its Role in Robust Estimation”, JASA 69, 1974), which a season itself does not widen.
_OF_MEDIAN_DEVIATION = 1.4826
_LEAST_SPREAD = 0.05
_FEWEST = 100  # accounts, below which shares say little


class Withheld(Enum):
    """What a forecast must not tell."""

    NOTHING = "nothing"
    INTERVAL = "the interval"
    FORECAST = "the forecast"


class Stretch(Struct, frozen=True, kw_only=True):
    """Some weeks, counted from one on, and how many times as many returned in them as usual."""

    begins: int
    ends: int
    factor: float


class Irregularity(Struct, frozen=True, kw_only=True):
    """Something that a forecast should not pass over."""

    name: str  # of what it is, for tests and other programs
    sentence: str  # what was seen, what it does to the forecast, and the remedy
    withholds: Withheld = Withheld.NOTHING  # what would be worth nothing
    # weeks from now in which more, or fewer, are taken to return; None without any
    expected: Stretch | None = None


def in_dates(everybody: Population) -> Iterator[Irregularity]:
    """Look at last logins, and at the days on which accounts were made."""
    ago, accounts = everybody.seen_days_ago, everybody.accounts
    dated = ago < NEVER_SEEN
    if everybody.total < _FEWEST:
        return
    share, day = spike(ago[dated], accounts[dated], after=_LATEST_DAYS)
    if share > _BATCH_SHARE:
        yield Irregularity(
            name="batch",
            sentence=(
                f"{share:.0%} of the last logins are of one day, {day:.0f} days ago, as when a "
                "batch wrote to all rows: when these people were last here is not known; give a "
                "log of logins (--logins)"
            ),
            withholds=Withheld.FORECAST,
        )
    undated = float(accounts[~dated].sum())
    if undated > _NULL_SHARE * everybody.total:
        yield Irregularity(
            name="no date",
            sentence=(
                f"{undated:,.0f} of {everybody.total:,.0f} accounts have no last login and are "
                "taken for people who never return: where dates were lost, fewer will wait"
            ),
        )
        yield from _begun_late(everybody)
    imported = everybody.imported_days_ago
    if imported is not None:
        yield Irregularity(
            name="import",
            sentence=(
                f"so many accounts were made on one day, {imported:.0f} days ago, that it was an "
                "import: they are taken for older than that day"
            ),
        )


def _begun_late(everybody: Population) -> Iterator[Irregularity]:
    """Tell whether a column of last logins was added when accounts had been there for long."""
    dated = everybody.seen_days_ago < NEVER_SEEN
    ago, accounts = everybody.seen_days_ago[dated], everybody.accounts[dated]
    if not len(ago):
        return
    oldest = float(ago.max())
    edge = float(accounts[ago > 0.9 * oldest].sum()) / float(accounts.sum())
    if oldest > _LATEST_DAYS and edge > _LATE_SHARE:
        yield Irregularity(
            name="late column",
            sentence=(
                f"no last login is older than {oldest:.0f} days, and many are nearly as old, as "
                "where the column was added then: beyond that day all accounts without a date are "
                "taken for people who never return"
            ),
        )


def in_log(test: BackTest, lacks: float = 0.0) -> Iterator[Irregularity]:
    """Look at a log: does it lack people, were its weeks busier a year ago, or lately?

    Args:
        test: what forecasts of the past missed.
        lacks: the share of the accounts that it lacks, though they were seen in its time.
    """
    if lacks > _LACKED_SHARE:
        yield Irregularity(
            name="lacking log",
            sentence=(
                f"the log lacks {lacks:.0%} of the accounts, though the store saw them in its "
                "time, as where one way in is not logged: of their forecast nothing can be held "
                "against what came; give the logs of all ways in"
            ),
            withholds=Withheld.INTERVAL,
        )
    yield from _of_weeks(test)


def _of_weeks(test: BackTest) -> Iterator[Irregularity]:
    weeks = _Weeks.of(test)
    a_year_ago = len(weeks.busy) - _YEAR_WEEKS
    season = None
    if a_year_ago >= 0:
        reach = slice(a_year_ago, a_year_ago + _AHEAD_WEEKS)
        season = weeks.strangest(reach, _SEASON_WEEKS, _SEASON_ERRORS)
    if season:
        yield Irregularity(
            name="season",
            sentence=(
                f"a year ago {_as_change(season.factor)} than usual returned in weeks "
                f"{season.begins + 1} to {season.ends} from this day; the forecast has this "
                "season come again, without an interval, as it was seen once; count with `progress`"
            ),
            withholds=Withheld.INTERVAL,
            expected=season,
        )
    latest = (
        weeks.strangest(slice(-length, None), (length,), _LATELY_ERRORS) for length in _LATELY_WEEKS
    )
    if change := next(filter(None, latest), None):
        yield Irregularity(
            name="lately",
            sentence=(
                f"in the last {change.ends} weeks {_as_change(change.factor)} than usual returned: "
                "something has changed, and it is not known for how long; the forecast has it last "
                "as long again, without an interval; forecast again in a month"
            ),
            withholds=Withheld.INTERVAL,
            expected=change,
        )
    if test.weeks < SHORT_WEEKS:
        yield Irregularity(
            name="short log",
            sentence=(
                f"the log covers {test.weeks} weeks: people who come less often are not in it"
            ),
        )


class _Weeks(Struct, frozen=True, kw_only=True):
    """How busy each week of a log was: what the forecast of the week before missed."""

    busy: Numbers  # the logarithm of how many times as many returned as usual
    spread: float  # the standard error of a week

    @classmethod
    def of(cls, test: BackTest) -> "_Weeks":
        misses = test.missed(1)
        if not len(misses):
            return cls(busy=misses, spread=_LEAST_SPREAD)
        busy = misses - np.median(misses)
        spread = _OF_MEDIAN_DEVIATION * float(np.median(np.abs(busy)))
        return cls(busy=busy, spread=max(spread, _LEAST_SPREAD))

    def strangest(self, part: slice, lengths: tuple[int, ...], errors: float) -> Stretch | None:
        """Give the stretch that is farthest from usual, if it is far enough.

        Args:
            part: in which it is looked for.
            lengths: of stretches, in weeks.
            errors: the least, in standard errors of a stretch.
        """
        busy = self.busy[part]
        found = [
            (float(busy[begins : begins + length].mean()), begins, length)
            for length in lengths
            for begins in range(len(busy) - length + 1)
        ]
        mean, begins, length = max(
            found, key=lambda each: abs(each[0]) * each[2] ** 0.5, default=(0.0, 0, 1)
        )
        if abs(mean) * length**0.5 < errors * self.spread or abs(mean) < _LEAST:
            return None
        return Stretch(begins=begins, ends=begins + length, factor=float(np.exp(mean)))


def _as_change(factor: float) -> str:
    return f"{factor - 1:.0%} more people" if factor > 1 else f"{1 - factor:.0%} fewer people"
