"""Made-up lives: people who come at rates of their own, and of whom the truth is known."""

from collections.abc import Callable
from dataclasses import dataclass, field, replace
from types import MappingProxyType

import numpy as np
import polars as pl
from numpy.typing import NDArray

Numbers = NDArray[np.float64]
NOW = 1000  # the day on which a forecast is made; lives go on for half a year
_DAYS = NOW + 183
_RHYTHM = (1.2, 1.3, 1.3, 1.2, 1.0, 0.4, 0.3)


@dataclass(frozen=True, slots=True, kw_only=True)
class Lives:
    """People, and what a store and its log know of them.

    Attributes:
        typed: `login`, a number, and `day` of each typed password, before and after `NOW`.
        made: the day on which each account was made.
        seen: the day that the store holds for each as the last login; NaN is NULL.
        log_days: the first and the last day of the log.
        unlogged: logins that the log lacks.
    """

    typed: pl.DataFrame
    made: Numbers
    seen: Numbers
    log_days: tuple[int, int] = (300, NOW)
    unlogged: tuple[int, ...] = ()

    @property
    def known(self) -> NDArray[np.bool_]:
        """Which accounts there are on the day of the forecast."""
        return self.made <= NOW

    @property
    def log(self) -> pl.DataFrame:
        """The log of typed passwords."""
        lacked = pl.col("login").is_in(self.unlogged)
        return self.typed.filter(pl.col("day").is_between(*self.log_days), ~lacked)

    def first_after(self, day: int) -> Numbers:
        """Give how many days after a day each account first comes; infinite where it does not."""
        found = np.full(len(self.made), np.inf)
        later = self.typed.filter(pl.col("day") > day).group_by("login").agg(pl.col("day").min())
        found[later["login"].to_numpy()] = later["day"].to_numpy() - day
        return found


def _even(days: Numbers) -> Numbers:
    return np.ones_like(days)


def _as_it_is(lives: Lives, chance: np.random.Generator) -> Lives:
    return lives


@dataclass(frozen=True, slots=True, kw_only=True)
class Habits:
    """How people come, and what is done to the data.

    Attributes:
        rates: of Gamma-distributed rates, the shape; of log-normal ones, the negative sigma.
        days_between: visits of the mean person.
        stay_days: how long the mean person stays; who has left never returns.
        weeks_differ: the standard deviation of the logarithm of how busy a week is.
        weekdays: how busy each day of the week is.
        mails: days on which a mail brings people, and the share of those present that it brings.
        pace: how much more than usual people come on each day.
        every_days: people come after so many days with some days' chance, and not at random.
        robots: the share that comes every day.
        growth: how many times more accounts are made in a year than in the year before.
        after: what happens to store and log.
    """

    rates: float = 0.8
    days_between: float = 25.0
    stay_days: float = 900.0
    weeks_differ: float = 0.3
    weekdays: tuple[float, ...] = _RHYTHM
    mails: tuple[tuple[int, float], ...] = ()
    pace: Callable[[Numbers], Numbers] = _even
    every_days: float = 0.0
    robots: float = 0.0
    growth: float = 1.0
    after: Callable[[Lives, np.random.Generator], Lives] = field(default=_as_it_is)


