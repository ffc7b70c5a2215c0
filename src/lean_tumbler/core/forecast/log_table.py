"""From a log of logins to the table of returns."""

import math
from typing import Any

import numpy as np
import polars as pl
from msgspec import Struct
from numpy.typing import NDArray

from lean_tumbler.core.forecast.intervals import Numbers
from lean_tumbler.core.forecast.last_logins import NEVER_SEEN, Population
from lean_tumbler.core.forecast.return_table import BEFORE, WEEK, ReturnTable, Waiting

_MOST_WEEKS = 160  # three years; who was not seen in them is taken as from before
# Kinds of accounts: from before the log and not seen since, then by active weeks so far.
_VISITS = (1, 2, 4, 12)
_KINDS = 1 + len(_VISITS)
_SURELY_NEW_WEEKS = 13  # who appears earlier in a log may have been there before
_OF_OLD = 4  # visits that accounts from before the log are taken to have made
_ROWS_AT_ONCE = 2_000_000
_WELL_AFTER_DAYS, _LATER_SHARE = 7, 0.1
_LEANS_ON = 0.1  # of a kind's mean week, where hardly anybody was seen last in a week
_UNKNOWN = -(2**31)  # the day on which an account was made

_Whole = NDArray[np.integer[Any]]


class TabledLog(Struct, frozen=True, kw_only=True):
    """A log, as a forecast needs it."""

    table: ReturnTable  # of returns
    last: pl.DataFrame  # `login`, `kind` and `week` of each account's last activity
    end: int  # the last day
    accounts: int  # how many the store has
    lacked: int  # how many of these the log lacks, though they were seen in its time

    @property
    def lacks(self) -> float:
        """The share of the accounts that the log lacks."""
        return self.lacked / max(1, self.accounts)

    def waiting(self, rows: pl.DataFrame) -> Waiting:
        """Place accounts: `login`, and `day`, the stored last login, of each.

        Those that the log lacks are placed by the stored day, and counted as of the kinds that
        others are of whom the log saw last in that week.
        """
        placed = rows.select("login", "day").join(self.last, on="login", how="left")
        weeks = self.table.weeks
        stored = _week_of(self.end, weeks).clip(upper_bound=weeks)
        places = self.lacked > 0 and not self.last.is_empty()
        lacked = placed.filter(pl.col("kind").is_null(), stored >= 1, pl.lit(places))
        counts = self._counted(placed.filter(pl.col("kind").is_not_null()))
        counts[BEFORE, BEFORE] += placed["kind"].null_count() - lacked.height
        if lacked.height:
            seen = np.bincount(lacked.select(stored).to_series().to_numpy(), minlength=weeks + 1)
            others = self._counted(self.last)
            among = others + _LEANS_ON * others.mean(1)[:, None]
            counts += seen * among / among.sum(axis=0)
        return Waiting(counts=counts)

    def _counted(self, placed: pl.DataFrame) -> Numbers:
        counts = np.zeros(self.table.gaps.shape[:2])
        np.add.at(counts, (placed["kind"].to_numpy(), placed["week"].to_numpy()), 1)
        return counts


