"""How far a forecast may be off: a bootstrap over blocks of weeks.

Weeks are not alike: holidays, campaigns and outages move whole weeks up and down, and neighbours
together. Bands from the accounts' own chance alone are far too narrow. So what the weeks were,
beside what the model expects of them, is drawn again in blocks of some weeks (Künsch, “The
jackknife and the bootstrap for general stationary observations”, Annals of Statistics 17, 1989),
the model is fitted again, and the weeks to come are drawn likewise.
"""

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace

import numpy as np

from lean_tumbler.core.forecast.returning import (
    WEEK,
    Exposure,
    Numbers,
    Returning,
    expected,
    fit,
)

DRAWS = 100
BLOCK_WEEKS = 4
LOW, HIGH = 0.1, 0.9  # four times out of five the truth lies between
_FEWEST_EXPECTED = 3.0  # a week of fewer says nothing of weeks
_FARTHEST = 4.0  # how many times more, or fewer, a week may count


@dataclass(frozen=True, slots=True, kw_only=True)
class Band:
    """A number with the span in which it lies four times out of five."""

    low: float
    expected: float
    high: float

    def __add__(self, other: "Band") -> "Band":
        return Band(
            low=self.low + other.low,
            expected=self.expected + other.expected,
            high=self.high + other.high,
        )


# (models, days from now) -> the share of each row of accounts that has not returned.
Shares = Callable[[Sequence[Returning], Numbers], Numbers]


def shares_by_class(seen_days_ago: Numbers, edges: Sequence[float]) -> Shares:
    """Give the shares of accounts by when they were last seen.

    Args:
        seen_days_ago: one number for all that share it.
        edges: in days, between the models' accounts: the first model is for those that were seen
            less long ago than the first edge. With one model and no edge, each by its own time.
    """
    classes = np.searchsorted(edges, seen_days_ago, side="right")

    def shares(models: Sequence[Returning], days: Numbers) -> Numbers:
        if len(models) == 1:
            return models[0].away_since(seen_days_ago, days)
        found: Numbers = np.array([model.away(days) for model in models])[classes]
        return found

    return shares


def weeks_beside_model(exposures: Sequence[Exposure], models: Sequence[Returning]) -> Numbers:
    """Give how many times more accounts returned in each week than was expected."""
    weeks = max(each.first_week + len(each.returned) for each in exposures)
    seen, awaited = np.zeros(weeks), np.zeros(weeks)
    for exposure, model in zip(exposures, models, strict=True):
        span = slice(exposure.first_week, exposure.first_week + len(exposure.returned))
        seen[span] += exposure.returned
        awaited[span] += expected(model, exposure)
    enough = awaited >= _FEWEST_EXPECTED
    ratios: Numbers = np.clip(seen[enough] / awaited[enough], 1 / _FARTHEST, _FARTHEST)
    return ratios if len(ratios) else np.ones(1)


def _drawn(ratios: Numbers, weeks: int, random: np.random.Generator) -> Numbers:
    """Draw weeks in blocks; together they are as busy as the model says."""
    block = min(BLOCK_WEEKS, len(ratios))
    starts = random.integers(0, len(ratios) - block + 1, size=-(-weeks // block))
    found: Numbers = np.concatenate([ratios[start : start + block] for start in starts])[:weeks]
    busy: Numbers = found / ratios.mean()
    return busy


def bands(
    accounts: Numbers,
    days: Sequence[int],
    *,
    shares: Shares,
    classes: Sequence[Sequence[Exposure]],
    models: Sequence[Returning],
    random: np.random.Generator,
    progress: Callable[[int], None] = lambda _: None,
) -> dict[int, Band]:
    """Forecast how many accounts have not returned.

    Args:
        accounts: how many there are, in rows.
        days: from now.
        shares: of each row that have not returned.
        classes: what was watched, for each model.
        models: fitted to these.
        random: for the bootstrap.
        progress: told of each draw.
    """
    wanted = np.array(days, dtype=np.float64)
    weekly = np.arange(-(-int(wanted.max()) // WEEK) + 1, dtype=np.float64) * WEEK
    total = float(accounts.sum())
    flat = [(exposure, model) for own, model in zip(classes, models, strict=True)
            for exposure in own]  # fmt: skip
    ratios = weeks_beside_model([each for each, _ in flat], [model for _, model in flat])
    centre = accounts @ shares(models, wanted)
    draws = []
    for _ in range(DRAWS):
        again = [
            _fitted_again(own, model, ratios, random)
            for own, model in zip(classes, models, strict=True)
        ]
        left_over = shares(again, weekly)
        away = accounts @ left_over
        returning = -np.diff(away) * _drawn(ratios, len(weekly) - 1, random)
        left = np.concatenate([[total], total - np.cumsum(returning)])
        # What chance does to each account by itself.
        spread = np.sqrt(np.maximum(accounts @ (left_over * (1 - left_over)), 0.0))
        left = np.clip(left + random.standard_normal() * spread, 0.0, total)
        draws.append(np.interp(wanted, weekly, left))
        progress(1)
    low, high = np.quantile(np.array(draws), (LOW, HIGH), axis=0)
    return {
        day: Band(
            low=float(min(low[place], centre[place])),
            expected=float(centre[place]),
            high=float(max(high[place], centre[place])),
        )
        for place, day in enumerate(days)
    }


def _fitted_again(
    exposures: Sequence[Exposure], model: Returning, ratios: Numbers, random: np.random.Generator
) -> Returning:
    weeks = max(each.first_week + len(each.returned) for each in exposures)
    drawn = _drawn(ratios, weeks, random)
    again = []
    for exposure in exposures:
        span = slice(exposure.first_week, exposure.first_week + len(exposure.returned))
        returned = expected(model, exposure) * drawn[span]
        returned *= min(1.0, exposure.at_risk / max(float(returned.sum()), 1e-9))
        again.append(replace(exposure, returned=returned))
    return fit(again, start=model) or model
