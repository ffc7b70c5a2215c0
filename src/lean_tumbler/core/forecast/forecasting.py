"""A forecast: the fitted one with its bands, or the mirror alone where nothing can be fitted."""

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from types import MappingProxyType

import numpy as np
from threadpoolctl import threadpool_limits

from lean_tumbler.core.forecast.bands import Band, bands, shares_by_class
from lean_tumbler.core.forecast.returning import (
    FEWEST_RETURNS,
    WEEK,
    Exposure,
    Numbers,
    Returning,
    fit,
)
from lean_tumbler.core.forecast.watching import Watched, mirror

HORIZONS = (30, 60, 90, 180)
# Before what happened says more than last logins do.
FEWEST_WEEKS, FEWEST_COUNTS = 4, 4
SEED = 8  # bands are the same at every run


@dataclass(frozen=True, slots=True, kw_only=True)
class Forecast:
    """How many of some accounts have not returned, by days from now.

    Attributes:
        accounts: how many there are now.
        days: the forecast; where nothing could be fitted, the mirror with an empty band.
        mirror: the plain mirror beside it.
        fitted: whether a model stands behind it.
        because: why not, where it does not; empty where it does.
        returns: how many returns it was fitted to.
        never: the share that never returns, by the model.
        parts: of parts of the accounts, how many are expected not to have returned, by days.
    """

    accounts: int
    days: dict[int, Band]
    mirror: dict[int, float]
    fitted: bool
    because: str = ""
    returns: int = 0
    never: float | None = None
    parts: Mapping[str, Mapping[int, float]] = field(default_factory=dict)

    def at(self, day: int) -> Band:
        """Give the forecast for any day, on a straight line between those computed."""
        known = [0, *self.days]
        now = Band(low=self.accounts, expected=self.accounts, high=self.accounts)
        values = [now, *self.days.values()]
        return Band(
            **{part: float(np.interp(day, known, [getattr(value, part) for value in values]))
               for part in ("low", "expected", "high")}
        )  # fmt: skip


@dataclass(frozen=True, slots=True, kw_only=True)
class Population:
    """Accounts by when they were last seen."""

    seen_days_ago: Numbers
    accounts: Numbers = field(default_factory=lambda: np.zeros(0))

    @property
    def total(self) -> int:
        """How many there are."""
        return int(self.accounts.sum())


def forecast(
    wanted: Population,
    everybody: Population,
    watched: Watched,
    *,
    days: Sequence[int] = HORIZONS,
    parts: Mapping[str, Population] = MappingProxyType({}),
    progress: Callable[[int], None] = lambda _: None,
) -> Forecast:
    """Forecast how many of some accounts have not returned.

    Args:
        wanted: those accounts, in their order of last logins.
        everybody: all accounts, for the mirror.
        watched: what is fitted to.
        days: from now, in rising order.
        parts: of those accounts, told beside the whole.
        progress: told of each draw of the bootstrap.
    """
    away = {day: mirror(everybody.seen_days_ago, everybody.accounts, day) for day in days}
    merged, edges = _merged(watched)
    models = [fit(own) for own in merged]
    if not all(models):
        return _by_mirror(wanted, parts, away, watched)
    known: list[Returning] = [model for model in models if model is not None]
    # These matrices are small: threads that wait for the next one take longer than they help.
    with threadpool_limits(limits=1, user_api="blas"):
        found = bands(
            wanted.accounts,
            days,
            shares=shares_by_class(wanted.seen_days_ago, edges),
            classes=merged,
            models=known,
            random=np.random.default_rng(SEED),
            progress=progress,
        )
    return Forecast(
        accounts=wanted.total,
        days=found,
        mirror={day: wanted.total * share for day, share in away.items()},
        fitted=True,
        returns=int(watched.returns),
        never=known[0].never if len(known) == 1 else None,
        parts={name: _expected(part, known, edges, days) for name, part in parts.items()},
    )


def _by_mirror(
    wanted: Population,
    parts: Mapping[str, Population],
    away: Mapping[int, float],
    watched: Watched,
) -> Forecast:
    """Let the mirror stand alone, without a band, and say why."""
    expected = {day: wanted.total * share for day, share in away.items()}
    few = f"only {watched.returns:,.0f} returns were seen, {FEWEST_RETURNS} are needed"
    return Forecast(
        accounts=wanted.total,
        days={day: Band(low=n, expected=n, high=n) for day, n in expected.items()},
        mirror=expected,
        fitted=False,
        because=few if watched.returns < FEWEST_RETURNS else "no fit was found",
        returns=int(watched.returns),
        parts={
            name: {day: part.total * share for day, share in away.items()}
            for name, part in parts.items()
        },
    )


def _expected(
    part: Population, models: Sequence[Returning], edges: Sequence[float], days: Sequence[int]
) -> dict[int, float]:
    shares = shares_by_class(part.seen_days_ago, edges)(models, np.array(days, dtype=np.float64))
    return dict(zip(days, map(float, part.accounts @ shares), strict=True))


def _merged(watched: Watched) -> tuple[list[list[Exposure]], list[float]]:
    """Put classes with too few returns to their neighbours that were seen longer ago."""
    classes: list[list[Exposure]] = []
    edges: list[float] = []
    waiting: list[Exposure] = []
    for place, own in enumerate(watched.classes):
        waiting += own
        if sum(float(each.returned.sum()) for each in waiting) >= FEWEST_RETURNS:
            classes.append(waiting)
            waiting = []
            if place < len(watched.edges):
                edges.append(watched.edges[place])
    if waiting and classes:
        classes[-1] += waiting
        edges = edges[: len(classes) - 1]
    elif not classes:
        classes, edges = [waiting], []
    return classes, edges[: len(classes) - 1]


def refitted(counted: Sequence[tuple[int, int]], days: Sequence[int]) -> Forecast | None:
    """Forecast from what has really happened since a migration began.

    Args:
        counted: days since the first count, and how many accounts still waited then.
        days: from the last count.

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
    waiting: Numbers = np.interp(edges, days_since, numbers)
    exposure = Exposure(at_risk=float(first), returned=np.maximum(-np.diff(waiting), 0.0))
    model = fit([exposure])
    if model is None:
        return None

    def shares(models: Sequence[Returning], ahead: Numbers) -> Numbers:
        away = models[0].away(np.concatenate([[float(since)], since + ahead]))
        found: Numbers = (away[1:] / away[0])[None, :]
        return found

    with threadpool_limits(limits=1, user_api="blas"):
        found = bands(
            np.array([float(now)]),
            days,
            shares=shares,
            classes=[[exposure]],
            models=[model],
            random=np.random.default_rng(SEED),
        )
    return Forecast(
        accounts=now, days=found, mirror={}, fitted=True, returns=first - now, never=model.never
    )
