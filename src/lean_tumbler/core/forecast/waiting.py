"""A forecast: how many of some accounts have not returned, by days from now."""

from collections.abc import Mapping, Sequence
from functools import cached_property
from types import MappingProxyType

import numpy as np
from msgspec import Struct, field
from msgspec.structs import replace

from lean_tumbler.core.forecast.back_test import (
    AHEAD_WEEKS,
    BackTest,
    back_test,
    chosen,
    fewest_cuts,
)
from lean_tumbler.core.forecast.estimators import LIFE_TABLE
from lean_tumbler.core.forecast.intervals import Interval, Numbers, on_days
from lean_tumbler.core.forecast.irregularities import Irregularity, Withheld, in_dates, in_log
from lean_tumbler.core.forecast.last_logins import LastLogins, Population
from lean_tumbler.core.forecast.return_table import WEEK, ReturnTable, Waiting, from_counts

HORIZONS = (30, 60, 90, 180)
# Every fortnight of a year and the first days, for the plot; and the days that are told.
DAYS = tuple(sorted({3, 7, *range(14, 365, 14), *HORIZONS}))
# Before what has happened says more than last logins do.
_FEWEST_WEEKS, _FEWEST_COUNTS, _FEWEST_RETURNS = 4, 4, 30
_FIRST_CUT_OF_HISTORY = 3
# Of a few accounts a week may be thousands of times as busy as usual; nothing is known beyond.
_FARTHEST_WEEKS = 4 * AHEAD_WEEKS
NO_PAST = (
    "last logins alone cannot be back-tested: give a log of logins (--logins), or count with "
    "`progress` for some weeks"
)


class Forecast(Struct, frozen=True, kw_only=True):
    """How many of some accounts have not returned, by days from now."""

    accounts: int  # how many there are now
    days: Mapping[int, Interval]  # the forecast
    method: str  # what it comes from, in words
    # the share that was not seen in as many days before; nothing is estimated
    baseline: Mapping[int, float] = field(default_factory=dict)
    no_interval: str = ""  # why some days, or all, have no interval; empty where each has one
    # why there is no forecast but the number of accounts; empty where there is one
    withheld: str = ""
    # of parts of the accounts, how many are expected not to have returned, by days
    parts: Mapping[str, Mapping[int, float]] = field(default_factory=dict)

    def at(self, day: int) -> Interval:
        """Give the forecast for any day, on a straight line between those computed."""
        low, expected, high = (
            np.array([getattr(each, part) for each in self.days.values()], dtype=np.float64)
            for part in ("low", "expected", "high")
        )
        known, now = [0, *self.days], float(self.accounts)
        below, middle, above = (
            float(np.interp(day, known, [now, *values])) for values in (low, expected, high)
        )
        return Interval(low=None if np.isnan(below) else below, expected=middle,
                        high=None if np.isnan(above) else above)  # fmt: skip

    def with_care(self, found: Sequence[Irregularity]) -> "Forecast":
        """Leave out what irregularities make worthless: the intervals, or all but the accounts."""
        days, parts = self.days, self.parts
        reasons = {each.withholds: each.sentence for each in reversed(found)}
        withheld = reasons.get(Withheld.FORECAST, "")
        reason = withheld or reasons.get(Withheld.INTERVAL, "")
        if withheld:
            days = {day: Interval.alone(self.accounts) for day in days}
            parts = {}
        elif reason:
            days = {day: Interval.alone(each.expected) for day, each in days.items()}
        return replace(self, days=days, parts=parts, withheld=withheld,
                       no_interval=reason or self.no_interval)  # fmt: skip


class FromLog(Struct, frozen=True, kw_only=True, dict=True):
    """Forecasts from a log of logins."""

    table: ReturnTable  # who returned in which week
    # the share of the accounts that the log lacks, though they were seen in its time
    lacks: float = 0.0

    @cached_property
    def tests(self) -> tuple[BackTest, BackTest]:
        """The back-test of the chosen estimator, and that of the baseline."""
        return chosen(self.table)

    @cached_property
    def irregularities(self) -> tuple[Irregularity, ...]:
        """What a forecast should not pass over."""
        return tuple(in_log(self.tests[0], self.lacks))

    def forecast(
        self, waiting: Waiting, parts: Mapping[str, Waiting] = MappingProxyType({})
    ) -> Forecast:
        """Forecast how many accounts have not returned."""
        test, plain = self.tests
        return Forecast(
            accounts=round(waiting.total),
            days=self._days(test, waiting),
            method=f"the log: {test.estimator.name}",
            baseline=_on_days(self._away(plain, waiting, AHEAD_WEEKS)),
            no_interval=_why_not_all(test),
            parts={name: _on_days(self._expected(part)) for name, part in parts.items()},
        ).with_care(self.irregularities)

    def _days(self, test: BackTest, waiting: Waiting) -> dict[int, Interval]:
        expected = self._expected(waiting)
        low, high = test.bounds(expected)
        return on_days(DAYS, low, expected, high, step_days=WEEK)

    def _away(self, test: BackTest, waiting: Waiting, ahead: int) -> Numbers:
        return test.estimator.away(self.table, self.table.weeks, ahead, waiting)

    def _expected(self, waiting: Waiting) -> Numbers:
        """Estimate by the chosen estimator; a week that is twice as busy counts as two."""
        busy = np.ones(AHEAD_WEEKS)
        for each in self.irregularities:
            if each.expected:
                busy[each.expected.begins : each.expected.ends] *= each.expected.factor
        at = np.minimum(np.append(0.0, np.cumsum(busy)), _FARTHEST_WEEKS)
        away = self._away(self.tests[0], waiting, int(np.ceil(at[-1])))
        found: Numbers = np.interp(at, np.arange(len(away)), away)
        return found


