"""What forecasts of the past missed: it chooses the estimator, and is what an interval rests on.

For each week of the past a forecast is made from what was known then, and held against what came.
The interval is as wide as such forecasts missed by (a conformal interval: Lei, G'Sell, Rinaldo,
Tibshirani and Wasserman, “Distribution-Free Predictive Inference for Regression”, JASA 113, 2018,
section 2.2). Neighbouring forecasts share most of their weeks, so each counts for less than one.
"""

from functools import cached_property

import numpy as np
from msgspec import Struct

from lean_tumbler.core.forecast.estimators import (
    BASELINE,
    LAST_YEAR_WEEKS,
    LIFE_TABLE,
    MEAN,
    SHORT_WEEKS,
    Estimator,
)
from lean_tumbler.core.forecast.intervals import Numbers
from lean_tumbler.core.forecast.return_table import ReturnTable

AHEAD_WEEKS = 52
# Four times out of five the truth is inside: being too hopeful costs more, so that what was
# missed reaches farther up than down.
_UPPER, _LOWER = 0.9, 0.7
CHOICE_WEEKS = (4, 9, 13, 26)  # over which an estimator is to be good
_FEWEST_CUTS = 6
_CUTS_A_WEEK_AHEAD = 0.75  # so many weeks of the past for each week ahead earn an interval
# By these two, four in five intervals hold the truth on invented lives (`benchmarks/forecasting`).
_LATEST_CUTS = 39  # nearer forecasts are more like the next one
_ALIKE = 8.0  # forecasts within a horizon that count as ones of their own
_BETTER = 0.9  # of the life table's error, for the baseline to be taken
_SMALLEST = 1e-6


class BackTest(Struct, frozen=True, kw_only=True, dict=True):
    """Forecasts as of each week of the past, by one estimator."""

    estimator: Estimator  # which
    cuts: tuple[int, ...]  # the weeks, from the first of the table on
    weeks: int  # of the table
    accounts: Numbers  # how many were known then
    # by cut and weeks ahead, how many of these would not have returned; NaN beyond the table's end
    forecast: Numbers
    truth: Numbers  # how many had not

    @cached_property
    def misses(self) -> Numbers:
        """By how much the rate of returns was missed: the logarithm of truth over forecast.

        A busier time speeds up all returns alike, so its effect is the same factor on the
        cumulated rate of any share.
        """
        truth, forecast = (
            np.maximum(-np.log(np.clip(each / self.accounts[:, None], _SMALLEST, 1)), _SMALLEST)
            for each in (self.truth, self.forecast)
        )
        found: Numbers = np.log(truth / forecast)
        return found

    def missed(self, ahead: int) -> Numbers:
        """Give the misses so many weeks ahead, of the weeks for which the truth is known."""
        column = self.misses[:, ahead]
        found: Numbers = column[np.isfinite(column)]
        return found

    @property
    def error(self) -> float:
        """The mean error as a share of the accounts; infinite where nothing could be tried."""
        errors = [
            float(np.nanmean(self.errors[:, ahead]))
            for ahead in CHOICE_WEEKS
            if np.isfinite(self.errors[:, ahead]).any()
        ]
        return float(np.mean(errors)) if errors else float("inf")

    @cached_property
    def errors(self) -> Numbers:
        """How far each forecast was off, as a share of the accounts."""
        found: Numbers = np.abs(self.forecast - self.truth) / self.accounts[:, None]
        return found

    def width(self, ahead: int) -> tuple[float, float]:
        """Give how far an interval reaches up and down, as logarithms; NaN if it is not earned."""
        missed = np.abs(self.missed(ahead))[-_LATEST_CUTS:]
        if len(missed) < fewest_cuts(ahead):
            return np.nan, np.nan
        wider = 1 + ahead / (_ALIKE * len(missed))
        up, down = np.quantile(missed, np.minimum(1.0, np.array([_UPPER, _LOWER]) * wider))
        return float(up), float(down)

    def bounds(self, expected: Numbers) -> tuple[Numbers, Numbers]:
        """Give the ends of the intervals for a forecast by weeks; NaN where none is earned."""
        total = max(float(expected[0]), _SMALLEST)
        rate = -np.log(np.clip(expected / total, _SMALLEST, 1))
        up, down = np.exp([(0.0, 0.0), *self.widths[: len(expected) - 1]]).T
        return total * np.exp(-rate * down), total * np.exp(-rate / up)

    @cached_property
    def widths(self) -> tuple[tuple[float, float], ...]:
        """How wide an interval is, one week ahead and more."""
        return tuple(self.width(ahead) for ahead in range(1, self.misses.shape[1]))

    @property
    def earned_weeks(self) -> int:
        """For how many weeks ahead there is an interval."""
        return int(np.isfinite([up for up, _ in self.widths]).sum())


def fewest_cuts(ahead: int) -> float:
    """Give how many weeks of the past earn an interval so many weeks ahead."""
    return max(_FEWEST_CUTS, _CUTS_A_WEEK_AHEAD * ahead)


def back_test(table: ReturnTable, estimator: Estimator, *, first_cut: int) -> BackTest:
    """Make forecasts as of each week from the first cut on.

    Args:
        table: of returns.
        estimator: which.
        first_cut: the first week; before it too little is known.
    """
    cuts = range(first_cut, table.weeks)
    forecast = np.full((len(cuts), AHEAD_WEEKS + 1), np.nan)
    truth = forecast.copy()
    for row, cut in enumerate(cuts):
        ahead = min(AHEAD_WEEKS, table.weeks - cut)
        waiting = table.waiting(cut)
        forecast[row, : ahead + 1] = estimator.away(table, cut, ahead, waiting)
        truth[row, : ahead + 1] = [table.still_away(cut, weeks) for weeks in range(ahead + 1)]
    return BackTest(
        estimator=estimator,
        cuts=tuple(cuts),
        weeks=table.weeks,
        accounts=np.maximum(truth[:, 0], 1.0),
        forecast=forecast,
        truth=truth,
    )


def first_cut(weeks: int) -> int:
    """Give the first week of a log as of which a forecast is tried: a quarter, 8 to 26 weeks."""
    return max(8, min(26, weeks // 4))


def chosen(table: ReturnTable) -> tuple[BackTest, BackTest]:
    """Choose an estimator by its errors in the past, and give its back-test and the baseline's.

    The baseline is taken where it was clearly better for half a year.
    """
    start = first_cut(table.weeks)
    usual = MEAN if table.weeks < SHORT_WEEKS else LIFE_TABLE
    test, plain = (back_test(table, each, first_cut=start) for each in (usual, BASELINE))
    is_better = plain.error < _BETTER * test.error
    return (plain if is_better and len(plain.cuts) >= LAST_YEAR_WEEKS // 2 else test), plain
