"""A forecast: the fitted one with its intervals, or the baseline alone where none can be fitted."""

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from types import MappingProxyType

import numpy as np

from lean_tumbler.core.forecast.intervals import DRAWS, Draw, Interval, Shares, drawn, intervals
from lean_tumbler.core.forecast.observations import Population, Watched, baseline
from lean_tumbler.core.forecast.return_model import (
    FEWEST_RETURNS,
    WEEK,
    Numbers,
    ReturnModel,
    WatchedAccounts,
    fit,
)

HORIZONS = (30, 60, 90, 180)
# Before what happened says more than last logins do.
FEWEST_WEEKS, FEWEST_COUNTS = 4, 4
SEED = 8  # intervals are the same at every run


@dataclass(frozen=True, slots=True, kw_only=True)
class Forecast:
    """How many of some accounts have not returned, by days from now.

    Attributes:
        accounts: how many there are now.
        days: the forecast; where nothing could be fitted, the baseline with an empty interval.
        baseline: the plain baseline beside it.
        fitted: whether a model stands behind it.
        because: why not, where it does not; empty where it does.
        returns: how many returns it was fitted to.
        never: the share that never returns, by the model.
        parts: of parts of the accounts, how many are expected not to have returned, by days.
    """

    accounts: int
    days: dict[int, Interval]
    baseline: dict[int, float]
    fitted: bool
    because: str = ""
    returns: int = 0
    never: float | None = None
    parts: Mapping[str, Mapping[int, float]] = field(default_factory=dict)

    def at(self, day: int) -> Interval:
        """Give the forecast for any day, on a straight line between those computed."""
        known = [0, *self.days]
        now = Interval(low=self.accounts, expected=self.accounts, high=self.accounts)
        values = [now, *self.days.values()]
        return Interval(
            **{part: float(np.interp(day, known, [getattr(value, part) for value in values]))
               for part in ("low", "expected", "high")}
        )  # fmt: skip


@dataclass(frozen=True, slots=True, kw_only=True)
class Fitted:
    """What is known of how accounts return.

    Attributes:
        watched: what was fitted to.
        models: one for each class; none where nothing could be fitted.
        draws: what may come instead.
    """

    watched: Watched
    models: tuple[ReturnModel, ...]
    draws: tuple[Draw, ...]

    @property
    def why_not(self) -> str:
        """Why nothing could be fitted; empty where something was."""
        if self.models:
            return ""
        returns = self.watched.returns
        if returns < FEWEST_RETURNS:
            return f"only {returns:,.0f} returns were seen, {FEWEST_RETURNS} are needed"
        return "no fit was found"

    def rows(self, population: Population) -> tuple[Numbers, Shares]:
        """Put accounts that fare alike in one row; give how many, and what share has not returned.

        These are the classes; with one class alone, all that were last seen on one day.
        """
        if len(self.models) == 1:
            ago = population.seen_days_ago
            return population.accounts, lambda models, days: models[0].away_since(ago, days)
        places = self.watched.class_of(population)
        accounts: Numbers = np.bincount(
            places, population.accounts, minlength=len(self.models)
        ).astype(np.float64)
        return accounts, lambda models, days: np.array([model.away(days) for model in models])


