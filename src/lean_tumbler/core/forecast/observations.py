"""What was watched: from the dates of last logins, or from a log of every login.

Of last logins alone, time is read backwards, as in a mirror: where people come and go as ever,
as many were last seen t days ago as will be seen first in t days. Who has left for good since is
taken for somebody who returns; a log knows better, because it saw who did not.
"""

from collections.abc import Iterator
from dataclasses import dataclass, field, replace

import numpy as np
import polars as pl
from numpy.typing import NDArray

from lean_tumbler.core.forecast.return_model import (
    FEWEST_RETURNS,
    MOST_WEEKS,
    WEEK,
    Numbers,
    WatchedAccounts,
    returns_of,
)

# Between accounts by how long ago they were seen, in days, and by how long they have been known.
SEEN_EDGES = (7.0, 28.0, 91.0, 182.0, 364.0)
KNOWN_EDGES = (91.0,)
NEVER_SEEN = 36_500.0  # days; stands for “not as far back as is known”
_STEP_DAYS = 28
_MOST_STEPS = 13
_AT_ONCE = 1 << 20  # logins of a log
# Who is seen in the first days of a log may have been known long before.
_MAY_BE_OLDER = int(KNOWN_EDGES[-1])

_KINDS = (len(SEEN_EDGES) + 1, len(KNOWN_EDGES) + 1)

Places = NDArray[np.int64]
Days = NDArray[np.int32]


@dataclass(frozen=True, slots=True, kw_only=True)
class Population:
    """Accounts by when they were last seen.

    Attributes:
        seen_days_ago: NEVER_SEEN for those without a date.
        accounts: how many, for each of these.
        known_days: for how long they have been known; None where nobody can tell.
    """

    seen_days_ago: Numbers
    accounts: Numbers
    known_days: Numbers | None = None

    @property
    def total(self) -> int:
        """How many there are."""
        return int(self.accounts.sum())


@dataclass(frozen=True, slots=True, kw_only=True)
class Watched:
    """What a forecast is fitted to: exposures, by classes of accounts.

    Attributes:
        classes: the exposures of each class; each has enough returns, if there is more than one.
        of: the class of each kind of account, by when it was seen (row) and for how long it has
            been known (column); one class is that of all.
        leaving: the share of all accounts that leave in a day; 0 where classes tell it.
    """

    classes: tuple[tuple[WatchedAccounts, ...], ...]
    of: Places = field(default_factory=lambda: np.zeros(_KINDS, np.int64))
    leaving: float = 0.0

    @property
    def returns(self) -> float:
        """How many returns were seen in all."""
        return sum(map(returns_of, self.classes))

    def class_of(self, some: Population) -> Places:
        """Give the class of each row of a population."""
        known = some.known_days
        if known is None:
            known = np.full(len(some.accounts), NEVER_SEEN)
        found: Places = self.of[_kinds(some.seen_days_ago, known)]
        return found


def _kinds(seen_days_ago: Numbers, known_days: Numbers) -> tuple[Places, Places]:
    return (
        np.searchsorted(SEEN_EDGES, seen_days_ago, side="right"),
        np.searchsorted(KNOWN_EDGES, known_days, side="right"),
    )