def tabled(log: pl.DataFrame, accounts: pl.DataFrame, *, end: int) -> TabledLog:
    """Make the table of a log.

    Args:
        log: `login`, a number, and `day` of each login.
        accounts: of every account of the store `login`; `made`, the day, `day` of the stored last
            login, and `logged`, that of the log's; null where unknown.
        end: the last day; weeks are counted back from here.
    """
    first = int(log["day"].min() or 0)  # type: ignore[arg-type]  # a number
    weeks = max(1, min(_MOST_WEEKS, (end - first + 1) // WEEK))
    start = end - WEEK * weeks
    lacked = _lacked(accounts, start)
    known = accounts.filter(~lacked)
    own = known["login"].to_numpy()
    made = known["made"].fill_null(_UNKNOWN).to_numpy()
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
        end=end,
        accounts=accounts.height,
        lacked=int(lacked.sum()),
    )


def _lacked(accounts: pl.DataFrame, start: int) -> pl.Series:
    """Tell which accounts were seen in the log's time, and are not in it.

    Where sessions live on, being seen is no login, and nobody is lacked.
    """
    is_seen = accounts["logged"].is_null() & (accounts["day"] > start)
    return is_seen.fill_null(value=False) & (not seen_later(accounts))


def seen_later(accounts: pl.DataFrame) -> int:
    """Count accounts that a store saw well after the log did, as where sessions live on.

    Args:
        accounts: `day` of the stored last login, and `logged`, that of the log's.

    Returns:
        Their number; 0 where they are few.
    """
    later = int((accounts["day"] > accounts["logged"] + _WELL_AFTER_DAYS).sum() or 0)
    return later if later > _LATER_SHARE * accounts["logged"].count() else 0


def _week_of(end: int, weeks: int) -> pl.Expr:
    """Give the week of a day; those from before the log are 0 or less."""
    return weeks - (end - pl.col("day")) // WEEK


def _are_imported(made: _Whole, end: int) -> NDArray[np.bool_]:
    """Tell which accounts an import made: how old they really are is not known."""
    ago = np.where(made == _UNKNOWN, NEVER_SEEN, np.maximum(end - made.astype(np.float64), 0.0))
    them = Population(seen_days_ago=ago, made_days_ago=ago, accounts=np.ones(len(ago)))
    found: NDArray[np.bool_] = np.equal(ago, them.imported_days_ago or np.nan)
    return found


class _Active(Struct, frozen=True, kw_only=True):
    """Active weeks, by login and then by week; whether the same login has a later one."""

    login: _Whole
    week: _Whole
    goes_on: NDArray[np.bool_]
    first: _Whole  # for each, the place of the same login's first


def _active_weeks(seen: pl.DataFrame, *, end: int, weeks: int) -> _Active:
    most = int(seen["login"].max() or 0) + 1  # type: ignore[arg-type]  # a number
    # One number for login and week sorts fastest; most logs have room for it in 32 bits.
    one = pl.UInt32 if most * (weeks + 1) < 2**32 else pl.UInt64
    week = _week_of(end, weeks)
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
    first = np.repeat(begins.astype(np.int32), np.diff(np.append(begins, len(login))))
    return _Active(login=login, week=week_of, goes_on=goes_on, first=first)


def _kinds(active: _Active, before: _Whole) -> _Whole:
    """Give for each active week the kind that its account is of from then on."""
    is_old = np.zeros(int(max(active.login.max(initial=0), before.max(initial=0))) + 1, np.bool_)
    is_old[before] = True
    visits = np.arange(1, len(active.login) + 1, dtype=np.int32)
    visits -= active.first
    visits[is_old[active.login]] += _OF_OLD
    kinds = np.zeros(len(visits), np.int8)
    for least in _VISITS:
        kinds += visits >= least
    return kinds


def _table(active: _Active, kind: _Whole, before: _Whole, weeks: int) -> ReturnTable:
    shape = (_KINDS, weeks + 1, weeks + 2)
    places = kind.astype(np.int32)  # among all gaps, in which a gap is counted
    places *= weeks + 1
    places += active.week
    places *= weeks + 2
    places += np.where(active.goes_on, np.roll(active.week, -1), np.int32(weeks + 1))
    gaps = np.bincount(places, minlength=math.prod(shape)).reshape(shape).astype(np.float64)
    came = np.full(int(max(active.login.max(initial=0), before.max(initial=0))) + 1, weeks + 1)
    begins = np.unique(active.first)
    came[active.login[begins]] = active.week[begins]
    gaps[BEFORE, BEFORE] += np.bincount(came[before], minlength=weeks + 2)
    return ReturnTable(gaps=gaps)