def fitted(
    watched: Watched,
    *,
    days: Sequence[int] = HORIZONS,
    draws: int = DRAWS,
    progress: Callable[[int], None] = lambda _: None,
) -> Fitted:
    """Fit to what was watched, and draw what may come.

    Args:
        watched: by classes.
        days: from now, that will be asked for.
        draws: of the bootstrap; with fewer, the interval is rougher.
        progress: told of each draw of the bootstrap.
    """
    found = [fit(own, leaving=watched.leaving) for own in watched.classes]
    models = tuple(model for model in found if model is not None)
    if len(models) < len(found):
        return Fitted(watched=watched, models=(), draws=())
    found_draws = drawn(
        watched.classes,
        models,
        weeks=-(-max(days) // WEEK),
        random=np.random.default_rng(SEED),
        times=draws,
        progress=progress,
    )
    return Fitted(watched=watched, models=models, draws=found_draws)


def forecast(
    wanted: Population,
    everybody: Population,
    known: Fitted,
    *,
    days: Sequence[int] = HORIZONS,
    parts: Mapping[str, Population] = MappingProxyType({}),
) -> Forecast:
    """Forecast how many of some accounts have not returned.

    Args:
        wanted: those accounts, in their order of last logins.
        everybody: all accounts, for the baseline.
        known: of how they return; where nothing is, the baseline stands alone, without an interval.
        days: from now, in rising order.
        parts: of those accounts, told beside the whole.
    """
    away = {day: baseline(everybody, day) for day in days}
    by_baseline = {day: wanted.total * share for day, share in away.items()}
    returns = int(known.watched.returns)
    if not known.models:
        return Forecast(
            accounts=wanted.total,
            days={day: Interval(low=n, expected=n, high=n) for day, n in by_baseline.items()},
            baseline=by_baseline,
            fitted=False,
            because=known.why_not,
            returns=returns,
            parts={
                name: {day: part.total * share for day, share in away.items()}
                for name, part in parts.items()
            },
        )
    accounts, shares = known.rows(wanted)
    return Forecast(
        accounts=wanted.total,
        days=intervals(accounts, days, shares=shares, models=known.models, draws=known.draws),
        baseline=by_baseline,
        fitted=True,
        returns=returns,
        never=known.models[0].never if len(known.models) == 1 else None,
        parts={name: _expected(part, known, days) for name, part in parts.items()},
    )


def with_others(found: Forecast, others: Population, parts: Mapping[str, Population]) -> Forecast:
    """Add accounts that nothing was fitted to, by the baseline of their own last logins.

    Args:
        found: of the accounts that something was fitted to.
        others: the accounts that are added.
        parts: of those, told beside the whole.
    """
    days = tuple(found.days)
    still = {day: others.total * baseline(others, day) for day in days}
    added = {name: {day: some.total * baseline(some, day) for day in days}
             for name, some in parts.items()}  # fmt: skip
    names = dict.fromkeys((*found.parts, *added))
    return replace(
        found,
        accounts=found.accounts + others.total,
        days={day: found.days[day] + Interval(low=n, expected=n, high=n)
              for day, n in still.items()},
        baseline={day: found.baseline[day] + n for day, n in still.items()},
        parts={name: {day: found.parts.get(name, {}).get(day, 0.0)
                      + added.get(name, {}).get(day, 0.0) for day in days}
               for name in names},
    )  # fmt: skip


def _expected(part: Population, known: Fitted, days: Sequence[int]) -> dict[int, float]:
    accounts, shares = known.rows(part)
    found = accounts @ shares(known.models, np.array(days, dtype=np.float64))
    return dict(zip(days, map(float, found), strict=True))


def refitted(
    counted: Sequence[tuple[int, int]], days: Sequence[int], *, waiting: int
) -> Forecast | None:
    """Forecast from what has really happened since a migration began.

    Args:
        counted: days since the first count, and how many accounts had not returned then.
        days: from the last count.
        waiting: how many the forecast is for; of those that have not returned, some may be locked.

    Returns:
        The forecast for those that wait now; None where too few have returned, or too little time
        has passed.
    """
    (_, first), (since, now) = counted[0], counted[-1]
    weeks = since // WEEK
    if weeks < FEWEST_WEEKS or len(counted) < FEWEST_COUNTS:
        return None
    edges = np.arange(weeks + 1, dtype=np.float64) * WEEK
    days_since = np.array([day for day, _ in counted], dtype=np.float64)
    numbers = np.array([number for _, number in counted], dtype=np.float64)
    away: Numbers = np.interp(edges, days_since, numbers)
    exposure = WatchedAccounts(at_risk=float(first), returned=np.maximum(-np.diff(away), 0.0))
    known = fitted(Watched(classes=((exposure,),)), days=days)
    if not known.models:
        return None

    def shares(models: Sequence[ReturnModel], ahead: Numbers) -> Numbers:
        away = models[0].away(np.concatenate([[float(since)], since + ahead]))
        found: Numbers = (away[1:] / away[0])[None, :]
        return found

    one = np.array([float(waiting)])
    return Forecast(
        accounts=waiting,
        days=intervals(one, days, shares=shares, models=known.models, draws=known.draws),
        baseline={},
        fitted=True,
        returns=first - now,
        never=known.models[0].never,
    )
