"""Who came back in which week: counts of the gaps between active weeks.

An account is active in a week in which its password was typed. A gap runs from one active week to
the next, or is still open. These counts hold all that a forecast needs, and, for each week of the
past, what a forecast could have known then and what came.
"""

from collections.abc import Sequence
from functools import cached_property

import numpy as np
from msgspec import Struct

from lean_tumbler.core.forecast.intervals import Numbers

WEEK = 7
BEFORE = 0  # the kind of accounts, and the week, from before a log


class Waiting(Struct, frozen=True, kw_only=True):
    """Accounts that wait, by kind and last active week: what a forecast is asked for."""

    # one row for each kind, one column for each week, the first for those from before
    counts: Numbers

    @property
    def total(self) -> float:
        """How many accounts."""
        return float(self.counts.sum())


class ReturnTable(Struct, frozen=True, kw_only=True, dict=True):
    """Gaps between active weeks."""

    # by kind, week of start and week of end; week 0 is before the first, and gaps that are still
    # open end in the week after the last
    gaps: Numbers

    @property
    def weeks(self) -> int:
        """How many weeks the table covers."""
        return int(self.gaps.shape[1]) - 1

    @cached_property
    def _open(self) -> Numbers:
        """Gaps by kind and start that end in a week or later."""
        found: Numbers = np.cumsum(self.gaps[:, :, ::-1], axis=2)[:, :, ::-1]
        return found

    def waiting(self, week: int) -> Waiting:
        """Give the accounts that were known at the end of a week."""
        counts = self._open[:, :, week + 1].copy()
        counts[:, week + 1 :] = 0
        return Waiting(counts=counts)

    def still_away(self, week: int, ahead: int) -> float:
        """Count those of them that had not returned so many weeks later."""
        return float(self._open[:, : week + 1, week + 1 + ahead].sum())

    @cached_property
    def _by_time_away(self) -> tuple[Numbers, Numbers]:
        """Count returns, and accounts that could return, up to each week, by weeks away."""
        weeks = np.arange(1, self.weeks + 1)
        away = np.arange(self.weeks)
        start = weeks[:, None] - 1 - away
        inside = start >= 0
        returned = self.gaps[:, np.where(inside, start, 0), weeks[:, None]] * inside
        at_risk = self._open[:, np.where(inside, start, 0), weeks[:, None]] * inside
        nothing = np.zeros((len(self.gaps), 1, self.weeks))
        return (
            np.concatenate([nothing, np.cumsum(returned, axis=1)], axis=1),
            np.concatenate([nothing, np.cumsum(at_risk, axis=1)], axis=1),
        )

    def counted(self, week: int, last_weeks: int) -> tuple[Numbers, Numbers]:
        """Count, over some weeks up to one, returns and accounts that could return.

        Returns:
            Both by kind and by how many weeks the accounts had been away.
        """
        returned, at_risk = self._by_time_away
        first = max(0, week - last_weeks)
        return (
            (returned[:, week] - returned[:, first])[:, :week],
            (at_risk[:, week] - at_risk[:, first])[:, :week],
        )


def from_counts(left: Sequence[float]) -> ReturnTable:
    """Make the table of accounts that are all counted from one day on.

    Args:
        left: how many had not returned, at the start and after each week.
    """
    weeks = len(left) - 1
    gaps = np.zeros((1, weeks + 1, weeks + 2))
    gaps[0, BEFORE, 1:] = [*np.maximum(-np.diff(left), 0.0), left[-1]]
    return ReturnTable(gaps=gaps)
