"""What was watched: from the dates of last logins, or from a log of every login.

Of last logins alone, time is read backwards, as in a mirror: where people come and go as ever,
as many were last seen t days ago as will be seen first in t days. Who has left for good since is
taken for somebody who returns; a log knows better, because it saw who did not.
"""

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np
import polars as pl

from lean_tumbler.core.forecast.returning import MOST_WEEKS, WEEK, Exposure, Numbers

# Between accounts by how long ago they were seen, in days.
EDGES = (7.0, 28.0, 91.0, 182.0, 364.0)
NEVER_SEEN = 36_500.0  # days; stands for “not as far back as is known”
_STEP_DAYS = 28
_MOST_STEPS = 13


@dataclass(frozen=True, slots=True, kw_only=True)
class Watched:
    """What a forecast is fitted to.

    Attributes:
        classes: exposures, for each class of accounts.
        edges: between the classes, in days since accounts were seen; none where there is one class.
        returns: how many returns were seen in all.
    """

    classes: tuple[tuple[Exposure, ...], ...]
    edges: tuple[float, ...]

    @property
    def returns(self) -> float:
        """How many returns were seen in all."""
        return sum(float(each.returned.sum()) for own in self.classes for each in own)


def from_last_logins(seen_days_ago: Numbers, accounts: Numbers) -> Watched:
    """Read last logins backwards.

    Args:
        seen_days_ago: NEVER_SEEN for those without a date.
        accounts: how many were seen so long ago.
    """
    known = seen_days_ago < NEVER_SEEN
    oldest = float(seen_days_ago[known].max()) if known.any() else 0.0
    weeks = max(1, min(MOST_WEEKS, int(oldest // WEEK)))
    places = (seen_days_ago // WEEK).astype(np.int64)
    within = places < weeks
    returned = np.bincount(places[within], accounts[within], minlength=weeks).astype(np.float64)
    exposure = Exposure(at_risk=float(accounts.sum()), returned=returned)
    return Watched(classes=((exposure,),), edges=())


def from_log(log: pl.DataFrame, *, end: int) -> Watched:
    """Look at several days of the past: who was known then, and when they returned.

    Args:
        log: `login` and `day` of each login, days as numbers.
        end: the last day that the log covers.
    """
    start = int(log["day"].min() or 0)  # type: ignore[arg-type]  # a number
    steps = min(_MOST_STEPS, (end - start) // _STEP_DAYS - 1)
    # Between two of those days, the first login and the last are all that counts.
    ago = end - pl.col("day")
    spans = log.group_by("login", (ago // _STEP_DAYS).clip(0, _MOST_STEPS + 1).alias("span")).agg(
        first=pl.col("day").min(), last=pl.col("day").max()
    )
    found: list[list[Exposure]] = [[] for _ in range(len(EDGES) + 1)]
    for step in range(1, steps + 1):
        then = end - step * _STEP_DAYS
        for place, exposure in _watched_from(spans, step, then, end, start):
            found[place].append(exposure)
    return Watched(classes=tuple(map(tuple, found)), edges=EDGES)


def _watched_from(
    spans: pl.DataFrame, step: int, then: int, end: int, start: int
) -> Iterator[tuple[int, Exposure]]:
    """Watch accounts from one day on, by how long ago they were seen then."""
    weeks = (end - then) // WEEK
    before = pl.col("span") >= step
    known = spans.filter(before).group_by("login").agg(ago=then - pl.col("last").max())
    returned = spans.filter(~before).group_by("login").agg(after=pl.col("first").min() - then)
    accounts = known.join(returned, on="login", how="left")
    places = np.searchsorted(EDGES, accounts["ago"].to_numpy(), side="right")
    after = accounts["after"].cast(pl.Float64).fill_null(NEVER_SEEN).to_numpy()
    for place in range(len(EDGES) + 1):
        own = after[places == place]
        if len(own):
            in_week = ((own[own <= weeks * WEEK] - 1) // WEEK).astype(np.int64)
            yield (
                place,
                Exposure(
                    at_risk=float(len(own)),
                    returned=np.bincount(in_week, minlength=weeks).astype(np.float64),
                    first_week=(then - start) // WEEK,
                ),
            )


def last_seen(log: pl.DataFrame, *, end: int) -> pl.DataFrame:
    """Give each login of a log with how many days ago it was last seen."""
    return log.filter(pl.col("day") <= end).group_by("login").agg(ago=end - pl.col("day").max())


def mirror(seen_days_ago: Numbers, accounts: Numbers, days: float) -> float:
    """Give the share that has not returned in so many days, by the plain mirror.

    It is the share that was not seen in as many days before; nothing is fitted.
    """
    total = float(accounts.sum())
    return float(accounts[seen_days_ago > days].sum()) / total if total else 0.0