def _on_days(away: Numbers) -> dict[int, float]:
    found = np.interp(DAYS, np.arange(len(away)) * WEEK, away)
    return dict(zip(DAYS, map(float, found), strict=True))


def _why_not_all(test: BackTest) -> str:
    """Say why the last of the told days have no interval; empty where they have."""
    earned = test.earned_weeks
    if earned * WEEK >= HORIZONS[-1]:
        return ""
    first_without = next(day for day in HORIZONS if earned * WEEK < day)
    weeks = test.weeks
    until = f"intervals end {earned * WEEK} days ahead" if earned else "there is no interval"
    more = _weeks_needed(first_without, test) - weeks
    return (
        f"{until}: {weeks} weeks of history allow too few back-tests beyond; day {first_without} "
        f"needs about {more} more"
    )


def _weeks_needed(day: int, test: BackTest) -> int:
    """Give about how many weeks of the past earn an interval for a day."""
    ahead = -(-day // WEEK)
    weeks = test.weeks + 1
    while weeks - ahead - (test.cuts[0] if test.cuts else 8) < fewest_cuts(ahead):
        weeks += 1
    return weeks


class FromDates(Struct, frozen=True, kw_only=True, dict=True):
    """Forecasts from last logins, perhaps beside the days on which accounts were made."""

    everybody: Population  # all accounts of the store

    @cached_property
    def irregularities(self) -> tuple[Irregularity, ...]:
        """What a forecast should not pass over."""
        return tuple(in_dates(self.everybody))

    def forecast(
        self, wanted: Population, parts: Mapping[str, Population] = MappingProxyType({})
    ) -> Forecast:
        """Forecast how many accounts have not returned."""
        known = LastLogins(everybody=self.everybody)
        return Forecast(
            accounts=round(wanted.total),
            days={day: Interval.alone(known.away(wanted, day)) for day in DAYS},
            method=known.method,
            baseline={day: wanted.total * known.not_seen_share(day) for day in DAYS},
            no_interval=NO_PAST,
            parts={name: {day: known.away(part, day) for day in DAYS}
                   for name, part in parts.items()},
        ).with_care(self.irregularities)  # fmt: skip


def from_history(counted: Sequence[tuple[int, int]], *, waiting: int) -> Forecast | None:
    """Forecast from what has really happened since a migration began.

    Args:
        counted: days since the first count, and how many accounts had not returned then.
        waiting: how many the forecast is for; of those that have not returned, some may be locked.

    Returns:
        The forecast for those that wait now; None where too few have returned, or too little time
        has passed.
    """
    (_, first), (since, now) = counted[0], counted[-1]
    weeks = since // WEEK
    if weeks < _FEWEST_WEEKS or len(counted) < _FEWEST_COUNTS or first - now < _FEWEST_RETURNS:
        return None
    days = np.array([day for day, _ in counted], dtype=np.float64)
    numbers = np.array([number for _, number in counted], dtype=np.float64)
    edges = since - np.arange(weeks, -1, -1, dtype=np.float64) * WEEK
    table = from_counts(list(np.interp(edges, days, numbers)))
    test = back_test(table, LIFE_TABLE, first_cut=min(_FIRST_CUT_OF_HISTORY, weeks - 1))
    left = table.waiting(weeks)
    expected = LIFE_TABLE.away(table, weeks, AHEAD_WEEKS, left)
    low, high = test.bounds(expected)
    factor = waiting / max(1.0, left.total)
    found = on_days(DAYS, low, expected, high, step_days=WEEK)
    return Forecast(
        accounts=waiting,
        days={day: interval.scaled(factor) for day, interval in found.items()},
        method="what has happened",
        no_interval=_why_not_all(test),
    )
