"""Would the forecast have been right? Made again as of days in the past, and held against a log."""

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from functools import partial

import numpy as np
import polars as pl

from lean_tumbler.core.forecast.forecasting import HORIZONS, Fitted, fitted, forecast
from lean_tumbler.core.forecast.intervals import DRAWS, Interval
from lean_tumbler.core.forecast.observations import first_day, from_log, last_seen, population

CUTS = (91, 182, 273, 365)  # days before the log's end: three, six, nine and twelve months
_LEAST_DAYS_BEFORE = 56


@dataclass(frozen=True, slots=True, kw_only=True)
class TriedCut:
    """One forecast of the past, and what came.

    Attributes:
        cut: days before the log's end at which it was made.
        days: from there.
        accounts: that were known then.
        forecast: how many would not have returned.
        baseline: the same by the plain baseline.
        truth: how many had not.
    """

    cut: int
    days: int
    accounts: int
    forecast: Interval
    baseline: float
    truth: int

    @property
    def error(self) -> float:
        """How far the forecast was off, as a share of the accounts."""
        return abs(self.forecast.expected - self.truth) / self.accounts

    @property
    def baseline_error(self) -> float:
        """The same of the baseline."""
        return abs(self.baseline - self.truth) / self.accounts

    @property
    def covered(self) -> bool:
        """Whether the truth lay within the interval."""
        return self.forecast.low <= self.truth <= self.forecast.high


@dataclass(frozen=True, slots=True, kw_only=True)
class BackTest:
    """All of them.

    Attributes:
        tried: by cut and days.
        left_out: cuts for which the log does not go back far enough, or holds too few returns.
    """

    tried: tuple[TriedCut, ...]
    left_out: tuple[int, ...]

    @property
    def error(self) -> float:
        """The mean error."""
        return float(np.mean([each.error for each in self.tried]))

    @property
    def baseline_error(self) -> float:
        """The mean error of the baseline."""
        return float(np.mean([each.baseline_error for each in self.tried]))

    @property
    def coverage(self) -> float:
        """How often the truth lay within the interval; it should be four times in five."""
        return float(np.mean([each.covered for each in self.tried]))


def back_test(
    log: pl.DataFrame,
    *,
    cuts: Sequence[int] = CUTS,
    horizons: Sequence[int] = HORIZONS,
    draws: int = DRAWS,
    progress: Callable[[int], None] = lambda _: None,
) -> BackTest:
    """Make forecasts as of several days in the past.

    Args:
        log: `login` and `day` of each login, days as numbers.
        cuts: days before the log's end.
        horizons: days from each cut; those beyond the log's end are left out.
        draws: of the bootstrap, for each cut.
        progress: told of each draw of the bootstrap.
    """
    fit_to = partial(fitted, draws=draws, progress=progress)
    tried: list[TriedCut] = []
    left_out: list[int] = []
    for cut in cuts:
        found = list(_tried(log, cut, [days for days in horizons if days <= cut], fit_to))
        tried += found
        if not found:
            left_out.append(cut)
    return BackTest(tried=tuple(tried), left_out=tuple(left_out))


def _tried(
    log: pl.DataFrame, cut: int, horizons: Sequence[int], fit_to: Callable[..., Fitted]
) -> Iterator[TriedCut]:
    then = int(log["day"].max() or 0) - cut  # type: ignore[arg-type]  # a number
    if then - first_day(log) < _LEAST_DAYS_BEFORE or not horizons:
        return
    past = log.filter(pl.col("day") <= then)
    seen = last_seen(past, end=then)
    everybody = population(seen)
    known = fit_to(from_log(past, end=then), days=horizons)
    if not known.models:
        return
    found = forecast(everybody, everybody, known, days=horizons)
    after = (
        log.filter(pl.col("day") > then)
        .join(seen, on="login", how="semi")
        .group_by("login")
        .agg(first=pl.col("day").min() - then)["first"]
        .to_numpy()
    )
    for days in horizons:
        yield TriedCut(
            cut=cut,
            days=days,
            accounts=everybody.total,
            forecast=found.days[days],
            baseline=found.baseline[days],
            truth=everybody.total - int((after <= days).sum()),
        )
