"""Made-up lives: people who come at rates of their own, and of whom the truth is known."""

from dataclasses import dataclass
from types import MappingProxyType

import numpy as np
import polars as pl
from numpy.typing import NDArray


@dataclass(frozen=True, slots=True, kw_only=True)
class Habits:
    """How people come.

    Attributes:
        shape: of the Gamma distribution of their rates; the smaller, the more differ.
        days_between: visits of the mean person.
        stay_days: how long the mean person stays; who has left never returns.
        weeks_differ: the standard deviation of the logarithm of how busy a week is.
        weekdays: how busy each day of the week is; a week of equal days without a rhythm.
        mails: days on which a mail brings people, and the share of those present that it brings.
    """

    shape: float = 0.8
    days_between: float = 25.0
    stay_days: float = 900.0
    weeks_differ: float = 0.3
    weekdays: tuple[float, ...] = (1.0,) * 7
    mails: tuple[tuple[int, float], ...] = ()


_RHYTHM = (1.2, 1.3, 1.3, 1.2, 1.0, 0.4, 0.3)
POPULATIONS = MappingProxyType(
    {
        "plain": Habits(),
        "rhythm": Habits(weekdays=_RHYTHM),
        "busy weeks": Habits(weeks_differ=0.6),
        "leave": Habits(weekdays=_RHYTHM, stay_days=300),
        "mails": Habits(weekdays=_RHYTHM, mails=tuple((day, 0.15) for day in range(40, 1000, 120))),
        "differ": Habits(shape=0.4, days_between=40),
        "rare": Habits(days_between=80, stay_days=1500),
    }
)


def registered(accounts: int, seed: int, *, days: int = 1000) -> NDArray[np.float64]:
    """Give the day on which each account was made; some were there before the log begins."""
    return np.random.default_rng(seed).uniform(-days, days, accounts)


def lives(accounts: int, seed: int, *, days: int = 1000, habits: Habits = Habits()) -> pl.DataFrame:
    """Give a log of whole days: `login`, a number, and `day`, each pair once."""
    begins = registered(accounts, seed, days=days)
    chance = np.random.default_rng(seed + 1_000_000)
    ends = np.minimum(begins + chance.exponential(habits.stay_days, accounts), days)
    new = np.flatnonzero(begins >= 0)
    begins = np.maximum(begins, 0.0)
    stay = np.maximum(ends - begins, 0.0)
    rates = chance.gamma(habits.shape, 1 / (habits.shape * habits.days_between), accounts)
    busy = np.exp(chance.normal(0, habits.weeks_differ, days // 7 + 1))
    rhythm = np.array(habits.weekdays) / np.mean(habits.weekdays)
    by_day = busy[np.arange(days) // 7] * rhythm[np.arange(days) % 7]
    most = by_day.max()
    who = np.repeat(np.arange(accounts), chance.poisson(most * rates * stay))
    when = (begins[who] + chance.random(len(who)) * stay[who]).astype(np.int64)
    stays = chance.random(len(who)) * most < by_day[when]
    who, when = who[stays], when[stays]
    who, when = np.concatenate([who, new]), np.concatenate([when, begins[new].astype(np.int64)])
    for day, share in habits.mails:
        there = np.flatnonzero((begins <= day) & (ends > day) & (chance.random(accounts) < share))
        who = np.concatenate([who, there])
        when = np.concatenate([when, np.full(len(there), day)])
    frame = pl.DataFrame({"login": who, "day": when}).unique().sort("day", "login")
    return frame.cast({"login": pl.UInt32, "day": pl.Int32})
