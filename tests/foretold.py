"""Forecasts of made-up lives, from each kind of data, beside what came."""

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from types import MappingProxyType

import numpy as np
import polars as pl

from lean_tumbler.core.forecast.estimators import BASELINE, LIFE_TABLE, MEAN
from lean_tumbler.core.forecast.irregularities import Irregularity
from lean_tumbler.core.forecast.last_logins import NEVER_SEEN, Population
from lean_tumbler.core.forecast.log_table import TabledLog, tabled
from lean_tumbler.core.forecast.return_table import WEEK
from lean_tumbler.core.forecast.waiting import (
    HORIZONS,
    Forecast,
    FromDates,
    FromLog,
    from_history,
)
from lives import NOW, Lives


@dataclass(frozen=True, slots=True, kw_only=True)
class Foretold:
    """A forecast, what was seen that breaks it, and how many had really not returned by day.

    Attributes:
        simple: what each estimator alone says, by day.
    """

    forecast: Forecast
    irregularities: tuple[Irregularity, ...]
    truth: Mapping[int, int]
    simple: Mapping[str, Mapping[int, float]] = field(default_factory=dict)

    @property
    def names(self) -> set[str]:
        """What was seen."""
        return {each.name for each in self.irregularities}

    def error(self, day: int) -> float:
        """How far it was off, as a share of the accounts."""
        off = abs(self.forecast.days[day].expected - self.truth[day])
        return off / self.forecast.accounts

    def error_of(self, estimator: str, day: int) -> float:
        """How far a simple estimator is off."""
        return abs(self.simple[estimator][day] - self.truth[day]) / self.forecast.accounts

    def is_inside(self, day: int) -> bool | None:
        """Whether the truth lay in the interval, by half an account; None without one."""
        found = self.forecast.days[day]
        if found.low is None or found.high is None:
            return None
        return found.low - 0.5 <= self.truth[day] <= found.high + 0.5

    def is_too_hopeful(self, day: int) -> bool:
        """Whether more wait than the upper end says."""
        most = self.forecast.days[day].at_most(self.forecast.accounts)
        return self.truth[day] > most + 0.5


def _truth(lives: Lives, day: int, since: int | None = None) -> dict[int, int]:
    """Count accounts that there were on a day and had not returned so many days later."""
    start = day if since is None else since
    first = lives.first_after(start)[lives.made <= start]
    return {ahead: int((first > day - start + ahead).sum()) for ahead in HORIZONS}


def tabled_log(lives: Lives, *, with_made: bool) -> tuple[TabledLog, pl.DataFrame]:
    """Give the table of a log, and all accounts."""
    end = lives.log_days[1]
    known = np.flatnonzero(lives.made <= end)
    made = lives.made[known].astype(np.int32) if with_made else [None] * len(known)
    stored = np.where(np.isnan(lives.seen), -1, lives.seen)[known].astype(np.int32)
    accounts = pl.DataFrame(
        {"login": known, "made": made, "day": [None if day < 0 else int(day) for day in stored]},
        schema={"login": pl.UInt32, "made": pl.Int32, "day": pl.Int32},
    )
    last = lives.log.group_by("login").agg(logged=pl.col("day").max())
    accounts = accounts.join(last, on="login", how="left", maintain_order="left")
    return tabled(lives.log, accounts, end=end), accounts


def by_log(lives: Lives, *, with_made: bool = True) -> Foretold:
    """Forecast from the log."""
    table, accounts = tabled_log(lives, with_made=with_made)
    known = FromLog(table=table.table, lacks=table.lacks)
    waiting = table.waiting(accounts)
    simple = {
        each.name: each.away(table.table, table.table.weeks, HORIZONS[-1] // WEEK + 1, waiting)
        for each in (LIFE_TABLE, BASELINE, MEAN)
    }
    return Foretold(
        forecast=known.forecast(waiting),
        irregularities=known.irregularities,
        simple={
            name: {
                day: float(np.interp(day, np.arange(len(away)) * WEEK, away)) for day in HORIZONS
            }
            for name, away in simple.items()
        },
        truth=_truth(lives, lives.log_days[1]),
    )


def by_dates(lives: Lives, *, with_made: bool) -> Foretold:
    """Forecast from last logins, perhaps beside the days on which accounts were made."""
    seen = NOW - lives.seen[lives.known]
    everybody = Population(
        seen_days_ago=np.where(np.isnan(seen), NEVER_SEEN, np.maximum(seen, 0.0)),
        accounts=np.ones(len(seen)),
        made_days_ago=NOW - lives.made[lives.known] if with_made else None,
    )
    known = FromDates(everybody=everybody)
    return Foretold(
        forecast=known.forecast(everybody),
        irregularities=known.irregularities,
        truth=_truth(lives, NOW),
    )


def by_history(lives: Lives, *, days: int) -> Foretold:
    """Forecast from a burn-down that was counted each week."""
    since = NOW - days
    first = lives.first_after(since)[lives.made <= since]
    counted = [(day, int((first > day).sum())) for day in (*range(0, days, 7), days)]
    waiting = counted[-1][1]
    found = from_history(counted, waiting=waiting) or Forecast(
        accounts=waiting, days={}, method="", withheld="too few have returned"
    )
    return Foretold(forecast=found, irregularities=(), truth=_truth(lives, NOW, since))


KINDS: Mapping[str, Callable[[Lives], Foretold]] = MappingProxyType(
    {
        "last logins": lambda lives: by_dates(lives, with_made=False),
        "last logins and `created`": lambda lives: by_dates(lives, with_made=True),
        "a log": lambda lives: by_log(lives, with_made=False),
        "a log and `created`": by_log,
        "42 days of history": lambda lives: by_history(lives, days=42),
        "91 days of history": lambda lives: by_history(lives, days=91),
        "182 days of history": lambda lives: by_history(lives, days=182),
    }
)
