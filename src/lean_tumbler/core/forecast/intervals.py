"""How far a forecast may be off: a bootstrap over blocks of weeks.

Weeks are not alike: holidays, campaigns and outages move whole weeks up and down, and neighbours
together. Intervals from the accounts' own chance alone are far too narrow. So how busy the weeks
were is drawn again in blocks of some weeks (Künsch, “The jackknife and the bootstrap for general
stationary observations”, Annals of Statistics 17, 1989), the model is fitted again to what such
weeks would have shown, and the weeks to come are drawn likewise.
"""

from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass, replace

import numpy as np
from threadpoolctl import threadpool_limits

from lean_tumbler.core.forecast.return_model import (
    WEEK,
    Numbers,
    ReturnModel,
    WatchedAccounts,
    days_after,
    expected,
    fit,
    weeks_of,
)

DRAWS = 100
BLOCK_WEEKS = 4
LOW, HIGH = 0.1, 0.9  # four times out of five the truth lies between
_LOOKS = 5
_FEWEST_EXPECTED = 3.0  # a week of fewer says nothing of weeks
_FARTHEST = 4.0  # how many times more, or fewer, a week may count


@dataclass(frozen=True, slots=True, kw_only=True)
class Interval:
    """A number with the span in which it lies four times out of five."""

    low: float
    expected: float
    high: float

    def __add__(self, other: "Interval") -> "Interval":
        return Interval(
            low=self.low + other.low,
            expected=self.expected + other.expected,
            high=self.high + other.high,
        )


# (models, days from now) -> the share of each row of accounts that has not returned.
Shares = Callable[[Sequence[ReturnModel], Numbers], Numbers]


@dataclass(frozen=True, slots=True, kw_only=True)
class Draw:
    """One way in which it might come.

    Attributes:
        models: fitted to weeks that were drawn again, one for each class.
        busy: how many times more than the mean people come in each week to come.
        chance: of the accounts by themselves, from the standard normal distribution.
    """

    models: tuple[ReturnModel, ...]
    busy: Numbers
    chance: float


def busy_weeks(
    classes: Sequence[Sequence[WatchedAccounts]], models: Sequence[ReturnModel]
) -> Numbers:
    """Find how many times more than the mean people came in each week that was watched.

    Where a week shows more returns than the model expects of it, it was as much busier; what that
    leaves to later weeks is looked at again, until it changes little.
    """
    flat = [(exposure, model) for own, model in zip(classes, models, strict=True)
            for exposure in own]  # fmt: skip
    weeks = weeks_of(each for each, _ in flat)
    seen = _by_week(((each, each.returned) for each, _ in flat), weeks)
    busy = np.ones(weeks)
    enough = np.zeros(weeks, dtype=bool)
    for _ in range(_LOOKS):
        awaited = _by_week(((each, expected(model, each, busy)) for each, model in flat), weeks)
        enough = awaited >= _FEWEST_EXPECTED
        ratio = np.divide(seen, awaited, out=np.ones(weeks), where=enough)
        busy = np.clip(busy * ratio, 1 / _FARTHEST, _FARTHEST)
    found = busy[enough] if enough.any() else np.ones(1)
    mean_is_one: Numbers = found / found.mean()
    return mean_is_one


def _by_week(weekly: Iterable[tuple[WatchedAccounts, Numbers]], weeks: int) -> Numbers:
    total = np.zeros(weeks)
    for exposure, numbers in weekly:
        total[exposure.first_week : exposure.first_week + len(numbers)] += numbers
    return total


def _weeks(busy: Numbers, weeks: int, random: np.random.Generator) -> Numbers:
    """Draw weeks in blocks."""
    block = min(BLOCK_WEEKS, len(busy))
    starts = random.integers(0, len(busy) - block + 1, size=-(-weeks // block))
    found: Numbers = np.concatenate([busy[start : start + block] for start in starts])[:weeks]
    return found


def drawn(
    classes: Sequence[Sequence[WatchedAccounts]],
    models: Sequence[ReturnModel],
    *,
    weeks: int,
    random: np.random.Generator,
    times: int = DRAWS,
    progress: Callable[[int], None] = lambda _: None,
) -> tuple[Draw, ...]:
    """Draw what may come.

    Args:
        classes: what was watched.
        models: fitted to these.
        weeks: to come.
        random: for the bootstrap.
        times: how often.
        progress: told of each draw.
    """
    busy = busy_weeks(classes, models)
    watched = weeks_of(each for own in classes for each in own)
    draws = []
    # These matrices are small: threads that wait for the next one take longer than they help.
    with threadpool_limits(limits=1, user_api="blas"):
        for _ in range(times):
            past = _weeks(busy, watched, random)
            again = tuple(
                _fitted_again(own, model, past, random)
                for own, model in zip(classes, models, strict=True)
            )
            future, chance = _weeks(busy, weeks, random), float(random.standard_normal())
            draws.append(Draw(models=again, busy=future, chance=chance))
            progress(1)
    return tuple(draws)


def intervals(
    accounts: Numbers,
    days: Sequence[int],
    *,
    shares: Shares,
    models: Sequence[ReturnModel],
    draws: Sequence[Draw],
) -> dict[int, Interval]:
    """Forecast how many accounts have not returned.

    Args:
        accounts: how many there are, in rows.
        days: from now.
        shares: of each row that have not returned.
        models: that are expected to hold.
        draws: what may come instead, for as many weeks.
    """
    wanted = np.array(days, dtype=np.float64)
    total = float(accounts.sum())
    with threadpool_limits(limits=1, user_api="blas"):
        centre = accounts @ shares(models, wanted)
        found = []
        for draw in draws:
            weekly = np.arange(len(draw.busy) + 1, dtype=np.float64) * WEEK
            away = shares(draw.models, days_after(draw.busy))
            # What chance does to each account by itself.
            spread = np.sqrt(np.maximum(accounts @ (away * (1 - away)), 0.0))
            left = np.clip(accounts @ away + draw.chance * spread, 0.0, total)
            found.append(np.interp(wanted, weekly, left))
    # Fits to fewer and rougher weeks lean to one side; how they scatter is what tells.
    scatter = np.array(found) - np.median(found, axis=0)
    low, high = np.clip(centre + np.quantile(scatter, (LOW, HIGH), axis=0), 0.0, total)
    return {
        day: Interval(
            low=float(min(low[place], centre[place])),
            expected=float(centre[place]),
            high=float(max(high[place], centre[place])),
        )
        for place, day in enumerate(days)
    }


def _fitted_again(
    exposures: Sequence[WatchedAccounts],
    model: ReturnModel,
    busy: Numbers,
    random: np.random.Generator,
) -> ReturnModel:
    """Fit to what such weeks would have shown, by chance of each account too."""
    again, leaving = [], model.leaving
    # Watched from several days, the same people return in each: chance strikes them together.
    times = len(exposures)
    for exposure in exposures:
        returned = expected(model, exposure, busy)
        if exposure.taken_off is None:
            shown = random.poisson(returned / times) * times
        else:
            new = random.poisson(exposure.taken_off)
            shown = np.maximum(random.poisson(returned + exposure.taken_off) - new, 0)
            leaving = model.leaving * float(new.sum()) / max(1.0, float(exposure.taken_off.sum()))
        again.append(replace(exposure, returned=shown.astype(np.float64)))
    return fit(again, start=model, leaving=leaving) or model