def from_last_logins(everybody: Population) -> Watched:
    """Read last logins backwards.

    Backwards, whoever has left for good is somebody who will come for the first time. Where people
    come and go as ever, these are as many as were new in the same time: they are taken off.
    """
    ago, accounts, known = everybody.seen_days_ago, everybody.accounts, everybody.known_days
    dated = ago < NEVER_SEEN
    oldest = float(ago[dated].max()) if dated.any() else 0.0
    weeks = max(1, min(MOST_WEEKS, int(oldest // WEEK)))
    total, leaving = float(accounts.sum()), 0.0
    exposure = WatchedAccounts(at_risk=total, returned=_by_week(ago, accounts, weeks))
    if known is not None:
        new = _by_week(known, accounts, weeks)
        returned = np.maximum(exposure.returned - new, 0.0)
        exposure = replace(exposure, returned=returned, taken_off=new)
        leaving = float(new.sum()) / (weeks * WEEK) / max(1.0, total)
    return Watched(classes=((exposure,),), leaving=leaving)


def _by_week(days_ago: Numbers, accounts: Numbers, weeks: int) -> Numbers:
    places = (days_ago // WEEK).astype(np.int64)
    within = places < weeks
    counted = np.bincount(places[within], accounts[within], minlength=weeks)
    return counted.astype(np.float64)


def from_log(log: pl.DataFrame, *, end: int) -> Watched:
    """Look at several days of the past: who was known then, and when they returned.

    Args:
        log: `login` and `day` of each login, both as numbers; logins from 0 on.
        end: the last day that the log covers.
    """
    start = first_day(log)
    steps = min(_MOST_STEPS, (end - start) // _STEP_DAYS - 1)
    rows, columns = _KINDS
    found: list[list[list[WatchedAccounts]]] = [[[] for _ in range(columns)] for _ in range(rows)]
    if steps > 0:
        first, last = _by_span(log, end, steps)
        for step in range(1, steps + 1):
            then = end - step * _STEP_DAYS
            before, after = last[step:].max(axis=0), first[:step].min(axis=0)
            there = before >= 0
            began = first[step:].min(axis=0)[there]
            for seen, since, exposure in _watched_from(
                then - before[there],
                np.where(began < start + _MAY_BE_OLDER, NEVER_SEEN, then - began),
                after[there] - then,
                weeks=(end - then) // WEEK,
                first_week=(then - start) // WEEK,
            ):
                found[seen][since].append(exposure)
    return _merged(found)


_NOT_YET = np.iinfo(np.int32).max


def _by_span(log: pl.DataFrame, end: int, steps: int) -> tuple[Days, Days]:
    """Give the first and the last day of each login (column) in each span of days (row).

    Between two of the days that are looked from, no other login counts. The last span holds all
    that is older; where there was no login, the first day is _NOT_YET and the last is -1.
    """
    logins, days = log["login"].to_numpy(), log["day"].to_numpy()
    accounts = int(logins.max()) + 1
    first = np.full((steps + 1) * accounts, _NOT_YET, np.int32)
    last = np.full((steps + 1) * accounts, -1, np.int32)
    for begin in range(0, len(logins), _AT_ONCE):
        day = days[begin : begin + _AT_ONCE].astype(np.int32)
        span = np.clip((end - day) // _STEP_DAYS, 0, steps).astype(np.int64)
        place = span * accounts + logins[begin : begin + _AT_ONCE]
        np.minimum.at(first, place, day)
        np.maximum.at(last, place, day)
    return first.reshape(-1, accounts), last.reshape(-1, accounts)


def _watched_from(
    ago: Days, known: Numbers, after: Days, *, weeks: int, first_week: int
) -> Iterator[tuple[int, int, WatchedAccounts]]:
    """Watch accounts from one day on, by how long ago they were seen then, and since when known."""
    kind = np.ravel_multi_index(_kinds(ago.astype(np.float64), known), _KINDS)
    for place in np.unique(kind):
        seen, since = np.unravel_index(place, _KINDS)
        own = after[kind == place]
        in_week = (own[own <= weeks * WEEK] - 1) // WEEK
        yield (
            int(seen),
            int(since),
            WatchedAccounts(
                at_risk=float(len(own)),
                returned=np.bincount(in_week, minlength=weeks).astype(np.float64),
                first_week=first_week,
            ),
        )


def _merged(found: list[list[list[WatchedAccounts]]]) -> Watched:
    """Put together what has too few returns by itself.

    First accounts that differ in how long they have been known, then those with accounts that
    were seen longer ago.
    """
    classes: list[list[WatchedAccounts]] = []
    of = np.zeros(_KINDS, np.int64)
    waiting: list[WatchedAccounts] = []
    begun = 0
    for row, kinds in enumerate(found):
        if not waiting and all(returns_of(own) >= FEWEST_RETURNS for own in kinds):
            of[row] = range(len(classes), len(classes) + len(kinds))
            classes += kinds
            begun = row + 1
            continue
        waiting += [exposure for own in kinds for exposure in own]
        of[begun : row + 1] = len(classes)
        if returns_of(waiting) >= FEWEST_RETURNS:
            classes.append(waiting)
            waiting, begun = [], row + 1
    if not classes:
        classes = [waiting]
    elif begun < len(found):  # what is left, perhaps nobody, has the class of who came before
        nearest = int(of[begun - 1, -1])
        of[begun:] = nearest
        classes[nearest] = [*classes[nearest], *waiting]
    return Watched(classes=tuple(map(tuple, classes)), of=of)


def first_day(log: pl.DataFrame) -> int:
    """Give the day on which a log begins."""
    return int(log["day"].min() or 0)  # type: ignore[arg-type]  # a number


def last_seen(log: pl.DataFrame, *, end: int) -> pl.DataFrame:
    """Give each login of a log with how many days ago it was seen, and since when it is known."""
    day = pl.col("day")
    may_be_older = day.min() < first_day(log) + _MAY_BE_OLDER
    known = pl.when(may_be_older).then(NEVER_SEEN).otherwise(end - day.min())
    return log.filter(day <= end).group_by("login").agg(ago=end - day.max(), known=known)


def population(rows: pl.DataFrame) -> Population:
    """Count accounts: of `ago`, of `known` where it is there, and of `accounts` or one each."""
    by = [name for name in ("ago", "known") if name in rows.columns]
    count = pl.col("accounts").sum() if "accounts" in rows.columns else pl.len()
    counted = rows.group_by(by).agg(accounts=count).sort(by)
    columns = {name: counted[name].to_numpy().astype(np.float64) for name in counted.columns}
    return Population(
        seen_days_ago=columns["ago"], accounts=columns["accounts"], known_days=columns.get("known")
    )


def baseline(everybody: Population, days: float) -> float:
    """Give the share that has not returned in so many days, by the plain baseline.

    It is the share that was not seen in as many days before; nothing is fitted.
    """
    total = float(everybody.accounts.sum())
    away = float(everybody.accounts[everybody.seen_days_ago > days].sum())
    return away / total if total else 0.0
