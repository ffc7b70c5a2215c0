"""How long until accounts return: a share that never does, and a heavy-tailed time.

    S(t) = never + (1 - never) · (scale / (scale + t))^shape

is the share that has not returned t days from now. The second part is the Pareto distribution of
the second kind (Lomax, “Business failures”, JASA 49, 1954): people who come back at random, each
at a rate of their own, and these rates Gamma-distributed. So a person who was last seen t0 days
ago has a rate from the Gamma distribution with shape + 1 and scale + t0 (Bayes' rule), and what
holds on average holds for recent and for dormant accounts by themselves.
"""

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

WEEK = 7
FEWEST_RETURNS = 30  # below that three parameters say nothing
MOST_WEEKS = 52

Numbers = NDArray[np.float64]

# Of never, scale in days, and shape: what is searched, and where the search starts.
_BOUNDS = ((1e-4, 0.98), (0.5, 5000.0), (0.05, 50.0))
_STARTS = ((0.1, 30.0, 1.0), (0.5, 30.0, 1.0), (0.3, 300.0, 2.0))


@dataclass(frozen=True, slots=True, kw_only=True)
class WatchedAccounts:
    """Accounts that were watched from one day on, and in which week they returned first.

    Attributes:
        at_risk: how many were watched.
        returned: of these, in each week; those left had not returned at the end.
        first_week: the calendar's number of the first week, for what is peculiar to a week.
        taken_off: how many newcomers are not among the returned, though they were counted with
            them, in each week; None where none were.
    """

    at_risk: float
    returned: Numbers
    first_week: int = 0
    taken_off: Numbers | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class ReturnModel:
    """The fitted model.

    Attributes:
        never: the share that never returns.
        scale_days: of the rest.
        shape: of the rest; the smaller, the longer the tail.
        watched_days: for how long accounts were watched; who was last seen before that may be one
            that never returns.
        leaving: the share of all accounts that leave for good in a day, where that is known; of
            those that were last seen on one day, so many will not return.
    """

    never: float
    scale_days: float
    shape: float
    watched_days: float
    leaving: float = 0.0

    def away(self, days: Numbers) -> Numbers:
        """Give the share that has not returned after so many days."""
        away: Numbers = self.never + (1 - self.never) * _tail(days, self.scale_days, self.shape)
        return away

    def away_since(self, seen_days_ago: Numbers, days: Numbers) -> Numbers:
        """Give the same for accounts by when they were last seen.

        Args:
            seen_days_ago: one row each.
            days: one column each.

        Returns:
            The share, by row and column.
        """
        ago = seen_days_ago[:, None]
        density = (1 - self.never) * self.shape / self.scale_days
        returning = density * _tail(ago, self.scale_days, self.shape + 1)
        gone = self.leaving / (self.leaving + returning)
        back = _tail(days[None, :], self.scale_days + ago, self.shape + 1)
        recent = gone + (1 - gone) * back
        watched = self.watched_days
        unseen = (1 - self.never) * float(
            _tail(np.array([watched]), self.scale_days, self.shape)[0]
        )
        lost = self.never / (self.never + unseen)
        dormant = lost + (1 - lost) * _tail(days[None, :], self.scale_days + watched, self.shape)
        away: Numbers = np.where(ago < watched, recent, dormant)
        return away


def _tail(days: Numbers, scale: Any, shape: float) -> Numbers:
    tail: Numbers = (scale / (scale + days)) ** shape
    return tail


def weeks_of(exposures: Iterable[WatchedAccounts]) -> int:
    """Give how many weeks of the calendar were watched, from the first on."""
    return max(each.first_week + len(each.returned) for each in exposures)


def returns_of(exposures: Sequence[WatchedAccounts]) -> float:
    """Give how many returns were seen."""
    return sum(float(exposure.returned.sum()) for exposure in exposures)


def days_after(busy: Numbers) -> Numbers:
    """Give the days that weeks amount to, from 0 on: busy weeks are longer, quiet ones shorter.

    Where all come at rates that rise and fall together, time itself runs faster and slower; who
    does not come in a quiet week comes later.

    Args:
        busy: how many times more than the mean people come in each week.
    """
    days: Numbers = np.concatenate([[0.0], np.cumsum(busy) * WEEK])
    return days


def expected(model: ReturnModel, exposure: WatchedAccounts, busy: Numbers) -> Numbers:
    """Give how many accounts return in each week, by the model.

    Args:
        model: how they return in the mean week.
        exposure: which accounts.
        busy: of each week of the calendar, from the first that was watched.
    """
    weeks = busy[exposure.first_week : exposure.first_week + len(exposure.returned)]
    weekly: Numbers = -exposure.at_risk * np.diff(model.away(days_after(weeks)))
    return weekly


def _added_up(exposures: Sequence[WatchedAccounts]) -> tuple[Numbers, Numbers]:
    """Count who returned in each week, and who did not of those that were watched for so many."""
    longest = max(len(exposure.returned) for exposure in exposures)
    in_week, left = np.zeros(longest), np.zeros(longest + 1)
    for exposure in exposures:
        weeks = len(exposure.returned)
        in_week[:weeks] += exposure.returned
        left[weeks] += max(0.0, exposure.at_risk - float(exposure.returned.sum()))
    return in_week, left


def fit(
    exposures: Sequence[WatchedAccounts], start: ReturnModel | None = None, *, leaving: float = 0.0
) -> ReturnModel | None:
    """Fit the model by maximum likelihood; None where there are too few returns, or no maximum.

    Args:
        exposures: what was watched.
        start: where to search from; without it, from several places.
        leaving: what is known of those that leave, for the model.
    """
    from scipy.optimize import minimize  # noqa: PLC0415 - takes a second to import

    if returns_of(exposures) < FEWEST_RETURNS:
        return None
    in_week, left = _added_up(exposures)
    longest = len(in_week)
    edges = np.arange(longest + 1, dtype=np.float64) * WEEK

    def cost(logs: Numbers) -> tuple[float, Numbers]:
        """Give the negative log-likelihood, and its slope by the logarithms of the parameters."""
        never, scale, shape = np.exp(logs)
        tail = _tail(edges, scale, shape)
        away = never + (1 - never) * tail
        slopes = np.array([
            never * (1 - tail),
            (1 - never) * tail * shape * edges / (scale + edges),
            (1 - never) * tail * shape * np.log(scale / (scale + edges)),
        ])  # fmt: skip
        gone = np.maximum(-np.diff(away), 1e-300)
        value = in_week @ np.log(gone) + left @ np.log(away)
        slope = -np.diff(slopes) @ (in_week / gone) + slopes @ (left / away)
        return -float(value), -slope

    bounds = [tuple(np.log(bound)) for bound in _BOUNDS]
    starts = [(start.never, start.scale_days, start.shape)] if start else _STARTS
    found = [minimize(cost, np.log(each), jac=True, method="L-BFGS-B", bounds=bounds)
             for each in starts]  # fmt: skip
    best = min((each for each in found if each.success), key=lambda each: each.fun, default=None)
    if best is None or not np.isfinite(best.fun):
        return None
    never, scale, shape = (float(number) for number in np.exp(best.x))
    return ReturnModel(
        never=never,
        scale_days=scale,
        shape=shape,
        watched_days=float(longest * WEEK),
        leaving=leaving,
    )