def lives(accounts: int, seed: int, habits: Habits = Habits()) -> Lives:
    """Make up so many people."""
    chance = np.random.default_rng(seed)
    made = NOW - 2000 + 2183 * _placed(chance.random(accounts), habits.growth)
    ends = made + chance.exponential(habits.stay_days, accounts)
    rates = _rates(chance, accounts, habits)
    days = np.arange(_DAYS, dtype=np.float64)
    busy = np.exp(chance.normal(0, habits.weeks_differ, _DAYS // 7 + 1))[np.arange(_DAYS) // 7]
    rhythm = np.array(habits.weekdays)[np.arange(_DAYS) % 7] / np.mean(habits.weekdays)
    by_day = busy * rhythm * habits.pace(days)
    begins, ends = np.maximum(made, 0.0), np.minimum(np.maximum(ends, 0.0), _DAYS)
    stay = np.maximum(ends - begins, 0.0)
    who, when = _visits(chance, rates, begins, stay, by_day)
    if habits.every_days:
        who, when = _regular(chance, begins, stay, habits.every_days)
    new = np.flatnonzero(made >= 0)
    who, when = np.concatenate([who, new]), np.concatenate([when, made[new]])
    for day, share in habits.mails:
        there = np.flatnonzero((begins <= day) & (ends > day) & (chance.random(accounts) < share))
        who, when = np.concatenate([who, there]), np.concatenate([when, np.full(len(there), day)])
    typed = pl.DataFrame({"login": who, "day": np.floor(when)}).unique().sort("day", "login")
    typed = typed.cast({"login": pl.UInt32, "day": pl.Int32})
    found = Lives(typed=typed, made=np.floor(made), seen=_last(typed, accounts, made, chance))
    return habits.after(found, chance)


def _placed(even: Numbers, growth: float) -> Numbers:
    """Place accounts in the time in which they are made, ever more of them where they grow."""
    if growth == 1:
        return even
    most = growth ** (2183 / 365)
    placed: Numbers = np.log(1 + even * (most - 1)) / np.log(most)
    return placed


def _rates(chance: np.random.Generator, accounts: int, habits: Habits) -> Numbers:
    if habits.rates < 0:
        rates = chance.lognormal(habits.rates**2 / -2, -habits.rates, accounts)
        rates /= habits.days_between
    else:
        rates = chance.gamma(habits.rates, 1 / (habits.rates * habits.days_between), accounts)
    rates[: int(habits.robots * accounts)] = 1.0
    found: Numbers = rates
    return found


def _visits(
    chance: np.random.Generator, rates: Numbers, begins: Numbers, stay: Numbers, by_day: Numbers
) -> tuple[NDArray[np.int64], Numbers]:
    most = by_day.max()
    who = np.repeat(np.arange(len(rates)), chance.poisson(most * rates * stay))
    when = begins[who] + chance.random(len(who)) * stay[who]
    come = chance.random(len(who)) * most < by_day[when.astype(np.int64)]
    return who[come], when[come]


def _regular(
    chance: np.random.Generator, begins: Numbers, stay: Numbers, every: float
) -> tuple[NDArray[np.int64], Numbers]:
    times = int(_DAYS / every) + 2
    gaps = np.maximum(1.0, chance.normal(every, every / 6, (len(begins), times)))
    after = np.cumsum(gaps, axis=1) - gaps[:, :1] * chance.random((len(begins), 1))
    who, which = np.nonzero(after < stay[:, None])
    return who, begins[who] + after[who, which]


def _last(
    typed: pl.DataFrame, accounts: int, made: Numbers, chance: np.random.Generator
) -> Numbers:
    """Give each account's last login; of who left long ago, a day before all others."""
    last = typed.filter(pl.col("day") <= NOW).group_by("login").agg(pl.col("day").max())
    seen: Numbers = np.floor(made + chance.random(accounts) * (0 - np.minimum(made, 0.0)))
    seen[last["login"].to_numpy()] = last["day"].to_numpy()
    return seen


def _season(start: int, days: int, factor: float) -> Callable[[Numbers], Numbers]:
    """Have so many days of each year busier, or quieter; `start` counts from the forecast on."""

    def pace(day: Numbers) -> Numbers:
        return np.where((day - NOW - start) % 365 < days, factor, 1.0)

    return pace


def _trend(factor_a_year: float) -> Callable[[Numbers], Numbers]:
    return lambda day: factor_a_year ** ((day - NOW) / 365)


def _outage(day: Numbers) -> Numbers:
    return np.where((day >= NOW - 60) & (day < NOW - 46), 0.02, 1.0)


def _shutdown(day: Numbers) -> Numbers:
    return np.where(day < NOW - 21, 1.0, np.where(day < NOW + 60, 3.0, 0.3))


def _rolling_session(found: Lives, chance: np.random.Generator) -> Lives:
    """A session lives on while it is used within 30 days: a visit then types nothing."""
    gap = pl.col("day").diff().over("login")
    typed = found.typed.sort("login", "day").filter(gap.is_null() | (gap > 30)).sort("day", "login")
    return replace(found, typed=typed)


def _fixed_session(found: Lives, chance: np.random.Generator) -> Lives:
    """A session ends 30 days after it began."""
    kept: list[tuple[int, int]] = []
    last: dict[int, int] = {}
    for login, day in found.typed.sort("day", "login").iter_rows():
        if day - last.get(login, -99) > 30:
            last[login] = day
            kept.append((login, day))
    return replace(found, typed=pl.DataFrame(kept, schema=found.typed.schema, orient="row"))


def _import(found: Lives, chance: np.random.Generator) -> Lives:
    """Half of the accounts came from elsewhere in one night: that is when they were made."""
    moved = (chance.random(len(found.made)) < 0.5) & (found.made < NOW - 250)
    made = np.where(moved, NOW - 250, found.made)
    return replace(found, made=made, seen=np.where(moved, np.maximum(found.seen, made), found.seen))


def _nulls(found: Lives, chance: np.random.Generator) -> Lives:
    """Of three in ten the last login is lost."""
    return replace(found, seen=np.where(chance.random(len(found.seen)) < 0.3, np.nan, found.seen))


def _late_column(found: Lives, chance: np.random.Generator) -> Lives:
    """The column of last logins was added 200 days ago."""
    return replace(found, seen=np.where(found.seen < NOW - 200, np.nan, found.seen))


def _late_log(found: Lives, chance: np.random.Generator) -> Lives:
    return replace(found, log_days=(NOW - 150, NOW))


def _stopped_log(found: Lives, chance: np.random.Generator) -> Lives:
    return replace(found, log_days=(300, NOW - 45))


def _lacking_log(found: Lives, chance: np.random.Generator) -> Lives:
    """Three in ten come by a way in that is not logged."""
    lacked = np.flatnonzero(chance.random(len(found.seen)) < 0.3)
    return replace(found, unlogged=tuple(map(int, lacked)))


def _touched(found: Lives, chance: np.random.Generator) -> Lives:
    """A batch wrote to 95 % of the last logins a month ago."""
    touched = (chance.random(len(found.seen)) < 0.95) & (found.seen < NOW - 30)
    return replace(found, seen=np.where(touched, NOW - 30.0, found.seen))


def _ahead(found: Lives, chance: np.random.Generator) -> Lives:
    """Servers east of us: some times are of tomorrow."""
    fresh = (found.seen >= NOW - 1) & (chance.random(len(found.seen)) < 0.5)
    return replace(found, seen=np.where(fresh, NOW + 1, found.seen))


_MAILS = tuple((day, 0.15) for day in range(40, _DAYS, 120))
POPULATIONS = MappingProxyType(
    {
        "steady": Habits(weekdays=(1.0,) * 7),
        "a rhythm of the week": Habits(),
        "busy and quiet weeks": Habits(weeks_differ=0.6),
        "most leave within a year": Habits(stay_days=300),
        "a mail three times a year": Habits(mails=_MAILS),
        "rates that differ very much": Habits(rates=0.4, days_between=40),
        "four times a year": Habits(days_between=80, stay_days=1500),
        "heavy tails and churn": Habits(rates=-1.8, stay_days=1020),
        "every thirty days": Habits(every_days=30),
        "robots": Habits(robots=0.3),
        "twice as many new ones each year": Habits(growth=2.0),
        "fewer new ones each year": Habits(growth=0.5),
        "half as many visits each year": Habits(pace=_trend(0.5)),
        "twice as many visits each year": Habits(pace=_trend(2.0)),
        "holidays ahead": Habits(pace=_season(20, 50, 0.25), days_between=40),
        "a tax season ahead": Habits(pace=_season(30, 40, 5.0), days_between=120),
        "an announced shutdown": Habits(pace=_shutdown),
        "an outage of two weeks": Habits(pace=_outage),
        "rolling sessions": Habits(after=_rolling_session),
        "fixed sessions": Habits(after=_fixed_session),
        "a bulk import": Habits(after=_import),
        "lost dates": Habits(after=_nulls),
        "a column added late": Habits(after=_late_column),
        "a log that begins late": Habits(after=_late_log),
        "a log that stopped": Habits(after=_stopped_log),
        "a log that lacks people": Habits(after=_lacking_log),
        "a batch that touched nearly all": Habits(after=_touched),
        "dates of tomorrow": Habits(after=_ahead),
    }
)
