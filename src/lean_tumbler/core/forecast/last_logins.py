"""Forecasts from what a store holds of each account: its last login, perhaps the day it was made.

Read backwards, last logins tell how many come in so many days: as many were last seen t days ago
as will be seen first in t days, where people come and go as ever. Where people leave for good, or
accounts grow in number, that is too hopeful: whoever has left, and each newcomer's first day,
counts as a return. The days on which accounts were made mend it: of the accounts that there were
t days ago, the share that was seen since is counted by how old they were then, and taken for the
accounts that there are now, by how old they are.
"""

from functools import cached_property

import numpy as np
from msgspec import Struct

from lean_tumbler.core.forecast.intervals import TAIL_POWER, Numbers

NEVER_SEEN = 36_500.0
_IMPORT_SHARE = 0.1  # of the accounts that were made on one day
_FEWEST = 100  # accounts, below which shares say little
# Accounts are counted by how many days old they are in these classes.
_AGES_DAYS = (0.0, 28.0, 91.0, 182.0, 365.0, 730.0, np.inf)
_LEANS_ON = 30.0  # accounts that a thin class is taken to hold besides, at everybody's share
# Within a week nobody can be told from somebody who comes every day.
_WEEK = 7.0


class Population(Struct, frozen=True, kw_only=True, dict=True):
    """Accounts that fare alike, counted."""

    seen_days_ago: Numbers  # of each kind; `NEVER_SEEN` where nothing is known
    accounts: Numbers  # how many of each kind
    # of each kind, when the account was made; None where that is not known
    made_days_ago: Numbers | None = None

    @property
    def total(self) -> float:
        """How many accounts."""
        return float(self.accounts.sum())

    @cached_property
    def imported_days_ago(self) -> float | None:
        """The day on which so many accounts were made that it was an import; None without one."""
        if self.made_days_ago is None:
            return None
        dated = self.made_days_ago < NEVER_SEEN
        share, day = spike(self.made_days_ago[dated], self.accounts[dated], after=0)
        return day if share > _IMPORT_SHARE else None

    @cached_property
    def age_days(self) -> Numbers | None:
        """How old accounts are at least: an import does not say how old its accounts are."""
        if self.made_days_ago is None or self.imported_days_ago is None:
            return self.made_days_ago
        return np.where(
            self.made_days_ago == self.imported_days_ago, NEVER_SEEN, self.made_days_ago
        )


def spike(days: Numbers, accounts: Numbers, *, after: int) -> tuple[float, float]:
    """Give the largest share of one day among days before the latest, and that day."""
    earlier = days > after
    if not earlier.any() or float(accounts[earlier].sum()) < _FEWEST:
        return 0.0, 0.0
    found, place = np.unique(days[earlier], return_inverse=True)
    counts = np.bincount(place, accounts[earlier])
    most = int(counts.argmax())
    return float(counts[most] / counts.sum()), float(found[most])


class LastLogins(Struct, frozen=True, kw_only=True):
    """What all accounts of a store tell."""

    everybody: Population  # all accounts

    @property
    def method(self) -> str:
        """What a forecast comes from, in words."""
        if self.everybody.made_days_ago is None:
            return "last logins"
        return "last logins, by how old accounts are"

    def not_seen_share(self, days: float) -> float:
        """Give the share that was not seen in so many days: the plain baseline."""
        everybody = self.everybody
        away = float(everybody.accounts[everybody.seen_days_ago > days].sum())
        return away / everybody.total if everybody.total else 0.0

    def away(self, wanted: Population, days: float) -> float:
        """Give how many of some accounts are expected not to have returned in so many days.

        Among all accounts, who was seen lately returns first: the returns are laid upon accounts
        by how long ago they were seen.
        """
        likely = _likely_to_return(self.everybody.seen_days_ago, days)
        weight = float(self.everybody.accounts @ likely)
        scale = self._returns(days) / weight if weight else 0.0
        return wanted.total - float(
            wanted.accounts @ np.minimum(1.0, scale * _likely_to_return(wanted.seen_days_ago, days))
        )

    def _returns(self, days: float) -> float:
        """Give how many of all accounts are expected to return."""
        everybody = self.everybody
        made = everybody.age_days
        if made is None:
            return everybody.total * (1 - self.not_seen_share(days))
        then = made - days
        was_there = then >= 0
        there = np.where(was_there, everybody.accounts, 0.0)
        back = np.where(everybody.seen_days_ago < days, there, 0.0)
        classes = len(_AGES_DAYS) - 1
        old_then = np.searchsorted(_AGES_DAYS, np.maximum(then, 0.0), side="right") - 1
        counted, returned = (
            np.bincount(old_then, each, minlength=classes) for each in (there, back)
        )
        share = (returned + _LEANS_ON * returned.sum() / max(1.0, counted.sum())) / (
            counted + _LEANS_ON
        )
        old_now = np.searchsorted(_AGES_DAYS, made, side="right") - 1
        return float(everybody.accounts @ share[np.minimum(old_now, classes - 1)])


def _likely_to_return(seen_days_ago: Numbers, days: float) -> Numbers:
    """Weigh who returns within some days, by when they were last seen."""
    gone = ((seen_days_ago + _WEEK) / (seen_days_ago + _WEEK + days)) ** TAIL_POWER
    found: Numbers = np.where(seen_days_ago < NEVER_SEEN, 1 - gone, 0.0)
    return found
