"""From a log of logins to the table of returns."""

import math
from dataclasses import dataclass
from typing import Any

import numpy as np
import polars as pl
from numpy.typing import NDArray

from lean_tumbler.core.forecast.last_logins import NEVER_SEEN, Population
from lean_tumbler.core.forecast.return_table import BEFORE, WEEK, ReturnTable, Waiting

_MOST_WEEKS = 160  # three years; who was not seen in them is taken as from before
# Kinds of accounts: from before the log and not seen since, then by active weeks so far.
_VISITS = (1, 2, 4, 12)
_KINDS = 1 + len(_VISITS)
_SURELY_NEW_WEEKS = 13  # who appears earlier in a log may have been there before
_OF_OLD = 4  # visits that accounts from before the log are taken to have made
_ROWS_AT_ONCE = 2_000_000
_UNKNOWN = -(2**31)  # the day on which an account was made

_Whole = NDArray[np.integer[Any]]


@dataclass(frozen=True, slots=True, kw_only=True)
class TabledLog:
    """A log, as a forecast needs it.

    Attributes:
        table: of returns.
        last: `login`, `kind` and `week` of each account's last activity.
    """

    table: ReturnTable
    last: pl.DataFrame

    def waiting(self, rows: pl.DataFrame) -> Waiting:
        """Place accounts: `login` of each."""
        counts = np.zeros(self.table.gaps.shape[:2])
        placed = rows.select("login").join(self.last, on="login", how="left")
        placed = placed.with_columns(pl.col("kind", "week").fill_null(BEFORE))
        counted = placed.group_by("kind", "week").len()
        counts[counted["kind"].to_numpy(), counted["week"].to_numpy()] = counted["len"].to_numpy()
        return Waiting(counts=counts)


def tabled(log: pl.DataFrame, accounts: pl.DataFrame, *, end: int) -> TabledLog:
    """Make the table of a log.

    Args:
        log: `login`, a number, and `day` of each login.
        accounts: `login` of every account of the store, and `made`, the day, null where unknown.
        end: the last day; weeks are counted back from here.
    """
    first = int(log["day"].min() or 0)  # type: ignore[arg-type]  # a number
    weeks = max(1, min(_MOST_WEEKS, (end - first + 1) // WEEK))
    start = end - WEEK * weeks
    own = accounts["login"].to_numpy()
    made = accounts["made"].fill_null(_UNKNOWN).to_numpy()
    made = np.where(_are_imported(made, end), start, made)
    new = (made > start) & (made <= end)
    made_then = pl.DataFrame({"login": own[new], "day": made[new]}, schema=log.schema)
    seen = pl.concat([log.select("login", "day"), made_then], rechunk=False)
    active = _active_weeks(seen, end=end, weeks=weeks)
    is_new = np.zeros(int(own.max(initial=0)) + 1, dtype=np.bool_)
    is_new[active.login] = active.week[active.first] > _SURELY_NEW_WEEKS
    # Without the day on which it was made, an account that appears early, or never, is from before.
    before = own[np.where(made == _UNKNOWN, ~is_new[own], made <= start)]
    kind = _kinds(active, before)
    last = ~active.goes_on
    return TabledLog(
        table=_table(active, kind, before, weeks),
        last=pl.DataFrame(
            {"login": active.login[last], "kind": kind[last], "week": active.week[last]},
            schema={"login": pl.UInt32, "kind": pl.Int64, "week": pl.Int64},
        ),
    )


def _are_imported(made: _Whole, end: int) -> NDArray[np.bool_]:
    """Tell which accounts an import made: how old they really are is not known."""
    ago = np.where(made == _UNKNOWN, NEVER_SEEN, np.maximum(end - made.astype(np.float64), 0.0))
    them = Population(seen_days_ago=ago, made_days_ago=ago, accounts=np.ones(len(ago)))
    found: NDArray[np.bool_] = np.equal(ago, them.imported_days_ago or np.nan)
    return found


@dataclass(frozen=True, slots=True, kw_only=True)
class _Active:
    """Active weeks, by login and then by week; whether the same login has a later one."""

    login: _Whole
    week: _Whole
    goes_on: NDArray[np.bool_]
    first: _Whole  # for each, the place of the same login's first


def _active_weeks(seen: pl.DataFrame, *, end: int, weeks: int) -> _Active:
    most = int(seen["login"].max() or 0) + 1  # type: ignore[arg-type]  # a number
    # One number for login and week sorts fastest; most logs have room for it in 32 bits.
    one = pl.UInt32 if most * (weeks + 1) < 2**32 else pl.UInt64
    week = weeks - (end - pl.col("day")) // WEEK
    numbers = pl.col("login").cast(one) * (weeks + 1) + week.cast(one, strict=False)
    parts = [
        part.filter(week >= 1, pl.col("day") <= end).select(numbers).to_series().to_numpy()
        for part in seen.iter_slices(_ROWS_AT_ONCE)
    ]
    numbered = np.concatenate(parts)
    del parts
    numbered.sort()
    is_new = np.ones(len(numbered), np.bool_)
    is_new[1:] = numbered[1:] != numbered[:-1]
    login, week_of = (each.astype(np.int32) for each in np.divmod(numbered[is_new], weeks + 1))
    goes_on = np.append(login[1:] == login[:-1], np.zeros(min(1, len(login)), np.bool_))
    begins = np.flatnonzero(np.append(np.ones(min(1, len(login)), np.bool_), ~goes_on[:-1]))
    first = np.repeat(begins, np.diff(np.append(begins, len(login))))
    return _Active(login=login, week=week_of, goes_on=goes_on, first=first)


def _kinds(active: _Active, before: _Whole) -> _Whole:
    """Give for each active week the kind that its account is of from then on."""
    is_old = np.zeros(int(max(active.login.max(initial=0), before.max(initial=0))) + 1, np.bool_)
    is_old[before] = True
    visits = np.arange(len(active.login)) - active.first + 1 + _OF_OLD * is_old[active.login]
    kinds: _Whole = np.searchsorted(_VISITS, visits, side="right")
    return kinds


def _table(active: _Active, kind: _Whole, before: _Whole, weeks: int) -> ReturnTable:
    shape = (_KINDS, weeks + 1, weeks + 2)
    following = np.append(active.week[1:], np.zeros(min(1, len(active.week)), np.int64))
    ends = np.where(active.goes_on, following, weeks + 1)
    places = np.ravel_multi_index((kind, active.week, ends), shape)
    gaps = np.bincount(places, minlength=math.prod(shape)).reshape(shape).astype(np.float64)
    came = np.full(int(max(active.login.max(initial=0), before.max(initial=0))) + 1, weeks + 1)
    begins = np.unique(active.first)
    came[active.login[begins]] = active.week[begins]
    gaps[BEFORE, BEFORE] += np.bincount(came[before], minlength=weeks + 2)
    return ReturnTable(gaps=gaps)
