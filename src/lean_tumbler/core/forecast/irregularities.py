"""What breaks a forecast, looked for before it is told: each with its effect and its remedy."""

from collections.abc import Iterator
from dataclasses import dataclass
from enum import Enum

import numpy as np

from lean_tumbler.core.forecast.back_test import BackTest
from lean_tumbler.core.forecast.intervals import Numbers
from lean_tumbler.core.forecast.last_logins import NEVER_SEEN, Population

_LATEST_DAYS = 2  # who comes every day was seen then
_BATCH_SHARE = 0.25  # of the accounts that were last seen on one day before that
_IMPORT_SHARE = 0.1  # of the accounts that were made on one day
_NULL_SHARE = 0.05
_LATE_SHARE = 0.02  # of dates in the first tenth of a column's time, where it began all at once
_SEASON_WEEKS, _SEASON_AHEAD = 52, 9
_LATELY_WEEKS = (3, 4)
# How far forecasts must have missed the rate of returns, as a logarithm, and how many times the
# median miss. On invented lives nine in ten seasons and changes are beyond, and one in thirty of
# what is neither (`benchmarks/forecasting`).
_SEASON = (0.2, 2.25)
_LATELY = (0.25, 3.0)
_SHORT_LOG_WEEKS = 26
_FEWEST = 100  # accounts, below which shares say little


class Withheld(Enum):
    """What a forecast must not tell."""

    NOTHING = "nothing"
    INTERVAL = "the interval"
    FORECAST = "the forecast"


@dataclass(frozen=True, slots=True, kw_only=True)
class Irregularity:
    """Something that a forecast should not pass over.

    Attributes:
        name: of what it is, for tests and other programs.
        sentence: what was seen, what it does to the forecast, and the remedy.
        withholds: what would be worth nothing.
    """

    name: str
    sentence: str
    withholds: Withheld = Withheld.NOTHING


def in_dates(everybody: Population) -> Iterator[Irregularity]:
    """Look at last logins, and at the days on which accounts were made."""
    ago, accounts = everybody.seen_days_ago, everybody.accounts
    dated = ago < NEVER_SEEN
    if everybody.total < _FEWEST:
        return
    share, day = _spike(ago[dated], accounts[dated], after=_LATEST_DAYS)
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
    imported = import_days_ago(everybody)
    if imported is not None:
        yield Irregularity(
            name="import",
            sentence=(
                f"so many accounts were made on one day, {imported:.0f} days ago, that it was an "
                "import: they are taken for older than that day"
            ),
        )


def import_days_ago(everybody: Population) -> float | None:
    """Give the day on which so many accounts were made that it was an import; None without one.

    How old these accounts are is not known.
    """
    if everybody.made_days_ago is None:
        return None
    dated = everybody.made_days_ago < NEVER_SEEN
    share, day = _spike(everybody.made_days_ago[dated], everybody.accounts[dated], after=0)
    return day if share > _IMPORT_SHARE else None


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


def in_log(test: BackTest) -> Iterator[Irregularity]:
    """Look at what forecasts of the past missed: a year ago, and lately."""
    if miss := _strange(test, _SEASON_AHEAD, _SEASON_WEEKS, _SEASON):
        yield Irregularity(
            name="season",
            sentence=(
                f"a year ago at this time {_as_change(miss)} returned in {_SEASON_AHEAD} weeks "
                "than such a forecast says: if that was a season, it comes again; add what you "
                "know of it, and count with `progress`"
            ),
            withholds=Withheld.INTERVAL,
        )
    lately = (_strange(test, weeks, weeks, _LATELY) for weeks in _LATELY_WEEKS)
    if miss := next(filter(None, lately), None):
        yield Irregularity(
            name="lately",
            sentence=(
                f"in the last weeks {_as_change(miss)} returned than such a forecast says: "
                "something has changed, and it is not known for how long; forecast again in a month"
            ),
            withholds=Withheld.INTERVAL,
        )
    if test.weeks < _SHORT_LOG_WEEKS:
        yield Irregularity(
            name="short log",
            sentence=(
                f"the log covers {test.weeks} weeks: people who come less often are not in it"
            ),
        )


def _spike(days: Numbers, accounts: Numbers, *, after: int) -> tuple[float, float]:
    """Give the largest share of one day among days before the latest, and that day."""
    earlier = days > after
    if not earlier.any() or float(accounts[earlier].sum()) < _FEWEST:
        return 0.0, 0.0
    found, place = np.unique(days[earlier], return_inverse=True)
    counts = np.bincount(place, accounts[earlier])
    most = int(counts.argmax())
    return float(counts[most] / counts.sum()), float(found[most])


def _strange(
    test: BackTest, ahead: int, weeks_ago: int, bounds: tuple[float, float]
) -> float | None:
    """Give the miss of forecasts as of some weeks ago, if it is far more than they ever miss by.

    Args:
        test: of the past.
        ahead: how many weeks the forecasts looked ahead.
        weeks_ago: when they were made, and in the weeks beside.
        bounds: the least that matters, and how many times the median it must be.
    """
    if not test.cuts:
        return None
    row = test.weeks - weeks_ago - test.cuts[0]
    beside = test.misses[max(0, row - 1) : row + 2, ahead] if row >= 0 else np.empty(0)
    beside = beside[np.isfinite(beside)]
    if not len(beside):
        return None
    miss, (least, times) = float(beside.mean()), bounds
    usual = float(np.median(np.abs(test.missed(ahead))))
    return miss if abs(miss) > max(least, times * usual) else None


def _as_change(miss: float) -> str:
    factor = np.exp(miss)
    return f"{factor - 1:.0%} more" if factor > 1 else f"{1 - factor:.0%} fewer"
